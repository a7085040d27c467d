"""The Bench over the wire, on the simulated rigs: shooting, stopping, going on, accepting, and being rid of frames."""

from __future__ import annotations

import csv
import io
import shutil
import sqlite3
from pathlib import Path

import numpy as np
import pytest
from alembic import command
from alembic.config import Config
from sqlalchemy import select

from grayshelf.core.flats.settings import RowKey
from grayshelf.core.sensor.sorting import HandedIn, sort_out
from grayshelf.demo.rigs import MODELS
from grayshelf.library import database
from grayshelf.library.camera_values import measured_gain
from grayshelf.library.facts_json import facts_from_json, facts_to_json
from grayshelf.library.flat_sheet import row_target, wishes_for
from grayshelf.library.models import Frame, FrameSet, MeasurementShot, Rig
from grayshelf.library.rig_terms import traits_at
from tests.helpers import DARK, facts_of, write_fits
from tests.pages import say_at
from tests.waiting import asked_until

ALIVE = ("queued", "running", "waiting", "paused")


@pytest.fixture(scope="module")
def heron(client):
    return next(r["id"] for r in client.get("/api/state").json["rigs"] if r["name"] == "Heron 92")


def page_of(client, number):
    return client.get(f"/api/measurements/{number}").json


def until(client, number, what, seconds=180.0):
    """The measurement once `what(page)` is true; gates are answered on the way."""

    def page():
        now = page_of(client, number)
        if now["gate"]:
            say_at(client, now["gate"])
        return now

    return asked_until(page, what, seconds)


def ended(page):
    return page["job"] is None or page["job"]["state"] not in ALIVE


def shoot(client, rig, kind, **body):
    answer = client.post(f"/api/rigs/{rig}/bench/{kind}/shoot", json=body)
    assert answer.status_code == 200, answer.json
    return answer.json["measurement_id"], answer.json["job_id"]


def warnings(client, gain):
    """The offset's warnings in the slips of the night's lights at a gain."""
    rig = client.get("/api/state").json["rigs"][0]["id"]
    sets = client.get(f"/api/rigs/{rig}/nights/2026-10-18").json["sets"]
    told = [client.get(f"/api/lights/{s['id']}/slip").json for s in sets if f"gain {gain}" in str(s)]
    return [w for slip in told for w in slip["warnings"] if "Offset" in w or "offset" in w]


