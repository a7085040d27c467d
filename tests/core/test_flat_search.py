"""The search for a flat's exposure and brightness: it never leaves what is permitted, always ends, and tells the truth."""

from __future__ import annotations

import math
import re

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from grayshelf.core.flats.model import (
    Bound,
    Dimmer,
    ExposureWindow,
    Found,
    NoAnswer,
    Pedestal,
    Prior,
    Shoot,
    TestShot,
)
from grayshelf.core.flats.panel.response import ResponsePoint, fit_response
from grayshelf.core.flats.search.dial import BANDING_LIMIT, Pulse, dial
from grayshelf.core.flats.search.next_step import MOST_SHOTS, next_step
from grayshelf.core.flats.search.task import Task, carried_over
from grayshelf.core.flats.settings import FlatWishes

WHITE = 65535.0
DIMMER = Dimmer(18, 255)


def search(task, output, pedestal, t0=0.0, bend=0.0, contrast=1.15):
    """Run a search on a source that gives `output(brightness)` ADU a second; return the end and the shots."""
    shots: list[TestShot] = []
    while len(shots) <= MOST_SHOTS:
        step = next_step(task, shots)
        if not isinstance(step, Shoot):
            return step, shots
        lowest = task.window.probe_s if step.probe else task.window.shortest.exposure_s
        assert lowest * 0.999 <= step.exposure_s <= task.window.longest.exposure_s * 1.001
        if task.mode == "time":
            assert step.brightness == task.brightness
        else:
            assert step.brightness in task.dimmer
        assert step.why
        light = output(step.brightness) * (step.exposure_s + t0)
        level = min(pedestal + light * (1 - bend * light / WHITE), WHITE)
        bright = min(pedestal + contrast * light, WHITE)
        shots.append(
            TestShot(step.exposure_s, level, bright, float(level >= WHITE), brightness=step.brightness)
        )
    raise AssertionError("the search did not end")


def check_end(task, end, shots, output, pedestal, t0=0.0):
    """The end is an answer within tolerance, or the right way and amount."""
    target, window = task.target, task.window
    if isinstance(end, Found):
        assert window.shortest.exposure_s * 0.999 <= end.exposure_s <= window.longest.exposure_s * 1.001
        level = pedestal + output(end.brightness) * (end.exposure_s + t0)
        assert abs(level - target.level_adu) <= target.tolerance_adu
        assert level == pytest.approx(end.expected_adu, rel=0.02)
        return
    assert isinstance(end, NoAnswer)
    if end.direction == "too coarse":
        levels = [pedestal + output(b) * task.preferred_s for b in (end.brightness, end.brightness + 1)]
        assert levels[0] < target.level_adu - target.tolerance_adu
        assert levels[1] > target.level_adu + target.tolerance_adu
        return
    exposure, brightness = task.bright_end if end.direction == "too bright" else task.dim_end
    light = output(brightness) * (exposure + t0)
    ratio = (target.level_adu - pedestal) / max(light, 1e-9)
    true_stops = -math.log2(ratio) if end.direction == "too bright" else math.log2(ratio)
    assert true_stops > -0.001, [(s.exposure_s, s.brightness, round(s.level_adu)) for s in shots]
    read = [s for s in shots if s.level_adu < 0.9 * WHITE and s.level_adu > pedestal + 2500]
    if end.at_least:
        assert end.stops <= true_stops + 0.1
        assert "at least" in end.message
        assert not (task.pedestal and read), "a shot that could be read gives the amount, not a bound"
    else:
        assert end.stops == pytest.approx(true_stops, abs=0.1)


@settings(max_examples=300)
@given(
    log_rate=st.floats(0.5, 7.0),
    pedestal=st.floats(30, 3000),
    shortest=st.floats(0.05, 3.0),
    factor=st.floats(3.0, 200.0),
    percent=st.floats(15, 60),
    is_known=st.booleans(),
    prior=st.one_of(st.none(), st.floats(0.01, 100)),
)
def test_time_is_found_or_the_way_and_the_amount(
    log_rate, pedestal, shortest, factor, percent, is_known, prior
):
    wishes = FlatWishes(level_percent=percent, shortest_s=shortest, longest_s=shortest * factor)
    known = Pedestal(pedestal + 5, 15.0, "bias") if is_known else None
    task = Task(
        wishes.target(WHITE),
        wishes.window(),
        pedestal=known,
        prior=Prior(prior) if prior is not None else None,
    )
    # Without a known pedestal, it cannot be told from light in the dead time: there is none of that then.
    t0 = 0.002 if is_known else 0.0
    rate = 10.0**log_rate
    end, shots = search(task, lambda b: rate, pedestal, t0)
    check_end(task, end, shots, lambda b: rate, pedestal, t0)
    if isinstance(end, Found):
        assert len(shots) <= 4


