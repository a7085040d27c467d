"""A run by any hands: another program's frames in a watched folder tick the sheet off, and each mistake is told."""

from __future__ import annotations

import json
import os
import shutil
import time

import pytest

from grayshelf.core.planning.by_hand import NBSP
from grayshelf.core.planning.sensor_then import SensorThen
from grayshelf.library.models import RunStep
from grayshelf.work.job_states import StepState
from grayshelf.work.run.changes import end_by
from grayshelf.work.run.hand import HandRun
from tests.other_program import Program, write_lights
from tests.own import Own
from tests.waiting import asked_until


@pytest.fixture
def own(tmp_path):
    """Lights of last evening in two filters, by another program; nothing else, and no devices."""
    folder = tmp_path / "lights"
    program = Program(folder)
    write_lights(folder)
    library = Own(tmp_path / "library")
    library.scan(folder)
    (tmp_path / "camera").mkdir()
    program.folder = tmp_path / "camera"
    library.program = program
    yield library
    library.close()


def begin(own, folder, **choice):
    rig = own.get("/api/state")["rigs"][0]["id"]
    body = {
        "rig_id": rig,
        "frames": 4,
        "leave_out": [],
        "add": [],
        "by_hand": True,
        "folder": folder,
        **choice,
    }
    answer = own.client.post("/api/runs", json=body)
    assert answer.status_code == 200, answer.text
    return answer.json["job_id"]


def run(own):
    """The run, with plain spaces."""
    return json.loads(json.dumps(own.get("/api/rigs/1/run")["run"], ensure_ascii=False).replace(NBSP, " "))


def until(own, right, seconds=20.0):
    return asked_until(lambda: run(own), right, seconds, lambda p: (p["headline"], p["hand"], p["job"]))


def ask(own):
    """What is asked for now, as a person reads it: kind, filter, exposure, how many are left."""
    hand = run(own)["hand"]
    dials = {d["name"]: d["copied"] for d in hand["dials"]}
    return hand, dials


def obey(own, program):
    """Do what the line says, frame by frame, until nothing is asked for any more."""
    asked, deadline = list[str](), time.monotonic() + 60.0
    while time.monotonic() < deadline:
        page = run(own)
        if page["job"]["state"] not in ("queued", "running"):
            return asked
        hand = page["hand"]
        if hand is None:
            time.sleep(0.1)
            continue
        dials = {d["name"]: d["copied"] for d in hand["dials"]}
        if hand["kind"] in ("find", "flats"):
            told = {"filter": str, "focus": int, "angle": float}
            program.set |= {name: kind(dials[name]) for name, kind in told.items() if name in dials}
        if "exposure" not in dials:
            time.sleep(0.1)
            continue
        kind = {"find": "FLAT", "flats": "FLAT", "dark flats": "DARKFLAT", "darks": "DARK"}[hand["kind"]]
        if not asked or asked[-1] != hand["what"]:
            asked.append(hand["what"])
        program.set["gain"] = int(dials["gain"])
        if "lit for" in dials:
            program.set["lit"] = float(dials["lit for"])
        before = (hand["step_id"], hand["done"], len(hand["refused"]), hand["what"])
        program.shoot(kind, float(dials["exposure"]))
        until(
            own,
            lambda p, before=before: (
                p["hand"] is None
                or (p["hand"]["step_id"], p["hand"]["done"], len(p["hand"]["refused"]), p["hand"]["what"])
                != before
            ),
        )
        # A hand is not so quick: by then the line has said what comes next.
        time.sleep(0.4)
    raise AssertionError("it never ends")


def test_the_whole_sheet_is_shot_by_another_program_and_the_slips_fit(own):
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


def found_r(own, **choice):
    """Begin, and find R's exposure; return it."""
    program = own.program
    begin(own, str(program.folder), **choice)
    for _ in range(8):
        hand = until(own, lambda p: p["hand"] is not None)["hand"]
        dials = {d["name"]: d["copied"] for d in hand["dials"]}
        if hand["kind"] == "flats":
            return float(dials["exposure"]), dials["filter"]
        if "exposure" not in dials:
            time.sleep(0.1)
            continue
        program.set["filter"] = dials["filter"]
        program.shoot("FLAT", float(dials["exposure"]))
        until(own, lambda p, what=hand["what"]: p["hand"] is not None and p["hand"]["what"] != what)
    raise AssertionError("no exposure was found")


