"""Bringing in one's own frames: bad input, new and changed files, folders that vanish, nothing ever lost."""

from __future__ import annotations

import shutil
import time
from contextlib import closing

import numpy as np
import pytest
import tzlocal
from astropy.io import fits

from grayshelf.work.ahead import ahead
from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.own import Own
from tests.waiting import asked_until


@pytest.fixture
def own(tmp_path):
    """A library of one's own, empty, and a client."""
    opened = Own(tmp_path / "library")
    yield opened.client
    opened.close()


def wait(client, job):
    """Wait for a job's end; return it."""

    def found():
        jobs = client.get("/api/jobs").json
        return next(j for j in jobs["alive"] + jobs["ended"] if j["id"] == job["id"])

    return asked_until(found, lambda j: j["state"] not in ("queued", "running"))


def scan(client, folder):
    answer = client.post("/api/folders", json={"path": str(folder)})
    assert answer.status_code == 200, answer.text
    return wait(client, answer.json)


@pytest.mark.parametrize(
    ("machine", "zone"),
    [("America/Denver", "America/Denver"), ("Etc/UTC", "UTC"), ("Nowhere/At all", "UTC"), (None, "UTC")],
)
def test_a_new_library_counts_nights_by_the_zone_of_this_machine_and_keeps_it(
    tmp_path, monkeypatch, machine, zone
):
    """An evening in Denver and its morning, on both sides of noon in UTC, by a program that tells UTC alone."""
    monkeypatch.setattr(tzlocal, "get_localzone_name", lambda: machine)
    own = Own(tmp_path / "library")
    for name, at in (("evening", "2026-11-11T04:30:00"), ("morning", "2026-11-11T12:30:00")):
        write_fits(tmp_path / "frames" / f"{name}.fits", {**LIGHT, "DATE-OBS": at})
    own.scan(tmp_path / "frames")
    monkeypatch.setattr(tzlocal, "get_localzone_name", lambda: "Asia/Tokyo")
    own.again()
    assert own.get("/api/state")["time_zone"] == zone
    nights = {str(s["night"]) for s in own.sets().values()}
    assert nights == ({"10 Nov 26"} if zone != "UTC" else {"10 Nov 26", "11 Nov 26"})
    own.close()


def problems(client):
    return {p["path"]: p for p in client.get("/api/problems").json["items"]}


def test_each_kind_of_bad_file_is_listed_with_a_reason_and_the_scan_goes_on(own, tmp_path):
    folder = tmp_path / "my frames – été"
    good = write_fits(folder / "Hübsch dir" / "lïght 1.fits", LIGHT)
    whole = good.read_bytes()
    (folder / "cut.fits").write_bytes(whole[:3000])
    (folder / "header cut.fits").write_bytes(whole[:1000])
    (folder / "empty.fits").write_bytes(b"")
    (folder / "text.fits").write_text("these are my notes")
    (folder / "broken.fits.gz").write_bytes(b"\x1f\x8b\x08\x00not really")
    fits.HDUList(
        [fits.PrimaryHDU(), fits.BinTableHDU.from_columns([fits.Column("A", "J", array=[1, 2])])]
    ).writeto(folder / "table.fits")
    write_fits(folder / "abc.fits", {**DARK, "EXPTIME": "abc"})
    huge = bytearray(whole)
    for name, value in ((b"NAXIS1", b"99999999"), (b"NAXIS2", b"99999999")):
        at = huge.index(name)
        huge[at + 10 : at + 30] = value.rjust(20)
    (folder / "huge.fits").write_bytes(huge)
    write_fits(folder / "cube.fits", DARK, np.zeros((3, 8, 8), np.uint16))
    (folder / "loop").symlink_to(folder)
    (folder / "self.fits").symlink_to(folder / "self.fits")
    outside = write_fits(tmp_path / "outside.fits", DARK)
    (folder / "out.fits").symlink_to(outside)
    (folder / "readme.txt").write_text("not a frame at all")
    shutil.copyfile(good, folder / "copy of light.fits")

    assert scan(own, folder)["state"] == "done"
    found = problems(own)
    expected = {
        "cut.fits": "cut off", "header cut.fits": "cut off inside its header", "empty.fits": "empty",
        "text.fits": "does not begin as a FITS file", "broken.fits.gz": "damaged", "table.fits": "table",
        "abc.fits": "EXPTIME is 'abc'", "huge.fits": "pixels", "cube.fits": "three colours", "self.fits": "in a circle",
    }  # fmt: skip
    for name, words in expected.items():
        assert words in found[name]["reason"], (name, found[name]["reason"])
        assert found[name]["advice"]
    assert "out.fits" not in found, "a link that leads out of the folder is passed over"
    copies = own.get("/api/problems?state=duplicate").json["items"]
    assert [p["path"] for p in copies] == ["Hübsch dir/lïght 1.fits"], "read after the other"
    assert not set(found) & {p["path"] for p in copies}, "of a copy nothing has to be looked at"
    listed = own.get("/api/intake").json["folders"][0]
    assert (listed["copies"], listed["to_look_at"]) == (1, len(found))
    sets = own.get("/api/sets").json["items"]
    assert [(s["kind"], s["n_frames"]) for s in sets] == [("dark", 1), ("light", 1)]
    csv = own.get("/api/problems.csv")
    assert csv.status_code == 200
    assert "does not begin as a FITS file" in csv.text


