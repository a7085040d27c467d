"""The search for a flat's exposure: it never leaves the window, always ends, and tells the truth."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from grayshelf.core.flats.exposure import (
    MOST_SHOTS,
    Bound,
    ExposureWindow,
    Found,
    NoAnswer,
    Pedestal,
    Shoot,
    TestShot,
    dial,
    next_step,
)
from grayshelf.core.flats.settings import FlatWishes

WHITE = 65535.0


def search(rate, pedestal, window, target, known=None, prior=None, t0=0.002, bend=0.0):
    """Run a search on a source that gives `rate` ADU a second; return the end and the shots."""
    shots: list[TestShot] = []
    while len(shots) <= MOST_SHOTS:
        step = next_step(target, window, shots, known, prior)
        if not isinstance(step, Shoot):
            return step, shots
        lowest = window.probe_s if step.probe else window.shortest.exposure_s
        assert lowest * 0.999 <= step.exposure_s <= window.longest.exposure_s * 1.001
        assert step.why
        linear = rate * (step.exposure_s + t0)
        level = min(pedestal + linear * (1 - bend * linear / WHITE), WHITE)
        bright = min(pedestal + 1.15 * linear, WHITE)
        shots.append(TestShot(step.exposure_s, level, bright, float(level >= WHITE)))
    raise AssertionError("the search did not end")


@settings(max_examples=300, deadline=None)
@given(
    log_rate=st.floats(0.5, 7.0),
    pedestal=st.floats(30, 3000),
    shortest=st.floats(0.05, 3.0),
    factor=st.floats(3.0, 200.0),
    percent=st.floats(15, 60),
    is_known=st.booleans(),
    prior=st.one_of(st.none(), st.floats(0.01, 100)),
)
def test_the_search_ends_with_the_answer_or_the_right_direction(
    log_rate, pedestal, shortest, factor, percent, is_known, prior
):
    wishes = FlatWishes(level_percent=percent, shortest_s=shortest, longest_s=shortest * factor)
    target, window = wishes.target(WHITE), wishes.window()
    rate = 10.0**log_rate
    known = Pedestal(pedestal + 5, 15.0, "bias") if is_known else None
    # Without a known pedestal, it cannot be told from light in the dead time: there is none of that then.
    t0 = 0.002 if is_known else 0.0
    end, shots = search(rate, pedestal, window, target, known, prior, t0)
    true_exposure = (target.level_adu - pedestal) / rate - t0
    low, high = window.shortest.exposure_s, window.longest.exposure_s
    if isinstance(end, Found):
        assert low * 0.999 <= end.exposure_s <= high * 1.001
        assert abs(pedestal + rate * (end.exposure_s + t0) - target.level_adu) <= target.tolerance_adu
        assert len(shots) <= 5
        return
    assert isinstance(end, NoAnswer)
    at = low if end.direction == "too bright" else high
    ratio = (target.level_adu - pedestal) / (rate * (at + t0))
    true_stops = -math.log2(ratio) if end.direction == "too bright" else math.log2(ratio)
    assert end.direction == ("too bright" if true_exposure < low else "too dim")
    if end.at_least:
        assert end.stops <= true_stops + 0.1
    else:
        assert end.stops == pytest.approx(true_stops, abs=0.15)


def test_three_times_too_bright_is_1_6_stops():
    # Arithmetic: 3.0× is 1.58 stops, 2.9× is 1.54.
    wishes = FlatWishes()
    target = wishes.target(WHITE)
    rate = 3.0 * (target.level_adu - 500) / 0.5
    end, _ = search(rate, 500, wishes.window(), target, Pedestal(500, 5, "bias"), t0=0.0)
    assert isinstance(end, NoAnswer)
    assert end.stops == pytest.approx(math.log2(3.0), abs=0.02)
    assert "1.6 stops" in end.advice
    assert "3.0 times too high" in end.message


def test_where_everything_saturates_the_amount_is_a_lower_bound():
    wishes = FlatWishes()
    end, shots = search(5e7, 500, wishes.window(), wishes.target(WHITE))
    assert isinstance(end, NoAnswer)
    assert end.at_least
    assert "at least" in end.advice
    assert shots[-1].exposure_s < wishes.shortest_s, "a probe shorter than the window was tried"


def test_a_last_setting_needs_one_shot():
    wishes = FlatWishes()
    target = wishes.target(WHITE)
    end, shots = search((target.level_adu - 500) / 6.1, 500, wishes.window(), target, None, 6.1)
    assert isinstance(end, Found)
    assert len(shots) == 1


def test_a_sensor_that_bends_is_still_found():
    wishes = FlatWishes()
    target = wishes.target(WHITE)
    end, shots = search(4000, 500, wishes.window(), target, Pedestal(500, 15, "bias"), bend=0.08)
    assert isinstance(end, Found)
    assert len(shots) <= 4


def test_an_unsteady_light_is_said_to_be_one():
    wishes = FlatWishes()
    target, window = wishes.target(WHITE), wishes.window()
    rng = np.random.default_rng(3)
    shots: list[TestShot] = []
    for _ in range(MOST_SHOTS + 1):
        step = next_step(target, window, shots)
        if not isinstance(step, Shoot):
            break
        level = float(rng.choice([3000.0, 60000.0])) * (1 + 0.1 * len(shots) % 0.3)
        shots.append(TestShot(step.exposure_s, level, level))
    assert isinstance(step, (NoAnswer, Found))
    assert len(shots) <= MOST_SHOTS


def test_the_brightest_pixels_stay_under_the_linear_limit():
    # The level is lowered where the brightest 0.1 % would pass the limit (domain: flats).
    wishes = FlatWishes(level_percent=60.0, linear_limit_percent=70.0)
    target, window = wishes.target(WHITE), wishes.window()
    shots: list[TestShot] = []
    while isinstance(step := next_step(target, window, shots, Pedestal(500, 5, "bias")), Shoot):
        signal = 3000 * step.exposure_s
        shots.append(TestShot(step.exposure_s, min(500 + signal, WHITE), min(500 + 1.4 * signal, WHITE)))
    assert isinstance(step, Found)
    assert 500 + 1.4 * 3000 * step.exposure_s <= 0.705 * WHITE


@pytest.mark.parametrize(
    ("raw", "dialled"), [(6.07, 6.0), (4.348, 4.4), (0.1666, 0.165), (29.6, 30.0), (7.48, 7.5)]
)
def test_exposures_are_rounded_to_what_people_dial(raw, dialled):
    assert dial(raw) == pytest.approx(dialled)
    assert abs(dial(raw) / raw - 1) <= 0.015


def test_the_trades_arithmetic():
    # 30 % of 65,535 is 19,660.5, and ±10 % of that is 17,694 … 21,626 (arithmetic).
    target = FlatWishes(level_percent=30.0, tolerance_percent=10.0).target(65535)
    assert target.level_adu == pytest.approx(19660.5)
    assert target.level_adu - target.tolerance_adu == pytest.approx(17694.45)
    assert target.level_adu + target.tolerance_adu == pytest.approx(21626.55)
    assert ExposureWindow(Bound(1, ""), Bound(2, "")).probe_s < 0.1
