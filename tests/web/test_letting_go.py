"""Raw frames let go: packed without loss, thrown away with a way back, and never where nothing stands for them."""

from __future__ import annotations

import hashlib
import random
from datetime import date
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits

from grayshelf.core.filing.letting_go import RawSet, what_is_lost
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library import bringing
from grayshelf.library.files import read_pixels
from grayshelf.library.packing import NotPacked, pack, unpack
from grayshelf.work.jobs import Stopped
from tests.helpers import DARK, LIGHT, write_fits
from tests.web.test_filing import take_back, tree

SIZE = 120


def frames(folder: Path, cards=DARK, count=4, name="dark") -> list[Path]:
    rng = np.random.default_rng(4)
    return [
        write_fits(
            folder / f"{name}{i}.fits",
            {**cards, "DATE-OBS": f"2026-10-18T22:{i:02d}:00", "COMMENT": "as it was"},
            rng.normal(500, 6, (SIZE, SIZE)).astype(np.uint16),
        )
        for i in range(count)
    ]


def newest(own) -> Path:
    return max((own.root / "masters").rglob("*.fits"), key=lambda path: path.stat().st_mtime_ns)


def night(own, title="darks"):
    return next(n for n in own.get("/api/room")["nights"] if n["title"] == title)


def let_go(own, way, set_ids, root=""):
    answer = own.client.post("/api/room/let-go", json={"set_ids": set_ids, "way": way, "root": root})
    assert answer.status_code == 200, answer.text
    return own.ended(answer.json["job_id"])


@pytest.mark.parametrize("kept_as", ["u2", "i2", "u1", "i4", "f4", "f8"])
def test_packed_is_read_by_any_library_and_unpacked_byte_for_byte(tmp_path, kept_as):
    """Astropy, as any program would, reads the pixels and cards (FITS Standard 4.0, section 10); ours gives the file."""
    rng = np.random.default_rng(1)
    data = rng.normal(100, 9, (300, 400)).astype(kept_as)
    path = tmp_path / "odd name.FIT"
    header = fits.Header([("IMAGETYP", "dark"), ("EXPTIME", 300.0), ("LONG", "x" * 120), ("HIERARCH A b", 3)])
    fits.PrimaryHDU(data, header).writeto(path)
    whole = path.read_bytes()
    was, now = pack(path, tmp_path / "odd name.FIT.fz")
    assert was == hashlib.sha256(whole).hexdigest()
    assert now == hashlib.sha256((tmp_path / "odd name.FIT.fz").read_bytes()).hexdigest()
    with fits.open(tmp_path / "odd name.FIT.fz") as hdus:
        assert np.array_equal(hdus[1].data, data)
        assert hdus[1].header["LONG"] == "x" * 120 and hdus[1].header["A b"] == 3
    path.unlink()
    unpack(tmp_path / "odd name.FIT.fz", path, was)
    assert path.read_bytes() == whole


def test_what_could_not_be_had_back_is_not_packed(tmp_path):
    """More than one picture, a tail that no standard knows, a scale of one's own, bytes that changed."""
    two = tmp_path / "two.fits"
    data = np.random.default_rng(2).normal(100, 9, (200, 200)).astype("i2")
    fits.HDUList([fits.PrimaryHDU(data), fits.ImageHDU(data)]).writeto(two)
    tail = write_fits(tmp_path / "tail.fits", DARK, data.astype("u2"))
    tail.write_bytes(tail.read_bytes() + b"written behind it")
    scaled = tmp_path / "scaled.fits"
    fits.PrimaryHDU(data).writeto(scaled)
    fits.setval(scaled, "BSCALE", value=2.0)
    fits.setval(scaled, "BZERO", value=7.0)
    changed = write_fits(tmp_path / "changed.fits", DARK, data.astype("u2"))
    noise = tmp_path / "noise.fits"
    fits.PrimaryHDU(np.random.default_rng(3).integers(-(2**31), 2**31, (60, 60)).astype("i4")).writeto(noise)
    for path, known in ((two, None), (tail, None), (scaled, None), (changed, "0" * 64), (noise, None)):
        before = path.read_bytes()
        with pytest.raises(NotPacked):
            pack(path, path.with_name(path.name + ".fz"), known)
        assert path.read_bytes() == before
    assert not list(tmp_path.glob("*.fz")) and not list(tmp_path.glob("*.part"))


