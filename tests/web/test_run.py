"""Runs on the simulated rig: searches, faults, pause, stop, and a filter that finds no answer."""

from __future__ import annotations

import math
import statistics
from datetime import timedelta
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from sqlalchemy import select

from grayshelf.clock import SimulatedClock
from grayshelf.core.flats.model import Found, Prior, Shoot, TestShot
from grayshelf.core.flats.search.next_step import next_step
from grayshelf.core.flats.search.task import Task
from grayshelf.core.flats.settings import FlatWishes
from grayshelf.core.sensor.statistics import frame_statistics
from grayshelf.demo.rigs import FILTERS, MODELS, START
from grayshelf.devices.ports import RigDevices
from grayshelf.devices.simulated.camera_model import Conditions, expose
from grayshelf.devices.simulated.rig import SimulatedWorld, devices_of
from grayshelf.devices.simulated.train_model import flat_field
from grayshelf.library.models import FlatSetting, RunShot, RunStep
from tests.waiting import asked_until

ROWS = {f[0]: (f[4], 100.0 if f[0] in "LRGB" else 200.0) for f in FILTERS["heron"]}


def find_on_rig(devices: RigDevices, world, code, brightness, gain, stops=0.0, prior=None, pedestal=None):
    """A search on the simulated rig, from no knowledge; the answer and the shots."""
    world.change(panel_in_place=True, capped=False, brightness=brightness, diffuser_stops=stops)
    devices.wheel.move(devices.wheel.filters.index(code))
    target, window = FlatWishes().target(devices.camera.facts.white_adu), FlatWishes().window()
    shots: list[TestShot] = []
    while isinstance(
        step := next_step(
            Task(target, window, pedestal=pedestal, prior=Prior(prior) if prior else None), shots
        ),
        Shoot,
    ):
        stats = frame_statistics(devices.camera.expose(step.exposure_s, gain, 30, 1).pixels)
        shots.append(
            TestShot(step.exposure_s, stats.median, stats.brightest_permille, stats.saturated_fraction)
        )
    return step, shots, target


@pytest.fixture(scope="module")
def rig():
    world = SimulatedWorld(MODELS["heron"]("tiny"), SimulatedClock(START, 1e9))
    return world, devices_of(world)


def test_every_filter_is_found_in_four_shots_and_in_three_on_the_median(rig):
    world, devices = rig
    counts = []
    for code, (brightness, gain) in ROWS.items():
        stops = 2.0 if code == "L" else 0.0
        found, shots, target = find_on_rig(devices, world, code, brightness, gain, stops)
        assert isinstance(found, Found), code
        level = statistics.median(
            frame_statistics(devices.camera.expose(found.exposure_s, gain, 30, 1).pixels).median
            for _ in range(3)
        )
        assert abs(level / target.level_adu - 1) <= 0.05, code
        counts.append(len(shots))
        again, confirming, _ = find_on_rig(
            devices, world, code, brightness, gain, stops, prior=found.exposure_s
        )
        assert isinstance(again, Found)
        assert len(confirming) == 1, "from the last setting: one shot"
    assert max(counts) <= 4
    assert statistics.median(counts) <= 3


def test_the_model_is_what_it_says():
    """Photon transfer on the model: variance against mean gives its e⁻/ADU (EMVA Standard 1288, from memory)."""
    sensor = MODELS["heron"]("tiny").sensor
    rng = np.random.default_rng(1)
    c = Conditions(2.0, 100, 30, -10, START.date())
    a, b = (expose(sensor, 1500.0, c, rng).astype(float) for _ in range(2))
    d, e = (expose(sensor, 0.0, c, rng).astype(float) for _ in range(2))
    k = (np.var(a - b) / 2 - np.var(d - e) / 2) / (np.median(a) - np.median(d))
    assert 1 / k == pytest.approx(sensor.e_per_adu(100), rel=0.02)
    assert np.median(d) == pytest.approx(sensor.pedestal(30), abs=2)
    # Dark current doubles every 6 °C or so.
    assert sensor.dark_e_s(-4) == pytest.approx(2 * sensor.dark_e_s(-10))
    # The banding formula at 200 Hz and 32 ms, about 16 %; at 1 kHz and 0.5 s, 0.2 % at worst.
    panel = MODELS["heron"]("tiny").panel
    assert max(panel.banding(t) for t in np.linspace(0.03, 0.034, 50)) <= 1 / (panel.pulse_hz * 0.03)


