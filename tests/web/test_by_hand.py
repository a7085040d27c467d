"""A run by any hands: another program's frames in a watched folder tick the sheet off, and each mistake is told."""

from __future__ import annotations

import os
import shutil
import time

from astropy.io import fits

from grayshelf.library.models import RunStep
from grayshelf.work.job_states import StepState
from grayshelf.work.run.hand import HandRun
from tests.waiting import asked_until
from tests.web.by_any_hands import (
    begin,
    found_r,
    obey,
    own,  # noqa: F401
    run,
    until,
)


def ask(own):  # noqa: F811
    """What is asked for now, as a person reads it: kind, filter, exposure, how many are left."""
    hand = run(own)["hand"]
    dials = {d["name"]: d["copied"] for d in hand["dials"]}
    return hand, dials


def test_the_whole_sheet_is_shot_by_another_program_and_the_slips_fit(own):  # noqa: F811
    program = own.program
    begin(own, str(program.folder))
    hand = until(own, lambda p: p["hand"] is not None and "test flat of" in p["hand"]["what"])["hand"]
    assert (
        "gain 120, offset 25: one test flat of" in hand["what"] and "focus 5,200, angle 40.0°" in hand["what"]
    )
    assert {d["name"] for d in hand["dials"]} == {"filter", "gain", "offset", "exposure", "focus", "angle"}
    asked = obey(own, program)
    job = own.ended(run(own)["job"]["id"])
    assert job["state"] == "done", job
    assert sum("test flat" in line for line in asked) <= 6
    assert any("4 dark flats of" in line for line in asked)
    for set_id in [x["id"] for x in own.get("/api/sets?kind=light")["items"]]:
        slip = own.get(f"/api/lights/{set_id}/slip")
        lines = {x["kind"]: x["verdict"] for x in slip["lines"]}
        assert lines["flat"] == lines["dark flat"] == "fits", lines
    masters = [x for x in own.sets().values() if x["state"].startswith("combined") or "master" in x["state"]]
    assert masters, own.sets()
    # The shot that confirmed an exposure is the first of its flats: nothing was shot twice.
    of_r = [line for line in asked if line.startswith("R") and "flats of" in line]
    assert "3 flats of 1.35 s" in of_r[0], of_r
    # The sheet tells how many each step asks for, whatever of them is in.
    series = [step for step in run(own)["steps"] if step["kind"] in ("flats", "dark flats")]
    assert series and all(f": {step['count']} {step['kind']} of" in step["line"] for step in series), series
    assert sorted(program.folder.iterdir()) == sorted(program.folder.glob("shot_*.fits")), (
        "nothing was touched"
    )


def told(own, words):  # noqa: F811
    """What was said of the newest frame that came in; within five seconds."""
    page = until(
        own, lambda p: p["hand"] and p["hand"]["refused"] and words in p["hand"]["refused"][0]["why"], 5.0
    )
    return page["hand"]["refused"][0]


def test_each_mistake_of_the_trade_is_told_at_once_and_enters_no_master(own):  # noqa: F811
    exposure, code = found_r(own)
    program = own.program
    done = run(own)["hand"]["done"]
    for words, changes in (
        ("gain 100; the lights have 120", {"gain": 100}),
        ("binning 2; the lights have 1", {"binning": 2}),
        ("camera sat at 52.0°", {"angle": 52.0}),
        ("focus was at 4,100", {"focus": 4100}),
        ("taken with Wren 2", {"cards": {"INSTRUME": "Wren 2", "CAMERA": "Wren 2"}}),
    ):
        program.shoot("FLAT", exposure, **changes)
        assert told(own, words)["why"].endswith(".")
    program.shoot("FLAT", exposure * 1.5)
    told(own, "is asked for. Set")
    program.light = 0.0
    program.shoot("FLAT", exposure)
    told(own, "below the target")
    program.light = 1.0
    program.shoot("BIAS", 0.001)
    told(own, "It is a bias frame, not a flat")
    shoot_a_light = program.shoot("LIGHT", 120.0, filter=code)
    told(own, "It is a light, not a flat")
    assert own.query(f"SELECT count(*) FROM frame WHERE path = '{shoot_a_light.name}'") == [(0,)], (
        "left for a scan"
    )
    folders = {f["path"]: f["id"] for f in own.get("/api/intake")["folders"]}
    refused = own.client.delete(f"/api/folders/{folders[str(program.folder)]}")
    assert (
        refused.status_code == 409
        and "A run waits for frames" in refused.json["title"] + refused.json["detail"]
    )
    program.shoot("FLAT", exposure, filter="Lum")
    told(own, "It was taken in L")
    broken = program.folder / "broken.fits"
    broken.write_bytes(b"SIMPLE  =                    T" + bytes(4000))
    told(own, "It cannot be read")
    first = sorted(program.folder.glob("shot_*.fits"))[-1]
    shutil.copy(first, program.folder / "copy.fits")
    assert run(own)["hand"]["done"] == done
    while (run(own)["hand"] or {"kind": ""})["kind"] == "flats":
        program.shoot("FLAT", exposure, filter=code)
        time.sleep(0.8)
    wrong = own.query("SELECT reason FROM frame WHERE rejected AND reason NOT LIKE 'A test flat%'")
    assert len(wrong) >= 8
    assert own.query(
        "SELECT count(*) FROM master_input WHERE used AND frame_id IN (SELECT id FROM frame WHERE rejected)"
    ) == [(0,)]
    # A later look through the folder changes nothing of it.
    rejected = own.query("SELECT count(*) FROM frame WHERE rejected")
    own.scan(program.folder)
    assert own.query("SELECT count(*) FROM frame WHERE rejected") == rejected
    assert own.query("SELECT count(*) FROM frame WHERE kind = 'light' AND rejected") == [(0,)]
    assert own.query("SELECT count(*) FROM frame WHERE camera = 'Wren 2' AND rejected") == [(0,)], (
        "another rig's"
    )


