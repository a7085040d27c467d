"""Filling the shelf: what is offered, what the simulated rig makes of it, and what is said of bad input."""

from __future__ import annotations

import numpy as np
import pytest
from sqlalchemy import select

from grayshelf.devices.simulated import rig as rig_model
from grayshelf.library.models import Frame, FrameSet, Job, MasterRecord, RunStep
from tests.helpers import write_fits
from tests.web.test_run import gate_of, wait_for

SET_UP = "g100:o30:b1"


def fill(client, rig=1, **asked):
    answer = client.get(f"/api/rigs/{rig}/fill", query_string=asked)
    assert answer.status_code == 200, answer.text
    return answer.json


def cells(page):
    return {c["key"]: c for w in page["walls"] for r in w["rows"] for c in r["cells"] if c}


def run_of(client, context, **body):
    job = client.post("/api/rigs/1/fill", json=body)
    assert job.status_code == 200, job.text

    def page():
        return client.get("/api/rigs/1/run").json["run"]

    run = wait_for(context, page, gate_of)
    client.post(
        f"/api/jobs/{job.json['job_id']}/answer", json={"step_id": gate_of(run)["id"], "answer": "done"}
    )
    return job.json["job_id"], page


def test_an_empty_sheet_says_why_it_is_empty(client):
    asked = [k for k, c in cells(fill(client, hours=6)).items() if c["state"] == "on"]
    assert asked
    assert fill(client, hours=6, left_out=",".join(asked))["headline"] == "Nothing is on the sheet."
    assert fill(client, hours=0.02)["headline"] == "Nothing that is missing fits into this time."


def test_a_campaign_is_shot_as_it_was_forecast_and_a_cooler_that_gives_up_costs_only_its_set_point(
    client, context
):
    context.library.clock.rate = 1e7
    laid = client.post(
        "/api/rigs/1/fill/ladder", json={"exposures": "60, 120, 300 s", "temps": "−10, -18", "set_up": SET_UP}
    ).json["keys"]
    assert len(laid) == 6 and laid[0] == "dark:60s:-10C:g100:o30:b1"
    offered = cells(fill(client, until="05:30"))
    away = [k for k, c in offered.items() if c["state"] == "on"]
    asked = {
        "hours": 6,
        "put_on": ",".join(laid),
        "left_out": ",".join(away),
        "counts": ",".join(f"{k}=8" for k in laid),
    }
    page = fill(client, **asked)
    assert {k for k, c in cells(page).items() if c["state"] == "on"} == set(laid)
    assert page["frames"] == 48 + sum(b["frames"] for b in page["bias"])
    assert [s["title"] for s in page["steps"] if s["kind"] == "cool"] == ["Bring the sensor to −18 °C"], (
        "it is at −10"
    )
    world = context.starter.rigs["heron"].hands._world

    def gave_up_after(steps, n):
        return sum(s["done"] for s in steps if s["kind"] == "darks") >= n

    job, run = run_of(client, context, **asked)
    wait_for(context, run, lambda r: r["job"]["state"] == "done", 90)
    done = run()
    assert [s["done"] for s in done["steps"] if s["kind"] == "darks"] == [8] * 6
    with context.library.db.session() as session:
        took = session.get_one(Job, job)
        steps = session.scalars(select(RunStep).where(RunStep.job_id == job)).all()
        shooting = [s for s in steps if s.kind in ("darks", "cool", "bias")]
        own = sum((s.ended_at - s.started_at).total_seconds() for s in shooting)
        told = sum(s.params["seconds"] for s in shooting)
        frames = session.scalars(select(Frame).where(Frame.path.contains(f"run{job:04d}"))).all()
        temps = {
            (f.facts["set_temp_c"], round(f.facts["sensor_temp_c"], 1)) for f in frames if f.kind == "dark"
        }
        assert took.state == "done" and len({f.sha256 for f in frames}) == len(frames), "none is doubled"
    assert temps and all(abs(goal - at) <= 0.3 for goal, at in temps)
    assert own == pytest.approx(told, rel=0.03), "the end that was foretold is the end it has"
    client.post(f"/api/runs/{job}/put-away")

    # The same once more, with a cooler that gives up: it goes on, and says what is left.
    context.library.clock.rate = 1e4
    job, run = run_of(client, context, **asked)
    wait_for(context, run, lambda r: gave_up_after(r["steps"], 3))
    world.change(
        faults=["cooler gives up"], sensor_at=context.library.clock.now().isoformat(), sensor_c=-10.0
    )
    context.library.clock.rate = 1e7
    ended = wait_for(context, run, lambda r: r["job"]["state"] == "done", 90)
    world.change(faults=[])
    with context.library.db.session() as session:
        kept = session.scalars(
            select(Frame).where(Frame.path.contains(f"run{job:04d}"), Frame.kind == "dark", ~Frame.rejected)
        ).all()
        joined = session.scalars(select(FrameSet).where(FrameSet.id.in_({f.set_id for f in kept})))
        inputs = {
            s.id: {i.frame_id for i in session.get_one(MasterRecord, s.master_set_id).inputs} for s in joined
        }
    assert kept and all(abs(f.facts["set_temp_c"] - f.facts["sensor_temp_c"]) <= 0.3 for f in kept)
    assert all(f.id in inputs[f.set_id] for f in kept), "what joins a set of the night is in its master"
    troubles = " ".join(ended["job"]["troubles"])
    assert "does not reach" in troubles or "left" in troubles
    client.post(f"/api/runs/{job}/put-away")


