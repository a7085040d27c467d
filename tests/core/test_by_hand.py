"""Frames by any hands: which step one is for, what is wrong with it, and the line that says what comes next."""

from __future__ import annotations

from dataclasses import replace

import pytest

from grayshelf.core.checks.asked_for import AskedFor, all_wrong, which_of
from grayshelf.core.checks.frames import capped_level_adu, dark_allowance_adu
from grayshelf.core.flats.model import FlatTarget
from grayshelf.core.flats.search.confirming import is_a_flat
from grayshelf.core.flats.timed_light import Lit
from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import RigSays, SensorTraits
from grayshelf.core.planning.by_hand import NBSP, capped_line, flats_line, lit_line
from grayshelf.core.planning.sheet import FlatSeries
from tests.told import same_as_told

FLATS = AskedFor(
    "Kite 9",
    "R",
    100.0,
    1,
    30.0,
    exposure_s=0.85,
    angle_deg=359.5,
    focus=12_020.0,
    focus_within=100.0,
    read_mode="Fine",
)
DARK_FLATS = replace(FLATS, kind=FrameKind.DARK_FLAT, angle_deg=None, focus=None)
DARKS = AskedFor(
    "Kite 9", "", 100.0, 1, 30.0, kind=FrameKind.DARK, exposure_s=300.0, exposure_percent=1.0, temp_c=-10.0
)
FRAME = FrameFacts(
    80, 60, 16, FrameKind.FLAT, camera="Kite 9", filter_code="R", gain=100.0, offset=30.0, binning_x=1, exposure_s=0.85,
    angle=CameraAngle(0.3), focus=12_100.0, sensor_temp_c=4.0,
)  # fmt: skip
SHEET = [FLATS, DARK_FLATS, DARKS]


def test_a_frame_is_for_whatever_asks_for_it_and_comes_in_any_order():
    assert which_of(FRAME, SHEET).place == 0, (
        "0.8° around north, 80 steps of focus; a flat's temperature is no matter"
    )
    capped = replace(FRAME, kind=FrameKind.DARK, filter_code=None, angle=None, focus=None)
    assert which_of(capped, SHEET).place == 1, "a dark of a flat's exposure is its dark flat"
    assert which_of(replace(capped, exposure_s=299.98, sensor_temp_c=-10.6), SHEET).place == 2
    silent = FrameFacts(80, 60, 16, exposure_s=0.86)
    assert which_of(silent, SHEET).place == 0, "what a header does not say is not held against it"
    assert which_of(FRAME, []).why == "Nothing is asked for any more."
    of_sky = replace(FRAME, angle=CameraAngle(180.0, "sky"))
    assert which_of(of_sky, SHEET).place == 0, "an angle of the sky says nothing of the train"


@pytest.mark.parametrize(
    ("change", "asked", "says"),
    [
        ({"gain": 200.0}, SHEET, "It was taken at gain 200; the lights have 100. Set the gain to 100."),
        ({"offset": 10.0}, SHEET, "It was taken at offset 10; the lights have 30. Set it to 30."),
        ({"read_mode": "Fast"}, SHEET, "It was taken in read-out mode Fast; the lights have Fine. Set it to Fine."),
        ({"binning_x": 2}, SHEET, "It was taken at binning 2; the lights have 1. Set it to 1."),
        ({"filter_code": "Ha"}, SHEET, "It was taken in Ha; R is looked for. Bring R in."),
        ({"exposure_s": 1.0}, SHEET, "It was exposed for 1 s; 0.85 s is asked for. Set 0.85 s."),
        ({"exposure_s": None}, SHEET, "Its header does not tell the exposure, so nothing can be drawn from it. Let the program write EXPTIME."),
        ({"angle": CameraAngle(1.0)}, SHEET, "The camera sat at 1.0°; the lights had 359.5°. Turn it to 359.5°."),
        ({"focus": 11_900.0}, SHEET, "The focus was at 11,900; the lights had 12,020. Bring it to 12,020."),
        ({"camera": "Wren"}, SHEET, "It was taken with Wren, not with Kite 9."),
        ({"kind": FrameKind.LIGHT}, SHEET, "It is a light, not a flat. Take a flat."),
        ({"is_master": True}, SHEET, "It is a master, not a fresh frame. Take a flat."),
        ({"kind": FrameKind.DARK, "exposure_s": 300.0, "sensor_temp_c": -5.0}, SHEET, "The sensor was at −5.0 °C; −10 °C is asked for. Wait until it is there, or set it to −10 °C."),
        ({"kind": FrameKind.DARK, "exposure_s": 300.0, "gain": 120.0, "sensor_temp_c": -10.0}, [DARKS], "It was taken at gain 120; asked is 100. Set the gain to 100."),
        ({"kind": FrameKind.DARK, "exposure_s": 180.0, "sensor_temp_c": -10.0}, [DARKS], "It was exposed for 180 s; 300 s is asked for. Set 300 s."),
    ],
    ids=range(15),
)  # fmt: skip
def test_what_is_wrong_is_said_of_the_nearest_and_what_to_do(change, asked, says):
    found = which_of(replace(FRAME, **change), asked)
    assert found.place is None and found.why == says


