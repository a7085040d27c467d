"""A night before it begins: what is foretold is what its sheet then has, and a kept plan is set against its night."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from sqlalchemy import select

from grayshelf.clock import SimulatedClock
from grayshelf.core.planning.night_plan import MOST_TARGETS
from grayshelf.library.models import RunStep
from tests.helpers import LIGHT, write_fits
from tests.own import Own
from tests.web.test_run import gate_of, wait_for

OF_FLATS = ("gate", "find", "flats", "dark flats")


def ok(answer):
    assert answer.status_code == 200, answer.text
    return answer.json


def price(client, *plans, rig=1):
    return ok(client.post(f"/api/rigs/{rig}/plans/price", json={"plans": list(plans)}))


def seconds(sheet):
    """What a sheet of Tonight takes for its flats, and how often somebody is needed."""
    steps = [s for s in sheet["steps"] if s["kind"] in OF_FLATS]
    spans = [datetime.fromisoformat(s["end"]) - datetime.fromisoformat(s["start"]) for s in steps]
    return sum(spans, timedelta()).total_seconds(), sum(s["needs_person"] for s in steps)


def target(name, *lights, turned=False):
    keys = ("filter_code", "exposure_s", "count", "gain", "offset")
    return {"name": name, "turned": turned, "lights": [dict(zip(keys, one, strict=True)) for one in lights]}


@pytest.fixture
def foreign(tmp_path):
    """Another program's nights of a rig without devices, by a clock that stands in one night."""
    clock = SimulatedClock(datetime(2026, 11, 14, 21, 0, tzinfo=UTC), 1.0)
    library = Own(tmp_path / "library", clock)
    folder, rng = tmp_path / "frames", np.random.default_rng(8)

    def shot(name, night, code, count, exposure=90.0, gain=56, **more):
        for i in range(count):
            at = night + timedelta(seconds=i * (exposure + 4))
            cards = {
                "INSTRUME": "Merl 7", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "GAIN": gain, "OFFSET": 18,
                "SET-TEMP": -5.0, "CCD-TEMP": -5.1, "IMAGETYP": "LIGHT", "EXPTIME": exposure, "FILTER": code,
                "OBJECT": name, "DATE-OBS": at.strftime("%Y-%m-%dT%H:%M:%S"), **more,
            }  # fmt: skip
            pixels = rng.normal(900, 20, (50, 70)).astype(np.uint16)
            write_fits(folder / f"{name}-{code}-{at:%d%H%M%S}.fits".replace(" ", ""), cards, pixels)
        library.scan(folder)

    yield library, shot
    library.close()


def test_what_was_foretold_is_what_the_sheet_of_that_night_has(foreign):
    own, shot = foreign
    empty = own.get("/api/state")["rigs"]
    shot("M 33", datetime(2026, 10, 2, 22, 0), "Lum", 3)
    shot("M 33", datetime(2026, 10, 2, 23, 0), "Red", 3)
    shot("M 33", datetime(2026, 10, 3, 0, 0), "H-alpha", 3, 240.0, 100)
    assert not empty
    rig = own.get("/api/state")["rigs"][0]["id"]
    page = own.get(f"/api/rigs/{rig}/plans")
    codes = {f["filter_code"]: f["broad"] for f in page["filters"]}
    assert set(codes.values()) == {True, False} and page["last_text"] == "as on 2 Oct"
    names = [f["filter_code"] for f in page["filters"]]
    broad = [f for f in names if codes[f]]
    plan = {
        "targets": [
            target("IC 342", *((f, 90.0, 4, 56, 18) for f in broad)),
            target("NGC 1499", *((f, 240.0, 4, 100, 18) for f in names if not codes[f])),
        ]
    }
    only_broad = {"targets": plan["targets"][:1]}
    told = price(own.client, plan, only_broad, rig=rig)
    both, one = told["prices"]
    assert both["seconds"] > one["seconds"] and "than" in told["difference"]
    assert {d["verdict"] for d in both["darks"]} == {"nothing fits"} and both["darks_missing"] == 2
    assert both["darks_text"].endswith("to shoot")
    kept = {"name": "Both", "night": "2026-11-14", "plan": plan}
    ok(own.client.post(f"/api/rigs/{rig}/plans", json=kept))
    ok(own.client.post(f"/api/rigs/{rig}/plans", json=kept))
    plans = own.get(f"/api/rigs/{rig}/plans")["kept"]
    assert len(plans) == 1 and plans[0]["had"] is None, "the night has had nothing yet, and it is kept once"
    # The night, but for one filter that had fewer lights than was meant.
    for at, filter_code in enumerate(broad):
        shot("IC342", datetime(2026, 11, 14, 19, 20 * at), filter_code, 4 - at)
    for filter_code in names:
        if not codes[filter_code]:
            shot("NGC 1499", datetime(2026, 11, 14, 20, 20), filter_code, 4, 240.0, 100)
    took, hands = seconds(own.get(f"/api/rigs/{rig}/tonight"))
    assert both["seconds"] == pytest.approx(took, rel=0.05) and both["hands"] == hands
    had = own.get(f"/api/rigs/{rig}/plans")["kept"][0]["had"]
    counts = {(x["target"], x["filter_code"]): (x["planned"], x["taken"]) for x in had["lights"]}
    assert counts["IC 342", broad[0]] == (4, 4) and counts["IC 342", broad[-1]] == (4, 5 - len(broad))
    assert "lights of" in had["summary"] and had["time"] == "", "no run of ours shot its flats"
    table = own.client.get(f"/api/rigs/{rig}/plans.csv").text.splitlines()
    assert len(table) == 1 + len(names) and table[1].startswith("Both,2026-11-14,IC 342,")
    # One that was spoilt keeps no page from the others.
    own.change(
        "INSERT INTO night_plan (rig_id, name, made_at, plan, foretold) "
        f"VALUES ({rig}, 'spoilt', '2026-11-14 20:00:00', '{{\"targets\": 7}}', '{{}}')"
    )
    assert [p["name"] for p in own.get(f"/api/rigs/{rig}/plans")["kept"]] == ["Both"]
    ok(own.client.delete(f"/api/rigs/{rig}/plans/{plans[0]['id']}"))
    assert own.get(f"/api/rigs/{rig}/plans")["kept"] == []
    assert own.client.delete(f"/api/rigs/{rig}/plans/{plans[0]['id']}").status_code == 404