def test_scanning_again_reads_only_what_is_new_or_changed_and_a_vanished_folder_loses_nothing(own, tmp_path):
    folder = tmp_path / "frames"
    for i in range(5):
        write_fits(folder / f"dark_{i}.fits", {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"})
    assert "5 new or changed" in scan(own, folder)["message"]
    again = own.post("/api/folders/2/scan").json
    assert "0 new or changed" in wait(own, again)["message"]
    write_fits(folder / "dark_5.fits", {**DARK, "DATE-OBS": "2026-10-18T22:06:00"})
    write_fits(folder / "dark_0.fits", {**DARK, "GAIN": 100, "DATE-OBS": "2026-10-18T22:00:00"}, size=26)
    (folder / "dark_1.fits").unlink()
    assert "2 new or changed" in wait(own, own.post("/api/folders/2/scan").json)["message"]
    assert problems(own)["dark_1.fits"]["state"] == "missing", "it keeps its set until the person lets it go"
    assert sorted(s["n_frames"] for s in own.get("/api/sets").json["items"]) == [1, 5]
    assert own.post("/api/folders/2/let-go").status_code == 200
    assert own.post("/api/folders/2/let-go").status_code == 409
    counts = sorted(s["n_frames"] for s in own.get("/api/sets").json["items"])
    assert counts == [1, 4]

    folder.rename(tmp_path / "unplugged")
    failed = wait(own, own.post("/api/folders/2/scan").json)
    assert failed["state"] == "failed"
    assert "stay in the library" in failed["message"]
    assert sorted(s["n_frames"] for s in own.get("/api/sets").json["items"]) == [1, 4]
    (tmp_path / "unplugged").rename(folder)
    assert "0 new or changed" in wait(own, own.post("/api/folders/2/scan").json)["message"]


def test_folders_that_cannot_be_named(own, tmp_path):
    write_fits(tmp_path / "frames" / "inner" / "a.fits", DARK)
    for path, words in (
        ("frames", "not a whole path"), (str(tmp_path / "none"), "no folder"), (str(tmp_path), "own folder"),
        (str(tmp_path / "frames" / "inner" / "a.fits"), "not a folder"), (str(tmp_path / "library"), "own folder"),
    ):  # fmt: skip
        answer = own.post("/api/folders", json={"path": path})
        assert answer.status_code >= 400
        assert words in answer.json["detail"]
        assert answer.mimetype == "application/problem+json"
    assert scan(own, tmp_path / "frames")["state"] == "done"
    assert (
        "on the list"
        in own.post("/api/folders", json={"path": str(tmp_path / "frames" / "inner")}).json["detail"]
    )
    assert own.post("/api/folders", json={}).status_code == 422


def test_own_frames_become_masters_and_a_slip_and_leave_again(own, tmp_path):
    folder = tmp_path / "frames"
    rng = np.random.default_rng(1)
    for i in range(12):
        at = {"DATE-OBS": f"2026-10-18T22:{i:02d}:00"}
        write_fits(folder / f"d{i}.fits", {**DARK, **at}, rng.normal(500, 6, (24, 24)).astype(np.uint16))
        write_fits(folder / f"l{i}.fits", {**LIGHT, **at}, rng.normal(700, 9, (24, 24)).astype(np.uint16))
        write_fits(folder / f"f{i}.fits", {**FLAT, **at}, rng.normal(29000, 90, (24, 24)).astype(np.uint16))
        write_fits(
            folder / f"x{i}.fits",
            {**FLAT, **at, "IMAGETYP": "Dark Flat"},
            rng.normal(500, 6, (24, 24)).astype(np.uint16),
        )
    before = {p: p.read_bytes() for p in folder.iterdir()}
    scan(own, folder)
    assert [r["name"] for r in own.get("/api/state").json["rigs"]] == ["Heron 92"], (
        "a rig was made from the headers"
    )
    built = wait(own, own.post("/api/builds", json={"set_ids": None}).json)
    assert built["message"] == "3 masters built"
    night = own.get("/api/rigs/1/nights/2026-10-18").json
    assert night["sets"][0]["verdict"] == "fits"
    slip = own.get(f"/api/lights/{night['sets'][0]['id']}/slip").json
    assert [line["verdict"] for line in slip["lines"]] == ["fits"] * 3
    card = own.get(f"/api/holdings/{slip['lines'][1]['chosen']['holding_id']}").json
    assert len(card["inputs"]) == 12
    assert card["spine"]["is_master"]
    assert own.get(card["picture"]["url"]).data.startswith(b"\x89PNG")
    assert own.post("/api/builds", json={"set_ids": None}).status_code == 409, "nothing is built twice"
    # Off the shelf and back; the file stays.
    own.post(f"/api/holdings/{card['spine']['id']}/shelve/off")
    assert own.get("/api/rigs/1/nights/2026-10-18").json["sets"][0]["verdict"] == "nothing fits"
    own.post(f"/api/holdings/{card['spine']['id']}/shelve/back")
    assert own.get("/api/rigs/1/nights/2026-10-18").json["sets"][0]["verdict"] == "fits"
    # The time zone moves the nights; the folder leaves the list and its files are as they were.
    moved = own.put("/api/site", json={"name": "Far west", "time_zone": "Pacific/Auckland"})
    assert moved.status_code == 200
    assert own.get("/api/rigs/1/nights").json["nights"][0]["night"] == "2026-10-18"
    assert own.put("/api/site", json={"name": "x", "time_zone": "Nowhere/Land"}).status_code == 400
    assert own.delete("/api/folders/2").status_code == 200
    assert own.get("/api/rigs/1/nights").json["nights"] == []
    assert {p: p.read_bytes() for p in folder.iterdir()} == before


@pytest.mark.parametrize("slow", [False, True])
def test_files_of_a_slow_disk_are_read_several_at_a_time_and_those_of_a_quick_one_in_turn(slow, monkeypatch):
    if not slow:
        monkeypatch.setattr("grayshelf.work.ahead.SLOW_S", 60.0)
    now, most, begun = [0], [0], []

    def read(number):
        begun.append(number)
        now[0] += 1
        most[0] = max(most[0], now[0])
        time.sleep(0.005)
        now[0] -= 1
        return -number

    assert list(ahead(read, range(100))) == [-n for n in range(100)]
    assert most[0] > 1 if slow else most[0] == 1
    begun.clear()
    with closing(ahead(read, range(1_000))) as found:
        assert [next(found) for _ in range(20)] == [-n for n in range(20)]
    # Stopped: what was begun ends, and no more is begun.
    count = len(begun)
    time.sleep(0.05)
    assert len(begun) == count < 120


def test_a_file_that_cannot_be_read_is_told_of_however_one_looks_at_it(own, tmp_path):
    folder = tmp_path / "mine"
    folder.mkdir()
    (folder / "cut.fits").write_bytes(b"SIMPLE  =                    T" + b" " * 100)
    scan(own, folder)
    # Asked for its picture it said once that something happened which nobody foresaw.
    for what in ("view", "histogram", "profile", "sheet"):
        answer = own.get(f"/api/frames/1/{what}")
        assert answer.status_code < 500, what
        if what != "sheet":
            assert "cut off inside its header" in answer.json["detail"], what


def test_flats_that_are_full_are_used_with_care_at_best(own, tmp_path):
    pixels = np.full((24, 24), 65_532, np.uint16)
    for i in range(12):
        write_fits(tmp_path / "mine" / f"f{i}.fits", {**FLAT, "DATE-OBS": f"2026-10-19T05:00:{i:02}"}, pixels)
        write_fits(tmp_path / "mine" / f"l{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-18T22:{i:02}:00"})
    scan(own, tmp_path / "mine")
    sets = own.get("/api/sets").json["items"]
    (lights,) = [s["id"] for s in sets if s["kind"] == "light"]
    slip = own.get(f"/api/lights/{lights}/slip").json
    flat = next(line for line in slip["lines"] if line["kind"] == "flat")
    told = flat["chosen"] or flat["runners_up"][0]
    assert "their pixels are full: what light they held is lost" in told["reasons"]


@pytest.mark.parametrize(("of_sky", "kind"), [(False, "dark flat"), (True, "bias")])
def test_the_shelf_tells_also_of_what_flats_lack(own, tmp_path, of_sky, kind):
    """It said once that nothing was missing, while the slip of the same lights said that nothing fits."""
    flat = {**FLAT, "IMAGETYP": "Sky Flat"} if of_sky else FLAT
    for i in range(12):
        write_fits(tmp_path / "mine" / f"f{i}.fits", {**flat, "DATE-OBS": f"2026-10-19T05:00:{i:02}"})
        write_fits(tmp_path / "mine" / f"l{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-18T22:{i:02}:00"})
    scan(own, tmp_path / "mine")
    shelf = own.get("/api/rigs/1/shelf").json
    assert ("dark flat" in {g["kind"] for g in shelf["gaps"]}) is (not of_sky)
    assert bool(shelf["no_bias"]) is of_sky
    lights = next(s["id"] for s in own.get("/api/sets").json["items"] if s["kind"] == "light")
    lines = own.get(f"/api/lights/{lights}/slip").json["lines"]
    assert next(line for line in lines if line["kind"] == kind)["verdict"] == "nothing fits"


