"""Answers compared whole: every number and every word of one rich case each, so that none changes unseen.

The expected texts were reckoned and read once; where a rule or a sentence is meant to change, they are changed with it.
"""

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
from grayshelf.core.frames.place import degrees_of, sun_offset
from grayshelf.core.frames.sets import common_facts
from grayshelf.core.frames.write import InputRecord, frame_header, write_master
from grayshelf.core.planning import gates
from grayshelf.core.planning.flat_order import SearchStop, order_response, order_search
from grayshelf.core.planning.forecast import afterwards, bytes_needed
from grayshelf.core.planning.runsheet import plan_sheet
from grayshelf.core.planning.sheet import DarkSeries, FlatSeries, RigPace
from grayshelf.core.sensor.statistics import FrameStatistics, frame_statistics
from tests.helpers import facts_of, write_fits
from tests.told import difference

PACE = RigPace(
    download_s=2.0, wheel_s=4.0, focus_s=5.0, gate_s=120.0, cooling_s_per_c=45.0, settle_s=180.0, build_s=20.0
)


def lines(text: str) -> list[str]:
    """The lines of a text, without what indents them."""
    return [line.strip() for line in text.strip().splitlines()]


def step_told(step) -> str:
    """A step of a run sheet, with all that it says."""
    gate = f"{step.gate.sign}" if step.gate else "-"
    dark = f"{step.dark.exposure_s:g} s" if step.dark else "-"
    hand = "hand" if step.needs_person else "rig"
    known = "known" if step.exposure_known else "-"
    exposure = "-" if step.exposure_s is None else f"{step.exposure_s:g}"
    return (
        f"{step.kind.value} | {step.title} | {step.seconds:g} s | {hand} | {step.filter_code or '-'} | {step.count} | "
        f"{exposure} {known} | {step.row} | {gate} | {dark}"
    )


def test_a_sheet_of_everything():
    rows = [
        FlatSeries(
            "L", 100.0, 30.0, 1, 20, 15, 34, 12140.0, 91.2, 20, None, 0.7, wheel_position=0, hole=True
        ),
        FlatSeries("Ha", 200.0, 30.0, 1, 25, 0, 12, None, None, 60, 4.6, None, ("white cloth",), 0.8, 4),
        FlatSeries("Ha", 200.0, 30.0, 2, 25, 10, 3, 12100.0, 91.2, 60, None, None, ("white cloth",), 0.8, 4),
    ]
    darks = [
        DarkSeries(300.0, -10.0, 200.0, 30.0, 1, 30, 17),
        DarkSeries(120.0, None, 100.0, 30.0, 1, 20, 5),
        DarkSeries(4.6, -10.0, 200.0, 30.0, 1, 25, 9, kind=FrameKind.DARK_FLAT, filters=("Ha", "OIII")),
    ]
    by_rig = plan_sheet(rows, darks, PACE, sensor_temp_c=-5.0, current_position=4)
    assert [step_told(s) for s in by_rig.steps] == lines(BY_RIG)
    assert by_rig.darks == tuple(darks)
    by_hand = plan_sheet(
        rows[:2],
        darks[1:2],
        PACE,
        cover=True,
        dimmable=False,
        moves_focus=False,
        moves_angle=False,
        moves_filter=False,
    )
    assert [step_told(s) for s in by_hand.steps] == lines(BY_HAND)
    assert bytes_needed(by_rig.steps, 6000, 4000) == BYTES


