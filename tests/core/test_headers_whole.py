"""Every keyword that is read, one by one; nights and places; and what is said of a file that is no frame.

Keywords: FITS Standard 4.0 (DATE-OBS, BITPIX, NAXIS), the SBFITSEXT convention (IMAGETYP, CCD-TEMP, XBINNING), the rest
common practice with no source.
"""

from __future__ import annotations

from datetime import UTC, date, datetime
from io import BytesIO
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from astropy.coordinates import EarthLocation
from astropy.io import fits
from hypothesis import given, settings
from hypothesis import strategies as st

from grayshelf.core.errors import GrayShelfError, UnreadableFrame
from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.cards import CardText
from grayshelf.core.frames.fits_blocks import ImageHeader, card_value, read_image_header
from grayshelf.core.frames.headers import read_facts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import event_moment, follows_site, site_zone
from grayshelf.core.frames.number_text import number_in_text
from grayshelf.core.frames.place import place_in
from grayshelf.core.frames.reader import HeaderReader

DENVER = ZoneInfo("America/Denver")


def told(cards, name="frame.fits", folders=(), bits=16):
    """What a header with these cards says, read in a zone far from every place in it."""
    header = fits.Header()
    for key, value in cards.items():
        header[key if len(key) <= 8 else f"HIERARCH {key}"] = value
    return read_facts(ImageHeader(header, 80, 60, bits, 0, 2880, 9600, False), name, DENVER, folders=folders)


def test_what_only_names_tell():
    light = told(
        {"INSTRUME": "Plover 26 C"}, "Light_IC1396_300s_26C_gain100_-10.0C_0001.fit", ("Duo", "M 31")
    )
    assert (light.kind, light.target, light.sensor_temp_c) == (FrameKind.LIGHT, "IC 1396", -10.0)
    assert told({"OBJECT": "Trunk"}, "Light_IC1396_0001.fit").target == "Trunk"
    assert told({}, "Light_0001.fit", ("M31", "2026")).target == "M 31"
    # A master's kind may stand in its name, and that it is one in its folder's; fractions are no camera's.
    for name, bits, is_master in (
        ("flat_Ha.fit", -32, True),
        ("flat_Ha.fit", 16, False),
        ("mflat_Ha.fit", 16, True),
    ):
        found = told({}, name, ("Masters",), bits)
        assert (found.kind, found.is_master) == (FrameKind.FLAT, is_master), (name, bits)


ALL_WAYS = {
    ("exposure_s", 2.5): "EXPTIME EXPOSURE XPOSURE EXP_TIME EXPOSURETIME",
    ("sensor_temp_c", -11.5): "CCD-TEMP CCDTEMP CCD_TEMP SENSTEMP DET-TEMP DETTEMP CAMTEMP TEMPERAT",
    ("set_temp_c", -12.0): "SET-TEMP SETTEMP SET_TEMP CCD-TSET CCDTSET",
    ("gain", 120.0): "GAIN ISO ISOSPEED",
    ("offset", 25.0): "OFFSET BLKLEVEL BLACKLVL BLKLVL BRIGHTNS",
    ("focus", 4321.0): "FOCUSPOS FOCPOS FOCUS FOCUSER",
    ("camera", "Kite 9"): "INSTRUME CAMERA DETECTOR CAMNAME DETNAM",
    ("read_mode", "fast"): "READOUTM READMODE READOUT RDMODE",
    ("binning_x", 2): "XBINNING BINNING CCDXBIN CCDSUM",
    ("binning_y", 3): "YBINNING CCDYBIN",
    ("n_combined", 7): "NCOMBINE STACKCNT NFRAMES",
    ("filter_code", "V"): "FILTER FILTER1 FILTER2 FILTER3 FILTNAME",
    ("telescope", "Field lens"): "TELESCOP",
    ("focal_length_mm", 300.0): "FOCALLEN",
    ("aperture_mm", 60.0): "APTDIA",
    ("pixel_um", 3.9): "XPIXSZ PIXSIZE1",
    ("electrons_per_adu", 0.8): "EGAIN",
    ("pedestal_adu", 100.0): "PEDESTAL",
    ("air_temp_c", 7.0): "AMBTEMP AMB-TEMP FOCTEMP",
    ("angle", CameraAngle(40.5)): "ROTATOR ROTATANG ROTANG ROTMECH",
    ("angle", CameraAngle(40.5, "sky")): "SKYANGLE POSANGLE OBJCTROT CROTA2 PA",
}


