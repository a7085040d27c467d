"""Disks, folders and files that go away and come back: what was known of their frames stays, and is told as missing."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import numpy as np
from astropy.io import fits

from grayshelf.core.frames import headers, reader
from grayshelf.work import scan as scan_module
from tests.helpers import DARK, LIGHT, write_fits
from tests.web.nights_on_disk import a_night, masters


def verdicts(own):
    slip = own.get("/api/rigs/1/nights/2026-10-18")["sets"][0]
    return slip["verdict"]


def gone_and_back(own, folder, away, back):
    """What a look at an emptied place does, and that all is as before once it is back."""
    before, made = own.sets(), masters(own)
    away()
    job = own.scan(folder)
    during, told = own.sets(), own.get("/api/intake")["folders"][0]
    assert masters(own) == made
    assert during.keys() == before.keys(), "sets keep their numbers"
    back()
    assert own.scan(folder)["state"] == "done"
    assert own.sets() == before
    assert masters(own) == made
    assert own.get("/api/intake")["folders"][0]["missing"] == 0
    return job, told


def test_an_empty_mount_point_and_a_folder_that_is_closed_lose_nothing(own, tmp_path, monkeypatch):
    folder = a_night(tmp_path / "disk")
    own.scan(folder)
    assert own.build()["message"] == "3 masters built"
    dark_master = next(x["id"] for x in own.sets().values() if x["state"] == "master" and x["kind"] == "dark")
    own.client.post(f"/api/holdings/{dark_master}/shelve/off")

    def unmount():
        folder.rename(tmp_path / "unmounted")
        folder.mkdir()

    def mount():
        folder.rmdir()
        (tmp_path / "unmounted").rename(folder)

    job, told = gone_and_back(own, folder, unmount, mount)
    assert job["state"] == "done"
    assert "32 missing" in job["message"]
    assert told["missing"] == 32
    assert "is its disk in" in told["trouble"]
    assert own.query(f"select taken_off from frame_set where id = {dark_master}") == [(1,)]

    # A subfolder that may not be looked into.
    plain = os.scandir

    def closed(path="."):
        if str(path).endswith("/flat"):
            raise PermissionError(13, "Permission denied", str(path))
        return plain(path)

    job, told = gone_and_back(
        own, folder, lambda: monkeypatch.setattr(os, "scandir", closed), lambda: monkeypatch.undo()
    )
    assert "8 missing" in job["message"]
    assert "‘flat’ may not be looked into" in told["trouble"]

    # Nothing is built of a set that is not whole, and the others are built.
    shutil.move(folder / "flat" / "flat_3.fits", tmp_path / "flat_3.fits")
    own.client.post(f"/api/holdings/{dark_master}/shelve/back")
    own.query("select 1")
    with own.library.db.session() as session:
        session.connection().exec_driver_sql("update frame_set set master_set_id = null")
    own.library.touched()
    built = own.build()
    assert built["state"] == "done"
    assert "1 could not be" in built["message"]
    assert "flat_3.fits" in built["troubles"][0]


def test_a_disk_pulled_in_a_scan_is_one_event_and_all_is_read_with_the_next(own, tmp_path, monkeypatch):
    folder = a_night(tmp_path / "disk")
    own.scan(folder)
    for i in range(150):
        write_fits(
            folder / "more" / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-19T22:{i // 60:02d}:{i % 60:02d}"}
        )
    read, reads = scan_module.read_file, [0]

    def pulled(*arguments):
        reads[0] += 1
        if reads[0] == 70:
            folder.rename(tmp_path / "pulled")
            folder.mkdir()
        return read(*arguments)

    monkeypatch.setattr(scan_module, "read_file", pulled)
    job = own.scan(folder)
    assert job["state"] == "failed"
    assert "stay in the library as they were" in job["message"]
    assert own.problems() == {}, "a missing disk is one event, not a list of bad files"
    monkeypatch.undo()
    folder.rmdir()
    (tmp_path / "pulled").rename(folder)
    assert own.scan(folder)["state"] == "done"
    assert own.problems() == {}
    assert sorted(x["n_frames"] for x in own.sets().values()) == [8, 8, 8, 8, 150]


def test_what_could_not_be_read_is_looked_at_anew(own, tmp_path, monkeypatch):
    folder = a_night(tmp_path / "disk")
    read = scan_module.read_file

    def closed(path, *rest):
        if path.name == "dark_2.fits":
            return scan_module.ReadFile(None, "The file may not be read by this user.", "Change it.", True)
        return read(path, *rest)

    monkeypatch.setattr(scan_module, "read_file", closed)
    own.scan(folder)
    assert own.problems()["dark/dark_2.fits"]["state"] == "unreadable"
    monkeypatch.undo()
    assert "1 new or changed" in own.scan(folder)["message"]
    assert own.problems() == {}
    # One that was read before keeps its set; it is told as missing while it is out of reach.
    before = own.sets()
    monkeypatch.setattr(scan_module, "read_file", closed)
    (folder / "dark" / "dark_2.fits").touch()
    own.scan(folder)
    assert own.problems()["dark/dark_2.fits"]["state"] == "missing"
    assert own.sets().keys() == before.keys()
    monkeypatch.undo()
    own.scan(folder)
    assert own.problems() == {}
    assert own.sets() == before


def test_a_frame_has_its_copys_place_where_its_own_file_is_gone_and_keeps_all_where_it_was_moved(
    own, tmp_path
):
    folder = a_night(tmp_path / "disk")
    (folder / "copies").mkdir()
    for i in range(8):
        shutil.copyfile(folder / "dark" / f"dark_{i}.fits", folder / "copies" / f"copy_{i}.fits")
    own.scan(folder)
    before = own.sets()
    kept = {p for (p,) in own.query("select path from frame where state = 'good' and kind = 'dark'")}
    for path in kept:
        (folder / path).unlink()
    own.scan(folder)
    assert own.sets() == before
    now = {p for (p,) in own.query("select path from frame where state = 'good' and kind = 'dark'")}
    assert len(now) == 8
    assert not now & kept
    assert all((folder / p).is_file() for p in now)
    # Renamed and put elsewhere: the same frames, the same set.
    ids = own.query("select id from frame where kind = 'flat' and state = 'good' order by id")
    (folder / "flat").rename(folder / "flats of October")
    shutil.move(folder / "flats of October" / "flat_0.fits", folder / "flats of October" / "renamed.fits")
    own.scan(folder)
    assert own.sets() == before
    assert own.query("select id from frame where kind = 'flat' and state = 'good' order by id") == ids
    assert own.problems().keys() <= {f"copies/copy_{i}.fits" for i in range(8)}
    # Put aside by the person: it counts no more.
    (folder / "light" / "rejected").mkdir()
    shutil.move(folder / "light" / "light_5.fits", folder / "light" / "rejected" / "light_5.fits")
    own.scan(folder)
    assert own.query("select n_frames, n_kept from frame_set where kind = 'light'") == [(8, 7)]


def test_frames_that_are_written_anew_stay_what_they_were_and_a_master_only_of_what_it_was_made_of(
    own, tmp_path, monkeypatch
):
    folder = a_night(tmp_path / "frames")
    own.scan(folder)
    own.build()
    before, made = own.sets(), masters(own)
    levels = own.query("select id, level_adu from frame_set where id < 5 order by id")
    # A copy back from another disk, or one made without its times.
    for path in folder.rglob("*.fits"):
        os.utime(path, (1_700_000_000, 1_700_000_000))
    own.scan(folder)
    assert (own.sets(), masters(own)) == (before, made)
    # Read by other rules, as after an update.
    monkeypatch.setattr(scan_module, "rules_in_force", lambda: "other bounds")
    own.change("update frame set facts = json_set(facts, '$.gain', 1e9) where set_id < 5")
    own.scan(folder)
    assert (own.sets(), masters(own)) == (before, made)
    assert own.query("select id, level_adu from frame_set where id < 5 order by id") == levels
    # Another program wrote one dark's pixels anew: the master is none of these any more, and says so by its absence.
    dark = next(i for i, x in before.items() if x["kind"] == "dark" and x["n_frames"] == 8)
    path = folder / "dark" / "dark_3.fits"
    cards = {**DARK, "DATE-OBS": "2026-10-18T22:03:00"}
    write_fits(path, cards, np.full((24, 24), 4_000, np.uint16))
    own.scan(folder)
    assert own.sets().keys() == before.keys()
    assert dict(masters(own)).keys() == dict(made).keys() - {dark}
    # One whose header says something else now leaves its set, which counts the others.
    write_fits(path, {**cards, "GAIN": 7}, np.full((24, 24), 500, np.uint16))
    own.scan(folder)
    assert own.sets()[dark]["n_frames"] == 7


def test_what_an_older_version_took_for_no_number_is_read_anew(own, tmp_path, monkeypatch):
    for i in range(3):
        when = {"DATE-OBS": f"2026-10-18T22:{i:02d}:00"}
        write_fits(tmp_path / "frames" / f"l{i}.fits", {**LIGHT, **when, "EXPTIME": "300 s"})
    averaged = np.full((24, 24), 500.0, "f4")
    write_fits(tmp_path / "frames" / "MasterDark.fits", {**DARK, "DATE-OBS": "2026-10-18T21:00:00"}, averaged)
    with monkeypatch.context() as before:
        before.setattr(reader, "number_in_text", lambda text, what: None)
        before.setattr(headers, "names_a_master", lambda *_, whole: False)
        before.setattr(scan_module, "rules_in_force", lambda: "as before")
        own.scan(tmp_path / "frames")
        assert "not a number" in str(own.problems())
    own.scan(tmp_path / "frames")
    assert own.problems() == {}
    exposures = "select distinct json_extract(facts, '$.exposure_s') from frame where kind = 'light'"
    assert own.query(exposures) == [(300.0,)]
    assert {s["kind"]: s["state"] for s in own.sets().values()} == {"light": "lights", "dark": "master"}


def test_a_folder_that_is_as_it_was_is_left_at_that_but_not_after_a_scan_that_was_cut_short(
    own, tmp_path, monkeypatch
):
    folder = a_night(tmp_path / "frames", n=4)
    own.scan(folder)
    before, revision = own.sets(), own.library.revision
    looked_up = []
    monkeypatch.setattr(scan_module, "recall_masters", lambda *_: looked_up.append(1))
    assert "0 new or changed" in own.scan(folder)["message"]
    assert (looked_up, own.library.revision) == ([], revision), "pages keep what they have"
    # Killed between entering frames and putting them into sets: the next scan does what is left.
    more = a_night(tmp_path / "more", n=6)
    with monkeypatch.context() as cut:
        cut.setattr(scan_module, "regroup", lambda *_, **__: 1 / 0)
        assert own.scan(more)["state"] == "failed"
    assert own.sets() == before
    assert own.scan(more)["state"] == "done"
    assert sum(x["n_frames"] for x in own.sets().values()) > sum(x["n_frames"] for x in before.values())
    assert looked_up == [1]


def test_nothing_is_written_where_frames_lie_and_odd_names_stop_nobody(own, tmp_path):
    folder = a_night(tmp_path / "disk", 3)
    rng = np.random.default_rng(2)
    for i in range(4):
        pixels = rng.normal(500, 6, (64, 64)).astype(np.uint16)
        header = fits.Header({**DARK, "DATE-OBS": f"2026-10-20T22:{i:02d}:00"})
        fits.HDUList([fits.PrimaryHDU(), fits.CompImageHDU(pixels, header)]).writeto(
            folder / f"tiled_{i}.fits"
        )
    odd = Path(os.fsdecode(os.fsencode(folder / "dark") + b"/d\xfcnkel.fits"))
    (folder / "dark" / "dark_1.fits").rename(odd)

    def listing():
        return {str(p): p.stat().st_mtime_ns for p in [folder, *folder.rglob("*")]}

    before = listing()
    assert own.scan(folder)["state"] == "done"
    told = own.problems()
    (shown,) = told
    assert shown.startswith("dark/d?nkel.fits (")
    assert "not text" in told[shown]["reason"]
    assert own.query("select count(*) from frame_set where level_adu is null and kind = 'dark'") == [(0,)]
    assert own.build()["state"] == "done"
    for place in ("/api/rigs/1/tonight", "/api/rigs/1/shelf", "/api/rigs/1/nights", "/api/problems.csv"):
        assert own.client.get(place).status_code == 200
    own.again()
    assert listing() == before
    odd.rename(folder / "dark" / "dunkel.fits")
    own.scan(folder)
    assert own.problems() == {}
