"""What is looked for, chosen when a search starts; what was done on another day; flats and panels seen elsewhere."""

from __future__ import annotations

import os
import time
from datetime import UTC, datetime

import numpy as np
import pytest
from sqlalchemy import select

from grayshelf.core.flats.settings import RowKey
from grayshelf.library.models import FlatSetting, PanelCurve, RunStep
from grayshelf.library.panel_curves import known_points
from grayshelf.work.gates import set_by_hand, waiting_behind
from tests.helpers import FLAT, write_fits
from tests.pages import say_at
from tests.waiting import asked_until
from tests.web.test_flats import HA, LUM, SII, answer, find, ok, page, row_of, until
from tests.web.test_intake import scan

__all__ = ["page", "until"]

OIII = {**SII, "filter_code": "OIII"}


def event(client, **body):
    return client.post("/api/rigs/1/events", json={"kind": "panel", "what": "another panel", **body})


def let_go(client, page, key):
    """Take back all that was found for a row."""
    for item in row_of(page(), key)["history"]:
        if not item["taken_back"]:
            ok(client.post(f"/api/rigs/1/flats/settings/{item['id']}/take-back"))


def take_event_back(client, page):
    ok(client.post(f"/api/rigs/1/events/{page()['events'][0]['id']}/take-back"))


def test_what_is_looked_for_is_chosen_for_all_and_no_wish_is_changed(client, page, until, context):
    for mode, exposure in (("brightness", 3.0), ("both", 5.0), ("time", None)):
        find(client, [HA, SII], mode=mode, exposure_s=exposure)
        answer(client, until)
        until(lambda s: s["job"] is None)
        for key in (HA, SII):
            row = row_of(page(), key)
            assert row["state"] == "found" and row["own"] == [] and row["mode"] == "time"
            seconds = float(row["exposure"].split("\u2009")[0])
            if mode == "brightness":
                assert seconds == 3.0
            if mode == "both":
                assert 5.0 / 1.7 < seconds < 5.0 * 1.7, "near what was asked for"
        chart = ok(client.post("/api/rigs/1/flats/chart", json=SII))
        assert chart["axis"] == ("brightness" if mode == "brightness" else "exposure")
    # Another level: the search starts in proportion from what was found, so one shot confirms it.
    for wish in (30.0, None):
        ok(client.post("/api/rigs/1/flats/rows", json={"keys": [SII], "changes": {"level_percent": wish}}))
        find(client, [SII])
        answer(client, until)
        row = row_of(until(lambda s: s["job"] is None), SII)
        assert row["state"] == "found" and row["shots"] == 1 and row["ruler"]["inside"]
    for wrong in ({"mode": "luck"}, {"exposure_s": 0}, {"exposure_s": -2}, {"exposure_s": 4000}):
        body = {"keys": [HA], **wrong}
        assert client.post("/api/rigs/1/flats/find", json=body).status_code == 422


def test_a_row_tried_again_is_looked_for_as_before_unless_it_wishes_otherwise(client, page, until, context):
    light = next(s for s in page()["sources"] if s["name"] == "Lumen tile")
    ok(client.put("/api/rigs/1/sheets/light", json={**light, "diffusers": []}))
    job = find(client, [LUM], mode="brightness", exposure_s=4.0)
    answer(client, until)
    sheet = until(lambda s: s["job"] is None)
    no = row_of(sheet, LUM)["no_answer"]
    assert no["direction"] == "too bright" and "4 s" in no["message"]

    def again(**changes):
        ok(client.post("/api/rigs/1/flats/again", json={"key": LUM, "changes": changes or None}))
        answer(client, until)
        until(lambda s: s["job"] is None)
        with context.library.db.session() as session:
            newest = session.scalars(select(RunStep).order_by(RunStep.id.desc()).limit(1)).one()
            assert newest.job_id > job
            return newest.params

    assert (again()["mode"], again()["exposure_s"]) == ("brightness", 4.0)
    assert "mode" not in again(mode="time")
    ok(client.post("/api/rigs/1/flats/rows", json={"keys": [LUM], "changes": {"mode": None}}))
    ok(client.put("/api/rigs/1/sheets/light", json=light))