def test_a_slow_cooler_is_forecast_as_it_was_seen(client, context, monkeypatch):
    """Another cooler than the usual one: after one night its own pace is reckoned with."""
    monkeypatch.setattr(rig_model, "COOLER_TIME_CONSTANT_S", 260.0)
    context.library.clock.rate = 1e7
    body = {"exposures": "1 s", "temps": "-15", "set_up": SET_UP}
    keys = client.post("/api/rigs/1/fill/ladder", json=body).json["keys"]
    asked = {"hours": 1, "put_on": ",".join(keys), "counts": f"{keys[0]}=3"}
    away = [k for k, c in cells(fill(client, hours=1)).items() if c["state"] == "on"]
    camera = context.starter.rigs["heron"].camera

    def foretold_and_taken():
        camera.set_temperature(5.0)
        context.library.clock.sleep(7200.0)
        job, run = run_of(client, context, **asked, left_out=",".join(away))
        wait_for(context, run, lambda r: r["job"]["state"] == "done", 90)
        with context.library.db.session() as session:
            step = session.scalar(select(RunStep).where(RunStep.job_id == job, RunStep.kind == "cool"))
            client.post(f"/api/runs/{job}/put-away")
            return step.params["seconds"], (step.ended_at - step.started_at).total_seconds()

    told, took = foretold_and_taken()
    assert told != pytest.approx(took, rel=0.1), "nobody knew it"
    for _ in range(3):
        told, took = foretold_and_taken()
    assert told == pytest.approx(took, rel=0.03)


def test_a_gain_that_the_camera_does_not_have_stops_it_before_it_begins(client):
    asked = {"exposures": "60 s", "temps": "-5", "gain": 9999, "offset": 30}
    (key,) = client.post("/api/rigs/1/fill/ladder", json=asked).json["keys"]
    page = fill(client, put_on=key)
    stops = [r["text"] for r in page["ready"] if r["stops"]]
    assert len(stops) == 1 and "has gain from 0 to 400, not 9999" in stops[0] and not page["can_start"], stops
    answer = client.post("/api/rigs/1/fill", json={"put_on": key})
    assert answer.status_code == 409 and "not 9999" in answer.json["detail"]


