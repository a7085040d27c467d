"""A run by any hands that does not go straight: another light, headers that say little, the clock, a restart."""

from __future__ import annotations

import json
import os
import time

from grayshelf.core.planning.sensor_then import SensorThen
from grayshelf.work.run.changes import end_by
from tests.waiting import asked_until
from tests.web.by_any_hands import (
    begin,
    found_r,
    own,  # noqa: F401
    run,
    until,
)


def test_a_light_that_is_too_bright_is_said_and_the_search_begins_anew_when_it_was_dimmed(own):  # noqa: F811
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


def test_headers_that_say_neither_kind_nor_camera_are_as_the_sheet_asked(own):  # noqa: F811
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


def test_a_run_of_another_program_is_over_by_the_clock(own):  # noqa: F811
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


def test_it_goes_on_after_a_restart_and_where_the_folder_came_back(own):  # noqa: F811
    exposure, code = found_r(own)
    program = own.program
    before = run(own)["hand"]["done"]
    counted = program.shoot("FLAT", exposure, filter=code)
    done = until(own, lambda p: p["hand"]["done"] == before + 1)["hand"]["done"]
    own.close()
    # Its file is moved while nothing runs.
    (program.folder / "kept").mkdir()
    counted.rename(program.folder / "kept" / counted.name)
    program.shoot("FLAT", exposure, filter=code)
    own.open()
    job = run(own)["job"]["id"]
    assert own.client.post(f"/api/jobs/{job}/resume").status_code == 200
    until(own, lambda p: p["hand"] is None or p["hand"]["kind"] != "flats" or p["hand"]["done"] == done + 1)
    moved = f"SELECT count(*) FROM frame WHERE path = 'kept/{counted.name}'"
    asked_until(lambda: own.query(moved), lambda rows: rows == [(1,)])
    shots = "SELECT count(*) FROM run_shot JOIN frame ON frame.id = frame_id WHERE frame.path = 'kept/%s'"
    assert own.query(shots % counted.name) == [(1,)]
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
