"""Lights calibrated here against ccdproc's `subtract_dark` and `flat_correct` on the same masters and the same light."""

from __future__ import annotations

import io
import warnings
import zipfile
from pathlib import Path

import astropy.units as u
import ccdproc
import numpy as np
import pytest
from astropy.io import fits
from astropy.nddata import CCDData

from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.own import Own

SIZE = (60, 80)
#: What is measured on a set when it comes in.
LOOKED = "kind, round(level_adu), round(noise_adu, 1), sample_step"


@pytest.fixture
def own(tmp_path):
    opened = Own(tmp_path / "library")
    yield opened
    opened.close()


def frames(folder: Path, cards: dict, name: str, level: np.ndarray, count: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    for i in range(count):
        pixels = np.clip(rng.normal(level, 7), 0, 65535).astype(np.uint16)
        write_fits(
            folder / f"{name}{i}.fits", {**cards, "DATE-OBS": f"2026-10-18T2{seed}:{i:02d}:00"}, pixels
        )


def a_night(folder: Path, **more) -> None:
    """A sensor with a pedestal and a glow, behind a train that vignettes and has dust."""
    dark, flat, light = ({**cards, **more} for cards in (DARK, FLAT, LIGHT))
    y, x = np.indices(SIZE)
    glow = 500.0 + 40.0 * (x > 70)
    light_falls = 1.0 - 0.3 * ((x - 40) ** 2 + (y - 30) ** 2) / 2500.0
    light_falls[20:26, 30:36] *= 0.9
    frames(folder, dark, "dark", glow, 5, 0)
    frames(folder, flat, "flat", 500.0 + 28_000 * light_falls, 5, 1)
    frames(folder, {**flat, "IMAGETYP": "DARKFLAT"}, "darkflat", np.full(SIZE, 500.0), 5, 2)
    light = {**light, "OBSERVER": "somebody", "FOCTEMP": 4.5}
    frames(folder, light, "light", glow + 900.0 * light_falls, 3, 3)


def data_of(path) -> CCDData:
    with fits.open(path) as hdus:
        return CCDData(hdus[0].data.astype(np.float64), unit=u.adu)


def by_ccdproc(light: Path, dark: Path, flat: Path) -> np.ndarray:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        second = 300 * u.s
        less = ccdproc.subtract_dark(
            data_of(light), data_of(dark), dark_exposure=second, data_exposure=second
        )
        return ccdproc.flat_correct(less, data_of(flat)).data


def test_calibrated_lights_are_those_of_ccdproc_and_say_what_was_done(own, tmp_path):
    heap, out = tmp_path / "heap", tmp_path / "out"
    # SBFITSEXT 1.0 (from memory): what is to be added to every pixel to get to zero, here 100 ADU off every frame.
    a_night(heap, PEDESTAL=-100)
    own.scan(heap)
    lights = next(i for i, s in own.sets().items() if s["kind"] == "light")
    loose = own.client.get(f"/api/hand-over?sets={lights}&form=calibrated lights")
    assert loose.status_code == 400 and "not combined" in loose.text, (
        "what is loose is said, and not slipped in"
    )
    own.build()
    asked = {"sets": str(lights), "form": "calibrated lights", "folder": str(out), "way": "copies"}
    job = own.ended(own.client.post("/api/hand-over", json=asked).json["job_id"])
    assert job["state"] == "done" and not job["troubles"], job
    slip = own.client.get(f"/api/lights/{lights}/slip").json
    assert not [w for w in slip["warnings"] if "edestal" in w], "the dark has the same"
    masters = {p.name.split("_")[1]: p for p in (own.root / "masters").rglob("*.fits")}
    made = sorted(out.rglob("*.fits"))
    assert len(made) == 3
    for number, path in enumerate(made):
        theirs = by_ccdproc(heap / f"light{number}.fits", masters["dark"], masters["flat"])
        with fits.open(path) as hdus:
            hdus.verify("exception")
            ours, header = hdus[0].data, hdus[0].header
        assert ours.dtype == np.dtype(">f4")
        assert np.array_equal(ours.astype("f4"), theirs.astype("f4")), np.abs(ours - theirs).max()
        assert header["CALSTAT"] == "DF" and header["IMAGETYP"] == "Light Frame"
        assert (header["OBSERVER"], header["FOCTEMP"], header["GAIN"]) == ("somebody", 4.5, 200)
        assert "PEDESTAL" not in header, "nothing of it is left"
        said = "".join(str(line) for line in header["HISTORY"])
        assert masters["dark"].name in said and masters["flat"].name in said and "SHA256: " in said
    assert fits.getheader(masters["dark"])["PEDESTAL"] == -100 and "PEDESTAL" not in fits.getheader(
        masters["flat"]
    )
    # The light has lost its vignetting and its dust.
    flat_now = np.mean([fits.getdata(p) for p in made], axis=0)
    assert abs(flat_now[20:26, 30:36].mean() / flat_now.mean() - 1.0) < 0.01
    # Once more into the same folder of a killed run: nothing is made twice, and a foreign file is left alone.
    zipped = own.client.get(f"/api/hand-over.zip?sets={lights}&form=calibrated lights")
    with zipfile.ZipFile(io.BytesIO(zipped.data)) as one:
        names = [n for n in one.namelist() if n.endswith(".fits")]
        assert sorted(one.read(n) for n in names) == sorted(p.read_bytes() for p in made)
    # They come in again as what they are, and nothing is taken off them twice.
    again = tmp_path / "again"
    again.mkdir()
    made[0].rename(again / "cal.fits")
    own.scan(again)
    back = next(i for i, s in own.sets().items() if s["kind"] == "light" and i != lights)
    twice = own.client.get(f"/api/hand-over?sets={back}&form=calibrated lights")
    assert twice.status_code == 400 and "already" in twice.text


@pytest.mark.parametrize(("full_scale", "of_flat"), [(1.0, 1.0), (65_535.0, 1.0), (65_535.0, 65_535.0)])
def test_a_flat_whose_pedestal_is_in_it_has_its_dark_flat_taken_off_first(own, tmp_path, full_scale, of_flat):
    """Masters of another program, with the pedestal in the flat: the dark flat goes off it, as by hand in ccdproc.

    Masters are in ADU, or shares of 16 bits, as some programs keep them (common practice, no source).
    """
    heap = tmp_path / "heap"
    a_night(heap)
    master = {"dark": DARK, "flat": FLAT, "darkflat": {**FLAT, "IMAGETYP": "DARKFLAT"}}
    for name, cards in master.items():
        stack = np.mean([fits.getdata(p) for p in sorted(heap.glob(f"{name}[0-9].fits"))], axis=0)
        header = fits.Header({**cards, "IMAGETYP": f"Master {cards['IMAGETYP']}", "NCOMBINE": 5})
        header["DATE-OBS"] = "2026-10-18T22:00:00"
        for p in heap.glob(f"{name}[0-9].fits"):
            p.unlink()
        fits.PrimaryHDU(stack.astype("f4"), header).writeto(tmp_path / f"master_{name}.fits")
        unit = of_flat if name == "flat" else full_scale
        fits.PrimaryHDU((stack / unit).astype("f4"), header).writeto(heap / f"master_{name}.fits")
    own.scan(heap)
    lights = next(i for i, s in own.sets().items() if s["kind"] == "light")
    asked = {
        "sets": str(lights),
        "form": "calibrated lights",
        "folder": str(tmp_path / "out"),
        "way": "copies",
    }
    answer = own.client.post("/api/hand-over", json=asked)
    assert answer.status_code == 200, answer.text
    assert own.ended(answer.json["job_id"])["state"] == "done"
    flat = fits.getdata(tmp_path / "master_flat.fits").astype(float)
    flat -= fits.getdata(tmp_path / "master_darkflat.fits")
    fits.PrimaryHDU(flat).writeto(tmp_path / "flat.fits")
    theirs = by_ccdproc(heap / "light0.fits", tmp_path / "master_dark.fits", tmp_path / "flat.fits")
    ours = fits.getdata(min((tmp_path / "out").rglob("*.fits")))
    # Near zero a light less its dark keeps the digits of the levels that were taken from one another.
    assert np.allclose(ours, theirs, rtol=2e-7, atol=0 if full_scale == 1.0 else 1500 * 2e-7)


@pytest.mark.parametrize(
    ("of_one", "beside", "care"),
    [
        (65_535.0, True, None),
        (65_535.0, False, "taken as shares"),
        (16_383.0, True, "taken as shares"),
        (1.0, True, None),
    ],
)
def test_a_master_in_shares_is_told_in_adu_and_used_with_care_where_nothing_tells_the_scale(
    own, tmp_path, of_one, beside, care
):
    heap = tmp_path / "heap"
    a_night(heap)
    stack = np.mean([fits.getdata(p) for p in sorted(heap.glob("dark[0-9].fits"))], axis=0) / of_one
    header = fits.Header(
        {**DARK, "IMAGETYP": "Master Dark", "NCOMBINE": 5, "DATE-OBS": "2026-10-18T21:00:00"}
    )
    if not beside:
        for path in [*heap.glob("dark*"), *heap.glob("flat*")]:
            path.unlink()
    packed = fits.CompImageHDU(stack.astype("f4"), header, compression_type="GZIP_2", quantize_level=0)
    packed.writeto(heap / "of another.fits.fz")
    own.scan(heap)
    own.wait_until_idle()
    ((number, _),) = [(i, s) for i, s in own.sets().items() if s["state"] == "master"]
    card = own.get(f"/api/holdings/{number}")
    shown = {f["name"]: f["value"] for f in card["figures"]}
    assert shown["Median"] == pytest.approx(500.0 * (65_535.0 / of_one if of_one != 1.0 else 1.0), rel=0.01)
    assert ("from 0 to 1" in card["made"]) == (of_one != 1.0)
    told = [c for c in card["spine"]["care"] if "65,535" in c]
    assert (care in told[0]) if care else not told


def _cubes(pixels):
    """Some programs give every picture a third axis of one pixel."""
    return pixels[None]


def _whole_numbers(pixels):
    return pixels.astype("i4")


def _levels(pixels):
    return pixels.astype("f4")


def _shares(pixels):
    """Of the full scale."""
    return (pixels / 65_535.0).astype("f4")


@pytest.mark.parametrize("kept", [_cubes, _whole_numbers, _levels, _shares])
def test_frames_that_another_program_keeps_otherwise_calibrate_the_same(tmp_path, kept):
    """Raw frames in other forms (common practice, no source), plain, packed and squeezed, from the folder to the light."""
    plain, other = tmp_path / "plain", tmp_path / "other"
    a_night(plain)
    other.mkdir()
    for path in plain.iterdir():
        with fits.open(path) as hdus:
            pixels, header = kept(hdus[0].data), hdus[0].header
            for scaling in ("BZERO", "BSCALE") if kept is not _cubes else ():
                header.remove(scaling, ignore_missing=True)
            packed = path.name.startswith("flat")
            ending = ".gz" if path.name.startswith("darkflat") else ".fz" if packed else ""
            of_floats = (
                {"compression_type": "GZIP_2", "quantize_level": 0} if pixels.dtype.kind == "f" else {}
            )
            hdu = (
                fits.CompImageHDU(pixels, header, **of_floats) if packed else fits.PrimaryHDU(pixels, header)
            )
            hdu.writeto(other / f"{path.name}{ending}")
    made, told = [], []
    for heap in (plain, other):
        opened = Own(tmp_path / f"library of {heap.name}")
        opened.scan(heap)
        assert not [p for p in opened.problems().values() if p["state"] == "unreadable"]
        told.append(opened.query(f"SELECT {LOOKED} FROM frame_set ORDER BY kind"))
        assert opened.build()["message"] == "3 masters built"
        lights = next(i for i, s in opened.sets().items() if s["kind"] == "light")
        out = tmp_path / f"out of {heap.name}"
        asked = {"sets": str(lights), "form": "calibrated lights", "folder": str(out), "way": "copies"}
        job = opened.ended(opened.client.post("/api/hand-over", json=asked).json["job_id"])
        assert job["state"] == "done" and not job["troubles"], job
        frame = next(i for i, path in opened.query("SELECT id, path FROM frame") if path == "light0.fits")
        assert opened.client.get(f"/api/frames/{frame}/view").status_code == 200
        made.append([fits.getdata(path) for path in sorted(out.rglob("*.fits"))])
        headers = [fits.getheader(path) for path in out.rglob("*.fits")]
        assert len(headers) == 3 and not any("NAXIS3" in header for header in headers)
        opened.close()
    assert told[0] == told[1] and None not in told[0][0]
    assert all(np.allclose(one, two, rtol=0, atol=1e-3) for one, two in zip(*made, strict=True))