def wait_for(context, rig_page, wanted, seconds=60):
    """Wait until the run's page is as wanted; return it."""
    return asked_until(rig_page, wanted, seconds, lambda run: f"{run['headline']} {run['subline']}")


def start(client, codes, frames=5, rig=1):
    sheet = client.get(f"/api/rigs/{rig}/tonight?frames={frames}").json
    leave = [o["key"] for o in sheet["offers"] if o["filter_code"] not in codes]
    add = [o["key"] for o in sheet["offers"] if o["filter_code"] in codes]
    answer = client.post("/api/runs", json={"rig_id": rig, "frames": frames, "leave_out": leave, "add": add})
    assert answer.status_code == 200, answer.text
    return answer.json["job_id"]


def gate_of(run):
    return next((x for x in run["steps"] if x["state"] == "waiting"), None)


def stops_too_bright(model, code, brightness, exposure_s, gain):
    """How much too bright a flat is, by the model's own truth."""
    field = np.median(flat_field(model.train, model.sensor.width, model.sensor.height, code, 91.2, 12_000))
    light = field * model.panel.output(brightness) * model.panel_through[code]
    adu = light * (exposure_s + model.sensor.dead_time_s) / model.sensor.e_per_adu(gain)
    return math.log2(adu / (FlatWishes().target(65535).level_adu - model.sensor.pedestal(30)))