def test_with_devices_too_and_afterwards_its_run_is_set_against_it(client, context):
    last = client.get("/api/rigs/1/plans").json["last"]
    told = price(client, last)["prices"][0]
    ok(client.post("/api/rigs/1/plans", json={"name": "As it was", "night": "2026-10-18", "plan": last}))
    wanted = {one["filter_code"] for t in last["targets"] for one in t["lights"]}
    offers = client.get("/api/rigs/1/tonight").json["offers"]
    flats = [o for o in offers if o["kind"] == "flat" and not o["more"]]
    away = [o["key"] for o in offers if o["filter_code"] not in wanted]
    sheet = client.get("/api/rigs/1/tonight", query_string={"leave_out": ",".join(away)}).json
    took, hands = seconds(sheet)
    assert flats and told["seconds"] == pytest.approx(took, rel=0.05) and told["hands"] == hands
    context.library.clock.rate = 1e7
    ended = {"rig_id": 1, "leave_out": away, "add": [], "until": "not at all"}
    assert client.post("/api/runs", json=ended).status_code == 400, "an end that is no time"
    job = ok(client.post("/api/runs", json={**ended, "until": "11:30"}))["job_id"]

    def run():
        return client.get("/api/rigs/1/run").json["run"]

    assert run()["until"] == "11:30"
    while True:
        # The first masters of a fresh machine wait for what combines them to be compiled.
        now = wait_for(context, run, lambda r: gate_of(r) or r["job"]["state"] == "done", 180)
        if now["job"]["state"] == "done":
            break
        client.post(f"/api/jobs/{job}/answer", json={"step_id": gate_of(now)["id"], "answer": "done"})
    with context.library.db.session() as session:
        steps = session.scalars(select(RunStep).where(RunStep.job_id == job)).all()
        assert sum(s.done for s in steps if s.kind == "flats") >= told["flats"] - 1
    client.post(f"/api/runs/{job}/put-away")
    had = client.get("/api/rigs/1/plans").json["kept"][0]["had"]
    assert "40 lights of 40 planned" in had["summary"] and "needed twice" in had["time"]
    # The flats that were shot are on the shelf now: the same night would cost none.
    again = price(client, last)["prices"][0]
    assert again["seconds"] == 0 and "The shelf has flats" in again["notes"][0]


def test_where_tonights_flats_go_is_the_house_rules_and_changed_for_tonight(client):
    def tonight(**asked):
        return client.get("/api/rigs/1/tonight", query_string=asked).json

    usual = tonight()
    assert usual["go"] == "at the end of the night" and usual["go_by_rule"]
    flats = sum(s["kind"] == "flats" for s in usual["steps"])
    assert flats
    sky = tonight(go="at the next twilight")
    assert not any(s["kind"] == "flats" for s in sky["steps"]) and "Twilight" in sky["go_text"]
    assert not sky["go_by_rule"]
    morning = tonight(go="next day, indoors")
    assert sum(s["kind"] == "flats" for s in morning["steps"]) == flats
    assert morning["steps"][0]["start_clock"] == "10:00" and "must stay" in morning["go_text"]
    key = next(o["key"] for o in usual["offers"] if o["on_sheet"])
    one = tonight(go="once, when the set-up ends", add=key)
    assert sum(s["kind"] == "flats" for s in one["steps"]) == 1, "what somebody wants is shot all the same"
    rule = {"numbers": {}, "flats_go": "once, when the set-up ends", "reason": "a pillar"}
    ok(client.put("/api/rigs/1/house-rules", json=rule))
    assert not any(s["kind"] == "flats" for s in tonight()["steps"]) and tonight()["go_by_rule"]
    assert client.get("/api/rigs/1/plans").json["last"]["go"] == "once, when the set-up ends"
    back = {**rule, "flats_go": "at the end of the night"}
    ok(client.put("/api/rigs/1/house-rules", json=back))
    assert tonight()["steps"] == usual["steps"] or len(tonight()["steps"]) == len(usual["steps"])


