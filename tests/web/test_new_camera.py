"""A camera that nobody has taken a light with yet: its darks, bias and flats are shot all the same, and serve the lights to come."""

from __future__ import annotations

import pytest

from tests.other_program import Program, write_lights
from tests.own import Own
from tests.web.by_any_hands import begin, obey, run

ROW = {"filter_code": "R", "gain": 120, "offset": 25, "binning": 1}


@pytest.fixture
def own(tmp_path):
    """An empty library with a rig that a person typed, and another program's folder."""
    library = Own(tmp_path / "library")
    rig = {"name": "New", "camera": "Kite 9", "telescope": "Field lens", "focal_length_mm": 300}
    assert library.client.post("/api/rigs", json=rig).status_code == 200
    (tmp_path / "camera").mkdir()
    library.program = Program(tmp_path / "camera")
    yield library
    library.close()


def ladder(own, **asked):
    answer = own.client.post("/api/rigs/1/fill/ladder", json={"exposures": "120 s", "temps": "-5", **asked})
    assert answer.status_code == 200, answer.text
    return answer.json["keys"]


def told(own, **asked):
    query = "&".join(f"{k}={v}" for k, v in asked.items())
    return own.get(f"/api/rigs/1/fill?hours=9&{query}")


def test_a_ladder_is_laid_at_a_gain_that_nothing_was_taken_at(own):
    bare = told(own)
    assert bare["walls"] == [] and bare["headline"] == "Nothing is asked for yet: lay a ladder."
    keys = ladder(own, exposures="60, 120 s", temps="-5, 0", gain=120, offset=25)
    assert len(keys) == 4
    page = told(own, put_on=",".join(keys))
    assert [s["title"] for s in page["steps"] if s["kind"] in ("darks", "bias")] == [
        "100 bias", "30 darks of 60 s at 0 °C", "30 darks of 120 s at 0 °C", "30 darks of 60 s at −5 °C", "30 darks of 120 s at −5 °C",
    ]  # fmt: skip
    assert page["walls"][0]["title"] == "gain 120, offset 25" and page["space"] == "not known"
    # With no set point the sensor stays as it is: all that a camera without a cooler can.
    (key,) = ladder(own, temps="", gain=120, offset=25)
    assert "30 darks of 120 s" in [s["title"] for s in told(own, put_on=key)["steps"]]


def test_what_the_flat_sheet_and_house_rules_say_is_offered_without_lights(own):
    assert "flat sheet" not in own.get("/api/rigs/1/tonight")["empty_text"]
    assert own.client.post("/api/rigs/1/flats/add", json=ROW).status_code == 200
    rules = {"dark_temps_c": [-5.0], "dark_exposures_s": [120.0]}
    assert own.client.put("/api/rigs/1/house-rules", json=rules).status_code == 200
    assert told(own)["walls"][0]["title"] == "gain 120, offset 25"
    page = own.get("/api/rigs/1/tonight")
    assert {o["kind"]: o["lights"] for o in page["offers"]} == {"flat": 0, "dark": 0}, page["offers"]
    assert not any(o["on_sheet"] for o in page["offers"]), "nobody asked for them"


def test_a_night_is_priced_by_the_flat_sheet(own):
    bare = own.get("/api/rigs/1/plans")
    assert not bare["can_plan"] and bare["last"] is None and "no row" in bare["cannot"]
    for row in (ROW, {**ROW, "filter_code": "Ha", "gain": 200}):
        assert own.client.post("/api/rigs/1/flats/add", json=row).status_code == 200
    page = own.get("/api/rigs/1/plans")
    plan = page["last"]
    assert page["can_plan"] and [x["gain"] for x in plan["targets"][0]["lights"]] == [120, 200]
    assert {f["filter_code"]: f["broad"] for f in page["filters"]} == {"R": True, "Ha": False}
    priced = own.client.post("/api/rigs/1/plans/price", json={"plans": [plan], "names": ["first"]}).json
    (price,) = priced["prices"]
    assert price["flats"] == 50 and price["seconds"] > 0 and priced["wrong"] == [""], priced
    assert [d["verdict"] for d in price["darks"]] == ["nothing fits", "nothing fits"]
    assert (
        own.client.post("/api/rigs/1/plans", json={"name": "first", "night": None, "plan": plan}).status_code
        == 200
    )
    assert own.get("/api/rigs/1/plans")["kept"][0]["name"] == "first"


def test_flats_and_darks_shot_before_any_light_serve_those_that_come(own, tmp_path):
    assert own.client.post("/api/rigs/1/flats/add", json=ROW).status_code == 200
    (offer,) = own.get("/api/rigs/1/tonight")["offers"]
    begin(own, str(own.program.folder), add=[offer["key"]])
    obey(own, own.program)
    assert own.ended(run(own)["job"]["id"])["state"] == "done"
    assert own.client.post(f"/api/runs/{run(own)['job']['id']}/put-away", json={}).status_code == 200
    keys = ladder(own, gain=120, offset=25)
    body = {"put_on": keys[0], "counts": f"{keys[0]}=5", "hours": 9, "by_hand": True, "folder": str(own.program.folder)}  # fmt: skip
    body["left_out"] = ",".join(c["key"] for c in told(own)["bias"])
    answer = own.client.post("/api/rigs/1/fill", json=body)
    assert answer.status_code == 200, answer.text
    own.program.set["temp"] = -5.0
    obey(own, own.program)
    assert own.ended(answer.json["job_id"])["state"] == "done"
    write_lights(tmp_path / "lights")
    own.scan(tmp_path / "lights")
    assert len(own.get("/api/state")["rigs"]) == 1
    of_r = next(x["id"] for x in own.get("/api/sets?kind=light")["items"] if ", R," in x["title"])
    lines = {x["kind"]: x["verdict"] for x in own.get(f"/api/lights/{of_r}/slip")["lines"]}
    assert lines["dark"] == "fits" and lines["dark flat"] == "fits" and lines["flat"] != "nothing fits", lines
    # A row of another filter is offered beside what the lights ask for, and each once.
    assert own.client.post("/api/rigs/1/flats/add", json={**ROW, "filter_code": "SII"}).status_code == 200
    offered = [o["filter_code"] for o in own.get("/api/rigs/1/tonight")["offers"] if o["kind"] == "flat"]
    assert sorted(offered) == ["Ha", "R", "SII"], offered