def told(own, words):
    """What was said of the newest frame that came in; within five seconds."""
    page = until(
        own, lambda p: p["hand"] and p["hand"]["refused"] and words in p["hand"]["refused"][0]["why"], 5.0
    )
    return page["hand"]["refused"][0]


def test_each_mistake_of_the_trade_is_told_at_once_and_enters_no_master(own):
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


def test_capped_frames_with_light_or_at_another_temperature_are_told(own):
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


def test_without_a_folder_steps_are_ticked_off_and_opened_again(own):
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


def test_a_tick_in_the_moment_in_which_its_step_begins_counts(own, monkeypatch):
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


def test_a_light_that_is_too_bright_is_said_and_the_search_begins_anew_when_it_was_dimmed(own):
    program = own.program
    program.light = 400.0
    job_id = begin(own, str(program.folder))

    def find_of(page):
        return next(s for s in page["steps"] if s["kind"] == "find")

    def exposure_of(page):
        dials = page["hand"]["dials"] if page["hand"] else []
        return next((float(d["copied"]) for d in dials if d["name"] == "exposure"), None)

    def shoot_until(step_of, ended):
        """Shoot what is asked for, each exposure once, however busy the machine is; what was shot."""
        shot: list[float] = []

        def asks_another(page):
            asked = exposure_of(page)
            return step_of(page)["state"] == ended or (asked is not None and asked not in shot[-1:])

        for _ in range(10):
            page = until(own, asks_another)
            if step_of(page)["state"] == ended:
                break
            program.set["filter"] = next(d["copied"] for d in page["hand"]["dials"] if d["name"] == "filter")
            shot.append(exposure_of(page))
            program.shoot("FLAT", shot[-1])
        return shot

    shoot_until(find_of, "no answer")
    page = until(own, lambda p: find_of(p)["state"] == "no answer")
    find = find_of(page)
    assert find["tick"] == "open" and "times too high" in find["outcome"], find
    flats = next(s for s in page["steps"] if s["kind"] == "flats" and s["row"] == find["row"])
    assert flats["state"] == "skipped"
    program.light = 1.0
    assert (
        own.client.post(f"/api/runs/{job_id}/tick", json={"step_id": find["id"], "done": False}).status_code
        == 200
    )
    again = own.client.post(f"/api/runs/{job_id}/tick", json={"step_id": find["id"], "done": False})
    assert again.status_code == 409, "it is open already"
    # What waits now is ticked off, so that the one that was opened comes next; it may have come already.
    page = until(own, lambda p: any(s["state"] == "doing" for s in p["steps"]))
    doing = next(s for s in page["steps"] if s["state"] == "doing")
    if doing["id"] != find["id"]:
        own.client.post(f"/api/runs/{job_id}/tick", json={"step_id": doing["id"]})
    page = until(
        own,
        lambda p: p["hand"] and p["hand"]["step_id"] == find["id"] and "test flat of" in p["hand"]["what"],
    )
    reopened = next(s for s in page["steps"] if s["id"] == flats["id"])
    assert reopened["state"] == "to do"

    def again_of(page):
        return next(s for s in page["steps"] if s["id"] == find["id"])

    exposures = shoot_until(again_of, "done")
    found = again_of(run(own))
    assert found["state"] == "done", (found, exposures)


def test_headers_that_say_neither_kind_nor_camera_are_as_the_sheet_asked(own):
    exposure, code = found_r(own)
    done = run(own)["hand"]["done"]
    silent = {"IMAGETYP": "", "INSTRUME": "", "CAMERA": ""}
    own.program.shoot("FLAT", exposure, filter=code, cards=silent)
    until(own, lambda p: p["hand"]["done"] == done + 1)
    kept = own.query("SELECT kind, camera, rejected FROM frame ORDER BY id DESC LIMIT 1")
    assert kept == [("flat", "Kite 9", 0)]
    # Read again, because its file was written anew, it is still what the sheet asked for.
    newest = sorted(own.program.folder.glob("shot_*.fits"))[-1]
    os.utime(newest, (time.time() - 60, time.time() - 60))
    own.scan(own.program.folder)
    kept = own.query("SELECT kind, camera, rejected, state FROM frame ORDER BY id DESC LIMIT 1")
    assert kept == [("flat", "Kite 9", 0, "good")]


