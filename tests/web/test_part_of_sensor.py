"""Lights of a part of the sensor: masters of the whole serve them, cropped to the very pixels that they have."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import zipfile
from datetime import datetime, timedelta

import ccdproc
import numpy as np
import pytest
from astropy import units
from astropy.io import fits
from astropy.nddata import CCDData

from tests.helpers import write_fits
from tests.own import Own

BASE = {"INSTRUME": "Plover 3", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "GAIN": 56, "OFFSET": 18, "XBINNING": 1,
        "YBINNING": 1, "SET-TEMP": -5.0, "CCD-TEMP": -5.0, "ROTATANG": 40.0, "FOCUSPOS": 5000}  # fmt: skip
NIGHT = datetime(2026, 10, 17, 21)
WHOLE, LEFT, TOP, WIDE, HIGH = (96, 128), 31, 20, 64, 48
#: No two pixels of this sensor are alike: what is cropped one pixel off is seen.
OWN_LEVEL = np.random.default_rng(1).normal(0, 60, WHOLE)
OWN_SHARE = np.random.default_rng(2).normal(1, 0.03, WHOLE)


def shot(folder, name, kind, minutes, exposure, sky=0.0, part=(0, 0, *WHOLE), told=True, **more):
    """A frame of some rows and columns of the sensor; `told` whether its header says which."""
    top, left, rows, columns = part
    at = np.s_[top : top + rows, left : left + columns]
    noise = np.random.default_rng(int(hashlib.md5(name.encode()).hexdigest()[:6], 16)).normal(0, 9, WHOLE)
    pixels = (900.0 + OWN_LEVEL + sky * OWN_SHARE + noise).clip(0, 65535).astype(np.uint16)[at]
    corner = {"XORGSUBF": left, "YORGSUBF": top} if told else {}
    when = (NIGHT + timedelta(minutes=minutes)).isoformat()
    cards = {**BASE, "IMAGETYP": kind, "EXPTIME": exposure, "DATE-OBS": when, **corner, **more}
    return write_fits(folder / f"{name}.fits", cards, pixels)


def shelf(folder, **more):
    """Darks, flats and dark flats of the whole sensor."""
    for i in range(5):
        shot(folder, f"d{i}", "DARK", 300 + 2 * i, 60.0, **more)
        shot(folder, f"df{i}", "DARKFLAT", 200 + i, 1.5, **more)
        shot(folder, f"f{i}", "FLAT", 150 + i, 1.5, 21_000.0, FILTER="R", **more)


@pytest.fixture
def own(tmp_path):
    library = Own(tmp_path / "library")
    (tmp_path / "heap").mkdir()
    yield library
    library.close()


PART = (TOP, LEFT, HIGH, WIDE)


def lights(folder, name="l", part=PART, **more):
    for i in range(3):
        shot(folder, f"{name}{i}", "LIGHT", 2 * i, 60.0, 700.0, part, FILTER="R", OBJECT="M 33", **more)


def slip_of(own):
    number = next(i for i, x in own.sets().items() if x["kind"] == "light")
    slip = own.get(f"/api/lights/{number}/slip")
    return number, {line["kind"]: line for line in slip["lines"]}, slip


def hand(own, number, folder, form):
    asked = {"sets": str(number), "form": form, "folder": str(folder)}
    job = own.client.post("/api/hand-over", json=asked).json["job_id"]
    assert own.ended(job)["state"] == "done"
    return {p.relative_to(folder).parts[0]: p for p in sorted(folder.rglob("*.fits"))}


def test_masters_go_with_the_lights_as_the_pixels_that_they_have(own, tmp_path):
    shelf(tmp_path / "heap")
    lights(tmp_path / "heap")
    own.scan(tmp_path / "heap")
    loose, lines, _ = slip_of(own)
    told = own.client.get("/api/hand-over", query_string={"sets": str(loose), "form": "raw frames"}).json
    assert any("Combine it" in s for s in told["said"]) and {f["kind"] for f in told["files"]} == {"light"}
    own.build()
    number, lines, slip = slip_of(own)
    assert slip["verdict"] == "fits", lines
    ruler = next(r for r in lines["dark"]["chosen"]["rulers"] if r["quantity"] == "part of the sensor")
    assert "cropped" in ruler["note"] and lines["dark"]["chosen"]["detail"].endswith(
        "cropped to the part of the lights"
    )
    places = own.query(
        "select s.kind, f.path from frame f join frame_set s on s.id = f.set_id where s.is_master"
    )
    masters = {kind: fits.getdata(own.library.root / path) for kind, path in places}
    at = np.s_[TOP : TOP + HIGH, LEFT : LEFT + WIDE]
    for form in ("masters", "raw frames"):
        out = hand(own, number, tmp_path / form, form)
        for kind in ("dark", "flat"):
            with fits.open(out[f"{kind}s"]) as hdus:
                assert np.array_equal(hdus[0].data, masters[kind][at]), (form, kind)
                header = hdus[0].header
            assert (header["XORGSUBF"], header["YORGSUBF"], header["NCOMBINE"]) == (LEFT, TOP, 5)
            assert any("Columns 31 to 94, rows 20 to 67" in line for line in header["HISTORY"])
    looked = own.get(f"/api/lights/{number}/correction")
    assert looked["used"].startswith("Dark 60") and "Flat R" in looked["used"] and not looked["lacking"]
    # A folder that came out is a library of its own, whose masters have the lights' size.
    with (tmp_path / "masters" / "what-is-what.csv").open() as table:
        dark = next(r for r in csv.DictReader(table) if r["kind"] == "dark")
    assert [dark[c] for c in ("left", "top", "width", "height")] == [str(x) for x in (LEFT, TOP, WIDE, HIGH)]
    asked = {"sets": str(number), "form": "masters"}
    packed = zipfile.ZipFile(io.BytesIO(own.client.get("/api/hand-over.zip", query_string=asked).data))
    for name in packed.namelist():
        assert packed.read(name) == (tmp_path / "masters" / name).read_bytes()
    listed = json.loads(own.client.get("/api/hand-over.json", query_string=asked).text)["files"]
    assert {f["width"] for f in listed if f["kind"] != "light"} == {str(WIDE)}
    # Calibrated here: as ccdproc has it with the masters cropped beforehand.
    out = hand(own, number, tmp_path / "done", "calibrated lights")
    raw = sorted((tmp_path / "heap").glob("l*.fits"))[-1]
    light, dark, flat = (
        CCDData(x.astype(float), unit=units.adu)
        for x in (fits.getdata(raw), masters["dark"][at], masters["flat"][at])
    )
    less = ccdproc.subtract_dark(
        light, dark, dark_exposure=60 * units.s, data_exposure=60 * units.s, exposure_unit=units.s
    )
    assert np.allclose(fits.getdata(out["lights"]), ccdproc.flat_correct(less, flat).data, rtol=1e-6)


def test_a_master_in_shares_of_full_scale_is_cropped_in_its_own_unit(own, tmp_path):
    lights(tmp_path / "heap")
    shares = ((900.0 + OWN_LEVEL) / 65_535.0).astype(np.float32)
    cards = {"IMAGETYP": "Master Dark", "EXPTIME": 60.0, "XORGSUBF": 0, "YORGSUBF": 0, "NCOMBINE": 20}
    write_fits(tmp_path / "heap" / "theirs.fits", {**BASE, **cards, "DATE-OBS": NIGHT.isoformat()}, shares)
    own.scan(tmp_path / "heap")
    out = hand(own, slip_of(own)[0], tmp_path / "out", "masters")
    assert np.array_equal(fits.getdata(out["darks"]), shares[TOP : TOP + HIGH, LEFT : LEFT + WIDE])


def test_raw_flats_go_with_their_dark_flats_also_where_the_dark_is_cropped(own, tmp_path):
    """Flats of the part, darks of the whole."""
    heap = tmp_path / "heap"
    lights(heap)
    for i in range(5):
        shot(heap, f"d{i}", "DARK", 300 + 2 * i, 60.0)
        shot(heap, f"df{i}", "DARKFLAT", 200 + i, 1.5, part=PART)
        shot(heap, f"f{i}", "FLAT", 150 + i, 1.5, 21_000.0, PART, FILTER="R")
    own.scan(heap)
    own.build()
    number, _, _ = slip_of(own)
    asked = {"sets": str(number), "form": "raw frames"}
    files = own.client.get("/api/hand-over", query_string=asked).json["files"]
    counts = {kind: sum(f["kind"] == kind for f in files) for kind in ("light", "flat", "dark flat", "dark")}
    assert counts == {"light": 3, "flat": 5, "dark flat": 5, "dark": 1}


def test_a_master_of_another_part_serves_none_and_one_that_tells_no_part_only_with_care(own, tmp_path):
    heap = tmp_path / "heap"
    shelf(heap, part=(TOP, LEFT + 2, HIGH, WIDE))
    lights(heap)
    own.scan(heap)
    _, lines, _ = slip_of(own)
    assert lines["dark"]["verdict"] == "nothing fits" and lines["dark"]["chosen"] is None
    assert "another part of the sensor, 64 × 48 from 33, 20" in lines["dark"]["note"], lines["dark"]
    for path in heap.glob("[df]*.fits"):
        path.unlink()
    shelf(heap, told=False)
    own.scan(heap)
    _, lines, slip = slip_of(own)
    assert lines["dark"]["verdict"] == "fits with care"
    assert "part of the sensor is not known" in lines["dark"]["chosen"]["reasons"]
    table = own.client.get(f"/api/lights/{slip['set_id']}/slip.csv").text
    assert "part of the sensor" in table.splitlines()[0], (
        "it is told in words, and in the table that is saved"
    )


def test_lights_that_do_not_say_which_part_they_are_of_are_not_guessed_at(own, tmp_path):
    shelf(tmp_path / "heap")
    lights(tmp_path / "heap", told=False)
    # Of one size, but from two places: they are two sets.
    lights(tmp_path / "heap", "m", (0, 0, HIGH, WIDE))
    own.scan(tmp_path / "heap")
    _, lines, _ = slip_of(own)
    assert lines["dark"]["verdict"] == "nothing fits" and "another size, 128 × 96" in lines["dark"]["note"]


def test_frames_from_two_places_are_two_sets(own, tmp_path):
    lights(tmp_path / "heap")
    lights(tmp_path / "heap", "m", (0, 0, HIGH, WIDE))
    own.scan(tmp_path / "heap")
    told = sorted((x["n_frames"], x["title"].replace("\u00a0", " ")) for x in own.sets().values())
    assert [n for n, _ in told] == [3, 3]
    assert [title.endswith(", part 64 × 48") for _, title in told] == [False, True]