def test_a_row_is_left_out_while_its_flats_are_waited_for(client, page, until, tmp_path):
    skip = "/api/rigs/1/flats/skip"
    assert client.post(skip, json=HA).status_code == 409, "nothing goes on"
    job = find(client, [HA, SII], folder=str(tmp_path))
    until(lambda s: s["next"] and s["next"]["detail"].startswith("Ha"))
    ok(client.post(skip, json=HA))
    until(lambda s: s["next"] and s["next"]["detail"].startswith("SII"))
    refused = client.post(skip, json=HA)
    assert refused.status_code == 409 and "Ha at gain 200" in refused.json["detail"], "it has ended"
    # The same row can be asked for again while the other goes on; and then everything is left out.
    ok(client.post("/api/rigs/1/flats/again", json={"key": HA}))
    ok(client.post(skip, json=SII))
    until(lambda s: s["next"] and s["next"]["detail"].startswith("Ha"))
    ok(client.post(skip, json=HA))
    until(lambda s: s["job"] is None)
    ended = next(j for j in client.get("/api/jobs").json["ended"] if j["id"] == job)
    assert ended["state"] == "done" and "0 of 2 settings found" in ended["message"]


def test_what_waits_behind_a_cloth_that_is_not_hung_is_not_measured(client, page, until, context):
    ok(client.post("/api/rigs/1/flats/rows", json={"keys": [LUM], "changes": {"diffusers": ["thick cloth"]}}))
    find(client, [HA, LUM], response=True)
    until(lambda s: s["gate"])
    assert page()["panel"]["title"] == "Measuring Lumen tile: 0 shots so far"
    answer(client, until)
    # It is seen while it is measured: at the next gate the curve of the first filter is there.
    seen = until(lambda s: s["gate"] and "thick cloth" in s["gate"]["title"])["panel"]
    assert seen["now"]["shots"] >= 4 and len(seen["now"]["line"]) > 10
    assert seen["title"] == f"Measuring Lumen tile: {seen['now']['shots']} shots so far"
    assert answer(client, until, "leave out")["title"] == "Hang thick cloth for L"
    until(lambda s: s["job"] is None)
    with context.library.db.session() as session:
        curve = session.scalars(select(PanelCurve).order_by(PanelCurve.id.desc())).first()
        assert {p["filter_code"] for p in curve.points} == {"Ha"}
        n_points = len(curve.points)
    table = client.get("/api/rigs/1/flats/panel.csv").text
    assert table.count("\n") >= n_points + 1 and ",Ha,200.0,1," in table
    with context.library.db.session() as session:
        curve = session.scalars(select(PanelCurve).order_by(PanelCurve.id.desc())).first()
        session.delete(curve)
    ok(client.post("/api/rigs/1/flats/rows", json={"keys": [LUM], "changes": {"diffusers": None}}))


def test_all_filters_share_the_exposure_that_was_asked_for(client, page, until):
    find(client, [HA, OIII, SII], shared=True, exposure_s=4.0)
    answer(client, until)
    sheet = until(lambda s: s["job"] is None)
    assert {row_of(sheet, k)["exposure"] for k in (HA, OIII, SII)} == {"4\u2009s"}


def test_what_was_done_on_another_day_counts_from_then(client, page):
    assert row_of(page(), SII)["state"] == "found"
    ok(event(client, on="2026-09-12"))
    assert row_of(page(), SII)["stale"] == "", "found after it"
    assert next(e for e in page()["events"] if e["when"] == "12 Sep 26")["what"] == "another panel"
    found = next(e for e in page()["events"] if e["when"] == "12 Sep 26")
    ok(client.post(f"/api/rigs/1/events/{found['id']}/take-back"))
    refused = event(client, on="2031-01-01")
    assert refused.status_code == 400 and "still to come" in refused.json["detail"]
    ok(event(client))
    assert "another panel since" in row_of(page(), SII)["stale"]
    take_event_back(client, page)


