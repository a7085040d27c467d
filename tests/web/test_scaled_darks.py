"""A longer dark that a person lets be scaled to lights: on the slip, handed over, and read again from where it went."""

from __future__ import annotations

import csv

import astropy.units as u
import ccdproc
import numpy as np
import pytest
from astropy.io import fits
from astropy.nddata import CCDData

from tests.helpers import DARK, LIGHT, write_fits
from tests.own import Own

SIZE = (96, 128)
SENSOR = np.random.default_rng(11)
PEDESTAL = SENSOR.normal(500, 20, SIZE)
CURRENT = np.where(SENSOR.random(SIZE) > 0.995, 4.0, 0.05)
"""ADU a second."""
SKY = 700.0
FLAT = {**LIGHT, "IMAGETYP": "Flat Field", "EXPTIME": 2.0}


def frames(folder, name, cards, level, count, hour):
    rng = np.random.default_rng(hour)
    for i in range(count):
        pixels = np.clip(rng.normal(level, 4), 0, 65_535).astype(np.uint16)
        write_fits(folder / f"{name}{i}.fits", {**cards, "DATE-OBS": f"2026-10-18T{hour}:{i:02d}:00"}, pixels)


def a_shelf(folder, glow=0.0, bias=True):
    """Darks of 300 s and bias of one sensor, lights of 120 s."""
    y, x = np.indices(SIZE)
    glows = glow * np.exp(-np.hypot(x - SIZE[1], y) / 15)
    frames(folder, "d", DARK, PEDESTAL + 300 * (CURRENT + glows), 8, 10)
    if bias:
        frames(folder, "b", {**DARK, "IMAGETYP": "Bias", "EXPTIME": 0.0}, PEDESTAL, 12, 11)
    frames(folder, "f", FLAT, PEDESTAL + 20_000, 6, 13)
    frames(folder, "df", {**FLAT, "IMAGETYP": "DARKFLAT"}, PEDESTAL, 6, 14)
    frames(folder, "l", {**LIGHT, "EXPTIME": 120.0}, PEDESTAL + SKY + 120 * (CURRENT + glows), 3, 22)


@pytest.fixture
def own(tmp_path):
    opened = Own(tmp_path / "library")
    yield opened
    opened.close()


def of_lights(own):
    number = next(i for i, x in own.sets().items() if x["kind"] == "light")
    slip = own.get(f"/api/lights/{number}/slip")
    return number, next(x for x in slip["lines"] if x["kind"] == "dark")


def scale(own, number, dark):
    body = {"kind": "dark", "holding_id": dark["holding_id"], "scaled": True}
    return own.client.put(f"/api/lights/{number}/choice", json=body)


def hand(own, number, folder, form):
    asked = {"sets": str(number), "form": form, "folder": str(folder)}
    job = own.ended(own.client.post("/api/hand-over", json=asked).json["job_id"])
    assert job["state"] == "done", job
    return {p.relative_to(folder).parts[0]: p for p in sorted(folder.rglob("*.fits"))}


def masters(own):
    places = own.query(
        "select s.kind, f.path from frame f join frame_set s on s.id=f.set_id where s.is_master"
    )
    return {kind: fits.getdata(own.library.root / path).astype(float) for kind, path in places}