@pytest.mark.parametrize(
    "key",
    [(f, v, k) for (f, v), names in ALL_WAYS.items() for k in names.split()],
    ids=lambda key: f"{key[0]}-{key[2]}",
)
def test_each_keyword_says_its_value_and_no_other(key):
    fact, value, keyword = key
    facts = told({keyword: value.deg if isinstance(value, CameraAngle) else value})
    assert getattr(facts, fact) == value
    silent = told({})
    beside = {"binning_x": "binning_y", "set_temp_c": "sensor_temp_c", "n_combined": "is_master"}.get(fact)
    others = {n for n in vars(silent) if n not in (fact, beside, "origins")}
    assert all(getattr(facts, n) == getattr(silent, n) for n in others)


def test_the_first_keyword_that_says_something_counts_and_texts_are_made_plain():
    facts = told({
        "EXPTIME": 2.0, "EXPOSURE": 3.0, "GAIN": 1.0, "ISO": 800.0, "BAYERPAT": "rggb", "COLORTYP": "GBRG",
        "ROWORDER": "top-down", "IMAGETYP": "Light", "OBJECT": "M 33", "CALSTAT": "BD", "CAMERA": "  two   words ",
    })  # fmt: skip
    assert (facts.exposure_s, facts.gain, facts.bayer_pattern, facts.row_order) == (
        2.0,
        1.0,
        "RGGB",
        "TOP-DOWN",
    )
    assert (facts.target, facts.calibrated, facts.camera) == ("M 33", True, "two words")
    assert (
        told({"COLORTYP": "gbrg"}).bayer_pattern == "GBRG"
        and told({"TARGET": "M 1", "FRAME": "light"}).target == "M 1"
    )
    assert told({"IMAGETYP": "dark", "OBJECT": "M 33"}).target is None
    for keyword in ("IMAGETYP", "FRAME", "FRAMETYP", "OBSTYPE", "IMGTYPE", "IMTYPE", "EXPTYPE"):
        assert told({keyword: "Bias"}).kind is FrameKind.BIAS
    assert told({"IMAGETYP": "Sky Flat"}).of_sky and not told({"IMAGETYP": "Flat"}).of_sky
    by_name = told({}, "master_dark_300s.fits")
    assert (by_name.kind, by_name.is_master, by_name.of_sky) == (FrameKind.DARK, True, False)
    assert by_name.origins["kind"] == "file name"
    assert told({"NCOMBINE": 2}).is_master and not told({"NCOMBINE": 1}).is_master
    assert told({"SET-TEMP": -10.0}).origins == {"sensor_temp_c": "the set point"}
    assert (told({"XBINNING": 2}).binning_y, told({"YBINNING": 2}).binning_x) == (2, None)


@pytest.mark.parametrize("keyword", ["PIERSIDE", "SIDEPIER"])
def test_the_side_of_the_pier_belongs_to_an_angle_of_the_sky(keyword):
    sides = {"WEST": "west", "pierEast": "east", "E": "east", "w": "west", "unknown": None, "": None}
    for word, side in sides.items():
        assert told({"POSANGLE": -20.0, keyword: word}).angle == CameraAngle(340.0, "sky", side)
    assert told({"ROTATOR": 370.0, "POSANGLE": 5.0, keyword: "WEST"}).angle == CameraAngle(10.0)