#: Any monotone panel: steps of its output, in nothing like a power law.
panels = st.lists(st.floats(0.0, 1.0), min_size=238, max_size=238).map(
    lambda steps: [sum(steps[: i + 1]) + 0.002 for i in range(238)]
)
#: Panels that are nearly all steps: the hardest, for whoever believes in a curve.
jumps = st.dictionaries(st.integers(0, 237), st.floats(0.01, 1.0), min_size=1, max_size=8).map(
    lambda steps: [sum(h for at, h in steps.items() if at <= i) + 0.002 for i in range(238)]
)
smooth = st.tuples(st.floats(0.7, 2.4), st.floats(0.0, 17.0)).map(
    lambda p: [((b - p[1]) / (255 - p[1])) ** p[0] for b in range(18, 256)]
)


@settings(max_examples=200)
@given(
    panel=st.one_of(panels, jumps, smooth),
    log_rate=st.floats(1.5, 7.0),
    pedestal=st.floats(30, 3000),
    is_known=st.booleans(),
    mode=st.sampled_from(("brightness", "both")),
    exposure=st.floats(0.5, 20.0),
    prior=st.one_of(st.none(), st.integers(1, 400)),
)
@example([0.11, 0.11] + [0.94 + 0.2 * i for i in range(236)], 6.25, 30.0, False, "brightness", 19.0, None)
@example(
    [0.1, 0.19] + [0.28] * 37 + [0.58] * 150 + [1.08] + [1.455] * 48,
    3.59375,
    30.0,
    False,
    "brightness",
    8.0,
    None,
)
def test_brightness_is_found_on_any_monotone_panel(
    panel, log_rate, pedestal, is_known, mode, exposure, prior
):
    wishes = FlatWishes()
    known = Pedestal(pedestal + 5, 15.0, "bias") if is_known else None
    before = Prior(exposure, prior) if prior is not None else None
    task = Task(wishes.target(WHITE), wishes.window(), mode, None, exposure, DIMMER, known, before)
    rate = 10.0**log_rate

    def output(brightness):
        return rate * panel[brightness - 18] / panel[-1]

    end, shots = search(task, output, pedestal)
    check_end(task, end, shots, output, pedestal)


def test_three_times_too_bright_is_1_6_stops():
    # Arithmetic: 3.0× is 1.58 stops, 2.9× is 1.54.
    wishes = FlatWishes()
    target = wishes.target(WHITE)
    rate = 3.0 * (target.level_adu - 500) / 0.5
    end, _ = search(Task(target, wishes.window(), pedestal=Pedestal(500, 5, "bias")), lambda b: rate, 500)
    assert isinstance(end, NoAnswer)
    assert end.stops == pytest.approx(math.log2(3.0), abs=0.02)
    assert "1.6 stops" in end.advice
    assert "3.0 times too high" in end.message


def test_where_everything_saturates_the_amount_is_a_lower_bound():
    wishes = FlatWishes()
    end, shots = search(Task(wishes.target(WHITE), wishes.window()), lambda b: 5e7, 500)
    assert isinstance(end, NoAnswer)
    assert end.at_least
    assert "at least" in end.advice
    assert shots[-1].exposure_s < wishes.shortest_s, "a probe shorter than the window was tried"


def test_a_light_that_is_off_is_asked_after_before_a_diffuser_is_taken_down():
    wishes = FlatWishes()
    end, _ = search(Task(wishes.target(WHITE), wishes.window()), lambda b: 0.0, 500)
    assert isinstance(end, NoAnswer) and end.at_least and end.direction == "too dim"
    assert "hardly any light reaches the sensor" in end.message
    assert end.advice.startswith("See that the light is on")
    assert not re.search(r"\d{3,}\.\d times", end.message), "a lower bound is not good for so many digits"


def test_a_last_setting_needs_one_shot():
    wishes = FlatWishes()
    target = wishes.target(WHITE)
    rate = (target.level_adu - 500) / 6.1
    end, shots = search(Task(target, wishes.window(), prior=Prior(6.1)), lambda b: rate, 500)
    assert isinstance(end, Found)
    assert len(shots) == 1


def test_a_last_setting_is_carried_over_to_another_exposure():
    wishes, known = FlatWishes(), Pedestal(500, 5, "bias")
    response = fit_response(
        [ResponsePoint("x", b, (b - 9.0) ** 1.5) for b in (18, 30, 60, 120, 180, 255)], DIMMER
    )
    rate = (wishes.target(WHITE).level_adu - 500) / 6.5

    def output(brightness):
        return rate * ((brightness - 9.0) / 51.0) ** 1.5

    for mode, wanted, most in (
        ("brightness", 3.0, 1),
        ("brightness", 6.5, 1),
        ("both", 6.0, 1),
        ("both", 2.0, 1),
    ):
        prior = carried_over(Prior(6.5, 60), wishes.window(), mode, wanted, response)
        task = Task(wishes.target(WHITE), wishes.window(), mode, None, wanted, DIMMER, known, prior, response)
        end, shots = search(task, output, 500)
        assert isinstance(end, Found) and len(shots) <= most, (mode, wanted, shots)
        check_end(task, end, shots, output, 500)
    assert carried_over(Prior(6.5, 60), wishes.window(), "both", 6.0, response) == Prior(6.5, 60), "as good"
    assert carried_over(Prior(6.5), wishes.window(), "brightness", 3.0, response) == Prior(6.5), (
        "no panel then"
    )