BY_RIG = """
gate | Panel on | 120 s | hand | - | 0 | - - | None | panel | -
find | Find the exposure for L | 27 s | rig | L | 3 | 4 - | 0 | - | -
flats | 20 flats in L | 120 s | rig | L | 20 | 4 - | 0 | - | -
gate | Hang white cloth | 120 s | hand | - | 0 | - - | 1 | diffuser | -
find | Find the exposure for Ha | 10.6 s | rig | Ha | 1 | 4.6 known | 1 | - | -
flats | 25 flats in Ha | 165 s | rig | Ha | 25 | 4.6 known | 1 | - | -
find | Find the exposure for Ha | 27 s | rig | Ha | 3 | 4 - | 2 | - | -
flats | 25 flats in Ha | 150 s | rig | Ha | 25 | 4 - | 2 | - | -
gate | Cap on | 120 s | hand | - | 0 | - - | None | cap | -
dark flats | 15 dark flats for L | 90 s | rig | L | 15 | 4 - | 0 | - | -
dark flats | 10 dark flats for Ha | 60 s | rig | Ha | 10 | 4 - | 2 | - | -
dark flats | 25 dark flats of 4.6 s for Ha and OIII | 165 s | rig | - | 25 | 4.6 known | None | - | 4.6 s
build | Build 3 master flats and their dark flats | 60 s | rig | - | 0 | - - | None | - | -
darks | 20 darks of 120 s | 2440 s | rig | - | 20 | 120 known | None | - | 120 s
build | Build the master dark | 20 s | rig | - | 0 | - - | None | - | 120 s
cool | Bring the sensor to −10 °C | 405 s | rig | - | 0 | - - | None | - | 300 s
darks | 30 darks of 300 s at −10 °C | 9060 s | rig | - | 30 | 300 known | None | - | 300 s
build | Build the master dark | 20 s | rig | - | 0 | - - | None | - | 300 s
"""
BY_HAND = """
gate | Panel on | 120 s | hand | - | 0 | - - | None | panel | -
gate | L in | 120 s | hand | - | 0 | - - | 0 | filter | -
gate | Set the panel to 20 | 120 s | hand | - | 0 | - - | 0 | brightness | -
gate | Focus to 12140 | 120 s | hand | - | 0 | - - | 0 | focus | -
find | Find the exposure for L | 27 s | rig | L | 3 | 4 - | 0 | - | -
flats | 20 flats in L | 120 s | rig | L | 20 | 4 - | 0 | - | -
gate | Hang white cloth | 120 s | hand | - | 0 | - - | 1 | diffuser | -
gate | Ha in | 120 s | hand | - | 0 | - - | 1 | filter | -
gate | Set the panel to 60 | 120 s | hand | - | 0 | - - | 1 | brightness | -
find | Find the exposure for Ha | 10.6 s | rig | Ha | 1 | 4.6 known | 1 | - | -
flats | 25 flats in Ha | 165 s | rig | Ha | 25 | 4.6 known | 1 | - | -
gate | The cover closes | 10 s | rig | - | 0 | - - | None | cover | -
dark flats | 15 dark flats for L | 90 s | rig | L | 15 | 4 - | 0 | - | -
build | Build 2 master flats and their dark flats | 40 s | rig | - | 0 | - - | None | - | -
darks | 20 darks of 120 s | 2440 s | rig | - | 20 | 120 known | None | - | 120 s
build | Build the master dark | 20 s | rig | - | 0 | - - | None | - | 120 s
"""
BYTES = 9_265_644_480


def test_every_gate():
    every = [
        gates.panel_on(dimmable=True, angle_deg=None),
        gates.panel_on(dimmable=False, angle_deg=91.24),
        gates.light_in_place("the wall", dimmable=True),
        gates.light_in_place("lumen tile", dimmable=False),
        gates.panel_warm(by_hand=True),
        gates.panel_warm(by_hand=False),
        gates.hang("the panel", ("white cloth", "film"), 2.8, "shoot on", can_leave_out=True),
        gates.hang("the panel", (), 0.0),
        gates.dim_for("L", "Hang film: 2.0 stops.", ("film",), 2.0),
        gates.filter_in("Ha", "It is next."),
        gates.brightness_to("the panel", 40, "No device sets it."),
        gates.focus_to(12140.4, "As the lights had it."),
        gates.cap_on(),
        gates.cap_for_bias(),
        gates.cover_closes(),
        gates.zenith(("focus at 12,140", "camera at 91.2°"), "17 Oct"),
        gates.zenith((), ""),
    ]
    assert [repr(astuple(gate)) for gate in every] == lines(GATES)


GATES = """
('panel', 'Panel on', 'Aim the telescope at it; its brightness is set for you.', 'The panel is on: begin', (), None, '', False, True, 'aim at it; its brightness is set for you')
('panel', 'Panel on', 'Aim the telescope at it; switch it on. Leave the camera at 91.2°, as the lights had it.', 'The panel is on: begin', (), None, '', False, True, 'aim at it; switch it on')
('panel', 'The wall before the telescope', 'Aim the telescope at it, with nothing in between. Its brightness is set for you.', 'It is there: begin', (), None, '', False, True, '')
('panel', 'Lumen tile before the telescope', 'Aim the telescope at it, with nothing in between.', 'It is there: begin', (), None, '', False, True, '')
('panel', 'Put the panel before the telescope', 'Cap off, nothing else lit; the panel warm for some minutes, since a drift of the light looks like a bend of the sensor. Set it to a fixed, dim light and leave it.', 'The panel is before it', (), None, '', False, True, '')
('panel', 'Put the panel before the telescope', 'Cap off, nothing else lit; the panel warm for some minutes, since a drift of the light looks like a bend of the sensor.', 'The panel is before it', (), None, '', False, True, '')
('diffuser', 'Hang white cloth and film', 'Before the panel: white cloth and film, and nothing else.', 'White cloth and film hang: shoot on', ('white cloth', 'film'), 2.8, '', True, True, 'before the panel')
('diffuser', 'Take the diffusers off', 'Nothing hangs before the panel then.', 'They are off: go on', (), 0.0, '', False, True, 'nothing before the light')
('diffuser', 'Diffuser for L', 'Hang film: 2.0 stops.', 'It hangs: try L again', ('film',), 2.0, '', True, True, 'hang it before the panel')
('filter', 'Ha in', 'It is next.', 'Ha is in: go on', (), None, 'Ha', False, True, 'by hand')
('brightness', 'Set the panel to 40', 'No device sets it.', 'It is at 40: go on', (), None, '40', False, True, 'by hand')
('focus', 'Focus to 12140', 'As the lights had it.', 'The focus is set: go on', (), None, '12140', False, True, 'by hand')
('cap', 'Cap on', 'The panel goes dark by itself. Keep room light off the tube.', 'The cap is on: shoot what needs the dark', (), None, '', False, True, 'the panel goes dark by itself')
('cap', 'Put the cap on', 'Cap on, room dark: any light would look like a pedestal.', 'The cap is on', (), None, '', False, True, '')
('cover', 'The cover closes', '', 'Go on', (), None, '', False, False, '')
('sky', 'The telescope to the zenith', 'Near the zenith, on the side away from the sun; panel, cap and cloths off. Let it stand still: the stars then wander between the frames and are clipped from the master. As for the lights of 17 Oct: focus at 12,140, camera at 91.2°.', 'It stands there: wait for the sky', (), None, '', False, True, '')
('sky', 'The telescope to the zenith', 'Near the zenith, on the side away from the sun; panel, cap and cloths off. Let it stand still: the stars then wander between the frames and are clipped from the master.', 'It stands there: wait for the sky', (), None, '', False, True, '')
"""