def test_the_offset_from_the_cap_to_the_slip(client, context, heron):
    offered = client.get(f"/api/rigs/{heron}/bench/offset").json
    assert offered["can_shoot"] and offered["seconds_per_gain"] > 30
    # The scenario: checked at gain 100 from frames on disk, never at gain 200.
    assert {r["gain"]: bool(r["warning"]) for r in offered["accepted"]} == {100.0: False, 200.0: True}
    assert warnings(client, 200) and not warnings(client, 100)
    ready = client.get(f"/api/rigs/{heron}/tonight").json["ready"]
    assert any(r["what"] == "offset" and "never checked" in r["text"] for r in ready)

    number, job = shoot(client, heron, "offset", gains=[200])
    assert page_of(client, number)["offset"][0]["state"] in ("not begun", "going on")
    busy = client.post(f"/api/rigs/{heron}/bench/gain/shoot", json={"gains": [100], "filter_code": "Ha"})
    assert busy.status_code == 409 and "busy" in busy.json["detail"]
    # Stopped in the middle: what was shot stays, and is not shot again.
    until(client, number, lambda p: p["offset"][0]["n_frames"] >= 10)
    client.post(f"/api/jobs/{job}/stop")
    stopped = until(client, number, ended)
    assert stopped["job"]["can_resume"]
    before = stopped["offset"][0]["n_frames"]
    client.post(f"/api/jobs/{job}/resume")
    done = until(client, number, ended)
    here = done["offset"][0]
    assert here["state"] == "done" and here["confirmed"] and here["n_frames"] > before >= 10
    assert here["n_frames"] <= 0.4 * here["n_full_ladder"]
    assert done["frames"]["count"] == here["n_frames"] and done["frames"]["state"] == "kept"
    assert here["rungs"][0]["zeros"] > 0 and here["rungs"][-1]["zeros"] == 0
    assert len(here["dead"]) == 5 and "Every frame starts" in here["cost"]

    # Another value: what it would clip and what it would cost is seen at once.
    by_offset = {e["offset"]: e for e in here["effects"]}
    low, answer = by_offset[2.0], here["answer"]["offset"]
    assert "good pixels in every frame" in low["says"] and low["clipped"] > 1 and not low["holds"]
    assert "more than asked for" in by_offset[40.0]["says"]
    # What is on the shelf of that gain has the offset of its lights.
    left = low["left_behind"]
    assert "of gain 200 on the shelf are at offset 30: lights at offset 2 cannot use them" in left
    assert "anew" in left and not by_offset[30.0]["left_behind"]
    path = f"/api/measurements/{number}/accept"
    assert client.post(path, json={"gain": 200, "offset": 5}).status_code == 200
    assert "cuts dark pixels off" not in str(warnings(client, 200)), "30 is above what was found"
    assert client.post(path, json={"gain": 200, "offset": None}).status_code == 200
    table = client.get(f"/api/rigs/{heron}/bench/offset").json["accepted"]
    row = next(r for r in table if r["gain"] == 200.0)
    assert row["value"] == f"{answer:g}" and not row["own_choice"] and not row["warning"]
    assert not warnings(client, 200)
    # The newest is taken back; the one before counts again.
    client.post(f"/api/rigs/{heron}/bench/take-back", json={"kind": "offset", "gain": 200})
    table = client.get(f"/api/rigs/{heron}/bench/offset").json["accepted"]
    assert next(r for r in table if r["gain"] == 200.0)["own_choice"]

    frames = list(
        csv.reader(io.StringIO(client.get(f"/api/measurements/{number}.csv").text.lstrip("\ufeff")))
    )
    assert len(frames) == here["n_frames"] + 1 and frames[0][0] == "gain"
    whole = client.get(f"/api/measurements/{number}.json").json
    assert (
        len(whole["frames"]) == here["n_frames"] and whole["found"]["offset"][0]["answer"]["offset"] == answer
    )

    # The frames: not on the shelf, thrown away with a way back, then deleted; what they said stays.
    with context.library.db.session() as session:
        sets = session.scalars(select(FrameSet).where(FrameSet.measurement_id == number)).all()
        assert sum(s.n_frames for s in sets) == here["n_frames"]
        files = [context.library.root / s.path for s in session.scalars(select(MeasurementShot).where(
            MeasurementShot.measurement_id == number))]  # fmt: skip
    assert all(f.is_file() for f in files)
    frames_of = f"/api/measurements/{number}/frames"
    assert client.post(f"{frames_of}/delete").status_code == 409, "only what was thrown away first"
    assert client.post(f"{frames_of}/throw-away").status_code == 200
    assert not any(f.exists() for f in files)
    assert client.post(f"{frames_of}/take-back").status_code == 200
    assert all(f.is_file() for f in files)
    client.post(f"{frames_of}/throw-away")
    assert "freed" in client.post(f"{frames_of}/delete").json["message"]
    after = page_of(client, number)
    assert after["frames"]["state"] == "deleted" and after["offset"][0]["answer"]["offset"] == answer
    assert not (context.library.root / "thrown-away" / "bench").exists() or not list(
        (context.library.root / "thrown-away").rglob("*.fits")
    )
    assert client.post(f"/api/measurements/{number}/forget").status_code == 200
    assert client.get(f"/api/measurements/{number}").status_code == 404