def test_packed_frames_are_the_same_frames_and_come_back(own, tmp_path):
    """Sets, masters and slips stay as they are; a master can be built of them; taken back, every byte is as it was."""
    heap = tmp_path / "heap"
    frames(heap / "d")
    frames(heap / "l", LIGHT, 2, "light")
    own.scan(heap)
    own.build()
    before, sets = tree(heap), own.sets()
    ids = [i for n in own.get("/api/room")["nights"] for i in n["set_ids"]]
    job = let_go(own, "pack", ids)
    assert job["message"].startswith("6 files are packed: 190\u2009kB before"), job["message"]
    assert sorted(tree(heap)) == sorted(f"{name}.fz" for name in before)
    assert own.sets() == sets
    assert own.scan(heap)["message"] and own.sets() == sets and not own.problems()
    told = own.ended(own.client.post("/api/verify").json["job_id"])["message"]
    assert told.endswith("are what they were.") and "not" not in told, told
    assert night(own)["n_packed"] == 4
    master = next(i for i, s in sets.items() if s["state"] == "master")
    anew = own.client.post(f"/api/holdings/{master}/again", json={"method": "median"})
    assert anew.status_code == 200, anew.text
    assert own.ended(anew.json["id"])["state"] == "done"
    pixels = [read_pixels(heap / f"d/dark{i}.fits.fz").astype(float) for i in range(4)]
    assert np.allclose(read_pixels(newest(own)), np.median(pixels, axis=0))
    sets = own.sets()
    again = own.client.post("/api/room/let-go", json={"set_ids": ids, "way": "pack"})
    assert again.status_code == 400 and "packed already" in again.json["detail"]
    assert take_back(own)["state"] == "done"
    assert tree(heap) == before and own.sets() == sets
    own.scan(heap)
    assert own.sets() == sets


def test_what_is_lost_names_what_was_left_out():
    """In words, each set by what it is; only so many frames are named."""
    flats = RawSet(1, FrameKind.FLAT, date(2026, 10, 18), 20, 9, "G", left_out=("a.fits",))
    darks = RawSet(2, FrameKind.DARK, None, 20, 9, left_out=tuple(f"d{i}.fits" for i in range(5)))
    masters, of_flats, of_darks, *rest = what_is_lost([flats, darks])
    assert masters.startswith("2 masters could not be built anew")
    assert (
        of_flats == "Flats G of 18 Oct 2026: it could not be rebuilt with a.fits, which was left out of it."
    )
    assert of_darks.endswith("with d0.fits, d1.fits, d2.fits and 2 more, which were left out of it.")
    assert len(rest) == 2 and what_is_lost([]) == []


def test_thrown_away_only_where_a_master_is_whole(own, tmp_path):
    """Lights never, loose sets never, and nothing where the master's bytes are others than were written."""
    heap = tmp_path / "heap"
    frames(heap / "d")
    frames(heap / "l", LIGHT, 2, "light")
    own.scan(heap)
    ids = [i for n in own.get("/api/room")["nights"] for i in n["set_ids"]]
    refused = own.client.post("/api/room/let-go", json={"set_ids": ids, "way": "throw"})
    assert refused.status_code == 400
    assert "never thrown away" in night(own, "lights")["kept_for"]
    assert "No master" in night(own)["kept_for"]
    own.build()
    assert night(own)["kept_for"] == ""
    told = own.client.post("/api/room/preview", json={"set_ids": ids, "way": "throw"}).json
    assert told["n_frames"] == 4 and "could not be built anew" in told["lost"][0]
    assert any("Nothing stands for lights" in s["name"] for s in told["stays"])
    master = next((own.root / "masters").rglob("*.fits"))
    good = master.read_bytes()
    master.write_bytes(good[:-1] + b"\1")
    before = tree(heap)
    job = let_go(own, "throw", ids)
    assert "4 stay where they were" in job["message"] and tree(heap) == before
    master.write_bytes(good)
    # A frame that came after the master was built is not in it, also where another is kept no more.
    new = write_fits(
        heap / "d/new.fits", {**DARK, "DATE-OBS": "2026-10-18T23:00:00"}, np.full((SIZE, SIZE), 500, "u2")
    )
    own.scan(heap)
    assert "not in their master" in night(own)["kept_for"]
    own.change("UPDATE frame SET rejected = 1 WHERE path = 'd/dark0.fits'")
    own.change("UPDATE frame_set SET n_kept = n_kept - 1 WHERE kind = 'dark' AND NOT is_master")
    own.library.touched()
    assert "1 frame counts" in night(own)["kept_for"]
    ids = night(own)["set_ids"]
    assert own.client.post("/api/room/let-go", json={"set_ids": ids, "way": "throw"}).status_code == 400
    assert new.exists()