def test_a_run_of_another_program_is_over_by_the_clock(own):
    """In a search as in a series: what has come in by then counts, the rest is left, and it is said."""
    refused = own.client.post(
        "/api/runs",
        json={
            "rig_id": 1,
            "frames": 4,
            "leave_out": [],
            "add": [],
            "by_hand": True,
            "until": "half past five",
        },
    )
    assert refused.status_code == 400 and "05:30" in refused.text
    job_id = begin(own, str(own.program.folder), until="05:30")
    page = until(own, lambda p: p["hand"] is not None and "test flat of" in p["hand"]["what"])
    assert page["until"] == "05:30"
    end_by(own.context.runner, job_id, own.library.clock.now(), SensorThen.KEPT_COLD)
    searched = own.ended(job_id)
    assert searched["state"] == "done" and "as you said" in json.dumps(run(own)), run(own)
    assert all(s["state"] in ("skipped", "done") for s in run(own)["steps"])
    ok = own.client.post(f"/api/runs/{job_id}/put-away")
    assert ok.status_code == 200
    # Of a run that shoots one filter the other one is put on the end: its frames count while the first is shot, too.
    flats = [o for o in own.get("/api/rigs/1/tonight")["offers"] if o["kind"] == "flat"]
    r, other = sorted(flats, key=lambda o: o["filter_code"] != "R")
    exposure, code = found_r(own, leave_out=[other["key"]])
    page = run(own)
    series = page["hand"]["step_id"]
    more = own.get(f"/api/runs/{page['job']['id']}/more")["offers"]
    assert other["key"] in {o["key"] for o in more if o["group"] == "Flats"} and r["key"] not in {
        o["key"] for o in more
    }
    put = {"key": other["key"], "frames": 5}
    assert own.client.post(f"/api/runs/{page['job']['id']}/more", json=put).status_code == 200
    own.program.shoot("FLAT", 1.0, filter=other["filter_code"])
    find = until(own, lambda p: any(s["kind"] == "find" and s["state"] == "to do" for s in p["steps"]))
    line = next(s["line"] for s in find["steps"] if s["kind"] == "find" and s["state"] == "to do")
    assert line.startswith(f"{other['filter_code']}, gain")
    done = page["hand"]["done"]
    own.program.shoot("FLAT", exposure, filter=code)
    until(own, lambda p: p["hand"]["done"] == done + 1)
    end_by(own.context.runner, page["job"]["id"], own.library.clock.now(), SensorThen.KEPT_COLD)
    own.ended(page["job"]["id"])
    step = next(s for s in run(own)["steps"] if s["id"] == series)
    assert step["done"] == step["count"] == done + 1


def test_it_goes_on_after_a_restart_and_where_the_folder_came_back(own):
    exposure, code = found_r(own)
    program = own.program
    before = run(own)["hand"]["done"]
    program.shoot("FLAT", exposure, filter=code)
    done = until(own, lambda p: p["hand"]["done"] == before + 1)["hand"]["done"]
    own.close()
    program.shoot("FLAT", exposure, filter=code)
    own.open()
    job = run(own)["job"]["id"]
    assert own.client.post(f"/api/jobs/{job}/resume").status_code == 200
    until(own, lambda p: p["hand"] is None or p["hand"]["kind"] != "flats" or p["hand"]["done"] == done + 1)
    away = program.folder.rename(program.folder.with_name("away"))
    failed = until(own, lambda p: p["job"]["state"] == "failed")
    assert "is gone" in failed["subline"]
    away.rename(program.folder)
    assert own.client.post(f"/api/jobs/{job}/resume").status_code == 200
    until(own, lambda p: p["job"]["state"] == "running")
    own.client.post(f"/api/jobs/{job}/stop")
    own.ended(job)
    assert (
        own.query(
            "SELECT count(*) FROM run_shot GROUP BY frame_id HAVING frame_id IS NOT NULL AND count(*) > 2"
        )
        == []
    )