def test_it_is_over_at_the_time_that_was_given(client, context):
    context.library.clock.rate = 1e6
    keys = client.post(
        "/api/rigs/1/fill/ladder", json={"exposures": "60 s", "temps": "-10", "set_up": SET_UP}
    ).json["keys"]
    asked = {"hours": 0.4, "put_on": ",".join(keys), "counts": f"{keys[0]}=200"}
    page = fill(client, **asked)
    camera = context.starter.rigs["heron"].camera
    assert "longer than there is" in page["over"]
    began = context.library.clock.now()
    job, run = run_of(client, context, **asked, sensor_then="warmed after the darks")
    wait_for(context, run, lambda r: r["job"]["state"] == "done", 90)
    assert camera.cooler().set_point_c is None and camera.cooler().sensor_c > 0, "it was asked to be warmed"
    assert not any("still cold" in line for line in run()["afterwards"])
    assert fill(client, hours=4, put_on=keys[0])["frames"] > 0, "a cooler that is off can be switched on"
    with context.library.db.session() as session:
        step = session.scalar(select(RunStep).where(RunStep.job_id == job, RunStep.kind == "darks"))
        assert 3 <= step.done < 30 and step.state == "done"
        assert (step.ended_at - began).total_seconds() <= 0.4 * 3600 + 1
        builds = session.scalars(select(RunStep).where(RunStep.job_id == job, RunStep.kind == "build")).all()
        assert all(b.state == "done" for b in builds), "what was shot is built in any case"
        warming = (builds[-1].started_at - step.ended_at).total_seconds()
        assert warming >= 60.0, "warmed little by little, before anything is built"
    client.post(f"/api/runs/{job}/put-away")


@pytest.mark.parametrize(
    ("asked", "said"),
    [
        ({"until": "99:00"}, "no time by the clock"),
        ({"hours": 0}, "more than no time"),
        ({"battery_wh": 500}, "Give both"),
        ({"counts": f"dark:1s:-10C:{SET_UP}=0"}, "1 to 1,000 frames"),
        ({"counts": f"dark:1s:-10C:{SET_UP}=many"}, "whole number"),
    ],
)
def test_bad_input_is_said(client, asked, said):
    answer = client.get("/api/rigs/1/fill", query_string=asked)
    assert answer.status_code == 400, answer.text
    assert said in answer.json["detail"] + answer.json.get("advice", "")


@pytest.mark.parametrize(
    "body",
    [
        {"exposures": "from 0.001 s to 7000 s", "temps": "-10", "set_up": SET_UP},
        {"exposures": "1, 2, 3, 4, 5, 6, 7, 8, 9 s", "temps": "0 -5 -10 -15 -20", "set_up": SET_UP},
        {"exposures": "1 s", "temps": "cold", "set_up": SET_UP},
        {"exposures": "1 s", "temps": "-200", "set_up": SET_UP},
        {"exposures": "1 s", "temps": "-10", "set_up": "nothing"},
    ],
)
def test_a_ladder_that_cannot_be_is_said(client, body):
    answer = client.post("/api/rigs/1/fill/ladder", json=body)
    assert answer.status_code == 400 and answer.json["detail"]