def test_a_run_with_everything_that_can_go_wrong(client, context):
    def page():
        return client.get("/api/rigs/1/run").json["run"]

    def answer(say="done"):
        run = wait_for(context, page, gate_of)
        gate = gate_of(run)
        sent = client.post(
            f"/api/jobs/{run['job']['id']}/answer", json={"step_id": gate["id"], "answer": say}
        )
        assert sent.status_code == 200, sent.text
        return gate

    world = context.starter.rigs["heron"].hands._world
    sii = next(
        r["key"] for r in client.get("/api/rigs/1/flats").json["rows"] if r["key"]["filter_code"] == "SII"
    )
    own_target = {"keys": [sii], "changes": {"level_percent": 25.0}}
    assert client.post("/api/rigs/1/flats/rows", json=own_target).status_code == 200
    reminder = {"reminders": [{"when": "diffuser", "text": "film is in the blue box"}]}
    assert client.put("/api/rigs/1/reminders", json=reminder).status_code == 200
    job = start(client, ("SII", "L"))
    assert (
        client.post("/api/runs", json={"rig_id": 1, "frames": 5, "leave_out": [], "add": []}).status_code
        == 409
    )
    assert answer()["gate"]["sign"] == "panel"

    # L cannot be dimmed enough: it waits behind a gate with the stops, and the others go on.
    gate = answer("done")
    assert gate["gate"]["sign"] == "diffuser"
    assert f"{stops_too_bright(world.model, 'L', 20, 0.5, 100):.1f} stops" in gate["gate"]["advice"]
    assert "film is in the blue box" in gate["gate"]["advice"], (
        "reminded at a gate that came up on the way, too"
    )
    client.put("/api/rigs/1/reminders", json={"reminders": []})
    assert any(
        x["filter_code"] == "SII" and x["state"] == "done" for x in page()["steps"] if x["kind"] == "flats"
    )

    # At the cap: room light leaks in, and a leaky dark flat stops the run before it does harm.
    run = wait_for(context, page, lambda r: (g := gate_of(r)) and g["gate"]["sign"] == "cap")
    assert world.state.brightness == 0, "the panel goes dark by itself"
    world.change(room_light_e_s=900.0)
    answer()
    run = wait_for(context, page, lambda r: r["job"]["state"] == "failed")
    assert "light reaches the sensor" in run["subline"]
    world.change(room_light_e_s=0.0, faults=["camera gone"])
    client.post(f"/api/jobs/{job}/resume")
    # A camera that does not answer is told of at a gate, and the run goes on from there.
    run = wait_for(context, page, gate_of)
    assert gate_of(run)["gate"]["sign"] == "trouble" and "does not answer" in gate_of(run)["gate"]["advice"]
    world.change(faults=[])

    # Stopped by hand, and gone on with.
    context.library.clock.rate = 2.0
    answer()
    wait_for(context, page, lambda r: r["job"]["state"] == "running")
    assert client.post(f"/api/jobs/{job}/pause").status_code == 200
    wait_for(context, page, lambda r: r["job"]["state"] == "paused")
    assert client.post(f"/api/jobs/{job}/stop").status_code == 200
    run = wait_for(context, page, lambda r: r["job"]["state"] == "stopped")
    assert run["job"]["can_resume"]
    context.library.clock.rate = 1e6
    client.post(f"/api/jobs/{job}/resume")
    run = wait_for(context, page, lambda r: r["job"]["state"] == "done")
    assert "4 masters" in run["subline"]
    # Each by its own target, and by the flats that were shot, not by the test shots on the way.
    found = {x["filter_code"]: x for x in run["searches"] if x["found"]}
    assert found["SII"]["target"] == pytest.approx(0.25 * 65_535, rel=0.01)
    assert all(x["came_out"]["inside"] for x in found.values())
    with context.library.db.session() as session:
        flats = session.scalars(select(RunStep).where(RunStep.kind == "flats", RunStep.state == "done")).all()
        targets = {x.filter_code: x.params["target"]["level_adu"] for x in flats}
    assert targets["SII"] == found["SII"]["target"] != targets["L"]
    assert any("cap" in line for line in run["afterwards"])
    good = [x["done"] for x in run["steps"] if x["kind"] == "dark flats"]
    assert sorted(good) == [5, 6], "the leaky frame was set aside and shot again"
    for lights in client.get("/api/rigs/1/nights/2026-10-18").json["sets"]:
        if lights["filter_code"] == "SII":
            assert lights["marks"][1]["verdict"] != "nothing fits"
    with context.library.db.session() as session:
        settings = session.scalars(select(FlatSetting)).all()
        assert {x.filter_code for x in settings} == {"SII", "L"}
        assert session.scalar(select(RunStep).where(RunStep.state == "no answer")).filter_code == "L"
    assert client.post(f"/api/runs/{job}/put-away").status_code == 200
    assert page() is None
    sheet = client.get("/api/rigs/1/tonight").json
    assert "4 masters built" in {r["what"]: r["text"] for r in sheet["ready"]}["last run"]
    # Once more, with one click: the filters that had flats, from the exposures that were found.
    assert sheet["again"] == "flats in 2 filters"
    again = client.post("/api/rigs/1/runs/again")
    assert again.status_code == 200, again.text
    steps = wait_for(context, page, gate_of)["steps"]
    assert {x["filter_code"] for x in steps if x["kind"] == "flats"} == {"SII", "L"}
    assert all(x["exposure_known"] for x in steps if x["kind"] == "flats")
    client.post(f"/api/jobs/{again.json['job_id']}/stop")
    wait_for(context, page, lambda r: r["job"]["state"] == "stopped")
    client.post(f"/api/runs/{again.json['job_id']}/put-away")
    assert client.get("/api/rigs/1/tonight").json["again"] == sheet["again"], (
        "of the last one nothing was shot"
    )