def test_thrown_away_comes_back_with_its_set_and_master_or_is_deleted(own, tmp_path):
    """Put aside, no scan sees it; back, it has its set and its master again; deleted, the master stands alone."""
    heap = tmp_path / "heap"
    frames(heap / "d")
    own.scan(heap)
    own.build()
    before = tree(heap)
    raw = next(s for s in own.sets().values() if s["state"] == "combined")
    ids = night(own)["set_ids"]
    job = let_go(own, "throw", ids)
    assert job["message"] == "4 files are put aside", job
    assert not list((heap / "d").glob("*"))
    assert own.scan(heap)["state"] == "done"
    assert [s["state"] for s in own.sets().values()] == ["master"]
    assert not own.problems()
    filed = own.get("/api/room")["filed"][0]
    assert filed["can_take_back"] and filed["can_delete"]
    assert take_back(own)["state"] == "done"
    assert tree(heap) == before
    now = next(s for s in own.sets().values() if s["state"] == "combined")
    assert (now["n_frames"], now["title"]) == (raw["n_frames"], raw["title"])
    let_go(own, "throw", night(own)["set_ids"])
    number = own.get("/api/room")["filed"][0]["id"]
    job = own.ended(own.client.post(f"/api/room/{number}/delete").json["job_id"])
    assert "free again" in job["message"] and not job["troubles"]
    assert not list(heap.rglob("*.fits"))
    assert [s["state"] for s in own.sets().values()] == ["master"]
    gone = own.get("/api/room")["filed"][0]
    assert not gone["can_take_back"] and not gone["can_delete"]
    assert own.client.post(f"/api/room/{number}/delete").status_code == 409
    assert "deleted for good" in own.client.get(f"/api/filing/{number}.csv").text


@pytest.mark.parametrize("way", ["pack", "throw"])
def test_cut_short_anywhere_it_goes_on_or_comes_back(own, tmp_path, way, monkeypatch):
    """Stopped at each file, in the middle and between its steps: gone on with, or taken back, nothing is lost."""
    heap = tmp_path / "heap"
    frames(heap / "d", count=6)
    own.scan(heap)
    own.build()
    before = tree(heap)
    ids = night(own)["set_ids"]
    rng = random.Random(way)
    for back in (False, True):
        calls, when = 0, rng.randint(1, 9)
        really = bringing.stamp_of

        def cut(path, really=really, when=when):
            nonlocal calls
            calls += 1
            if calls == when:
                raise Stopped
            return really(path)

        with monkeypatch.context() as patched:
            patched.setattr(bringing, "stamp_of", cut)
            job = let_go(own, way, ids)
        assert job["state"] == "stopped", job
        if not back:
            assert own.client.post(f"/api/jobs/{job['id']}/resume").status_code == 200
            assert own.ended(job["id"])["state"] == "done"
            assert not list((heap / "d").glob("*.fits"))
        assert take_back(own)["state"] == "done"
        assert tree(heap) == before
        ids = night(own)["set_ids"]


def test_moved_to_another_disk_frames_keep_their_sets(own, tmp_path):
    """Raw frames of chosen sets lie elsewhere, in folders as before."""
    heap, other = tmp_path / "heap", tmp_path / "other"
    frames(heap / "d")
    own.scan(heap)
    own.build()
    before, sets = tree(heap), own.sets()
    ids = night(own)["set_ids"]
    asked = {"set_ids": ids, "way": "move"}
    assert "No folder is named" in own.client.post("/api/room/preview", json=asked).json["trouble"]
    job = let_go(own, "move", ids, str(other))
    assert job["message"] == "4 files are in their places"
    assert sorted(tree(other)) == [f"heap/{name}" for name in sorted(before)]
    assert own.sets() == sets
    assert take_back(own)["state"] == "done" and tree(heap) == before and own.sets() == sets


def test_the_house_rule_offers_what_it_wishes(own, tmp_path):
    """So many days after their night, raw frames of a master are offered; never before, and never done by itself."""
    heap = tmp_path / "heap"
    frames(heap / "d")
    frames(heap / "l", LIGHT, 2, "light")
    own.scan(heap)
    own.build()
    assert night(own)["wished"] == "kept as they are"
    rig = own.query("SELECT id FROM rig")[0][0]
    rules = {"raw_frames": "thrown away", "numbers": {"raw_days": 4000}}
    assert own.client.put(f"/api/rigs/{rig}/house-rules", json=rules).status_code == 200
    assert night(own)["wished"] == "kept as they are"
    told = own.client.put(
        f"/api/rigs/{rig}/house-rules", json={"numbers": {"raw_days": 7}, "reason": "full disk"}
    )
    assert told.status_code == 200
    assert night(own)["wished"] == "thrown away"
    assert night(own, "lights")["wished"] == "kept as they are"
    assert list(heap.rglob("dark*.fits"))


def test_packed_frames_whose_folder_comes_back_are_known_as_those_of_their_master(own, tmp_path):
    frames(tmp_path / "heap", count=8)
    own.scan(tmp_path / "heap")
    own.build()
    assert let_go(own, "pack", night(own)["set_ids"])["state"] == "done"
    assert own.client.delete("/api/folders/2").status_code == 200
    own.scan(tmp_path / "heap")
    assert sorted(x["state"] for x in own.sets().values()) == ["combined", "master"]
    assert own.query("SELECT count(*) FROM master_input WHERE frame_id IS NULL") == [(0,)]
    assert own.query("SELECT count(*) FROM frame WHERE path LIKE '%.fz' AND sha256 IS NOT NULL") == [(8,)]
