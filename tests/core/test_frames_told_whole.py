"""What is told of frames, headers and masters, word by word."""

from __future__ import annotations

from dataclasses import astuple, replace
from datetime import UTC, date, datetime
from io import BytesIO

import numpy as np
import pytest
from astropy.io import fits

from grayshelf.core.checks.apart import apart_from_set
from grayshelf.core.checks.asked_for import AskedFor, why_not
from grayshelf.core.checks.figures import master_figures
from grayshelf.core.checks.frames import flat_level, light_leak, sky_missed
from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.facts import FrameFacts, lacking
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import common_facts
from grayshelf.core.frames.write import InputRecord, frame_header, write_master
from grayshelf.core.sensor.statistics import FrameStatistics, frame_statistics
from tests.helpers import facts_of, write_fits
from tests.told import lines


def test_figures_of_masters():
    y, x = np.mgrid[0:120, 0:180]
    flat = (
        1.0 - 0.3 * (((x - 90) / 90) ** 2 + ((y - 60) / 60) ** 2) / 2 + 0.001 * ((x * 7 + y * 13) % 5)
    ).astype(np.float32)
    flat[5, 7] = 0.2
    dark = (500 + (x * 7 + y * 13) % 9 + 0.05 * x).astype(np.float32)
    dark[::20, ::20] = 900
    dark[3, 3] = 471
    kinds = ((flat, FrameKind.FLAT), (flat * 30000, FrameKind.FLAT), (dark, FrameKind.DARK))
    told = [
        f"{f.name}: {f.value:.4f} {f.unit} to {f.digits} digits"
        for pixels, kind in kinds
        for f in master_figures(pixels, kind)
    ]
    assert told == lines(FIGURES)


FIGURES = """
Median: 0.9065 norm 1 to 4 digits
Corner to centre: 75.0976 % to 1 digits
Weakest corner: 74.6826 % to 1 digits
Darkest 0.01 %: 70.7007 % of centre to 1 digits
Spread of the pixels: 7.8181 % to 2 digits
Dead or dim pixels: 1.0000  to 0 digits
Median: 27195.7637 ADU to 0 digits
Corner to centre: 75.0976 % to 1 digits
Weakest corner: 74.6826 % to 1 digits
Darkest 0.01 %: 70.7007 % of centre to 1 digits
Spread of the pixels: 7.8181 % to 2 digits
Dead or dim pixels: 1.0000  to 0 digits
Median: 508.5000 ADU to 1 digits
Spread of the pixels: 3.9289 ADU to 2 digits
Brightest corner: 4.0750 ADU over the middle to 1 digits
Warm pixels: 0.2500 % to 3 digits
Cold pixels: 0.0000  to 0 digits
Lowest pixel: 471.0000 ADU to 0 digits
"""


def stats(median: float) -> FrameStatistics:
    return frame_statistics(np.full((8, 8), median, np.uint16))


def test_faults_of_frames_as_they_arrive():
    faults = [
        light_leak(stats(561.0), 500.0),
        light_leak(stats(700.0), 500.0, 20.0),
        sky_missed(2400.0, 900.0),
        sky_missed(-1200.4, 900.0),
        flat_level(stats(36000.0), 30000.0, 2900.0),
        flat_level(stats(20000.0), 30000.0, 3000.0),
    ]
    assert [repr(astuple(f)) for f in faults] == lines(FAULTS)
    # At the bounds all is well.
    assert light_leak(stats(560.0), 500.0) is light_leak(stats(580.0), 500.0, 20.0) is None
    assert flat_level(stats(36000.0), 30000.0, 3000.0) is flat_level(stats(24000.0), 30000.0, 3000.0) is None


FAULTS = """
('light leak', 61.0, 'ADU', 'The frame lies 61 ADU above a capped one: light reaches the sensor.', 'Put the cap on, darken the room, and shoot it again.')
('light leak', 180.0, 'ADU', 'The frame lies 180 ADU above a capped one: light reaches the sensor.', 'Put the cap on, darken the room, and shoot it again.')
('level', 2400.0, 'ADU', 'The sky gave 2,400 ADU more than it should have, outside ±900: the frame is left out of the master.', 'A cloud, or the moon behind one? The next exposure follows the sky again.')
('level', -1200.4, 'ADU', 'The sky gave 1,200 ADU less than it should have, outside ±900: the frame is left out of the master.', 'A cloud, or the moon behind one? The next exposure follows the sky again.')
('level', 6000.0, 'ADU', 'The flat lies 6,000 ADU above the target, outside ±5,800, and is left out of the master.', 'Check the panel and the filter, and find the exposure again.')
('level', -10000.0, 'ADU', 'The flat lies 10,000 ADU below the target, outside ±6,000, and is left out of the master.', 'Check the panel and the filter, and find the exposure again.')
"""