def test_flats_on_the_sky_are_planned_by_the_sun_as_the_twilight_then_has_them(foreign):
    own, shot = foreign
    for code, gain in (("Lum", 56), ("Red", 56), ("H-alpha", 100)):
        shot("M 33", datetime(2026, 10, 2, 22 + (gain == 100), 20 * (code == "Red")), code, 3, gain=gain)
    rig = own.get("/api/state")["rigs"][0]["id"]
    last = own.get(f"/api/rigs/{rig}/plans")["last"]
    nowhere = price(own.client, {**last, "go": "at the next twilight"}, rig=rig)["prices"][0]
    assert "where the rig stands" in " ".join(nowhere["notes"]) and nowhere["dark_flats"] == 0
    site = {"name": "A roof", "time_zone": "Europe/Madrid", "latitude": 40.4, "longitude": -3.7}
    ok(own.client.put("/api/site", json=site))
    told = price(own.client, {**last, "go": "at the next twilight"}, rig=rig)["prices"][0]
    page = ok(own.client.post(f"/api/rigs/{rig}/twilight", json={"at": "dawn"}))
    flats = sum(r["planned"] for r in page["rows"])
    assert told["flats"] == flats > 0 and told["hands"] == 1
    # Of 14 November's night, before the sun of the 15th is up over Madrid at 8.
    assert told["rounds"][0]["when"].startswith("in the dawn of 15 Nov, 07:") and not told["notes"]
    # A filter that this rig never had, at a binning it never had: nothing is known of its sky, and it is planned all the same.
    odd = {"targets": [target("M 1", ("SII", 300.0, 5, 56, 18))], "go": "at the next twilight"}
    odd["targets"][0]["lights"][0]["binning"] = 2
    assert price(own.client, odd, rig=rig)["prices"][0]["flats"] > 0
    many = {**last, "go": "at the next twilight"}
    ok(own.client.put(f"/api/rigs/{rig}/house-rules", json={"numbers": {"n_flats": 190}, "reason": "many"}))
    short = price(own.client, many, rig=rig)["prices"][0]
    assert any("Not all fit into one dawn" in n for n in short["notes"]), short["notes"]
    assert short["flats"] < 3 * 190


def test_one_plan_that_cannot_be_leaves_the_other_one_priced(client):
    last = client.get("/api/rigs/1/plans").json["last"]
    nothing = {"targets": [{"name": "M 31", "lights": []}]}
    told = price(client, last, nothing)
    assert told["prices"][0] and told["prices"][1] is None and "M 31" in told["wrong"][1]
    assert client.post("/api/rigs/1/plans", json={"name": "x", "plan": nothing}).status_code == 400
    assert client.post("/api/rigs/1/plans", json={"name": " ", "plan": last}).status_code == 400
    assert client.post("/api/rigs/99/plans", json={"name": "x", "plan": last}).status_code == 404


def test_a_night_of_more_than_a_plan_has_is_cut_to_one(own, tmp_path):
    """Dozens of targets and settings in one night, and a filter whose name is long: the page answers all the same."""
    for i in range(110):
        target = f"Field {i} " + "x" * 90 if i < 45 else "One"
        told = {"EXPTIME": 30.0 + i, "OBJECT": target, "FILTER": "Narrow " * 8}
        write_fits(
            tmp_path / "heap" / f"l{i}.fits",
            {**LIGHT, **told, "DATE-OBS": f"2026-10-18T21:{i % 60:02d}:{i // 60:02d}"},
        )
    own.scan(tmp_path / "heap")
    rig = own.get("/api/state")["rigs"][0]["id"]
    plan = own.get(f"/api/rigs/{rig}/plans")["last"]
    assert len(plan["targets"]) == MOST_TARGETS
    assert price(own.client, plan, rig=rig)["wrong"] == [""], "and it can be priced as it is"


def test_sets_that_a_plan_does_not_tell_apart_are_one_line_of_it(own, tmp_path):
    """Lights before and after the telescope changed sides: two sets of one filter and exposure."""
    for i in range(8):
        angle = {"ROTATANG": None, "ROTATOR": None, "POSANGLE": 80.0 if i < 5 else 260.0}
        told = {**LIGHT, **angle, "DATE-OBS": f"2026-10-18T21:{i:02d}:00"}
        write_fits(tmp_path / "heap" / f"l{i}.fits", told)
    own.scan(tmp_path / "heap")
    assert len(own.get("/api/sets?kind=light")["items"]) == 2
    plan = own.get(f"/api/rigs/{own.get('/api/state')['rigs'][0]['id']}/plans")["last"]
    assert [[one["count"] for one in t["lights"]] for t in plan["targets"]] == [[8]]