def test_capped_frames_with_light_or_at_another_temperature_are_told(own):  # noqa: F811
    """Darks alone: 3 of 120 s at −5 °C that the lights ask for."""
    tonight = own.get("/api/rigs/1/tonight")
    dark = next(o["key"] for o in tonight["offers"] if o["kind"] == "dark")
    flats = [o["key"] for o in tonight["offers"] if o["kind"] == "flat"]
    program = own.program
    begin(own, str(program.folder), add=[dark], leave_out=flats)
    hand = until(own, lambda p: p["hand"] is not None)["hand"]
    assert hand["before"] == "Cap on, the light and the room dark, sensor at −5 °C."
    assert hand["what"].startswith("Gain 120, offset 25: 30 darks of 120 s")
    program.shoot("DARK", 120.0, temp=0.0)
    told(own, "The sensor was at 0.0 °C; −5 °C is asked for")
    program.shoot("DARK", 300.0)
    told(own, "It was exposed for 300 s; 120 s is asked for")
    program.shoot("DARK", 120.0)
    until(own, lambda p: p["hand"]["done"] == 1)
    # A batch that comes at once, its clock an hour slow.
    for _ in range(5):
        path, hour_ago = program.shoot("DARK", 120.0), time.time() - 3600
        os.utime(path, (hour_ago, hour_ago))
    until(own, lambda p: p["hand"]["done"] == 6)
    program.shoot("DARK", 120.0, leak=9000)
    told(own, "light reaches the sensor")
    # The program sorts what it shot into a folder of its own: neither is counted twice, and the one set aside stays so.
    (program.folder / "darks").mkdir()
    for name in (path.name, f"shot_{program.number:04d}.fits"):
        (program.folder / name).rename(program.folder / "darks" / name)
    # And it writes into the header of one later on.
    written = program.folder / f"shot_{program.number - 2:04d}.fits"
    with fits.open(written, mode="update") as hdus:
        hdus[0].header["OBJCTALT"] = 71.5
    stamp = f"SELECT modified_ns FROM frame WHERE path = '{written.name}'"
    asked_until(lambda: own.query(stamp), lambda rows: rows == [(written.stat().st_mtime_ns,)])
    moved = "SELECT count(*) FROM frame WHERE path LIKE '%darks/shot%'"
    asked_until(lambda: own.query(moved), lambda rows: rows == [(2,)])
    assert run(own)["hand"]["done"] == 6 and own.query(f"{moved} AND rejected") == [(1,)]


def test_without_a_folder_steps_are_ticked_off_and_opened_again(own):  # noqa: F811
    job_id = begin(own, None)
    seen, opened = [], False
    for _ in range(40):
        page = run(own)
        hand = page["hand"]
        if page["job"]["state"] == "done":
            break
        if hand is None:
            time.sleep(0.1)
            continue
        seen.append(hand["kind"])
        assert (
            own.client.post(f"/api/runs/{job_id}/tick", json={"step_id": hand["step_id"]}).status_code == 200
        )
        if hand["kind"] == "dark flats" and not opened:
            opened = True
            own.client.post(f"/api/runs/{job_id}/tick", json={"step_id": hand["step_id"], "done": False})
            until(own, lambda p, step=hand["step_id"]: p["hand"] and p["hand"]["step_id"] == step)
            continue
        # A busy machine takes its time to come to the next step.
        until(
            own,
            lambda p, step=hand["step_id"]: (
                p["job"]["state"] == "done" or (p["hand"] and p["hand"]["step_id"] != step)
            ),
        )
    assert seen.count("find") == seen.count("flats") == 2 and seen.count("dark flats") == 3
    assert "scan the folder" in own.ended(job_id)["message"]
    wrong = own.client.post(f"/api/runs/{job_id}/tick", json={"step_id": 1})
    assert wrong.status_code == 409, "it does not go on any more"


def test_a_tick_in_the_moment_in_which_its_step_begins_counts(own, monkeypatch):  # noqa: F811
    """Between the choice of a step and its beginning a person may tick it off: it is over then."""
    real, ticked = HandRun.next_step, []

    def ticking(self):
        step = real(self)
        if step is not None and step.kind == "flats" and not ticked:
            ticked.append(step.id)
            with own.library.db.session() as session:
                row = session.get_one(RunStep, step.id)
                row.state, row.ended_at = StepState.DONE, own.library.clock.now()
        return step

    monkeypatch.setattr(HandRun, "next_step", ticking)
    job_id = begin(own, None)
    find = until(own, lambda p: p["hand"])["hand"]
    own.client.post(f"/api/runs/{job_id}/tick", json={"step_id": find["step_id"]})
    until(own, lambda p: ticked and p["hand"] and p["hand"]["step_id"] not in (find["step_id"], ticked[0]))
    own.client.post(f"/api/jobs/{job_id}/stop")
    own.ended(job_id)