def test_a_frame_is_held_against_what_it_was_meant_for():
    ha = replace(FLATS, filter_code="Ha", exposure_s=10.0)
    other_search = replace(FLATS, exposure_s=None)
    for exposure_s in (15.0, 60.0):
        meant = replace(FRAME, filter_code="Ha", exposure_s=exposure_s)
        assert (
            which_of(meant, [ha, other_search]).why
            == f"It was exposed for {exposure_s:g} s; 10 s is asked for. Set 10 s."
        )
    assert (
        "gain 200"
        in which_of(replace(FRAME, filter_code="Ha", exposure_s=10.0, gain=200.0), [other_search, ha]).why
    )


def test_bounds_belong_to_what_they_bound_and_all_that_is_wrong_is_known():
    assert not all_wrong(replace(FRAME, exposure_s=0.867), FLATS) and all_wrong(
        replace(FRAME, exposure_s=0.868), FLATS
    )
    dark = replace(FRAME, kind=FrameKind.DARK, exposure_s=303.0, sensor_temp_c=-9.0)
    assert not all_wrong(dark, DARKS) and all_wrong(replace(dark, sensor_temp_c=-8.99), DARKS)
    bias = replace(DARKS, kind=FrameKind.BIAS, temp_c=None)
    assert not all_wrong(replace(FRAME, kind=FrameKind.BIAS, exposure_s=None), bias), (
        "a bias has no exposure to match"
    )
    assert len(all_wrong(replace(FRAME, gain=1.0, binning_x=2, focus=1.0), FLATS)) == 3


def test_what_dark_current_may_add_doubles_with_six_degrees():
    # Arithmetic: 0.01 e⁻/s at 0 °C, 100 s at 12 °C: 4 e⁻, 2 ADU at 2 e⁻/ADU, four times that and 100.
    traits = SensorTraits(dark_rate_e_s=0.01, dark_rate_at_c=0.0, electrons_per_adu=2.0)
    assert dark_allowance_adu(traits, 12.0, 100.0) == pytest.approx(108.0)
    assert dark_allowance_adu(traits, None, 100.0) == pytest.approx(102.0)


def test_where_a_capped_frame_should_lie_is_known_from_the_best_there_is():
    assert capped_level_adu(500.0, 800.0, 2000.0, [400.0]) == 500.0
    assert capped_level_adu(None, 800.0, 2000.0, [400.0]) == 1000.0, (
        "as sure as a tenth of the flat's tolerance"
    )
    assert capped_level_adu(None, None, 0.0, [640.0, 600.0]) == 600.0
    assert capped_level_adu(None, None, 0.0, []) is None


def test_a_test_flat_is_a_flat_at_the_very_setting_and_in_tolerance():
    target = FlatTarget(20_000.0, 2_000.0, 65_535.0, 60_000.0)
    for shot, level, good in (
        ((2.0, 20), 22_000.0, True), ((2.0, 20), 22_001.0, False), ((2.002, 20), 20_000.0, True),
        ((2.01, 20), 20_000.0, False), ((2.0, 21), 20_000.0, False), ((2.0, None), 18_000.0, True),
    ):  # fmt: skip
        assert is_a_flat(shot, level, (2.0, 20), target) is good, (shot, level)


