"""What goes wrong in a twilight: a filter by hand, a camera that is gone, no bias, targets that cannot be, no site."""

from __future__ import annotations

from dataclasses import replace

import pytest
from sqlalchemy import select, update

from grayshelf.library.models import FrameSet, RunStep
from tests.pages import say_at
from tests.web.test_twilight import KEYS, begin, look, measured, ok, rows, shots_of, until


@pytest.fixture
def heron(context):
    """The devices of Heron 92, put back as they were afterwards."""
    rigs = context.twilight.rigs
    before = rigs["heron"]
    yield before
    rigs["heron"] = before
    world_of(before).change(faults=[])


def world_of(devices):
    return devices.camera._world


def stop(client, job):
    ok(client.post(f"/api/jobs/{job}/stop"))
    return until(client, lambda p: p["job"] and p["job"]["state"] == "stopped")


def test_a_rig_without_a_wheel_asks_for_each_filter_once(client, context, heron):
    context.twilight.rigs["heron"] = replace(heron, wheel=None)
    job = begin(client, "dawn", 5, ("L", "Ha"))
    for code in ("L", "Ha"):
        page = until(client, lambda p: p["gate"])
        assert page["gate"]["title"] == f"{code} in"
        world_of(heron).change(wheel=heron.wheel.filters.index(code))
        if code == "L":
            # Asked again after a stop, and only once.
            stop(client, job)
            ok(client.post(f"/api/jobs/{job}/resume"))
            page = until(client, lambda p: p["gate"])
            assert page["gate"]["title"] == "L in"
        ok(say_at(client, page["gate"]))
        until(client, lambda p, gate=page["gate"]: p["gate"] != gate)
    until(client, lambda p: p["job"] is None)
    assert {c: sum(measured(s).counts for s in own) for c, own in shots_of(context, job).items()} == {
        "L": 5,
        "Ha": 5,
    }
    with context.library.db.session() as session:
        gates = session.scalars(select(RunStep).where(RunStep.job_id == job, RunStep.kind == "gate")).all()
        assert [g.state for g in gates] == ["done"] * 3


def test_a_camera_that_is_gone_is_told_at_a_gate_and_it_goes_on(client, context, heron):
    job = begin(client, "dusk", 8, ("SII", "L"))
    until(client, lambda p: sum(r["done"] for r in p["rows"]) >= 2)
    world_of(heron).change(faults=["camera gone"])
    page = until(client, lambda p: p["gate"])
    assert page["gate"]["sign"] == "trouble"
    assert "does not answer" in page["gate"]["advice"] and "cable" in page["gate"]["advice"]
    done = sum(r["done"] for r in page["rows"])
    world_of(heron).change(faults=[])
    ok(say_at(client, page["gate"]))
    until(client, lambda p: p["job"] is None)
    assert sum(measured(s).counts for own in shots_of(context, job).values() for s in own) == 16 >= done


def test_it_pauses_and_goes_on(client, context, heron):
    job = begin(client, "dawn", 25, ("R",))
    until(client, lambda p: p["rows"][0]["done"] >= 2)
    ok(client.post(f"/api/jobs/{job}/pause"))
    page = until(client, lambda p: p["job"] and p["job"]["state"] == "paused")
    held = page["rows"][0]["done"]
    assert until(client, lambda p: p["job"])["rows"][0]["done"] == held
    ok(client.post(f"/api/jobs/{job}/go-on"))
    until(client, lambda p: p["job"] is None)
    assert look(client, at="last")["rows"][0]["state"] == "done"


def test_without_a_bias_the_flats_are_kept_and_the_master_is_said_to_wait(client, context, heron):
    with context.library.db.session() as session:
        bias = [s.id for s in session.scalars(select(FrameSet).where(FrameSet.kind == "bias"))]
        session.execute(update(FrameSet).where(FrameSet.id.in_(bias)).values(taken_off=True))
    context.library.touched()
    try:
        begin(client, "dusk", 5, ("Ha",))
        until(client, lambda p: p["job"] is None)
        page = look(client)
        assert page["under"] == "5 flats of the sky, 0 masters built"
        assert "No bias fits these flats of the sky" in page["failed"][0]
        assert "Shoot bias" in page["failed"][0]
    finally:
        with context.library.db.session() as session:
            session.execute(update(FrameSet).where(FrameSet.id.in_(bias)).values(taken_off=False))
        context.library.touched()


