"""What programs make of the standards: dates, places, patterns, kinds and filters in other spellings.

Dates: FITS Standard 4.0, section 9; XBAYROFF, CCDSUM, FILTER2 and the rest: common practice with no source.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

import numpy as np
import pytest
from astropy.io import fits
from astropy.time import Time
from hypothesis import given
from hypothesis import strategies as st

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.files import read_header, read_pixels
from tests.core.test_headers_whole import told
from tests.helpers import facts_of


def test_of_wheels_in_a_row_the_one_that_is_not_empty_tells_the_filter():
    wheels = {
        ("Clear", "Ha"): "Ha", ("R", "open"): "R", ("Clear", "Clear"): "L", ("V", "ND2"): "V+ND2", (None, "B"): "B",
        ("none", None): None, ("Lum", "Empty"): "L",
    }  # fmt: skip
    for (first, second), code in wheels.items():
        cards = {
            name: value for name, value in (("FILTER1", first), ("FILTER2", second)) if value is not None
        }
        assert told(cards).filter_code == code, cards
    assert told({"FILTER": "SII", "FILTER2": "Ha"}).filter_code == "SII"


#: A pattern that repeats after six pixels, as programs write it: row by row.
SIX = "GGRGGBGGBGGRBRGRBGGGBGGRGGRGGBRBGBRG"


def test_a_colour_pattern_is_told_by_its_letters_where_the_picture_begins():
    written = {
        "RGGB": "RGGB", "BayerRG8": "RGGB", "bayer_gb": "GBRG", "rg1g2b": "RGGB", "'GRBG'": "GRBG", "MONO": None, "None": None,
        "TRUE": "TRUE", "six by six": "SIX BY SIX", "CYGM": "CYGM", SIX: SIX, SIX.lower(): SIX, "Z" * 36: "Z" * 36,
    }  # fmt: skip
    assert {text: told({"BAYERPAT": text}).bayer_pattern for text in written} == written
    moved = {(0, 0): "RGGB", (1, 0): "GRBG", (0, 1): "GBRG", (1, 1): "BGGR", (2, 4): "RGGB", (-1, 0): "GRBG"}
    for (x, y), pattern in moved.items():
        assert told({"BAYERPAT": "RGGB", "XBAYROFF": x, "YBAYROFF": y}).bayer_pattern == pattern
    assert told({"BAYERPAT": SIX, "XBAYROFF": 0, "YBAYROFF": 2}).bayer_pattern == SIX[12:] + SIX[:12]
    assert told({"BAYERPAT": SIX, "XBAYROFF": 7, "YBAYROFF": -6}).bayer_pattern.startswith(SIX[1:6] + SIX[0])


def test_what_of_two_ways_to_write_it_means_one_thing_is_read():
    assert (told({"CCDSUM": "2 3"}).binning_x, told({"CCDSUM": "2 3"}).binning_y) == (2, 3)
    assert told({"GAIN": "ISO 800"}).gain == told({"GAIN": "iso-800"}).gain == 800.0
    for place in ("W105:30:00", "105 30 00 W", "-105.5"):
        assert (
            "longitude −105.5°" in told({"DATE-OBS": "2026-10-18T05:00:00", "SITELONG": place}).night_from
        ), place
    kinds = {
        "Flat (dusk)": FrameKind.FLAT, "dawn flat": FrameKind.FLAT, "TFLAT": FrameKind.FLAT, "DFLAT": FrameKind.FLAT,
        "Flat frame - panel": FrameKind.FLAT, "LIGHT (RAW)": FrameKind.LIGHT, "Dark flat, EL panel": FrameKind.DARK_FLAT,
        "OBJ": FrameKind.LIGHT, "sky": None, "Dark current": None, "focus": None, "raw": None,
    }  # fmt: skip
    assert {text: told({"IMAGETYP": text}).kind for text in kinds} == kinds
    of_sky = {
        "Flat (dusk)": True,
        "TFLAT": True,
        "DFLAT": False,
        "Flat frame - panel": False,
        "Dark flat, dusk": False,
    }
    assert {text: told({"IMAGETYP": text}).of_sky for text in of_sky} == of_sky


def test_what_stands_where_there_is_nothing_to_tell_is_no_value_and_no_fault():
    """Common practice of drivers and programs, no source."""
    words = {
        "TELESCOP": "unknown",
        "INSTRUME": "N/A",
        "OBJECT": "None",
        "FILTER": "-1",
        "GAIN": "n/a",
        "IMAGETYP": "Unknown",
    }
    numbers = {
        "OFFSET": -1,
        "CCD-TEMP": -273.15,
        "SET-TEMP": 999.0,
        "FOCUSPOS": -1,
        "ROTATANG": -999.0,
        "EGAIN": -1.0,
        "EXPTIME": -1.0,
    }
    facts = told({**words, **numbers})
    known = [
        facts.telescope,
        facts.camera,
        facts.target,
        facts.filter_code,
        facts.gain,
        facts.offset,
        facts.sensor_temp_c,
    ]
    known += [
        facts.set_temp_c,
        facts.focus,
        facts.angle,
        facts.electrons_per_adu,
        facts.exposure_s,
        facts.kind,
    ]
    assert set(known) == {None} and facts.complaints == ()
    # The next name is asked, and what only looks like it is a value: sodium, a cold sensor, an angle, a name.
    facts = told(
        {
            "IMAGETYP": "Light",
            "GAIN": -1,
            "ISO": 800,
            "FILTER": "Na",
            "CCD-TEMP": -1.0,
            "ROTATANG": -1.0,
            "OBJECT": "The Unknown Nebula",
        }
    )
    assert (facts.gain, facts.filter_code, facts.sensor_temp_c, facts.angle.deg) == (800.0, "Na", -1.0, 359.0)
    assert facts.target == "The Unknown Nebula"


def test_a_word_or_a_number_that_is_meant_otherwise_is_passed_over():
    named = told({"ROTATOR": "Turner 2", "ROTATANG": 120.0, "FOCUSER": "Knob", "FOCUS": "Knob"})
    assert (named.angle.deg, named.focus, named.complaints) == (120.0, None, ())
    counted = told({"FRAME": 12, "OBSTYPE": "Flat"})
    assert (counted.kind, counted.complaints) == (FrameKind.FLAT, ())
    assert told({"FRAME": 12}, "dark_001.fits").kind is FrameKind.DARK
    assert told({"IMAGETYP": "Focus", "FRAME": "Light"}).kind is None, (
        "what the first says is not passed over"
    )
    assert told({"OBSTYPE": "arc", "OBJECT": "Flat"}).complaints == (
        "OBSTYPE is 'arc', which is no kind of frame known here",
    )
    by_target = told({"OBJECT": "Sky Flat"})
    assert (by_target.kind, by_target.of_sky, by_target.origins["kind"]) == (FrameKind.FLAT, True, "OBJECT")
    for target in ("M 33", "Dark Shark", "science", "Flaming Star"):
        assert told({"OBJECT": target}).kind is None, target


#: Dates and times as they are written, and the moment in UTC that they say. The first two are of the FITS Standard 4.0,
#: section 9.1; the others are common practice, with no source.
WRITTEN = {
    "2026-10-18T22:04:11.25": "2026-10-18 22:04:11.25", "2026-10-18": None, "2026-10-18 22:04:11": "2026-10-18 22:04:11",
    "2026/10/18T22:04:11": "2026-10-18 22:04:11", "2026-10-18T9:04:11.": "2026-10-18 09:04:11",
    "2026-10-18T22:04:60.0": "2026-10-18 22:05:00", "2026-12-31T24:00:00": "2027-01-01 00:00:00",
    "2026-10-18T22:04:11 UTC": "2026-10-18 22:04:11", "2026-10-18 22:04:11 +0200": "2026-10-18 20:04:11",
    "2026-10-18T22:04:11-07:00": "2026-10-19 05:04:11", "2026-10-18T22:04:11,5": "2026-10-18 22:04:11.5",
    "18/10/26 22:04:11": None, "2026-10-18T24:00:01": None, "2026-10-18T22:60:00": None, "2026-02-30T01:00:00": None,
    "2026-10/18T22:04:11": None, "2026-10-18T22-04-11": None, "9999-12-31T24:00:00": None, "soon": None,
}  # fmt: skip


@pytest.mark.parametrize("text", WRITTEN)
def test_dates_and_times_are_read_as_programs_write_them(text):
    facts, moment = told({"DATE-OBS": text}), WRITTEN[text]
    assert facts.utc == (None if moment is None else datetime.fromisoformat(moment).replace(tzinfo=UTC))
    assert bool(facts.complaints) == (moment is None)
    day, _, clock = text.partition("T")
    if clock and "T" in text and moment is not None:
        for beside in ("TIME-OBS", "UT", "UTC", "UTSTART", "UT-START", "UTC-OBS"):
            assert told({"DATE-OBS": day, beside: clock}).utc == facts.utc, beside


def test_a_day_alone_is_no_midnight():
    facts = told({"DATE-OBS": "2026-10-18T05:00:00", "DATE-LOC": "2026-10-18"})
    assert facts.night_from.startswith("DATE-OBS") and facts.complaints == (
        "DATE-LOC is '2026-10-18', a day without a time",
    )
    both = told({"DATE-OBS": "2026-10-18", "UTC": "2026-10-19T05:00:00"})
    assert both.utc == datetime(2026, 10, 19, 5, tzinfo=UTC)


def test_a_local_clock_that_says_how_far_it_is_ahead_tells_both():
    facts = told({"DATE-LOC": "2026-10-18T23:30:00+02:00"})
    assert facts.utc == datetime(2026, 10, 18, 21, 30, tzinfo=UTC)
    assert (facts.clock_ahead_h, facts.night) == (2.0, date(2026, 10, 18))


@pytest.mark.parametrize("inherit", [None, True, False])
def test_an_image_behind_an_empty_first_header_inherits_what_that_says_of_the_exposure(tmp_path, inherit):
    """INHERIT: a convention of the FITS registry; the files are Astropy's."""
    primary = {
        "IMAGETYP": "Dark",
        "EXPTIME": 30.0,
        "GAIN": 5,
        "BZERO": 9.0,
        "HIERARCH LONG NAME OF IT": "kept",
        "CAMERA": "Kite 9",
    }
    primary["OBSERVER"] = (
        "a name so long that it needs a card more than one to be told, as nobody’s is".encode(
            "ascii", "replace"
        ).decode()
    )
    image = {"EXPTIME": 60.0, "EXTNAME": "chip"} | ({} if inherit is None else {"INHERIT": inherit})
    first = fits.PrimaryHDU()
    first.header.update(primary)
    pixels = np.arange(48 * 64, dtype=np.uint16).reshape(48, 64)
    for name, hdu in (
        ("a.fits", fits.ImageHDU(pixels)),
        ("b.fits.fz", fits.CompImageHDU(pixels, compression_type="RICE_1")),
    ):
        hdu.header.update(image)
        fits.HDUList([first, hdu]).writeto(tmp_path / name)
        facts = facts_of(tmp_path / name)
        assert facts.exposure_s == 60.0, "what the image says itself counts"
        told = (FrameKind.DARK, 5.0, "Kite 9") if inherit is not False else (None, None, None)
        assert (facts.kind, facts.gain, facts.camera) == told, name
        assert np.array_equal(read_pixels(tmp_path / name), pixels), (
            "a scaling of the first header is not the image’s"
        )
        whole = read_header(tmp_path / name).header.whole
        assert (whole.get("LONG NAME OF IT"), whole["EXTNAME"]) == (
            "kept" if inherit is not False else None,
            "chip",
        )


