"""Run sheets: order, gates, times."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime

import pytest

from grayshelf.core.checks.apart import apart_from_set
from grayshelf.core.checks.frames import care_with_flats, flat_level, light_leak
from grayshelf.core.planning.forecast import bytes_needed, timed
from grayshelf.core.planning.runsheet import plan_sheet
from grayshelf.core.planning.sheet import DarkSeries, FlatSeries, RigPace, StepKind
from grayshelf.core.sensor.statistics import FrameStatistics
from tests.told import same_as_told

PACE = RigPace()


def wish(code, brightness, position, gain=200.0, **more):
    return FlatSeries(code, gain, 30.0, 1, 25, 25, wheel_position=position, brightness=brightness, **more)


ROWS = [
    wish("L", 20, 0, 100.0),
    wish("B", 20, 3, 100.0),
    wish("Ha", 60, 4),
    wish("OIII", 60, 5),
    wish("SII", 60, 6),
]
DARKS = [DarkSeries(300.0, -5.0, 200.0, 30.0, 1, 30)]


def test_order_gates_and_times():
    sheet = plan_sheet(ROWS, DARKS, PACE, sensor_temp_c=-10.0, current_position=6)
    same_as_told(
        "sheets", "five filters and darks", [sheet, timed(sheet.steps, datetime(2026, 10, 19, tzinfo=UTC))]
    )
    kinds = [s.kind for s in sheet.steps]
    assert [r.filter_code for r in sheet.rows] == ["SII", "OIII", "Ha", "B", "L"], (
        "one brightness after the other"
    )
    gates = [i for i, k in enumerate(kinds) if k is StepKind.GATE]
    assert [sheet.steps[i].gate.sign for i in gates] == ["panel", "cap"]
    assert sheet.times_needed == 2
    flats = [i for i, k in enumerate(kinds) if k is StepKind.FLATS]
    dark_flats = [i for i, k in enumerate(kinds) if k is StepKind.DARK_FLATS]
    assert gates[0] < min(flats) < max(flats) < gates[1] < min(dark_flats)
    assert kinds.index(StepKind.COOL) > max(dark_flats), "darks come when nobody is needed any more"
    start = datetime(2026, 10, 19, 0, 12, tzinfo=UTC)
    times = timed(sheet.steps, start)
    assert times[0].start == start
    assert all(a.end == b.start for a, b in zip(times[:-1], times[1:], strict=True))
    # 30 frames of 300 s and their downloads: 2 h 31 min (arithmetic).
    darks = next(t for t in times if t.step.kind is StepKind.DARKS)
    assert (darks.end - darks.start).total_seconds() == pytest.approx(30 * 301.5)


def test_a_last_setting_shortens_the_search_and_a_rig_without_focuser_gets_a_gate():
    known = plan_sheet([wish("SII", 60, 6, prior_exposure_s=6.5, focus=12140.0)], [], PACE, moves_focus=False)
    blind = plan_sheet([wish("SII", 60, 6)], [], PACE)
    find = {s.kind: s for s in known.steps}[StepKind.FIND]
    same_as_told("sheets", "a last setting, or none", [known, blind])
    assert find.seconds < {s.kind: s for s in blind.steps}[StepKind.FIND].seconds + 10
    assert any(s.gate and s.gate.sign == "focus" and "12140" in s.title for s in known.steps)
    assert plan_sheet([], [], PACE).steps == ()
    assert plan_sheet([wish("L", 20, 0)], [], PACE, cover=True).times_needed == 1


def test_filters_of_one_exposure_gain_and_offset_share_dark_flats():
    rows = [
        wish("L", 20, 0, 100.0, prior_exposure_s=2.0),
        wish("R", 20, 1, 100.0, prior_exposure_s=2.0),
        wish("G", 20, 2, 100.0, prior_exposure_s=2.2),
        wish("Ha", 20, 4, 200.0, prior_exposure_s=2.0),
        wish("B", 20, 5, 100.0),
    ]
    steps = [s for s in plan_sheet(rows, [], PACE).steps if s.kind is StepKind.DARK_FLATS]
    same_as_told("sheets", "dark flats that serve others", steps)
    served = {s.filter_code: s.served_by for s in steps}
    assert served == {"L": None, "R": 0, "G": None, "Ha": None, "B": None}, "and not where it is unknown yet"
    assert [s.seconds for s in steps if s.served_by is not None] == [0.0]
    more = [rows[0], replace(rows[1], n_dark_flats=30)]
    assert all(s.served_by is None for s in plan_sheet(more, [], PACE).steps), "fewer do not serve"


def test_what_the_rig_cannot_set_becomes_a_gate_with_the_number():
    rows = [
        wish("SII", 60, 6, focus=12140.0, angle_deg=91.2),
        wish("Ha", 60, 4, focus=12110.0),
        wish("B", 20, 3, 100.0),
    ]
    by_hand = {"dimmable": False, "moves_focus": False, "moves_angle": False, "moves_filter": False}
    sheet = plan_sheet(rows, [], PACE, current_position=6, **by_hand)
    gates = [(s.gate.sign, s.title) for s in sheet.steps if s.kind is StepKind.GATE]
    assert gates == [
        ("panel", "Panel on"), ("filter", "SII in"), ("brightness", "Set the panel to 60"), ("focus", "Focus to 12140"),
        ("filter", "Ha in"), ("focus", "Focus to 12110"), ("filter", "B in"), ("brightness", "Set the panel to 20"),
        ("cap", "Cap on"),
    ]  # fmt: skip
    same_as_told("sheets", "all by hand", sheet)
    assert "91.2°" in sheet.steps[0].gate.advice
    assert sheet.times_needed == len(gates)


def test_room_on_the_disk():
    sheet = plan_sheet(ROWS[:1], [], PACE)
    # 25 flats, 25 dark flats and 3 test shots of 16 bits, two masters of 32 (arithmetic).
    expected = 53 * (1000 * 800 * 2 + 8640) + 2 * (1000 * 800 * 4 + 14400)
    assert bytes_needed(sheet.steps, 1000, 800) == expected


@pytest.mark.parametrize(
    ("level_adu", "full"),
    [
        (65_535.0, True),
        (65_520.0, True),
        (16_383.0, True),
        (4_095.0, True),
        (65_519.0, False),
        (16_384.0, False),
        (None, False),
    ],
)
def test_flats_are_full_at_the_end_of_their_converter_shifted_or_not(level_adu, full):
    assert bool(care_with_flats(level_adu)) is full


def test_frames_apart_from_their_set_and_light_on_a_capped_frame():
    levels = [27355.0, 27356.0, 27357.0, 27355.5, 35643.0, 27356.5]
    assert list(apart_from_set(levels)) == [4]
    assert "above the others" in apart_from_set(levels)[4]
    assert apart_from_set([500.0, 501.0, 502.5, 499.0]) == {}
    stats = FrameStatistics(10, 400, 900, 640.0, 640.0, 5.0, 0, 660.0, 0.0)
    finding = light_leak(stats, 500.0)
    assert finding is not None
    assert finding.size == 140.0
    assert light_leak(stats, 620.0) is None
    assert flat_level(stats, 600.0, 25.0) is None, "a panel that drifts a little is no matter"
    assert flat_level(stats, 500.0, 25.0).size == 140.0