TIMES = [
    # What is in the header; UTC, the night, and by what it was found. Denver is 6 h behind UTC in summer time.
    ({"DATE-OBS": "2026-10-18T05:30:00"}, (18, 5, 30), 17, "DATE-OBS (UTC) at America/Denver, your site"),
    ({"DATE-BEG": "2026-10-18T05:30:00Z"}, (18, 5, 30), 17, "DATE-BEG (UTC) at America/Denver, your site"),
    ({"DATE-OBS": "2026-10-18T05:30:00+02:00"}, (18, 3, 30), 17, "DATE-OBS (UTC) at America/Denver, your site"),
    ({"DATE-OBS": "2026-10-18", "TIME-OBS": "20:00:00"}, (18, 20, 0), 18, "DATE-OBS (UTC) at America/Denver, your site"),
    ({"DATE-OBS": "2026-10-18", "UT": "20:00:00"}, (18, 20, 0), 18, "DATE-OBS (UTC) at America/Denver, your site"),
    ({"DATE-OBS": "2026-10-18", "UTSTART": "20:00:00"}, (18, 20, 0), 18, "DATE-OBS (UTC) at America/Denver, your site"),
    ({"DATE-OBS": "2026-10-18T13:00:00", "DATE-LOC": "2026-10-18T23:00:00"}, (18, 13, 0), 18, "DATE-LOC (local clock)"),
    ({"DATE-OBS": "2026-10-18T13:00:00", "DATE-LCL": "2026-10-19T03:00:00"}, (18, 13, 0), 18, "DATE-LCL (local clock)"),
    ({"LOCALTIM": "2026-10-18T23:00:00"}, (19, 5, 0), 18, "LOCALTIM (local clock)"),
    ({"JD": 2_461_331.75}, (18, 6, 0), 17, "JD (UTC) at America/Denver, your site"),
    ({"MJD-OBS": 61331.25}, (18, 6, 0), 17, "MJD-OBS (UTC) at America/Denver, your site"),
    ({"DATE-OBS": "2026-10-18", "MJD-BEG": 61331.25, "SITELONG": 0.5}, (18, 6, 0), 17, "MJD-BEG (UTC) and the place in the header, longitude 0.5°"),
    ({"DATE-LOC": "2026-10-18T23:00:00", "SITELONG": 150.0}, (18, 13, 0), 18, "DATE-LOC (local clock)"),
    ({"DATE-OBS": "2026-10-18T14:00:00", "SITELONG": 149.96}, (18, 14, 0), 18, "DATE-OBS (UTC) and the place in the header, longitude 150.0°"),
    ({"DATE-OBS": "2026-10-18T14:00:00", "SITELONG": -70.0}, (18, 14, 0), 17, "DATE-OBS (UTC) and the place in the header, longitude −70.0°"),
    ({"DATE-OBS": "2026-10-18T00:10:00", "DATE-LOC": "2026-10-18T14:40:00"}, (18, 0, 10), 18, "DATE-LOC (local clock)"),
    ({"DATE-OBS": "2026-10-18T12:30:00", "DATE-LOC": "2026-10-18T00:00:00"}, (18, 12, 30), 17, "DATE-LOC (local clock)"),
]  # fmt: skip


@pytest.mark.parametrize(("cards", "utc", "night", "by"), TIMES, ids=range(len(TIMES)))
def test_a_night_is_found_by_the_local_clock_the_place_or_the_site_in_this_order(cards, utc, night, by):
    facts = told(cards)
    assert facts.utc == datetime(2026, 10, *utc, tzinfo=UTC)
    assert (facts.night, facts.night_from, facts.complaints) == (date(2026, 10, night), by, ())
    assert follows_site(facts.night_from) == ("your site" in by)


def test_clocks_that_cannot_be_are_complained_of_and_give_no_night():
    for cards, complaint in (
        ({"DATE-OBS": "yesterday", "TIME-OBS": "x"}, "DATE-OBS is 'yesterday', which is not a date and time"),
        ({"DATE-OBS": "1979-12-31T23:00:00"}, "DATE-OBS is in the year 1979: the clock was not set"),
        ({"DATE-OBS": "2151-01-01T00:00:00"}, "DATE-OBS is in the year 2151: the clock was not set"),
        ({"DATE-LOC": "noon"}, "DATE-LOC is 'noon', which is not a date and time"),
    ):
        facts = told(cards)
        assert (facts.utc, facts.night, facts.night_from) == (None, None, "") and facts.complaints == (
            complaint,
        )
    assert told({"DATE-OBS": "1980-01-01T12:00:00"}).utc and told({"DATE-OBS": "2150-12-31T12:00:00"}).utc
    for local, ahead in (("2026-10-18T15:00:00", "+15"), ("2026-10-17T11:00:00", "-13")):
        far = told({"DATE-OBS": "2026-10-18T00:00:00", "DATE-LOC": local})
        assert far.complaints == (
            f"DATE-LOC is {ahead} h from DATE-OBS, which no place on earth is: it was passed over",
        )
        assert far.night_from.endswith("your site")