def test_one_line_says_what_to_do_and_each_number_is_copied_plainly():
    row = FlatSeries(
        "R", 100.0, 30.0, 1, 25, 25, focus=12_020.0, angle_deg=91.2, brightness=20, stack=("white cloth",)
    )
    line = flats_line(row, 25, 0.85, 20, test=False, light="panel")
    same_as_told("lines", "a line for flats", line)
    assert line.what.replace(NBSP, " ") == (
        "R, gain 100, offset 30: 25 flats of 0.85 s, panel at 20, focus 12,020, angle 91.2°"
    )
    assert line.before == "Cap off, telescope at panel, white cloth before it."
    assert {d.name: d.copied for d in line.dials} == {
        "filter": "R", "gain": "100", "offset": "30", "exposure": "0.85", "brightness": "20", "focus": "12020",
        "angle": "91.2",
    }  # fmt: skip
    bare = flats_line(
        replace(row, filter_code="none", binning=2, focus=None, angle_deg=None, stack=()),
        1,
        None,
        None,
        test=True,
        gain_word="ISO",
    )
    assert bare.what.replace(NBSP, " ") == "ISO 100, offset 30, binning 2: one test flat"
    dark = capped_line(FrameKind.DARK, 30, 100.0, 30.0, 1, 300.0, -10.0, read_mode="Fine")
    assert dark.before.replace(NBSP, " ") == "Cap on, the light and the room dark, sensor at −10 °C."
    assert dark.what.replace(NBSP, " ") == "Gain 100, offset 30, read-out mode Fine: 30 darks of 300 s"
    assert dark.dials[-1].copied == "-10"
    same_as_told("lines", "lines for a bare flat and a dark", [bare, dark])
    bias = capped_line(FrameKind.BIAS, 1, 100.0, 30.0, 1, None)
    assert bias.what.replace(NBSP, " ") == "Gain 100, offset 30: 1 bias frame"


def test_of_a_camera_without_gain_or_offset_none_is_asked_for():
    none = RigSays(frozenset({"gain", "offset"}))
    dark = capped_line(FrameKind.DARK, 20, 0.0, 0.0, 2, 900.0, says=none)
    assert dark.what.replace(NBSP, " ") == "Binning 2: 20 darks of 900 s"
    assert [d.name for d in dark.dials] == ["binning", "exposure"]
    bare = capped_line(FrameKind.BIAS, 50, 0.0, 0.0, 1, None, says=none)
    assert bare.what.replace(NBSP, " ") == "50 bias frames"
    flats = flats_line(FlatSeries("R", 0.0, 30.0, 1, 25, 25), 25, 0.5, None, test=False, says=none)
    assert flats.what.replace(NBSP, " ") == "R, offset 30: 25 flats of 0.5 s", "what is known is told"


def test_a_flat_that_measures_a_camera_is_asked_for_in_one_line():
    line = lit_line(100.0, 30.0, 0.25, "Ha", lit=Lit(0.1, 0.05))
    assert line.before == "Cap off, telescope at the light; leave the light as it is."
    assert line.what.replace(NBSP, " ") == (
        "Ha, gain 100, offset 30: 1 flat of 0.25 s, lit for 0.05 s, 0.1 s after it begins"
    )
    assert [d.copied for d in line.dials] == ["Ha", "100", "30", "0.25", "0.05", "0.1"]
    same_as_told("lines", "a line for a flat lit within its exposure", line)
    plain = lit_line(800.0, 0.0, 2.0, None, gain_word="ISO")
    assert plain.what.replace(NBSP, " ") == "ISO 800, offset 0: 1 flat of 2 s" and plain.by_rig == ""
    assert lit_line(1.0, 0.0, 2.0, None).what.startswith("Gain")


def test_what_devices_set_is_no_dial_of_the_person_and_is_said_apart():
    row = FlatSeries("R", 100.0, 30.0, 1, 25, 25, focus=12_020.0, angle_deg=91.2, brightness=20)
    by_rig = frozenset({"brightness", "angle", "cap"})
    line = flats_line(row, 25, 0.85, 20, test=False, light="panel", by_rig=by_rig)
    assert line.before == "Telescope at panel."
    assert line.what.replace(NBSP, " ") == "R, gain 100, offset 30: 25 flats of 0.85 s, focus 12,020"
    assert [d.name for d in line.dials] == ["filter", "gain", "offset", "exposure", "focus"]
    assert line.by_rig.replace(NBSP, " ") == "The rig sets this itself: panel at 20, angle 91.2°."
    dark = capped_line(FrameKind.DARK, 30, 100.0, 30.0, 1, 300.0, -10.0, by_rig=by_rig)
    assert dark.before.replace(NBSP, " ") == "The room dark, sensor at −10 °C."
    same_as_told("lines", "lines beside a rig", [line, dark])
    assert dark.by_rig == "The rig sets this itself: cover shut, light off."
    # A wheel alone turns nothing off and shuts nothing.
    wheel = capped_line(FrameKind.BIAS, 1, 100.0, 30.0, 1, None, by_rig=frozenset({"filter"}))
    assert wheel.before == "Cap on, the light and the room dark." and wheel.by_rig == ""
