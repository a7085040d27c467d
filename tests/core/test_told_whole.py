"""Answers compared whole: every number and every word of one rich case each, so that none changes unseen.

The expected texts were reckoned and read once; where a rule or a sentence is meant to change, they are changed with it.
"""

from __future__ import annotations

from dataclasses import astuple

import pytest

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.place import degrees_of, sun_offset
from grayshelf.core.planning import gates
from grayshelf.core.planning.flat_order import SearchStop, order_response, order_search
from grayshelf.core.planning.forecast import afterwards, bytes_needed
from grayshelf.core.planning.runsheet import plan_sheet
from grayshelf.core.planning.sheet import DarkSeries, FlatSeries, RigPace
from tests.told import difference, lines

PACE = RigPace(
    download_s=2.0, wheel_s=4.0, focus_s=5.0, gate_s=120.0, cooling_s_per_c=45.0, settle_s=180.0, build_s=20.0
)


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


def test_degrees_in_every_spelling():
    spelled = {
        "-104 49 21.6": -104.8226667, "+51:28:38": 51.4772222, "0d57m00s W": -0.95, "0d57m00s E": 0.95, "52.95": 52.95,
        "12° 30′ 36″ S": -12.51, "12:30:36S": -12.51, "12d30m36s": 12.51, "−3.5": -3.5, "7 30": 7.5, "7n": 7.0,
        "52° 57′ N": 52.95, "0° 57' W": -0.95, "52.95° N": 52.95, "0d57m W": -0.95, "51 28 60.0": 51.4833333,
    }  # fmt: skip
    for text, degrees in spelled.items():
        assert degrees_of(text) == pytest.approx(degrees, abs=1e-6), text
    assert degrees_of(12) == 12.0 and degrees_of(-0.5) == -0.5
    assert [
        degrees_of(x)
        for x in (True, float("nan"), float("inf"), "", "east", "1 2 3 4", None, "12 75", "5 m 99")
    ] == [None] * 9
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