@pytest.mark.parametrize("keyword", ["SITELONG", "LONG-OBS", "OBSGEO-L", "OBSLONG", "LONGITUD"])
def test_a_place_east_and_west_and_none_that_was_never_set(keyword):
    def shown(longitude, **beside):
        facts = told({"DATE-OBS": "2026-10-18T12:00:00", keyword: longitude, **beside})
        found = facts.night_from.partition("longitude ")[2]
        return found or facts.complaints or "the site"

    assert [shown(x) for x in (-180.0, 180.0, 181.0, 359.0, 360.0)] == [
        "−180.0°",
        "180.0°",
        "−179.0°",
        "−1.0°",
        "0.0°",
    ]
    assert [shown(x) for x in (-180.5, 360.5)] == [
        (f"{keyword} is '-180.5', which is not a longitude",), (f"{keyword} is '360.5', which is not a longitude",),
    ]  # fmt: skip
    assert shown(0.0) == "the site" and shown(1.0) == "1.0°"
    for latitude in ("SITELAT", "LAT-OBS", "OBSGEO-B", "OBSLAT", "LATITUDE"):
        assert shown(0.0, **{latitude: 51.5}) == "0.0°" and shown(0.0, **{latitude: 0.0}) == "the site"


@pytest.mark.parametrize(
    ("latitude", "longitude"), [(-33.5, 151.05), (69.6, 18.9), (0.0, -77.8), (89.99, 5.0)]
)
def test_a_place_is_told_from_the_centre_of_the_earth(latitude, longitude):
    """OBSGEO-X, -Y, -Z: FITS Standard 4.0, section 8.4.1, against Astropy's `EarthLocation`."""
    there = EarthLocation.from_geodetic(longitude, latitude, 2400.0)
    cards = {
        f"OBSGEO-{axis}": v
        for axis, v in zip("XYZ", (c.to_value("m") for c in there.geocentric), strict=True)
    }
    place = place_in(HeaderReader(fits.Header(cards), {}))
    assert (place.latitude_deg, place.longitude_deg) == pytest.approx((latitude, longitude), abs=1e-6)
    none = [
        {**cards, "OBSGEO-Z": 0.0, "OBSGEO-X": 0.0, "OBSGEO-Y": 0.0},
        {**cards, "OBSGEO-X": 1e8},
        dict(list(cards.items())[:2]),
    ]
    assert [place_in(HeaderReader(fits.Header(c), {})) for c in none] == [None] * 3
    at_noon = {"DATE-OBS": "2026-10-18T12:00:00", **cards}
    assert f"longitude {longitude:.1f}°".replace("-", "−") in told(at_noon).night_from
    assert "longitude 12.0°" in told({**at_noon, "SITELONG": 12.0, "SITELAT": 50.0}).night_from, (
        "degrees come first"
    )


def test_what_was_done_on_a_day_was_done_before_its_night():
    now = datetime(2026, 10, 19, 3, tzinfo=UTC)
    assert event_moment(None, now, DENVER) == event_moment(date(2026, 10, 18), now, DENVER) == now
    assert event_moment(date(2026, 10, 1), now, DENVER) == datetime(2026, 10, 1, 18, tzinfo=UTC)
    with pytest.raises(GrayShelfError) as refused:
        event_moment(date(2026, 10, 19), now, DENVER)
    assert refused.value.message == "19 Oct 2026 is still to come: what was not done yet makes nothing stale."
    assert refused.value.advice == "Enter the day on which it was done."
    with pytest.raises(GrayShelfError) as unknown:
        site_zone("Mars/Olympus")
    assert unknown.value.message == (
        "There is no time zone called 'Mars/Olympus', so frames could not be given their nights."
    )
    assert unknown.value.advice == "Use a name such as Europe/London or America/Denver."


# -- what is no frame -------------------------------------------------------------------------------------------