def test_a_sensor_that_bends_is_still_found():
    wishes = FlatWishes()
    task = Task(wishes.target(WHITE), wishes.window(), pedestal=Pedestal(500, 15, "bias"))
    end, shots = search(task, lambda b: 4000, 500, bend=0.08)
    assert isinstance(end, Found)
    assert len(shots) <= 4


def test_an_unsteady_light_is_said_to_be_one():
    wishes = FlatWishes()
    task, shots = Task(wishes.target(WHITE), wishes.window()), []
    while isinstance(step := next_step(task, shots), Shoot):
        level = (3000.0, 60000.0)[len(shots) % 2] * (1 + 0.05 * len(shots) % 0.3)
        shots.append(TestShot(step.exposure_s, level, level))
        assert len(shots) <= MOST_SHOTS
    assert isinstance(step, NoAnswer)
    assert step.direction == "unsteady"


def test_the_brightest_pixels_stay_under_the_linear_limit():
    # The level is lowered where the brightest 0.1 % would pass the limit.
    wishes = FlatWishes(level_percent=60.0, linear_limit_percent=70.0)
    task = Task(wishes.target(WHITE), wishes.window(), pedestal=Pedestal(500, 5, "bias"))
    end, _ = search(task, lambda b: 3000, 500, contrast=1.4)
    assert isinstance(end, Found)
    assert 500 + 1.4 * 3000 * end.exposure_s <= 0.705 * WHITE


@pytest.mark.parametrize(
    ("raw", "dialled"), [(6.07, 6.0), (4.348, 4.4), (0.1666, 0.165), (29.6, 30.0), (7.48, 7.5)]
)
def test_exposures_are_rounded_to_what_people_dial(raw, dialled):
    assert dial(raw) == pytest.approx(dialled)
    assert abs(dial(raw) / raw - 1) <= 0.015


def test_banding_of_a_pulsed_panel():
    # The formula's own worked values: 16 % for 200 Hz at 32 ms, 0.2 % for 1 kHz at 0.5 s, at worst.
    worst = max(Pulse(200, 0.5).banding(0.032 + i * 1e-5) for i in range(-250, 250))
    assert worst == pytest.approx(0.16, abs=0.02)
    assert max(Pulse(1000, 0.5).banding(0.5 + i * 1e-5) for i in range(100)) == pytest.approx(0.002, rel=0.05)
    pulse = Pulse(240, 0.4)
    assert all(pulse.banding(pulse.steady_from_s + i * 1e-4) <= BANDING_LIMIT * 1.001 for i in range(5000))


@settings(max_examples=150)
@given(exposure=st.floats(0.01, 1.0), hz=st.floats(80.0, 1000.0), duty=st.floats(0.05, 0.95))
def test_bands_are_those_of_rows_that_begin_one_after_another(exposure, hz, duty):
    """Against a rolling shutter that is integrated numerically: each row sees the pulses from another moment on."""
    starts = np.linspace(0.0, 1.0 / hz, 4001)

    def lit_until(t):
        """Seconds of light from 0 to t."""
        whole = np.floor(t * hz)
        return whole * duty / hz + np.minimum(t - whole / hz, duty / hz)

    light = lit_until(starts + exposure) - lit_until(starts)
    seen = (light.max() - light.min()) / (duty * exposure)
    assert Pulse(hz, duty).banding(exposure) == pytest.approx(seen, abs=0.003 / (hz * exposure * duty) + 1e-9)


@settings(max_examples=200)
@given(exposure=st.floats(0.1, 40.0), hz=st.floats(100.0, 2000.0), duty=st.floats(0.05, 0.95))
def test_a_dialled_exposure_keeps_clear_of_bands(exposure, hz, duty):
    pulse = Pulse(hz, duty)
    dialled = dial(exposure, 0.012, pulse)
    assert pulse.banding(dialled) < BANDING_LIMIT
    assert abs(dialled - exposure) <= max(0.012 * exposure, 0.51 / hz) * 1.001


def test_the_trades_arithmetic():
    # 30 % of 65,535 is 19,660.5, and ±10 % of that is 17,694 … 21,626 (arithmetic).
    target = FlatWishes(level_percent=30.0, tolerance_percent=10.0).target(65535)
    assert target.level_adu == pytest.approx(19660.5)
    assert target.level_adu - target.tolerance_adu == pytest.approx(17694.45)
    assert target.level_adu + target.tolerance_adu == pytest.approx(21626.55)
    assert ExposureWindow(Bound(1, ""), Bound(2, "")).probe_s < 0.1