def test_many_frames_without_a_time_are_entered_together(own, tmp_path, monkeypatch):
    """They were taken for copies of one another, and each was entered alone."""
    from grayshelf.work import scan as scanning

    asked, real = [], scanning.look_ahead
    monkeypatch.setattr(scanning, "look_ahead", lambda *a: asked.append(len(a[2])) or real(*a))
    for i in range(60):
        write_fits(tmp_path / "mine" / f"b{i}.fits", {k: v for k, v in DARK.items() if k != "DATE-OBS"})
    scan(own, tmp_path / "mine")
    assert sum(asked) == 60 and max(asked) > 30
    assert own.get("/api/sets").json["items"][0]["n_frames"] == 60


def test_nothing_is_asked_for_at_a_gain_that_nobody_knows(own, tmp_path):
    """Dark flats for flats that tell no gain were asked for at gain 0."""
    silent = ("GAIN", "OFFSET")
    for i in range(12):
        for kind, cards, at in (("f", FLAT, f"19T05:00:{i:02}"), ("l", LIGHT, f"18T22:{i:02}:00")):
            told = {k: v for k, v in cards.items() if k not in silent} | {"DATE-OBS": f"2026-10-{at}"}
            write_fits(tmp_path / "mine" / f"{kind}{i}.fits", told)
    scan(own, tmp_path / "mine")

    def tonight():
        page = own.get("/api/rigs/1/tonight").json
        return [o["title"] for o in page["offers"]], [o["why"] for o in page["out_of_reach"]]

    offered, out_of_reach = tonight()
    assert not [title for title in offered if "Dark flat" in title]
    assert "the flats’ gain and offset are not known" in out_of_reach
    for quantity in ("gain", "offset"):
        own.put("/api/rigs/1/says", json={"quantity": quantity, "says": "fixed"})
    offered, _ = tonight()
    assert "Dark flat 6.5\u2009s" in offered, "and of a camera without a gain none is asked for"


def test_a_camera_without_a_gain_has_its_rows_of_flats_once_that_is_said(own, tmp_path):
    told = {k: v for k, v in LIGHT.items() if k not in ("GAIN", "OFFSET")} | {"XBINNING": 2, "YBINNING": 2}
    for i in range(4):
        write_fits(tmp_path / "mine" / f"l{i}.fits", {**told, "DATE-OBS": f"2026-10-18T22:{i:02}:00"})
    scan(own, tmp_path / "mine")
    assert own.get("/api/rigs/1/flats").json["rows"] == []
    for quantity in ("gain", "offset"):
        own.put("/api/rigs/1/says", json={"quantity": quantity, "says": "fixed"})
    (row,) = own.get("/api/rigs/1/flats").json["rows"]
    assert (row["name"], row["gain"], row["lights"]) == ("SII, binning 2", "", "4 lights")
    chart = own.post("/api/rigs/1/flats/chart", json=row["key"]).json
    assert (chart["title"], chart["under"]) == ("Never looked for", "binning 2")