def hdu(cards, data=b""):
    """A header of these cards, and what follows it."""
    lines = [f"{k:<8}= {v:>20}" for k, v in cards.items()]
    text = "".join(f"{line:<80}" for line in [*lines, "END"])
    return text.ljust(-(-len(text) // 2880) * 2880).encode() + data


SIMPLE = {"SIMPLE": "T", "BITPIX": 16, "NAXIS": 2, "NAXIS1": 20, "NAXIS2": 10}
COPY = "Copy it again from where it was taken."
OUT = "Leave this file out."
ALONE = "It is left alone; nothing needs to be done."
NO_PICTURE = "The file holds a table or a header only, and no picture."
REFUSED = [
    (b"", "The file is empty (0 bytes).", COPY),
    (b"PK\x03\x04" * 50, "The file does not begin as a FITS file does, whatever its name says.", "Open it with what wrote it, or leave it out."),
    (hdu(SIMPLE)[:1000], "The file is cut off inside its header.", COPY),
    (hdu(SIMPLE, bytes(399)), "The file is cut off: 20 × 10 pixels need 3,280 bytes and it has 3,279.", COPY),
    (hdu({"SIMPLE": "T", "BITPIX": 8, "NAXIS": 0}), NO_PICTURE, ALONE),
    (hdu({"SIMPLE": "T", "BITPIX": 8, "NAXIS": 0}) + hdu({"XTENSION": "'BINTABLE'", "BITPIX": 8, "NAXIS": 2, "NAXIS1": 4, "NAXIS2": 3}, bytes(2880)), NO_PICTURE, ALONE),
    (hdu({**SIMPLE, "NAXIS": 3, "NAXIS3": 3}, bytes(2880)), "The picture is already in three colours, so it is not a frame as the camera gave it.", ALONE),
    (hdu({**SIMPLE, "NAXIS": 3, "NAXIS3": 2}, bytes(2880)), "The picture has 3 axes, where a frame has two.", OUT),
    (hdu({"SIMPLE": "T", "BITPIX": 16, "NAXIS": 1, "NAXIS1": 20}, bytes(2880)), "The picture has 1 axes, where a frame has two.", OUT),
    (hdu({**SIMPLE, "BITPIX": 12}, bytes(2880)), "BITPIX is 12, which FITS does not have.", OUT),
    (hdu({**SIMPLE, "NAXIS2": 7}, bytes(2880)), "The picture would be 20 × 7 pixels, which no camera's frame is.", OUT),
    (hdu({**SIMPLE, "NAXIS1": 20001, "NAXIS2": 20000}, bytes(2880)), "The picture would be 20001 × 20000 pixels, which no camera's frame is.", OUT),
    (hdu({**SIMPLE, "NAXIS1": -4}), "NAXIS1 in the header is -4.", OUT),
    (hdu({**SIMPLE, "NAXIS": 1000}), "NAXIS in the header is 1000.", OUT),
    (hdu({**SIMPLE, "NAXIS": -1}), "NAXIS in the header is -1.", OUT),
    (hdu({**SIMPLE, "NAXIS1": "'wide'"}), "NAXIS1 in the header is 'wide', not a number.", OUT),
    (hdu({**SIMPLE, "NAXIS": "T"}), "NAXIS in the header is 'True', not a number.", OUT),
    (b"SIMPLE  =                    T".ljust(80) + b"COMMENT x".ljust(80) * (36 * 280), "The header does not end within 10,000 cards.", OUT),
]  # fmt: skip


@pytest.mark.parametrize(("raw", "message", "advice"), REFUSED, ids=range(len(REFUSED)))
def test_what_is_no_frame_is_refused_in_a_whole_sentence(raw, message, advice):
    with pytest.raises(UnreadableFrame) as refused:
        read_image_header(BytesIO(raw), len(raw))
    assert (refused.value.message, refused.value.advice) == (message, advice)


def test_a_packed_file_that_would_never_end_is_refused():
    endless = hdu({"SIMPLE": "T", "BITPIX": 64, "NAXIS": 1, "NAXIS1": 500_000_000})
    table = hdu({"SIMPLE": "T", "BITPIX": 8, "NAXIS": 0}) + hdu(
        {"XTENSION": "'BINTABLE'", "BITPIX": 64, "NAXIS": 2, "NAXIS1": 500_000_000, "NAXIS2": 1}
    )
    assert endless
    with pytest.raises(UnreadableFrame) as refused:
        read_image_header(BytesIO(table), None)
    assert refused.value.message == "The packed file would unpack to more than any frame."
    assert refused.value.advice == "Leave it out."


def test_the_picture_is_found_where_it_lies_behind_whatever_comes_first():
    table = {
        "XTENSION": "'BINTABLE'",
        "BITPIX": 8,
        "NAXIS": 2,
        "NAXIS1": 100,
        "NAXIS2": 30,
        "PCOUNT": 50,
        "GCOUNT": 1,
    }
    raw = (
        hdu({"SIMPLE": "T", "BITPIX": 8, "NAXIS": 0})
        + hdu(table, bytes(2 * 2880))
        + hdu({"XTENSION": "'IMAGE'", "BITPIX": -32, "NAXIS": 2, "NAXIS1": 9, "NAXIS2": 8}, bytes(2880))
    )
    found = read_image_header(BytesIO(raw), len(raw))
    assert (found.width, found.height, found.bits, found.hdu, found.compressed) == (9, 8, -32, 2, False)
    assert (found.data_offset, found.data_bytes) == (2880 * 5, 4 * 72)
    with BytesIO() as stream:
        fits.HDUList(
            [fits.PrimaryHDU(), fits.CompImageHDU(np.arange(400, dtype=np.int16).reshape(20, 20))]
        ).writeto(stream)
        packed = read_image_header(BytesIO(stream.getvalue()), len(stream.getvalue()))
    assert (packed.width, packed.height, packed.bits, packed.hdu, packed.compressed) == (20, 20, 16, 1, True)
    exact = hdu(SIMPLE, bytes(400))
    assert read_image_header(BytesIO(exact), len(exact)).data_offset == 2880


@pytest.mark.parametrize(
    ("text", "what", "number"),
    [
        ("300 s", "exposure_s", 300.0), ("300,5", "exposure_s", 300.5), ("0,004 sec", "exposure_s", 0.004), ("1/60 s", "exposure_s", 1 / 60),
        ("250 ms", "exposure_s", 0.25), ("-10,0 C", "sensor_temp_c", -10.0), ("−10", "set_temp_c", -10.0), ("2x2", "binning", 2.0),
        ("800mm", "focal_length_mm", 800.0), ("3.76 um", "pixel_um", 3.76), ("1.2e1 deg", "angle", 12.0), ("100", "gain", 100.0),
        # What could be two numbers, or is of another unit, is none.
        ("1,200 mm", "focal_length_mm", None), ("10 F", "sensor_temp_c", None), ("1/0 s", "exposure_s", None), ("5 min", "exposure_s", 300.0),
        ("1/2", "gain", None), ("2x2", "gain", None), (f"{'9' * 400}/1 s", "exposure_s", None), ("long", "exposure_s", None), ("", "exposure_s", None), ("10 20", "offset", None),
    ],
)  # fmt: skip
def test_numbers_that_a_header_gives_as_text(text, what, number):
    """Common practice, no source: what programs write that copy what a camera says."""
    assert number_in_text(text, what) == (number if number is None else pytest.approx(number))


def test_a_header_of_texts_is_read_as_one_of_numbers():
    texts = {"EXPTIME": "1/60 s", "CCD-TEMP": "-10,2", "BINNING": "2x1", "FOCALLEN": "800 mm", "GAIN": "much"}
    facts = told({**texts, "IMAGETYP": "LIGHT"})
    assert (facts.exposure_s, facts.sensor_temp_c) == (pytest.approx(1 / 60), -10.2)
    assert (facts.binning_x, facts.binning_y, facts.focal_length_mm, facts.gain) == (2, 1, 800.0, None)
    assert facts.complaints == ("GAIN is 'much', which is not a number",)
    # The second side is held to what can be, as the first is.
    assert (told({"BINNING": "2x40"}).binning_x, told({"BINNING": "2x40"}).binning_y) == (2, 2)


@settings(max_examples=300, deadline=None)
@given(
    st.lists(
        st.one_of(
            st.tuples(st.sampled_from(["GAIN", "gain", "EXPTIME", "FILTER", "OBJECT", "FLAG"]), st.text("0123456789 .+-EDed'/=TFabc", max_size=30)),
            st.tuples(st.just("FILTER"), st.sampled_from(["= 'O''III'  / it''s", "= 'x'/y", "='x'", "= T", "= F / no", "=   12", "= 1.5D3", "= (1, 2)", "=", "= ''"])),
        ),
        max_size=8,
    ),
    st.booleans(),
)  # fmt: skip
def test_cards_are_read_as_astropy_reads_them(cards, long_ones):
    """Held against Astropy's own reading of the same 80 characters, whatever stands in them."""
    rows = [f"{name:<8}{'' if '=' in text else '= '}{text}"[:80].ljust(80) for name, text in cards]
    if long_ones:
        rows += ["HIERARCH OFFSET = 12".ljust(80), "LONG    = 'a&'".ljust(80), "CONTINUE  'b'".ljust(80)]
    text = "".join([*rows, "END".ljust(80)])
    text = text.ljust(-(-len(text) // 2880) * 2880)
    ours, theirs = CardText(text.encode()), fits.Header.fromstring(text)
    for name in ("GAIN", "EXPTIME", "FILTER", "OBJECT", "FLAG", "OFFSET", "LONG", "NONE"):
        assert card_value(ours, name) == card_value(theirs, name), (name, rows)