def test_a_library_of_ones_own_is_offered_what_its_lights_and_house_rules_lack(own, tmp_path):
    """Another program's frames, no devices: missing and thin darks and a bias are told apart, and worked by hand."""
    rng, folder = np.random.default_rng(4), tmp_path / "frames"
    base = {"INSTRUME": "Merl 7", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "GAIN": 10, "OFFSET": 20,
            "SET-TEMP": -10.0, "CCD-TEMP": -10.0, "XBINNING": 1, "YBINNING": 1, "AMBTEMP": 18.0}  # fmt: skip

    def shot(name, kind, at, **more):
        pixels = rng.normal(900 if kind == "LIGHT" else 540, 20, (60, 80)).astype(np.uint16)
        write_fits(folder / name, {**base, "IMAGETYP": kind, "DATE-OBS": at, **more}, pixels)

    for i in range(8):
        shot(f"l{i}.fits", "LIGHT", f"2026-10-01T22:{i:02}:00", EXPTIME=120.0, OBJECT="M 33", FILTER="L")
        shot(f"s{i}.fits", "LIGHT", f"2026-10-01T23:{i:02}:00", EXPTIME=60.0, OBJECT="M 33", FILTER="L")
    for i in range(2):
        shot(f"d{i}.fits", "DARK", f"2026-09-20T22:{i:02}:00", EXPTIME=60.0)
    own.scan(folder)
    rig = own.get("/api/state")["rigs"][0]["id"]
    # Nobody said that its camera is cooled: the set points in its headers do.
    page = fill(own.client, rig, hours=4)
    found = cells(page)
    missing, thin = found["dark:120s:-10C:g10:o20:b1"], found["dark:60s:-10C:g10:o20:b1"]
    assert missing["missing"] and missing["state"] == "on" and "serves 8 lights" in missing["helps"]
    assert not thin["missing"] and thin["there"].startswith("2 frames") and "2 frames" in thin["why"]
    assert page["served"] == page["waiting"] == 8 and [b["frames"] for b in page["bias"]] == [100]
    own.change("UPDATE camera SET traits = '{\"below_air_c\": 35.0}'")
    own.library.touched()
    warm = fill(own.client, rig, hours=4, air_c=30)
    assert cells(warm)["dark:120s:-10C:g10:o20:b1"]["state"] == "too cold"
    assert "cannot be held in air of 30" in warm["warnings"][0] and "2\u2009°C" in warm["warnings"][0]
    own.change("UPDATE camera SET traits = '{\"cooled\": false}'")
    own.library.touched()
    assert fill(own.client, rig, hours=4)["waiting"] == 0, (
        "where it is said to have no cooler, none is asked for"
    )
    own.change("UPDATE camera SET traits = '{}'")
    own.library.touched()
    table = own.client.get(f"/api/rigs/{rig}/fill.csv?hours=4").text.splitlines()
    assert table[0].startswith("\ufeffkind,exposure_s,set_point_c") and len(table) == 4
    started = own.client.post(f"/api/rigs/{rig}/fill", json={"hours": 4, "by_hand": True})
    assert started.status_code == 200, started.text
    lines = own.get(f"/api/rigs/{rig}/run")["run"]["steps"]
    assert {s["kind"] for s in lines} >= {"darks", "bias"}


def test_what_has_not_begun_is_changed_while_a_run_goes_on(client, context):
    context.library.clock.rate = 200.0
    keys = client.post(
        "/api/rigs/1/fill/ladder", json={"exposures": "30, 60, 120 s", "temps": "-10, -15", "set_up": SET_UP}
    ).json["keys"]
    away = [k for k, c in cells(fill(client, hours=20)).items() if c["state"] == "on"]
    asked = {
        "hours": 20,
        "put_on": ",".join(keys),
        "left_out": ",".join(away),
        "counts": ",".join(f"{k}=20" for k in keys),
    }
    job, run = run_of(client, context, **asked)
    wait_for(context, run, lambda r: any(s["done"] for s in r["steps"] if s["kind"] == "darks"))

    def change(step, **what):
        return client.post(f"/api/runs/{job}/series", json={"step_id": step["id"], **what})

    darks = [s for s in run()["steps"] if s["kind"] == "darks"]
    first, later, cold = darks[0], darks[2], darks[3:]
    assert change(first, count=5).status_code == 409, "it has begun"
    assert change(later, count=0).status_code == 409
    assert change(later, count=7).status_code == 200
    for step in cold:
        assert change(step, left_out=True).status_code == 200
    steps = {s["id"]: s for s in run()["steps"]}
    assert steps[later["id"]]["count"] == 7 and steps[later["id"]]["title"].startswith("7 darks")
    assert [s["state"] for s in steps.values() if s["kind"] == "cool"][-1] == "skipped", (
        "nothing is shot at it"
    )
    assert change(cold[0], left_out=False).status_code == 200
    assert [s["state"] for s in run()["steps"] if s["kind"] == "cool"][-1] == "to do"
    # More is put on the end: a bias, which is shot whatever was left out before it.
    more = client.get(f"/api/runs/{job}/more").json["offers"]
    assert not {o["key"] for o in more} & set(keys), "what is on it already is not offered"
    bias = next(o for o in more if o["key"].startswith("bias"))
    for wrong, status in (({"key": bias["key"], "frames": 0}, 409), ({"key": "dark:moon", "frames": 9}, 404)):
        assert client.post(f"/api/runs/{job}/more", json=wrong).status_code == status
    assert client.post(f"/api/runs/{job}/more", json={"key": bias["key"], "frames": 40}).status_code == 200
    steps = run()["steps"]
    assert [(s["kind"], s["count"]) for s in steps[-2:]] == [("bias", 40), ("build", 0)]
    assert change(steps[-2], left_out=True).status_code == 200
    assert client.post(f"/api/runs/{job}/end-by", json={"until": "soon"}).status_code == 400
    assert client.post(f"/api/runs/{job}/end-by", json={"until": "05:30"}).status_code == 200
    assert run()["until"] == "05:30"
    assert client.post(f"/api/runs/{job}/end-by", json={"until": None}).status_code == 200
    assert client.post(f"/api/runs/{job}/finish").status_code == 200
    context.library.clock.rate = 1e7
    ended = wait_for(context, run, lambda r: r["job"]["state"] == "done", 60)
    done = [s["done"] for s in ended["steps"] if s["kind"] == "darks"]
    assert done[0] == 20 and sum(n > 0 for n in done) < len(done), "the one under way, and no more"
    assert (
        change(later, count=9).status_code == 409
        and client.post(f"/api/runs/{job}/more", json={"key": bias["key"], "frames": 40}).status_code == 409
        and client.get(f"/api/runs/{job}/more").json == {"offers": []}
        and client.post(f"/api/runs/{job}/finish").status_code == 409
    )
    client.post(f"/api/runs/{job}/put-away")