def test_a_curve_serves_another_rig_and_no_other_panel(client, page, until, context):
    find(client, [HA, SII], response=True)
    answer(client, until)
    until(lambda s: s["job"] is None)
    assert page()["panel"]["title"] == "How Lumen tile follows its brightness"
    with context.library.db.session() as session:
        source = session.scalars(select(PanelCurve)).one().source_id
        heron, bittern = context.library.rig(session, 1), context.library.rig(session, 2)
        own, theirs = known_points(session, source, heron), known_points(session, source, bittern)
        assert [p.rate for p in own] == [p.rate for p in theirs]
        assert not {p.group for p in own} & {p.group for p in theirs}, (
            "through another telescope: the shape only"
        )
    rows = [r["key"] for r in client.get("/api/rigs/2/flats").json["rows"]]
    body = {"keys": rows, "mode": "brightness", "exposure_s": 3.0}
    ok(client.post("/api/rigs/2/flats/find", json=body))
    sheet = done_by_rig(client, 2)
    assert all(r["shots"] <= 3 for r in sheet["rows"] if r["state"] == "found")
    ok(event(client))
    assert "was replaced since it was measured" in page()["panel"]["title"] and page()["panel"]["now"] is None
    with context.library.db.session() as session:
        for number in (1, 2):
            assert known_points(session, source, context.library.rig(session, number)) == []
    take_event_back(client, page)
    kept = page()["panel"]["kept"]
    assert page()["panel"]["now"] is not None and kept[0]["counts"]
    # A measurement that went wrong is taken back, and again: no search starts from it meanwhile.
    curve = f"/api/rigs/1/flats/curves/{kept[0]['id']}"
    ok(client.post(f"{curve}/take-back"))
    assert page()["panel"]["title"] == "No measurement of Lumen tile counts"
    assert page()["panel"]["kept"][0]["taken_back"]
    with context.library.db.session() as session:
        for number in (1, 2):
            assert known_points(session, source, context.library.rig(session, number)) == []
    assert client.post(f"/api/rigs/2/flats/curves/{kept[0]['id']}/use").status_code == 404, "another rig's"
    ok(client.post(f"{curve}/use"))
    assert page()["panel"]["kept"][0]["counts"]


def done_by_rig(client, rig):
    """Say yes at every gate of a rig's search until it has ended."""

    def sheet():
        now = client.get(f"/api/rigs/{rig}/flats").json
        if now["gate"]:
            ok(say_at(client, now["gate"]))
        return now

    return asked_until(sheet, lambda now: now["job"] is None)


def flats_from_elsewhere(client, context, folder, key, level, **cards):
    """Flats that another program shot with the newest setting of a row, brought in like anybody's."""
    with context.library.db.session() as session:
        wanted = RowKey(**key)
        setting = session.scalars(
            select(FlatSetting)
            .where(FlatSetting.filter_code == wanted.filter_code, FlatSetting.taken_back.is_(False))
            .order_by(FlatSetting.id.desc())
        ).first()
        exposure, expected = setting.exposure_s, setting.expected_adu
    for number in range(3):
        pixels = np.random.default_rng(number).normal(expected + level, 40, (60, 80)).astype(np.uint16)
        header = {
            **FLAT,
            "EXPTIME": exposure,
            "GAIN": key["gain"],
            "FILTER": key["filter_code"],
            "DATE-OBS": f"2026-10-20T05:00:{10 * number:02d}",
            **cards,
        }
        write_fits(folder / f"{key['filter_code']}{number}.fits", header, pixels)
    assert scan(client, folder)["state"] == "done"


def test_flats_that_another_program_shot_say_where_a_setting_has_drifted(client, page, context, tmp_path):
    flats_from_elsewhere(client, context, tmp_path / "a", SII, 200.0)
    assert row_of(page(), SII)["drift"] == "", "within tolerance"
    flats_from_elsewhere(client, context, tmp_path / "b", HA, -6_000.0)
    assert "flats of 20 Oct 26 came out −6,0" in row_of(page(), HA)["drift"]
    flats_from_elsewhere(client, context, tmp_path / "c", OIII, -6_000.0, TELESCOP="Bittern 200")
    assert row_of(page(), OIII)["drift"] == "", "through another telescope"
    flats_from_elsewhere(client, context, tmp_path / "d", OIII, -6_000.0, OFFSET=12)
    assert row_of(page(), OIII)["drift"] == "", "at another offset"


def test_a_program_that_writes_every_test_shot_to_one_name_is_followed(client, page, until, tmp_path):
    let_go(client, page, SII)
    find(client, [SII], folder=str(tmp_path))
    for number in range(6):
        sheet = until(lambda s: s["job"] is None or (s["next"] and "Shoot" in s["next"]["line"]))
        if sheet["job"] is None:
            break
        exposure = float(sheet["next"]["line"].split("of ")[1].split("\u2009")[0])
        before = row_of(sheet, SII)["shots"]
        level = min(500 + 1_500 * exposure, 65_535)
        pixels = np.random.default_rng(number).normal(level, 30, (60, 80)).clip(0, 65535).astype(np.uint16)
        write_fits(tmp_path / "test.fits", {**FLAT, "EXPTIME": exposure}, pixels)
        until(lambda s, n=before: s["job"] is None or row_of(s, SII)["shots"] > n)
    row = row_of(until(lambda s: s["job"] is None), SII)
    assert row["state"] == "found" and 2 <= row["shots"] <= 4
    assert 500 + 1_500 * float(row["exposure"].split("\u2009")[0]) == pytest.approx(29_491, rel=0.02)