def test_a_row_of_which_nothing_can_be_said_says_why_and_the_others_are_laid_out(client):
    change = {"keys": [KEYS["L"]], "changes": {"level_adu": 520.0, "tolerance_percent": 10.0}}
    ok(client.post("/api/rigs/1/flats/rows", json=change))
    try:
        page = look(client, at="dawn", rows=rows(5, ("L", "Ha")))
        row = next(r for r in page["rows"] if r["key"] == KEYS["L"])
        assert "hardly lies above the pedestal" in row["trouble"] and row["opens"] is None
        assert next(r for r in page["rows"] if r["key"] == KEYS["Ha"])["planned"] == 5
        assert page["cannot"].startswith("Leave out")
        refused = client.post("/api/rigs/1/twilight/start", json={"at": "dawn", "rows": rows(5, ("L", "Ha"))})
        assert refused.status_code == 409 and "Raise it" in refused.text
        assert (
            "hardly lies above"
            in client.get("/api/rigs/1/twilight.csv?choice=%7B%22at%22:%22dawn%22%7D").text
        )
    finally:
        back = {"keys": [KEYS["L"]], "changes": {"level_adu": None, "tolerance_percent": None}}
        ok(client.post("/api/rigs/1/flats/rows", json=back))
    assert not look(client, at="dawn", rows=rows(5, ("L",)))["rows"][0]["trouble"]


def test_frames_stay_under_the_limit_of_the_sensor(client, context, heron):
    """A target near full: the vignetted middle would be clipped, so the level is lowered by what the frames show."""
    change = {"keys": [KEYS["G"]], "changes": {"level_percent": 88.0}}
    ok(client.post("/api/rigs/1/flats/rows", json=change))
    try:
        job = begin(client, "dawn", 6, ("G",))
        until(client, lambda p: p["job"] is None)
    finally:
        back = {"keys": [KEYS["G"]], "changes": {"level_percent": None}}
        ok(client.post("/api/rigs/1/flats/rows", json=back))
    flats = [s for s in shots_of(context, job)["G"] if measured(s).counts]
    assert len(flats) == 6
    assert max(measured(s).brightest_permille for s in flats) < 0.92 * 65535 * 1.03
    assert all(measured(s).median < 0.86 * 65535 for s in flats), "lower than was wished"


def test_without_a_site_it_is_asked_for(client, context):
    library = context.library
    with library.db.session() as session:
        site = library.site(session)
        library.set_setting(session, "site", {**site, "latitude": None, "longitude": None})
    try:
        page = look(client)
        assert page["place"] == "" and page["rows"] == [] and not page["can_shoot"]
        refused = client.post("/api/rigs/1/twilight/start", json={"at": "dawn", "rows": rows(5)})
        assert "Enter its latitude" in refused.text
        body = {"name": "x", "time_zone": "Europe/London", "latitude": 95.0, "longitude": 0.0}
        assert client.put("/api/site", json=body).status_code == 422
        here = {"name": "x", "time_zone": "Europe/London", "latitude": 52.0, "longitude": 0.0}
        for wrong in ("52.95 W", "somewhere", "95", ""):
            assert client.put("/api/site", json={**body, "latitude": wrong}).status_code == 422, wrong
        typed = {**here, "latitude": "52,5° N", "longitude": "-0° 57′ 0s"}
        for sent, place in (
            (typed, "x, 52.5° N, 0.95° W"),
            (here, "x, 52° N, 0° E"),
            ({**here, "latitude": None}, ""),
        ):
            ok(client.put("/api/site", json=sent))
            assert look(client)["place"] == place, "what is emptied is not kept"
    finally:
        with library.db.session() as session:
            library.set_setting(session, "site", site)
    assert look(client)["place"]


def test_gone_on_with_hours_later_it_ends_instead_of_waiting_for_another_night(client, context):
    job = begin(client, "dusk", 100, ("SII",))
    until(client, lambda p: p["rows"][0]["done"] >= 2)
    stop(client, job)
    done = look(client)["rows"][0]["done"]
    clock = context.library.clock
    rate, clock.rate = clock.rate, 1e9
    clock.sleep(9 * 3600.0)
    clock.rate = rate
    ok(client.post(f"/api/jobs/{job}/resume"))
    until(client, lambda p: p["job"] is None)
    page = look(client, at="last")
    assert page["rows"][0]["done"] == done
    assert page["under"].endswith(f"SII {done} of 100: the sky grew too dark")
    assert page["rows"][0]["plan_text"] == "the sky grew too dark"
