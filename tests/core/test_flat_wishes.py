"""What is wished of flats, what hands have to do for them, and which frames tell of a row."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from grayshelf.core.checks.asked_for import AskedFor, why_not
from grayshelf.core.flats.drift import shot_with
from grayshelf.core.flats.model import Dimmer, Pedestal, Prior, TestShot
from grayshelf.core.flats.panel.one_exposure import SharedRow, share_exposure
from grayshelf.core.flats.panel.response import ResponsePoint, fit_response
from grayshelf.core.flats.search.light import fit_light
from grayshelf.core.flats.search.task import at_level
from grayshelf.core.flats.settings import FlatWishes, RowKey, wishes_from
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.flat_order import SearchStop, order_search

DIMMER = Dimmer(18, 255)


def test_the_fewest_changes_by_hand():
    stops = [
        SearchStop(0, "tile", (), 0.0, 200, 1, 4),
        SearchStop(1, "tile", ("film",), 2.0, 100, 1, 0),
        SearchStop(2, "tile", (), 0.0, 100, 1, 1),
        SearchStop(3, "tile", ("film",), 2.0, 100, 2, 0),
        SearchStop(4, "tile", (), 0.0, 100, 1, 3),
    ]
    order = order_search(stops, 2, dims_by_hand=False)
    assert order == [2, 4, 0, 1, 3]
    stacks = [stops[i].stack for i in order]
    assert sum(a != b for a, b in zip(stacks, stacks[1:], strict=False)) == 1, "the film goes on once"


stops_of_any_sheet = st.lists(
    st.tuples(
        st.sampled_from(("tile", "wall")),
        st.sampled_from(((), ("film",), ("cloth", "film"))),
        st.sampled_from((100.0, 200.0)),
        st.integers(1, 2),
        st.integers(0, 6),
    ),
    min_size=1,
    max_size=14,
)


@given(rows=stops_of_any_sheet, wheel_at=st.none() | st.integers(0, 6))
def test_no_hand_is_asked_twice_for_the_same(rows, wheel_at):
    """Whatever is on a sheet: each light, each stack before it and each gain comes once, then the wheel turns."""
    takes = {(): 0.0, ("film",): 2.0, ("cloth", "film"): 2.8}
    stops = [
        SearchStop(i, source, stack, takes[stack], gain, binning, position)
        for i, (source, stack, gain, binning, position) in enumerate(rows)
    ]
    order = [stops[i] for i in order_search(stops, wheel_at, dims_by_hand=False)]
    assert sorted(s.index for s in order) == list(range(len(stops)))
    for depth in range(1, 5):
        asked = [(s.source, s.stack, s.gain, s.binning)[:depth] for s in order]
        changes = sum(a != b for a, b in zip(asked, asked[1:], strict=False))
        assert changes == len(set(asked)) - 1, "as few as there are"


@settings(max_examples=60)
@given(
    logs=st.lists(st.floats(-1.2, 1.2), min_size=2, max_size=6),
    exponent=st.floats(0.8, 2.2),
    preferred=st.floats(0.5, 20.0),
)
@example(logs=[1.1533, 0.0, 1.0706, 1.0706, 0.0, 1.1533], exponent=0.8, preferred=1.1533)
def test_no_other_exposure_serves_more_filters(logs, exponent, preferred):
    target, window = FlatWishes().target(65535), FlatWishes().window()
    points = [ResponsePoint("x", b, ((b - 9.0) / 246.0) ** exponent) for b in (18, 30, 60, 120, 180, 255)]
    response, rows = fit_response(points, DIMMER), []
    for i, log in enumerate(logs):
        rate = 40_000.0 * 10.0**log
        at = [(b, min(20_000.0 / (rate * math.exp(response.log_output(b))), 30.0)) for b in (40, 120)]
        seen = [
            TestShot(t, level := 500 + rate * math.exp(response.log_output(b)) * t, level, brightness=b)
            for b, t in at
        ]
        light = fit_light(seen, target, Pedestal(500, 5, "bias"), response)
        rows.append(SharedRow(i, target, window, light))
    shared = share_exposure(rows, DIMMER, preferred)

    rates_of = [np.array([r.light.rate(b) for b in range(18, 256)]) for r in rows]

    def served(exposure_s):
        """Filters whose level some whole brightness brings well within the tolerance."""
        off = [
            np.abs(r.light.pedestal_adu + rate * (exposure_s + r.light.dead_time_s) - target.level_adu).min()
            for r, rate in zip(rows, rates_of, strict=True)
        ]
        return sum(o <= 0.8 * target.tolerance_adu for o in off)

    most = max(served(t) for t in np.geomspace(0.5, 30.0, 24))
    if shared is None:
        assert most < 2 or all(served(t) < 2 for t in (0.5, preferred, 30.0))
        return
    assert 0.5 * 0.999 <= shared.exposure_s <= 30.0 * 1.001
    assert served(shared.exposure_s) >= len(shared.brightness) >= 2
    assert len(shared.brightness) >= most - 1, "the ends of the windows are rounded to what people dial"
    for key, brightness in shared.brightness.items():
        assert (
            abs(rows[key].light.level(shared.exposure_s, brightness) - target.level_adu)
            <= target.tolerance_adu
        )


def test_wishes_in_adu_percent_and_electrons():
    # 30 % of 65,535 is 19,660.5 (arithmetic); 20,000 ADU is a maker's advice some follow (common practice).
    assert FlatWishes(level_adu=20_000, tolerance_adu=500).target(65535).level_adu == 20_000
    assert FlatWishes(level_adu=20_000, tolerance_adu=500).target(65535).tolerance_adu == 500
    electrons = FlatWishes(level_electrons=7_000).target(65535, None, 0.25, 500)
    assert electrons.level_adu == pytest.approx(28_500)
    with pytest.raises(Exception, match="electrons"):
        FlatWishes(level_electrons=7_000).target(65535)
    rig, row = {"level_percent": 40.0, "longest_s": 20.0}, {"level_adu": 21_000.0}
    assert wishes_from(rig, row).target(65535).level_adu == 21_000
    assert wishes_from({"level_adu": 21_000.0}, {"level_percent": 30.0}).target(
        65535
    ).level_adu == pytest.approx(19660.5)


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({}, None),
        ({"filter_code": "OIII"}, "taken in OIII; SII is looked for"),
        ({"gain": 100.0}, "gain 100; the lights have 200"),
        ({"binning_x": 2}, "binning 2; the lights have 1"),
        ({"camera": "Dunlin C14"}, "with Dunlin C14"),
        ({"kind": FrameKind.LIGHT}, "a light, not a flat"),
        ({"kind": FrameKind.DARK_FLAT}, "a dark flat, not a flat"),
        ({"exposure_s": None}, "does not tell the exposure"),
        ({"kind": None, "filter_code": None, "gain": None}, None),
    ],
)
def test_a_frame_that_is_not_the_one_asked_for_gets_a_sentence(changes, said):
    facts = FrameFacts(
        10, 10, 16, FrameKind.FLAT, camera="Dunlin M24", exposure_s=2.0, gain=200.0, binning_x=1, filter_code="SII"
    )  # fmt: skip
    why = why_not(replace(facts, **changes), AskedFor("Dunlin M24", "SII", 200.0, 1))
    assert (why is None) if said is None else said in why


@pytest.mark.parametrize(
    ("changes", "is_of"),
    [
        ({}, True),
        ({"exposure_s": 2.03}, True),
        ({"exposure_s": 2.05}, False),
        ({"exposure_s": None}, False),
        ({"filter_code": "OIII"}, False),
        ({"gain": None}, False),
        ({"offset": 12.0}, False),
        ({"binning_x": 2}, False),
        ({"of_sky": True}, False),
    ],
)
def test_only_flats_of_a_row_and_its_exposure_tell_of_its_setting(changes, is_of):
    facts = FrameFacts(
        10, 10, 16, FrameKind.FLAT, camera="Dunlin M24", exposure_s=2.0, gain=200.0, offset=30.0, binning_x=1,
        filter_code="SII", telescope="Heron 92",
    )  # fmt: skip
    row = RowKey("SII", 200.0, 30.0, 1)
    assert shot_with(replace(facts, **changes), row, 2.0) is is_of


def test_an_iso_dial_tells_no_offset_and_a_camera_without_filters_no_filter():
    facts = FrameFacts(10, 10, 16, FrameKind.FLAT, exposure_s=1 / 60, gain=1600.0)
    assert shot_with(facts, RowKey("none", 1600.0, 0.0, 1), 1 / 60)


def test_another_level_is_in_proportion_above_the_pedestal():
    # From 30,500 to 15,500 over a pedestal of 500 is half the light (arithmetic).
    wish = FlatWishes(level_adu=15_500, tolerance_adu=500).target(65535)
    assert at_level(Prior(6.0, 60), 30_500, 500, wish).exposure_s == pytest.approx(3.0)
    assert at_level(Prior(6.0, 60), 15_900, 500, wish) == Prior(6.0, 60), (
        "within the tolerance it stays as it is"
    )