@pytest.mark.parametrize("hours", [-30.0, 5.0])
def test_a_camera_machine_with_a_wrong_clock_is_watched_all_the_same(client, page, until, tmp_path, hours):
    """Files that keep the time of another machine: its clock may be a day behind, or ahead."""
    watched, other = tmp_path / "watched", tmp_path / "other"
    watched.mkdir()
    pixels = np.random.default_rng(1).normal(9_000, 30, (60, 80)).astype(np.uint16)

    def arrive(name):
        path = write_fits(other / name, {**FLAT, "EXPTIME": 2.0}, pixels)
        when = time.time() + hours * 3600.0
        os.utime(path, (when, when))
        path.rename(watched / name)

    arrive("before.fits")
    find(client, [SII], folder=str(watched))
    until(lambda s: s["next"] and "Shoot" in s["next"]["line"])
    time.sleep(1.5)
    assert row_of(page(), SII)["shots"] == 0, "it was there before"
    arrive("after.fits")
    until(lambda s: row_of(s, SII)["shots"] > 0)
    ok(client.post(f"/api/jobs/{page()['job']['id']}/stop"))
    until(lambda s: s["job"] and s["job"]["state"] == "stopped")


@pytest.mark.parametrize("top", [16383, 4095])
def test_a_driver_that_does_not_shift_its_samples_is_found_out_and_answered(
    client, page, until, tmp_path, top
):
    """12 and 14 bits in the lower end of 16: full is where the pixels pile up, and the target is of that range."""
    let_go(client, page, SII)
    find(client, [SII], folder=str(tmp_path))
    rate, base = 0.1 * top, 500.0  # as the bias on the shelf has it
    for number in range(8):
        sheet = until(lambda s: s["job"] is None or (s["next"] and "Shoot" in s["next"]["line"]))
        if sheet["job"] is None:
            break
        asked = float(sheet["next"]["line"].split("of ")[1].split("\u2009")[0])
        exposure = 15.0 if number == 0 else asked
        signal = np.random.default_rng(number).normal(base + rate * exposure, 8, (60, 80))
        pixels = signal.clip(0, top).astype(np.uint16)
        before = row_of(sheet, SII)["shots"]
        write_fits(tmp_path / f"t{number}.fits", {**FLAT, "EXPTIME": exposure}, pixels)
        until(lambda s, n=before: s["job"] is None or row_of(s, SII)["shots"] > n)
    row = row_of(until(lambda s: s["job"] is None), SII)
    assert row["state"] == "found", row["no_answer"]
    level = base + rate * float(row["exposure"].split("\u2009")[0])
    assert level == pytest.approx(0.45 * top, rel=0.03)


def test_a_gate_that_is_left_out_takes_only_what_waits_behind_it():
    def step(number, kind, gate=None, code=None, state="to do"):
        params = {"gate": gate} if gate else {}
        return RunStep(id=number, seq=100, kind=kind, filter_code=code, state=state, params=params)

    steps = [
        step(1, "gate", "panel", state="done"),
        step(2, "gate", "diffuser", state="waiting"),
        step(3, "find", code="L", state="done"),
        step(4, "gate", "filter"),
        step(5, "find", code="R"),
        step(6, "find", code="G"),
        step(7, "gate", "diffuser"),
        step(8, "find", code="Ha"),
        step(9, "gate", "panel"),
        step(10, "gate", "diffuser"),
        step(11, "find", code="B"),
    ]
    behind = {
        n: [s.filter_code for s in waiting_behind(steps[n - 1], steps) if s.kind == "find"]
        for n in (2, 7, 10)
    }
    assert behind == {2: ["R", "G"], 7: ["Ha"], 10: ["B"]}


def test_what_was_set_by_hand_last_is_told_by_the_clock():
    def asked(number, seq, value, minute, state="done"):
        at = None if minute is None else datetime(2026, 10, 18, 17, minute, tzinfo=UTC)
        params = {"gate": "filter", "value": value}
        return RunStep(id=number, seq=seq, kind="gate", state=state, params=params, ended_at=at)

    # On the sky the row of a higher number may come first.
    steps = [asked(8, 200, "L", 20), asked(7, 300, "Ha", 10), asked(9, 400, "R", None, "waiting")]
    assert set_by_hand("filter", steps) == "L"
    assert set_by_hand("brightness", steps) is None
