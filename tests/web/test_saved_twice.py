"""The same exposure in two files: counted once, told which one counts, and looked at side by side."""

from __future__ import annotations

import shutil

import numpy as np
from astropy.io import fits

from tests.helpers import DARK, LIGHT, write_fits


def test_the_same_exposure_saved_twice_counts_once_and_steps_in_when_the_first_is_gone(own, tmp_path):
    """Packed, under another header, or as 32 bits: the same pixels of one time are one exposure; others are not."""
    heap = tmp_path / "heap"
    rng = np.random.default_rng(5)
    for i in range(3):
        pixels = rng.normal(500, 6, (40, 40)).astype(np.uint16)
        cards = {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"}
        first = write_fits(heap / f"a{i}.fits", cards, pixels)
        with fits.open(first) as hdus:
            fits.CompImageHDU(hdus[0].data, hdus[0].header).writeto(heap / f"b{i}.fits.fz")
        write_fits(heap / f"c{i}.fits", {**cards, "NOTE": "written by another program", "X" * 8: 1}, pixels)
    # A short exposure by a clock of whole seconds: the same time, other pixels.
    short = {**DARK, "IMAGETYP": "Bias Frame", "EXPTIME": 0.001}
    for i in range(3):
        write_fits(heap / f"bias{i}.fits", short)
    # The same numbers under another filter, as a stand-in camera gives them, are two frames.
    for code in ("R", "B"):
        write_fits(heap / f"l{code}.fits", {**LIGHT, "FILTER": code}, np.full((40, 40), 900, np.uint16))
    # Calibrated, it has other pixels: it is another picture.
    write_fits(heap / "d0.fits", {**DARK, "DATE-OBS": "2026-10-18T22:00:00"}, np.full((40, 40), 7, np.uint16))
    own.scan(heap)
    problems = own.problems()
    twice = {p for p, told in problems.items() if told["state"] == "duplicate"}
    assert twice == {f"b{i}.fits.fz" for i in range(3)} | {f"c{i}.fits" for i in range(3)}
    assert "a0.fits, saved twice" in problems["c0.fits"]["reason"]
    assert sorted(s["n_frames"] for s in own.sets().values()) == [1, 1, 3, 4]
    (heap / "a1.fits").unlink()
    own.scan(heap)
    assert sorted(s["n_frames"] for s in own.sets().values()) == [1, 1, 3, 4]
    left = {p for p, told in own.problems().items() if told["state"] in ("duplicate", "missing")}
    assert len(left) == 5
    own.scan(heap)
    assert sorted(s["n_frames"] for s in own.sets().values()) == [1, 1, 3, 4]
    problem = own.problems()["b0.fits.fz"]
    sheet = own.get(f"/api/frames/{problem['id']}/sheet")
    assert sheet["twin"]["title"] == "a0.fits" and "here first" in sheet["twin"]["detail"]
    assert own.get(f"/api/frames/{problem['id']}/beside")["groups"][0]["frames"] == [sheet["twin"]]
    assert {c["keyword"]: c["value"] for c in sheet["cards"]}["GAIN"] == "200"


def test_any_frame_is_seen_with_its_header_whatever_is_wrong_with_it(own, tmp_path):
    """A value that only the name says, one that is not known, cards that break the standard, a file that is none."""
    heap = tmp_path / "heap"
    cards = {k: v for k, v in DARK.items() if k not in ("GAIN", "CCD-TEMP", "SET-TEMP")}
    good = write_fits(heap / "dark_gain120_001.fits", {**cards, "NOTE": "<b>bold</b> & co"})
    whole = good.read_bytes()
    (heap / "odd.fits").write_bytes(whole.replace(b"OFFSET  =", b"OFFS\xe9T =", 1))
    (heap / "none.fits").write_bytes(b"no frame at all")
    own.scan(heap)
    ids = {path: i for i, path in own.query("SELECT id, path FROM frame")}
    sheet = own.get(f"/api/frames/{ids['dark_gain120_001.fits']}/sheet")
    told = {v["word"]: (v["value"], v["origin"]) for v in sheet["values"]}
    assert told["gain"][0] == "120" and "name" in told["gain"][1]
    assert told["sensor"] == ("", "")
    assert any(c["value"] == "<b>bold</b> & co" for c in sheet["cards"]) and sheet["can_be_seen"]
    for name in ("odd.fits", "none.fits"):
        sheet = own.get(f"/api/frames/{ids[name]}/sheet")
        assert sheet["cards"] or sheet["trouble"], name
    assert "NOTE" in own.client.get(f"/api/frames/{ids['dark_gain120_001.fits']}/header.csv").text
    assert own.client.get("/api/frames/99999/sheet").status_code == 404


def test_where_a_folder_is_taken_off_the_list_its_copies_count(own, tmp_path):
    """By the same bytes, and saved once more by another program; their set stays what it was, with its master."""
    here, there = tmp_path / "here", tmp_path / "there"
    rng = np.random.default_rng(3)
    for i in range(6):
        pixels = rng.normal(500, 6, (24, 24)).astype(np.uint16)
        first = write_fits(here / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"}, pixels)
        there.mkdir(exist_ok=True)
        if i % 2:
            shutil.copyfile(first, there / f"d{i}.fits")
        else:
            write_fits(
                there / f"d{i}.fits",
                {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00", "NOTE": "once more"},
                pixels,
            )
    own.scan(here)
    own.build()
    own.scan(there)

    def listed():
        return sorted((x["id"], x["n_frames"], x["state"]) for x in own.sets().values())

    def copies():
        return [f["copies"] for f in own.get("/api/intake")["folders"]]

    before = listed()
    assert copies() == [0, 6]
    assert own.client.delete("/api/folders/2").status_code == 200
    assert (
        listed() == before
        and copies() == [0]
        and own.query("SELECT count(*) FROM frame WHERE set_id IS NOT NULL") == [(7,)]
    )
    assert "0 new or changed" in own.scan(there)["message"]
    # An older version left them without a frame that counts: the next scan reads them anew.
    own.change(
        "UPDATE frame SET state = 'duplicate', set_id = NULL, group_key = NULL WHERE kind = 'dark' AND folder_id != 1"
    )
    own.library.touched()
    assert "6 new or changed" in own.scan(there)["message"]
    assert copies() == [0] and [x["n_frames"] for x in own.sets().values() if x["state"] != "master"] == [6]