def test_the_gain_and_what_it_serves(client, context, heron):
    number, job = shoot(client, heron, "gain", gains=[100, 200], filter_code="Ha")
    until(client, number, lambda p: p["gain"]["gains"][0]["n_frames"] >= 30)
    client.post(f"/api/jobs/{job}/stop")
    until(client, number, ended)
    client.post(f"/api/jobs/{job}/resume")
    page = until(client, number, ended)
    sensor = MODELS["heron"]("tiny").sensor
    for gain in page["gain"]["gains"]:
        channel = gain["channels"][0]
        assert channel["e_per_adu"]["value"] == pytest.approx(sensor.e_per_adu(gain["gain"]), rel=0.03)
        assert channel["e_per_adu"]["plus_minus"] > 0 and not gain["findings"]
        assert 54 <= gain["n_frames"] <= 64, "nothing was shot twice"
    # Two gains this far apart may differ so by the converter alone: it is asked, not stated.
    assert page["gain"]["switch"] is None
    assert "Does the sensor switch its conversion there?" in page["gain"]["switch_text"]
    assert {s["purpose"] for s in page["gain"]["suggestions"]} == {"Broad band", "Narrow band"}
    for suggestion in page["gain"]["suggestions"]:
        other = {100: 200, 200: 100}[suggestion["gain"]]
        assert f"on the shelf are at gain {other}: lights at gain" in suggestion["left_behind"]
    assert context.starter.rigs["heron"].panel.brightness() == 0, "the panel does not stay on"
    client.post(f"/api/measurements/{number}/accept", json={"gain": 200, "offset": None})
    with context.library.db.session() as session:
        rig = session.get_one(Rig, heron)
        measured = measured_gain(context.library, rig.camera, 200.0)

        def aim(gain):
            key = RowKey("Ha", gain, 30.0, 1)
            return row_target(
                context.library, rig, wishes_for(context.library, session, rig, key), key, 65535, None
            )

        traits, target = traits_at(context.library, rig, 200.0), aim(200.0)
        assert measured is not None and measured_gain(context.library, rig.camera, 100.0) is None
        assert traits.read_noise_e == measured.read_noise_e and not traits.dark_assumed
        assert target.brightest_limit_adu == measured.linear_limit_adu
        assert aim(100.0).brightest_limit_adu != target.brightest_limit_adu
    summary = client.get(f"/api/measurements/{number}/by-gain.csv").text.splitlines()
    assert len(summary) == 3 and "e_per_adu" in summary[0]


def test_frames_on_disk_that_do_not_fit_are_left_out_and_named(client, context, heron, tmp_path):
    """The raw flats of 17 October: one of them went through another filter. And frames that are no raw frames."""
    rng = np.random.default_rng(3)
    folder = tmp_path / "mixed"
    bias = {**DARK, "IMAGETYP": "Bias Frame", "EXPTIME": 0.001, "GAIN": 55, "OFFSET": 0}
    for i in range(4):
        stamp = {"DATE-OBS": f"2026-10-10T12:00:{i:02d}"}
        pixels = rng.normal(300, 6, (64, 96)).astype(np.uint16)
        write_fits(folder / f"a{i}.fits", {**bias, **stamp, "OFFSET": 0}, pixels)
        write_fits(folder / f"b{i}.fits", {**bias, **stamp, "OFFSET": 10}, pixels + 160)
        write_fits(folder / f"c{i}.fits", {**bias, **stamp, "OFFSET": 20, "CCD-TEMP": 12.0}, pixels + 320)
        write_fits(folder / f"d{i}.fits", {**bias, **stamp, "OFFSET": 30}, (pixels + 480).astype(np.float32))
    job = client.post("/api/folders", json={"path": str(folder)}).json["id"]
    asked_until(lambda: client.get("/api/jobs").json["ended"], lambda jobs: job in [j["id"] for j in jobs])
    offers = {o["gain"]: o for o in client.get(f"/api/rigs/{heron}/bench/offset").json["disk"]}
    assert "offset 0, 10, 20 and 30" in offers[55.0]["text"]
    started = client.post(f"/api/rigs/{heron}/bench/offset/disk", json={"set_ids": offers[55.0]["set_ids"]})
    page = until(client, started.json["measurement_id"], ended)
    notes = " ".join(page["notes"])
    assert "12 °C" in notes and "processed values" in notes
    here = page["offset"][0]
    assert [r["offset"] for r in here["rungs"]] == [0.0, 10.0], "an offset of 0 is a value"
    assert here["line"]["slope"] == pytest.approx(16.0, abs=0.01)

    flats = {o["gain"]: o for o in client.get(f"/api/rigs/{heron}/bench/gain").json["disk"]}[100.0]
    assert flats["quick"]
    started = client.post(f"/api/rigs/{heron}/bench/gain/disk", json={"set_ids": flats["set_ids"]})
    page = until(client, started.json["measurement_id"], ended)
    gain = next(g for g in page["gain"]["gains"] if g["gain"] == 100.0)
    assert gain["channels"][0]["quick"] and gain["channels"][0]["capacity"]["value"] is None
    said = " ".join(f["message"] for f in gain["findings"])
    assert "left out" in said and "quick estimate" in said
    truth = MODELS["heron"]("tiny").sensor.e_per_adu(100)
    assert gain["channels"][0]["e_per_adu"]["value"] == pytest.approx(truth, rel=0.05)
    # The frames are the person's own: nothing here can throw them away.
    refused = client.post(f"/api/measurements/{page['id']}/frames/throw-away")
    assert refused.status_code == 409 and "belong to you" in refused.json["detail"]