def test_more_flats_and_more_bias_can_be_had_where_nothing_is_missing(client):
    offers = client.get("/api/rigs/1/tonight").json["offers"]
    more = [o for o in offers if o["more"]]
    assert more and not any(o["on_sheet"] for o in more)
    chosen = client.get("/api/rigs/1/tonight", query_string={"add": more[0]["key"]}).json
    assert any(s["kind"] == "flats" and s["filter_code"] == more[0]["filter_code"] for s in chosen["steps"])
    page = fill(client, hours=2)
    spare = [b for b in page["bias"] if b["state"] == "there" and b["there"]]
    assert spare, "bias that fits is there for whoever wants more"
    asked = fill(client, hours=2, put_on=spare[0]["key"])
    assert any(s["kind"] == "bias" for s in asked["steps"])


def test_reminders_of_ones_own_stand_at_their_gate_and_at_the_end(client, context):
    def keep(*told):
        body = {"reminders": [{"when": when, "text": text} for when, text in told]}
        return client.put("/api/rigs/1/reminders", json=body)

    assert keep(("cap", "")).status_code == 400 and keep(("moon", "howl")).status_code == 400
    assert keep(("cap", "x" * 400)).status_code == 400
    assert keep(("end", "dome  shut"), ("cap", "heater off"), ("cap", "heater off")).status_code == 200
    kept = [(r["when"], r["text"]) for r in client.get("/api/rigs/1/tonight").json["reminders"]]
    assert kept == [("cap", "heater off"), ("end", "dome shut")]
    context.library.clock.rate = 1e7
    keys = client.post(
        "/api/rigs/1/fill/ladder", json={"exposures": "1 s", "temps": "-5", "set_up": SET_UP}
    ).json["keys"]
    job = client.post("/api/rigs/1/fill", json={"hours": 0.5, "put_on": ",".join(keys)}).json["job_id"]

    def page():
        return client.get("/api/rigs/1/run").json["run"]

    gate = gate_of(wait_for(context, page, gate_of))
    assert gate["gate"]["advice"].endswith("heater off")
    assert gate["gate"]["brief"].startswith("heater off"), "it is read on the board over the gate"
    client.post(f"/api/jobs/{job}/answer", json={"step_id": gate["id"], "answer": "done"})
    ended = wait_for(context, page, lambda r: r["job"]["state"] == "done", 60)
    assert ended["afterwards"][-1] == "dome shut"
    client.post(f"/api/runs/{job}/put-away")
    assert keep().status_code == 200 and not client.get("/api/rigs/1/tonight").json["reminders"]