@given(st.floats(58_000, 106_000))
def test_a_modified_julian_date_tells_the_moment_where_no_other_date_does(days):
    """Held against Astropy’s own conversion, after the last leap second."""
    moment = told({"MJD-OBS": days}).utc
    assert abs(moment - Time(days, format="mjd", scale="utc").to_datetime(UTC)) <= timedelta(milliseconds=1.1)
    assert told({"MJD-OBS": days, "DATE-OBS": "2026-10-18T22:04:11"}).utc.year == 2026
    assert told({"MJD-OBS": days, "DATE-OBS": "2026-10-18"}).utc == moment, "a day alone tells no moment"
    assert told({"MJD-OBS": 4.3e9}).utc is None and told({"MJD-OBS": "soon"}).utc is None


@pytest.mark.parametrize(
    ("cards", "stacked"),
    [
        ({"IMAGETYP": "Light", "STACKCNT": 38}, True),
        ({"IMAGETYP": "LIGHT", "NCOMBINE": 12}, True),
        ({"IMAGETYP": "Master Light"}, True),
        ({"IMAGETYP": "Light", "STACKCNT": 1}, False),
        # How many the series has that this is one of.
        ({"IMAGETYP": "Light", "NFRAMES": 60}, False),
        ({"IMAGETYP": "Light", "NUMFRAME": 7}, False),
    ],
)
def test_what_was_stacked_of_lights_is_no_light_and_no_master(cards, stacked):
    """Common practice, no source."""
    facts = told({**cards, "EXPTIME": 10.0})
    assert facts.kind is FrameKind.LIGHT and not facts.is_master
    assert facts.stacked == facts.calibrated == stacked


def test_what_was_taken_off_before_is_told_for_each_kind():
    """CALSTAT, common practice, no source."""
    done = {
        ("Light", "BDF"): True, ("Light", "F"): True, ("Light", "none"): False, ("Light", ""): False, ("Light", "DARK"): True,
        ("Flat", "BD"): True, ("Flat", "B"): True, ("Flat", "D"): True, ("Flat", "F"): False, ("Flat", "bias, dark"): True,
        ("Master Dark", "B"): True, ("Master Dark", "BD"): True, ("Master Dark", "D"): False, ("Dark", "bias"): True,
        ("Master Bias", "B"): False, ("Dark Flat", "B"): True, ("Flat", "NORMALISED"): False,
    }  # fmt: skip
    assert {(k, text): told({"IMAGETYP": k, "CALSTAT": text}).calibrated for k, text in done} == done