@pytest.mark.parametrize(
    ("path", "body", "status"),
    [
        ("/api/rigs/{rig}/bench/offset/shoot", {"gains": []}, 422),
        ("/api/rigs/{rig}/bench/offset/shoot", {"gains": [999]}, 409),
        ("/api/rigs/{rig}/bench/gain/shoot", {"gains": [100], "filter_code": "Z"}, 409),
        ("/api/rigs/{rig}/bench/focus/shoot", {"gains": [100]}, 404),
        ("/api/rigs/{rig}/bench/offset/disk", {"set_ids": [99_999]}, 409),
        ("/api/measurements/99999/accept", {"gain": 100}, 404),
        ("/api/measurements/1/accept", {"gain": 7}, 404),
        ("/api/jobs/1/answer", {"step_id": 1, "answer": "done"}, 409),
        ("/api/measurements/1/frames/burn", {}, 404),
        ("/api/rigs/{rig}/bench/take-back", {"kind": "gain", "gain": 1}, 409),
    ],
)
def test_what_cannot_be_is_refused_in_words(client, heron, path, body, status):
    answer = client.post(path.format(rig=heron), json=body)
    assert answer.status_code == status, answer.json
    assert answer.json["detail"]


def test_sets_of_two_sensors_are_told_apart():
    def handed(key, **changes):
        values = {"camera": "A", "width": 100, "height": 80, "gain": 1.0, "offset": 5.0, "binning": 1,
                  "sample_step": 1, "temp_c": -10.0, "n_frames": 6}  # fmt: skip
        return HandedIn(key=key, **(values | changes))

    kept = sort_out(
        [handed(1), handed(2), handed(3, camera="B"), handed(4, width=50), handed(5, binning=2),
         handed(6, sample_step=16), handed(7, temp_c=4.0), handed(8, gain=None), handed(9, gain=2.0), handed(10, raw=False)], "A",
    )  # fmt: skip
    assert kept.kept == (1, 2, 9), "another gain is measured on its own"
    said = " ".join(kept.left_out)
    for word in (
        "another sensor",
        "another size",
        "another binning",
        "another driver",
        "4 °C",
        "not known",
        "processed",
    ):
        assert word in said


def test_a_value_of_zero_is_a_value(tmp_path):
    path = write_fits(
        tmp_path / "zero.fits", {**DARK, "GAIN": 0, "OFFSET": 0, "CCD-TEMP": 0.0, "SET-TEMP": 0.0}
    )
    facts = facts_from_json(facts_to_json(facts_of(path)))
    assert (facts.gain, facts.offset, facts.sensor_temp_c) == (0.0, 0.0, 0.0)
    assert not facts.calibrated


def test_an_older_library_is_brought_up_to_date_with_its_frames(context, tmp_path):
    """From the tables before the Bench: every frame keeps its set."""
    old = tmp_path / "old.db"
    config = Config()
    config.set_main_option("script_location", str(Path(database.__file__).parent / "migrations"))
    db = database.Database(old)
    with db.engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "21c4a4181b70")
    with sqlite3.connect(old) as raw:
        raw.execute(
            "insert into folder (id, path, own, added_at, trouble) values (1, '/x', 0, '2026-01-01', '')"
        )
        raw.execute(
            "insert into frame_set (id, kind, is_master, n_frames, n_kept, facts, taken_off) values (1, 'dark', 0, 2, 2, '{}', 0)"
        )
        for i in (1, 2):
            raw.execute(
                "insert into frame (id, folder_id, path, size_bytes, modified_ns, state, reason, advice, rejected, facts, set_id) "
                f"values ({i}, 1, 'f{i}', 1, 1, 'good', '', '', 0, '{{}}', 1)"
            )
    shutil.copy(old, tmp_path / "kept.db")
    db.upgrade()
    with db.session() as session:
        assert {f.set_id for f in session.scalars(select(Frame))} == {1}
        assert session.get_one(FrameSet, 1).measurement_id is None