def test_what_there_is_to_do_afterwards():
    told = [
        afterwards(*flags)
        for flags in ((True, True, True, True), (False, False, True, False), (True, False, False, True))
    ]
    assert told == AFTERWARDS


COLD = "The sensor is still cold: warm it before you cut the power, or leave it for darks."
DARK_PANEL = "The panel is dark: take it down."
AFTERWARDS = [
    ("The cover is closed.", DARK_PANEL, COLD),
    ("The cap is on: leave it.", DARK_PANEL, "The rig may come down."),
    ("The cap is on: leave it.", COLD),
]


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


def test_degrees_in_every_spelling():
    spelled = {
        "-104 49 21.6": -104.8226667, "+51:28:38": 51.4772222, "0d57m00s W": -0.95, "0d57m00s E": 0.95, "52.95": 52.95,
        "12° 30′ 36″ S": -12.51, "12:30:36S": -12.51, "12d30m36s": 12.51, "−3.5": -3.5, "7 30": 7.5, "7n": 7.0,
    }  # fmt: skip
    for text, degrees in spelled.items():
        assert degrees_of(text) == pytest.approx(degrees, abs=1e-6), text
    assert degrees_of(12) == 12.0 and degrees_of(-0.5) == -0.5
    assert [degrees_of(x) for x in (True, float("nan"), float("inf"), "", "east", "1 2 3 4", None)] == [
        None
    ] * 7
    assert sun_offset(15.0).total_seconds() == 3600.0 and sun_offset(-7.5).total_seconds() == -1800.0


def stop(index, code, **more):
    usual = {
        "source": "tile",
        "stack": (),
        "stack_stops": 0.0,
        "gain": 100.0,
        "binning": 1,
        "wheel_position": 0,
    }
    return SearchStop(index, filter_code=code, **{**usual, **more})


def test_the_order_of_searches_spares_the_hand():
    stops = [
        stop(0, "L", wheel_position=0, brightness=20),
        stop(1, "Ha", wheel_position=4, brightness=60, gain=200.0, width_nm=7.0),
        stop(2, "OIII", wheel_position=5, brightness=60, gain=200.0, width_nm=5.0),
        stop(3, "R", wheel_position=1, stack=("film",), stack_stops=2.0, brightness=20),
        stop(4, "G", wheel_position=2, stack=("cloth",), stack_stops=0.8, brightness=20),
        stop(5, "B", wheel_position=3, brightness=20, binning=2),
        stop(6, "SII", source="wall", wheel_position=6, width_nm=5.0, gain=300.0),
    ]
    assert order_search(stops, 5, dims_by_hand=False) == [0, 5, 2, 1, 4, 3, 6]
    assert order_search(stops, None, dims_by_hand=True) == [0, 5, 1, 2, 4, 3, 6]
    assert order_search(stops[1:3], 4, dims_by_hand=False) == [1, 2]
    # The narrowest with the highest gain has the ladder; what hangs goes on once, after it.
    assert order_response(stops) == [6, 0, 1, 2, 5, 4, 3]
    assert order_response([stop(0, "L"), stop(1, "L", gain=300.0), stop(2, "R", gain=200.0)]) == [2, 0]


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


def test_a_kept_answer_that_changed_is_told_by_its_place():
    kept = {"a": [1.0, {"b": "x"}], "c": None}
    for now, said in (
        ({"a": [1.0, {"b": "x"}], "c": None}, None),
        ({"a": [1.0001, {"b": "x"}], "c": None}, None),
        ({"a": [1.01, {"b": "x"}], "c": None}, ".a[0] was 1.0 and is 1.01"),
        ({"a": [1.0, {"b": "y"}], "c": None}, ".a[1].b was 'x' and is 'y'"),
    ):
        assert difference(kept, now, 2e-4, 1e-6) == said
    assert "and is" in difference(kept, {"a": [], "c": None}, 2e-4, 1e-6)
    assert "and is" in difference(kept, {"a": kept["a"]}, 2e-4, 1e-6)