def test_why_a_frame_is_not_the_one_that_was_asked_for():
    asked = AskedFor("Dunlin M24", "Ha", 200.0, 1, 30.0)
    right = FrameFacts(
        100,
        100,
        16,
        FrameKind.FLAT,
        camera="Dunlin M24",
        exposure_s=2.0,
        gain=200.0,
        offset=30.0,
        filter_code="Ha",
        binning_x=1,
    )
    assert why_not(right, asked) is None
    assert (
        why_not(
            replace(right, kind=None, camera=None, gain=None, offset=None, filter_code=None, binning_x=None),
            asked,
        )
        is None
    )
    assert why_not(replace(right, filter_code="L"), replace(asked, filter_code="none")) is None
    assert why_not(replace(right, offset=0.0), replace(asked, offset=None)) is None
    wrong = [
        {"kind": FrameKind.LIGHT}, {"kind": FrameKind.DARK}, {"kind": FrameKind.BIAS}, {"kind": FrameKind.DARK_FLAT},
        {"is_master": True}, {"camera": "Plover"}, {"filter_code": "OIII"}, {"gain": 100.0}, {"offset": 0.0},
        {"binning_x": 2}, {"exposure_s": None}, {"exposure_s": 0.0},
    ]  # fmt: skip
    told = [why_not(replace(right, **change), asked) for change in wrong]
    told.append(why_not(replace(right, gain=100.0), replace(asked, gain_word="ISO")))
    assert told == lines(WHY_NOT)


WHY_NOT = """
It is a light, not a flat. Take a flat.
It is a dark, not a flat. Take a flat.
It is a bias frame, not a flat. Take a flat.
It is a dark flat, not a flat. Take a flat.
It is a master, not a fresh frame. Take a flat.
It was taken with Plover, not with Dunlin M24.
It was taken in OIII; Ha is looked for. Bring Ha in.
It was taken at gain 100; the lights have 200. Set the gain to 200.
It was taken at offset 0; the lights have 30. Set it to 30.
It was taken at binning 2; the lights have 1. Set it to 1.
Its header does not tell the exposure, so nothing can be drawn from it. Let the program write EXPTIME.
Its header does not tell the exposure, so nothing can be drawn from it. Let the program write EXPTIME.
It was taken at ISO 100; the lights have 200. Set the ISO to 200.
"""


WHOLE = FrameFacts(
    6000, 4000, 16, FrameKind.FLAT, camera="Dunlin M24", exposure_s=6.5, gain=200.0, offset=30.0, binning_x=1, binning_y=2,
    read_mode="low noise", sensor_temp_c=-9.9, set_temp_c=-10.0, filter_code="Hα", target="NGC 6888", telescope="Heron 92",
    focal_length_mm=552.0, aperture_mm=92.0, pixel_um=3.76, electrons_per_adu=0.25, angle=CameraAngle(91.2), focus=12140.0,
    bayer_pattern="RGGB", row_order="TOP-DOWN", pedestal_adu=100.0, utc=datetime(2026, 10, 18, 22, 0, 0, 250000, tzinfo=UTC),
    night=date(2026, 10, 18), air_temp_c=8.5, n_combined=20,
)  # fmt: skip


def test_the_cards_of_a_header():
    header = frame_header(WHOLE, {"GSNOISE": (1.5, "noise")})
    assert [f"{c.keyword} = {c.value!r} / {c.comment}" for c in header.cards] == lines(CARDS)
    kinds = [
        frame_header(replace(WHOLE, kind=kind, is_master=master, of_sky=sky, angle=CameraAngle(3.0, "sky")))
        for kind, master, sky in (
            (FrameKind.DARK_FLAT, True, False), (FrameKind.FLAT, True, True), (FrameKind.FLAT, False, True), (None, False, False),
        )
    ]  # fmt: skip
    assert [h.get("IMAGETYP") for h in kinds] == ["Master Dark Flat", "Master Sky Flat", "Sky Flat", None]
    assert all("ROTATOR" not in h for h in kinds)
    assert len(frame_header(FrameFacts(10, 10, 16))) == 0