def test_with_consent_it_serves_and_goes_out_as_ccdproc_has_it(own, tmp_path):
    heap = tmp_path / "heap"
    a_shelf(heap)
    own.scan(heap)
    number, line = of_lights(own)
    assert all(c["scale"] is None for c in line["runners_up"]), "loose frames are not scaled"
    own.build()
    number, line = of_lights(own)
    assert line["verdict"] == "nothing fits" and line["chosen"] is None
    dark = line["runners_up"][0]
    assert dark["scale"]["action"].replace("\u2009", " ") == "scale to 120 s"
    assert dark["scale"]["told"][0].endswith("costs 0.79 e⁻.") and "40 % of what" in dark["scale"]["told"][0]
    assert scale(own, number, dark).status_code == 200
    own.again()
    _, line = of_lights(own)
    chosen = line["chosen"]
    assert (line["verdict"], line["by_hand"], chosen["scaled"]) == ("fits with care", True, True)
    assert "scaled to 120" in chosen["detail"] and "scaled from 300 s to 120 s, not shot" in chosen["reasons"]
    # It stands in only: a dark of 120 s is still to be shot, and tonight's sheet has it.
    slip = own.get(f"/api/lights/{number}/slip")
    assert (
        slip["offers"][0].startswith("dark:120s")
        and "Tonight’s sheet can shoot one that fits" in slip["advice"]
    )
    # As a master, also where raw frames are asked for; pixels and header are those of a dark of 120 s.
    master = masters(own)
    for form in ("masters", "raw frames"):
        out = hand(own, number, tmp_path / form, form)["darks"]
        with fits.open(out) as hdus:
            header = hdus[0].header
            assert np.allclose(
                hdus[0].data, master["bias"] + 0.4 * (master["dark"] - master["bias"]), rtol=2e-7
            )
        assert (header["EXPTIME"], header["GSSCALED"], header["NCOMBINE"]) == (120.0, 300.0, 8)
        assert "120s" in out.name
        told = "\n".join(header["HISTORY"])
        assert "scaled from 300 s to 120 s, bias + 0.4 (dark - bias)" in told and "Bias: " in told
    with (tmp_path / "masters" / "what-is-what.csv").open() as table:
        row = next(r for r in csv.DictReader(table) if r["kind"] == "dark")
    assert row["share"] == "0.4" and "bias" in row["bias"].lower() and "not shot" in row["why with care"]
    # Calibrated here: as ccdproc does it with bias and scaled dark.
    hand(own, number, tmp_path / "done", "calibrated lights")
    ours = fits.getdata(min((tmp_path / "done").rglob("*.fits")))
    data = CCDData(fits.getdata(heap / "l0.fits").astype(float), unit=u.adu)
    dark, bias, flat = (
        CCDData(x, unit=u.adu) for x in (master["dark"] - master["bias"], master["bias"], master["flat"])
    )
    seconds = {"dark_exposure": 300 * u.s, "data_exposure": 120 * u.s}
    theirs = ccdproc.subtract_dark(ccdproc.subtract_bias(data, bias), dark, scale=True, **seconds)
    assert np.allclose(ours, ccdproc.flat_correct(theirs, flat).data, rtol=1e-5, atol=1e-3)
    # Looked at, it is corrected with the same.
    looked = own.get(f"/api/lights/{number}/correction")
    assert "scaled to 120" in looked["used"] and looked["dark_share"] == 0.4 and looked["bias_frame_id"]
    asked = {
        "how": "calibrated",
        "dark": looked["dark_frame_id"],
        "bias": looked["bias_frame_id"],
        "share": 0.4,
    }
    view = own.client.get(f"/api/frames/{looked['frame_id']}/view", query_string=asked).json
    assert view["unit"] == "ADU"


def test_where_it_went_it_is_known_for_what_it_is(own, tmp_path):
    a_shelf(tmp_path / "heap")
    own.scan(tmp_path / "heap")
    own.build()
    number, line = of_lights(own)
    scale(own, number, line["runners_up"][0])
    hand(own, number, tmp_path / "out", "masters")
    there = Own(tmp_path / "there")
    try:
        there.scan(tmp_path / "out")
        _, line = of_lights(there)
        assert line["verdict"] == "fits with care"
        assert line["chosen"]["reasons"] == ["scaled from 300 s to 120 s, not shot"]
    finally:
        there.close()


