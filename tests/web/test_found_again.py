"""Libraries that lost their database, folders that were taken off the list, frames that moved elsewhere: all is found again."""

from __future__ import annotations

import shutil
import sqlite3
import time
from contextlib import closing

import numpy as np

from grayshelf.work import scan as scan_module
from tests.helpers import DARK, write_fits
from tests.own import Own
from tests.web.nights_on_disk import a_night


def test_a_library_that_lost_its_database_is_found_again_by_its_files(own, tmp_path):
    folder = a_night(own.root / "frames" / "Dunlin_M24" / "2026-10-18")
    away = own.root / "bench" / "Dunlin_M24" / "measurement_0001"
    write_fits(away / "bias.fits", {**DARK, "IMAGETYP": "Bias Frame"})
    own.ended(own.client.post("/api/folders/1/scan").json["id"])
    assert own.build()["message"] == "3 masters built"
    story = own.query("select name, sha256, used, level_adu from master_input order by sha256")
    records = own.query(
        "select method, noise, pedestal_kind, built_here from master_record order by method, noise"
    )
    sets = sorted((x["kind"], x["title"], x["n_frames"], x["state"]) for x in own.sets().values())
    own.close()
    for path in own.root.glob("grayshelf.db*"):
        path.unlink()
    own.open()
    own.ended(scan_module.find_own_files(own.context))
    assert sorted((x["kind"], x["title"], x["n_frames"], x["state"]) for x in own.sets().values()) == sets
    assert own.query("select name, sha256, used, level_adu from master_input order by sha256") == story
    assert own.query("select count(*) from master_input where frame_id is null") == [(0,)]
    assert (
        own.query("select method, noise, pedestal_kind, built_here from master_record order by method, noise")
        == records
    )
    # Named by another library, it is the same.
    other = Own(tmp_path / "other")
    other.scan(own.root)
    assert sorted((x["kind"], x["title"], x["n_frames"], x["state"]) for x in other.sets().values()) == sets
    assert other.query("select count(*) from master_input where frame_id is not null") == [(len(story),)]
    other.close()
    assert folder.is_dir()


def test_a_folder_that_was_taken_off_the_list_finds_the_masters_of_its_frames_again(own, tmp_path):
    folder = a_night(tmp_path / "heap")
    own.scan(folder)
    assert own.build()["message"] == "3 masters built"

    def listed():
        return sorted((x["kind"], x["n_frames"], x["state"]) for x in own.sets().values())

    def without_frame():
        return own.query("select name from master_input where frame_id is null order by name")

    before = listed()
    for renamed in (False, True):
        assert (
            own.client.delete(f"/api/folders/{own.query('select max(id) from folder')[0][0]}").status_code
            == 200
        )
        assert len(without_frame()) == 24
        if renamed:
            # Put in order by another program meanwhile; one is no more what it was.
            for number, path in enumerate(sorted(folder.glob("dark*/*.fits"))):
                path.rename(path.with_name(f"x{number}.fits"))
            write_fits(
                folder / "dark/x3.fits",
                {**DARK, "DATE-OBS": "2026-10-18T22:03:00"},
                np.full((24, 24), 500, np.uint16),
            )
        own.scan(folder)
        assert listed() == before and without_frame() == ([("dark_3.fits",)] if renamed else [])


def test_frames_that_follow_their_masters_into_another_library_are_known_as_theirs(own, tmp_path):
    folder = a_night(tmp_path / "heap")
    own.scan(folder)
    own.build()
    other = Own(tmp_path / "other")
    other.scan(own.root / "masters")
    assert other.query("select count(*) from master_input where frame_id is null") == [(24,)]
    few = Own(tmp_path / "few")
    few.scan(own.root / "masters")
    for number in range(3, 8):
        (folder / f"dark/dark_{number}.fits").rename(tmp_path / f"{number}")
    for number in range(10):
        write_fits(
            folder / f"dark/other_{number}.fits",
            {**DARK, "DATE-OBS": f"2026-10-18T23:{number:02d}:00"},
            np.full((24, 24), 500 + number, np.uint16),
        )
    few.scan(folder)
    dark = next(x for x in few.sets().values() if x["kind"] == "dark" and x["state"] != "master")
    assert (dark["n_frames"], dark["state"]) == (13, "loose"), "three of thirteen are no set of that master"
    few.close()
    for number in range(10):
        (folder / f"dark/other_{number}.fits").unlink()
    for number in range(3, 8):
        (tmp_path / f"{number}").rename(folder / f"dark/dark_{number}.fits")
    other.scan(folder)
    assert other.query("select count(*) from master_input where frame_id is null") == [(0,)]
    assert {x["state"] for x in other.sets().values()} == {"combined", "master", "lights"}
    other.close()


def test_the_old_frames_of_an_older_database_are_not_taken_for_new_shots(demo_folder, tmp_path):
    """Numbers of jobs and measurements start again; what was shot before lies where their names would be."""
    from grayshelf.serving import open_demo

    context = open_demo(demo_folder, "tiny", 1e6)
    rig = context.library.root
    with (
        closing(sqlite3.connect(rig / "grayshelf.db")) as source,
        closing(sqlite3.connect(tmp_path / "old")) as copy,
    ):
        source.backup(copy)

    def measured(opened):
        from grayshelf.web.app import create_app

        client = create_app(opened).test_client()
        rig_id = next(r["id"] for r in client.get("/api/state").json["rigs"] if r["has_devices"])
        job = client.post(f"/api/rigs/{rig_id}/bench/offset/shoot", json={"gains": [100], "long_dark_s": 0})
        assert job.status_code == 200, job.text
        while True:
            alive = client.get("/api/jobs").json["alive"]
            if not alive:
                break
            if alive[0]["state"] == "waiting":
                with opened.library.db.session() as session:
                    step = (
                        session.connection()
                        .exec_driver_sql(
                            f"select id from run_step where job_id = {alive[0]['id']} and state = 'waiting'"
                        )
                        .scalar()
                    )
                if step:
                    client.post(
                        f"/api/jobs/{alive[0]['id']}/answer", json={"step_id": step, "answer": "done"}
                    )
            time.sleep(0.05)
        with opened.library.db.session() as session:
            return (
                session.connection()
                .exec_driver_sql(
                    "select shot.path, shot.taken_at from measurement_shot shot join measurement m on m.id = measurement_id "
                    "where m.source = 'shot' order by shot.id"
                )
                .fetchall()
            )

    first = measured(context)
    context.runner.shut_down()
    context.library.close()
    for path in rig.glob("grayshelf.db*"):
        path.unlink()
    shutil.copyfile(tmp_path / "old", rig / "grayshelf.db")
    context = open_demo(demo_folder, "tiny", 1e6)
    second = measured(context)
    assert len(first) > 10
    assert not {p for p, _ in first} & {p for p, _ in second}
    assert max(at for _, at in first) < min(at for _, at in second), "every frame was shot anew"
    context.runner.shut_down()
    context.library.close()