CARDS = """
IMAGETYP = 'Flat Field' / kind of frame
INSTRUME = 'Dunlin M24' / camera
EXPTIME = 6.5 / [s] exposure
DATE-OBS = '2026-10-18T22:00:00.250' / UTC, start of exposure
GAIN = 200.0 / gain setting of the camera
OFFSET = 30.0 / offset setting of the camera
XBINNING = 1 / binning in x
YBINNING = 2 / binning in y
READOUTM = 'low noise' / read-out mode
CCD-TEMP = -9.9 / [degC] sensor temperature
SET-TEMP = -10.0 / [degC] set point
XPIXSZ = 3.76 / [um] pixel size
EGAIN = 0.25 / [e-/ADU] system gain
BAYERPAT = 'RGGB' / colour pattern
ROWORDER = 'TOP-DOWN' / order of the rows
PEDESTAL = 100.0 / [ADU] level added
TELESCOP = 'Heron 92' / telescope
FOCALLEN = 552.0 / [mm] focal length
APTDIA = 92.0 / [mm] aperture
FILTER = 'Ha' / filter
OBJECT = 'NGC 6888' / target
FOCUSPOS = 12140.0 / [steps] focuser position
ROTATOR = 91.2 / [deg] rotator
AMBTEMP = 8.5 / [degC] air temperature
NCOMBINE = 20 / frames combined
GSNOISE = 1.5 / noise
"""


def test_what_is_written_is_read_back_as_it_was(tmp_path):
    header = dict(frame_header(WHOLE).items())
    seen = facts_of(write_fits(tmp_path / "whole.fits", header))
    same = set(vars(WHOLE)) - {
        "width",
        "height",
        "bits",
        "target",
        "is_master",
        "filter_code",
        "night_from",
        "origins",
    }
    assert {name: getattr(seen, name) for name in same} == {name: getattr(WHOLE, name) for name in same}
    assert (seen.is_master, seen.filter_code, seen.target) == (True, "Ha", None), (
        "a flat has no target; 20 were combined"
    )
    assert lacking(seen) == ()
    nothing = FrameFacts(10, 10, 16)
    assert lacking(nothing) == ("kind of frame", "camera", "exposure", "date")
    assert lacking(replace(nothing, kind=FrameKind.LIGHT)) == (
        "camera", "exposure", "date", "sensor temperature", "gain", "filter",
    )  # fmt: skip
    assert lacking(replace(nothing, kind=FrameKind.BIAS)) == ("camera", "date", "gain")


def test_a_header_that_says_much_wrong_is_complained_of_word_by_word(tmp_path):
    odd = {
        "IMAGETYP": "focus", "INSTRUME": "C" * 66, "EXPTIME": "long", "EXPOSURE": 2.0, "GAIN": True, "OFFSET": 30.0,
        "CCD-TEMP": -400.0, "SET-TEMP": -10.0, "DATE-OBS": "2026-10-18", "XBINNING": 2, "FILTER": "S2", "FOCALLEN": 0.0,
        "SITELONG": "far", "ROTATOR": -10.0, "NCOMBINE": 1,
    }  # fmt: skip
    facts = facts_of(write_fits(tmp_path / "odd_gain100.fits", odd))
    assert list(facts.complaints) == lines(COMPLAINTS)
    assert facts.origins == {"exposure_s": "EXPOSURE", "sensor_temp_c": "the set point", "gain": "file name"}
    told = (
        facts.exposure_s,
        facts.gain,
        facts.sensor_temp_c,
        facts.binning_x,
        facts.binning_y,
        facts.angle,
        facts.is_master,
    )
    assert told == (2.0, 100.0, -10.0, 2, 2, CameraAngle(350.0), False)


COMPLAINTS = """
IMAGETYP is 'focus', which is no kind of frame known here
DATE-OBS is '2026-10-18', a day without a time
SITELONG is 'far', which is not a longitude
EXPTIME is 'long', which is not a number
the sensor temperature is −400 °C, which cannot be: no camera of this trade works there
GAIN is 'True', which is not a number
"""


def test_levels_that_lie_apart():
    steady = [1000.0, 1004.0, 998.0, 1001.0, 1003.0, 997.0]
    assert apart_from_set(steady) == {} == apart_from_set([1.0, 500.0, 1000.0])
    assert dict(apart_from_set([*steady, 1400.0, 600.0]).items()) == APART