def test_darks_are_shot_at_their_temperature_and_close_their_gap(client, context):
    sheet = client.get("/api/rigs/1/tonight?frames=5").json
    dark = next(o for o in sheet["offers"] if o["kind"] == "dark")
    leave = [o["key"] for o in sheet["offers"] if o["kind"] == "flat"]
    body = {"rig_id": 1, "frames": 5, "leave_out": leave, "add": [dark["key"]]}
    job = client.post("/api/runs", json=body).json["job_id"]

    def page():
        return client.get("/api/rigs/1/run").json["run"]

    run = wait_for(context, page, gate_of)
    client.post(f"/api/jobs/{job}/answer", json={"step_id": gate_of(run)["id"], "answer": "done"})
    run = wait_for(context, page, lambda r: r["job"]["state"] == "done", 90)
    assert [x["kind"] for x in run["steps"]] == ["gate", "cool", "darks", "build"]
    gaps = client.get("/api/rigs/1/shelf").json["gaps"]
    assert not [g for g in gaps if g["kind"] == "dark"]
    night = client.get("/api/rigs/1/nights/2026-10-03").json
    mark = next(m for m in night["sets"][0]["marks"] if m["kind"] == "dark")
    assert mark["verdict"] == "fits"
    card = client.get(f"/api/holdings/{mark['holding_id']}").json
    assert next(f["value"] for f in card["settings"] if f["name"] == "Sensor") == pytest.approx(-5.0, abs=0.3)
    noise = {f["name"]: f["value"] for f in card["noise"]}
    assert noise["Noise left in the master"] == pytest.approx(noise["Foretold for this many"], rel=0.2)
    assert client.post(f"/api/jobs/{job}/resume").status_code == 409


def test_dark_flats_of_a_run_that_stopped_before_the_cap_stay_asked_for(client, context):
    """Nothing stands in for them silently: tonight's sheet has them until they are there, then the flats are built."""
    job = start(client, ("OIII",))

    def page():
        return client.get("/api/rigs/1/run").json["run"]

    run = wait_for(context, page, gate_of)
    client.post(f"/api/jobs/{job}/answer", json={"step_id": gate_of(run)["id"], "answer": "done"})
    wait_for(context, page, lambda r: (g := gate_of(r)) and g["gate"]["sign"] == "cap")
    assert client.post(f"/api/jobs/{job}/stop").status_code == 200
    wait_for(context, page, lambda r: r["job"]["state"] == "stopped")
    client.post(f"/api/runs/{job}/put-away")
    sheet = client.get("/api/rigs/1/tonight?frames=5").json
    asked = [o for o in sheet["offers"] if o["kind"] == "dark flat" and o["filter_code"] == "OIII"]
    if not asked:
        # A dark flat of that very exposure was on the shelf already.
        sets = client.get("/api/rigs/1/nights/2026-10-18").json["sets"]
        lights = next(x for x in sets if x["filter_code"] == "OIII")
        assert next(m for m in lights["marks"] if m["kind"] == "dark flat")["verdict"] == "fits"
        return
    assert asked[0]["hole"] and asked[0]["on_sheet"]
    leave = [o["key"] for o in sheet["offers"] if o["key"] != asked[0]["key"]]
    body = {"rig_id": 1, "frames": 5, "leave_out": leave, "add": []}
    job = client.post("/api/runs", json=body).json["job_id"]
    run = wait_for(context, page, gate_of)
    assert [x["kind"] for x in run["steps"]] == ["gate", "dark flats", "build"]
    client.post(f"/api/jobs/{job}/answer", json={"step_id": gate_of(run)["id"], "answer": "done"})
    run = wait_for(context, page, lambda r: r["job"]["state"] == "done", 90)
    assert "2 masters built" in run["subline"], "the dark flat and the flats that waited for it"
    client.post(f"/api/runs/{job}/put-away")
    assert not [o for o in client.get("/api/rigs/1/tonight").json["offers"] if o["kind"] == "dark flat"]


def test_a_stuck_wheel_and_a_cooler_that_gives_up_are_told():
    world = SimulatedWorld(MODELS["heron"]("tiny"), SimulatedClock(START, 1e9))
    devices = devices_of(world)
    world.change(faults=["wheel stuck"])
    with pytest.raises(Exception, match="wrong filter, so none are shot"):
        devices.wheel.move(3)
    world.change(faults=["cooler gives up"], sensor_at=START.isoformat())
    world.clock.sleep(3600)
    assert devices.camera.cooler().sensor_c > 0
    with pytest.raises(Exception, match="does not bin"):
        devices.camera.expose(1, 100, 30, 5)