def test_a_dark_that_fits_is_used_as_soon_as_it_is_here_and_consent_is_taken_back(own, tmp_path):
    heap = tmp_path / "heap"
    a_shelf(heap)
    own.scan(heap)
    own.build()
    number, line = of_lights(own)
    scale(own, number, line["runners_up"][0])
    body = {"kind": "dark", "holding_id": None}
    assert own.client.put(f"/api/lights/{number}/choice", json=body).status_code == 200
    assert of_lights(own)[1]["verdict"] == "nothing fits"
    scale(own, number, line["runners_up"][0])
    frames(heap, "right", {**DARK, "EXPTIME": 120.0}, PEDESTAL + 120 * CURRENT, 8, 23)
    own.scan(heap)
    _, line = of_lights(own)
    assert line["verdict"] == "fits" and not line["chosen"]["scaled"] and "none is scaled" in line["note"]


def test_a_sensor_that_glows_is_no_case_for_it(own, tmp_path):
    a_shelf(tmp_path / "heap", glow=0.5)
    own.scan(tmp_path / "heap")
    own.build()
    number, line = of_lights(own)
    refused = scale(own, number, line["runners_up"][0])
    assert refused.status_code == 400 and "this sensor glows" in refused.text
    assert of_lights(own)[1]["verdict"] == "nothing fits"
    assert scale(own, number, {"holding_id": 9999}).status_code == 404


def test_without_a_bias_of_its_settings_none_is_scaled(own, tmp_path):
    a_shelf(tmp_path / "heap", bias=False)
    own.scan(tmp_path / "heap")
    own.build()
    number, line = of_lights(own)
    assert line["runners_up"][0]["scale"] is None
    assert "no master bias" in scale(own, number, line["runners_up"][0]).text


def test_lights_of_one_exposure_with_and_without_scaling_are_told_apart_by_a_word(own, tmp_path):
    heap = tmp_path / "heap"
    a_shelf(heap)
    other = {**LIGHT, "EXPTIME": 120.0, "OBJECT": "M 33"}
    frames(heap, "m", other, PEDESTAL + SKY + 120 * CURRENT, 3, 21)
    own.scan(heap)
    own.build()
    scaled, plain = [i for i, x in own.sets().items() if x["kind"] == "light"]
    dark = of_lights(own)[1]["runners_up"][0]
    as_it_is = {"kind": "dark", "holding_id": dark["holding_id"]}
    for number in (scaled, plain):
        assert own.client.put(f"/api/lights/{number}/choice", json=as_it_is).status_code == 200
    asked = {"sets": str(scaled), "form": "masters", "folder": str(tmp_path / "before")}
    own.ended(own.client.post("/api/hand-over", json=asked).json["job_id"])
    assert scale(own, scaled, dark).status_code == 200
    files = own.client.get(
        "/api/hand-over", query_string={"sets": f"{scaled},{plain}", "form": "masters"}
    ).json
    darks = [f["path"] for f in files["files"] if f["kind"] == "dark"]
    assert len(darks) == 2 and all("NIGHT_2026-10-18" in path for path in darks)
    # What went before is told to be another by now.
    before = own.get(f"/api/hand-overs?sets={scaled}")["handed"][0]
    assert "renewed since: dark" in before["renewed"]


def test_masters_in_shares_of_full_scale_are_scaled_in_their_own_unit(own, tmp_path):
    heap, full = tmp_path / "heap", 65_535.0
    frames(heap, "l", {**LIGHT, "EXPTIME": 120.0}, PEDESTAL + SKY + 120 * CURRENT, 3, 22)
    bias, dark = ((PEDESTAL + seconds * CURRENT) / full for seconds in (0, 300))
    for name, pixels, cards in (
        ("their_dark", dark, {"IMAGETYP": "Master Dark"}),
        ("their_bias", bias, {"IMAGETYP": "Master Bias", "EXPTIME": 0.0}),
    ):
        write_fits(heap / f"{name}.fits", {**DARK, "NCOMBINE": 40, **cards}, pixels.astype(np.float32))
    own.scan(heap)
    number, line = of_lights(own)
    assert scale(own, number, line["runners_up"][0]).status_code == 200
    out = fits.getdata(hand(own, number, tmp_path / "out", "masters")["darks"])
    assert np.allclose(out, (PEDESTAL + 120 * CURRENT) / full, rtol=1e-5)