APART = {
    6: "its level, 1,400 ADU, lies 400 ADU above the others",
    7: "its level, 600 ADU, lies 400 ADU below the others",
}


def test_what_a_set_has_in_common_is_what_is_typical_of_it():
    first = FrameFacts(
        8, 8, 16, FrameKind.FLAT, exposure_s=2.0, sensor_temp_c=-9.0, focus=100.0, focal_length_mm=500.0,
        angle=CameraAngle(359.0), utc=datetime(2026, 10, 18, 1, tzinfo=UTC), origins={"gain": "ISO"},
    )  # fmt: skip
    later = replace(
        first, exposure_s=3.0, sensor_temp_c=-10.015, focus=None, focal_length_mm=None, angle=None,
        utc=datetime(2026, 10, 18, 3, tzinfo=UTC), origins={"offset": "BLKLEVEL"},
    )  # fmt: skip
    last = replace(
        first,
        exposure_s=4.5,
        sensor_temp_c=None,
        focus=140.0,
        focal_length_mm=502.0,
        angle=CameraAngle(3.0),
        utc=None,
        origins={},
    )
    common = common_facts([first, later, last])
    # Flats of several exposures are one set only where they follow the light.
    assert (common.exposure_s, common.sensor_temp_c, common.temp_range_c) == (3.0, -9.5075, 1.02)
    assert common.of_sky and not common_facts([first, first]).of_sky
    capped = common_facts([replace(f, kind=FrameKind.DARK) for f in (first, later)])
    assert (capped.exposure_s, capped.of_sky) == (2.0, False)
    assert (common.focus, common.focal_length_mm) == (120.0, 501.0)
    assert common.angle.deg == pytest.approx(1.0) and (common.angle.of, common.angle.pier_side) == (
        "mechanical",
        None,
    )
    assert common.utc == later.utc and common.origins == {"gain": "ISO", "offset": "BLKLEVEL"}
    assert common_facts([replace(f, of_sky=True) for f in (first, later, last)]).exposure_s == 3.0
    west = replace(first, angle=CameraAngle(10.0, "sky", "west"))
    assert common_facts([west, west]).angle == CameraAngle(10.0, "sky", "west")
    silent = common_facts([replace(later, sensor_temp_c=None, utc=None)])
    assert (silent.temp_range_c, silent.focus, silent.angle, silent.utc, silent.sensor_temp_c) == (
        0.0,
        None,
        None,
        None,
        None,
    )


def test_a_master_names_its_inputs_in_a_table():
    inputs = [
        InputRecord("flat é 1.fits", "a" * 64, True, 20_123.5, 0.25, ""),
        InputRecord("flat 2.fits", "b" * 64, False, 123.0, 0.0, "too dark"),
    ]
    with BytesIO() as stream:
        write_master(
            stream,
            np.full((8, 9), 1.5, np.float32),
            fits.Header({"IMAGETYP": "Master Flat"}),
            inputs,
            ["first", "ünd"],
        )
        raw = stream.getvalue()
    with fits.open(BytesIO(raw), checksum=True) as hdus:
        assert hdus[0].data.dtype == ">f4" and hdus[0].data.shape == (8, 9) and hdus[0].data[0, 0] == 1.5
        assert hdus[0].header["IMAGETYP"] == "Master Flat" and len(hdus[0].header["HISTORY"]) == 2
        assert "CHECKSUM" in hdus[0].header and "DATASUM" in hdus[1].header
        table = hdus[1]
        assert (table.name, table.columns.names) == (
            "INPUTS",
            ["NAME", "SHA256", "USED", "LEVEL", "CLIPPED", "REASON", "MEAN", "NOISE", "CCDTEMP"],
        )
        assert (
            table.columns.formats == ["13A", "64A", "L", "D", "D", "8A", "D", "D", "D"]
            and table.columns["LEVEL"].unit == "adu"
        )
        assert list(table.data["USED"]) == [True, False] and list(table.data["LEVEL"]) == [20_123.5, 123.0]
        assert list(table.data["CLIPPED"]) == [0.25, 0.0] and list(table.data["REASON"]) == ["", "too dark"]
        assert list(table.data["SHA256"]) == ["a" * 64, "b" * 64] and table.data["NAME"][1] == "flat 2.fits"