def test_flats_put_on_the_end_of_a_run_that_goes_on_are_shot_and_built(client, context):
    def page():
        return client.get("/api/rigs/1/run").json["run"]

    job = start(client, ("SII",))
    gate = gate_of(wait_for(context, page, gate_of))
    more = client.get(f"/api/runs/{job}/more").json["offers"]
    flats = {o["title"]: o for o in more if o["group"] == "Flats"}
    assert not any(" in SII" in title for title in flats), "what it shoots anyway is not offered"
    ha = next(o for title, o in flats.items() if " in Ha" in title)
    assert "you are needed" in ha["text"]
    assert client.post(f"/api/runs/{job}/more", json={"key": ha["key"], "frames": 6}).status_code == 200
    assert client.post(f"/api/runs/{job}/more", json={"key": ha["key"], "frames": 6}).status_code == 404, (
        "once"
    )
    context.library.clock.rate = 1e6
    while gate is not None:
        client.post(f"/api/jobs/{job}/answer", json={"step_id": gate["id"], "answer": "done"})
        run = wait_for(context, page, lambda r: gate_of(r) or r["job"]["state"] == "done")
        gate = gate_of(run)
    done = {s["filter_code"]: s["done"] for s in run["steps"] if s["kind"] == "flats"}
    built = [s["done"] for s in run["steps"] if s["kind"] == "build"]
    assert done == {"SII": 5, "Ha": 6} and len(built) == 2 and min(built) >= 2, (done, run["subline"])
    client.post(f"/api/runs/{job}/put-away")


def test_a_run_that_is_gone_on_with_a_day_later_asks_for_what_hands_had_put_in_place(client, context):
    def page():
        return client.get("/api/rigs/1/run").json["run"]

    clock = context.library.clock
    clock.rate = 60.0
    job = start(client, ("SII", "Ha"), frames=8)
    gate = gate_of(wait_for(context, page, gate_of))
    at = (clock.now() + timedelta(hours=3)).astimezone(ZoneInfo("Europe/London"))
    assert client.post(f"/api/runs/{job}/end-by", json={"until": f"{at:%H:%M}"}).status_code == 200
    client.post(f"/api/jobs/{job}/answer", json={"step_id": gate["id"], "answer": "done"})
    clock.rate = 2.0
    wait_for(context, page, lambda r: any(s["kind"] == "flats" and s["done"] for s in r["steps"]))
    assert client.post(f"/api/jobs/{job}/stop").status_code == 200
    wait_for(context, page, lambda r: r["job"]["state"] == "stopped")
    client.post(f"/api/jobs/{job}/resume")
    wait_for(context, page, lambda r: r["job"]["state"] == "running")
    client.post(f"/api/jobs/{job}/stop")
    stopped = wait_for(context, page, lambda r: r["job"]["state"] == "stopped")
    assert all(s["state"] == "done" for s in stopped["steps"] if s["id"] == gate["id"]), (
        "at once: nobody was there"
    )

    clock.rate = 1e7
    clock.sleep(26 * 3600.0)
    context.starter.rigs["heron"].hands._world.change(panel_in_place=False)
    client.post(f"/api/jobs/{job}/resume")
    again = wait_for(context, page, gate_of)
    assert gate_of(again)["id"] == gate["id"] and again["until"] == "", "the panel, and no end that is past"
    while (now := wait_for(context, page, lambda r: gate_of(r) or r["job"]["state"] == "done"))["job"][
        "state"
    ] != "done":
        client.post(f"/api/jobs/{job}/answer", json={"step_id": gate_of(now)["id"], "answer": "done"})
    with context.library.db.session() as session:
        shots = session.scalars(
            select(RunShot).join(RunStep).where(RunStep.job_id == job, RunStep.kind == "flats")
        ).all()
        assert len(shots) == 16 and not [s.why for s in shots if s.why], "none was shot of the dark"
    client.post(f"/api/runs/{job}/put-away")
