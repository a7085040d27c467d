"""Measuring a panel, whatever its light: the plan stays on the panel and in the window, ends, and wastes no shot."""

from __future__ import annotations

import math

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from grayshelf.core.flats.model import Bound, Dimmer, ExposureWindow, NoAnswer, Pedestal, TestShot
from grayshelf.core.flats.panel.ladder import (
    MOST_IN_MAIN,
    MOST_IN_OTHER,
    next_factor_shot,
    next_ladder_shot,
    rates,
)
from grayshelf.core.flats.panel.response import fit_response
from grayshelf.core.flats.search.light import is_full, readable
from grayshelf.core.flats.search.verdict import (
    LONGEST_WORTH_S,
    SHORTEST_WORTH_S,
    too_bright,
    too_dim,
    widened,
)
from grayshelf.core.flats.settings import FlatWishes

WHITE = 65535.0
TARGET = FlatWishes().target(WHITE)
DIMMERS = st.tuples(st.integers(1, 40), st.integers(60, 4095)).map(lambda d: Dimmer(*d))
WINDOWS = st.tuples(st.floats(0.05, 3.0), st.floats(4.0, 60.0)).map(
    lambda w: FlatWishes(shortest_s=w[0], longest_s=w[0] * w[1]).window()
)
EXPONENTS = st.floats(0.7, 2.2)


class Light:
    """A panel through one filter: output by a power of its brightness, read without noise."""

    def __init__(self, log_rate, exponent, dimmer, pedestal=500.0):
        self.rate, self.exponent, self.dimmer, self.pedestal = 10.0**log_rate, exponent, dimmer, pedestal

    def output(self, brightness):
        return self.rate * (brightness / self.dimmer.highest) ** self.exponent

    def shoot(self, shot):
        signal = self.output(shot.brightness) * (shot.exposure_s + 0.001)
        level, bright = (min(self.pedestal + k * signal, WHITE) for k in (1.0, 1.15))
        return TestShot(shot.exposure_s, level, bright, float(level >= WHITE), brightness=shot.brightness)


def keeps_to(shot, window, dimmer):
    assert window.shortest.exposure_s * 0.999 <= shot.exposure_s <= window.longest.exposure_s * 1.001
    assert shot.brightness in dimmer
    assert shot.why


def run(plan, light, window, most):
    shots: list[TestShot] = []
    while (shot := plan(shots)) is not None:
        keeps_to(shot, window, light.dimmer)
        shots.append(light.shoot(shot))
        assert len(shots) <= most
    return shots


@settings(max_examples=120)
@given(
    log_rate=st.floats(-1.0, 8.0), exponent=EXPONENTS, dimmer=DIMMERS, window=WINDOWS, known=st.booleans(),
    guess=st.none() | st.floats(-1.0, 1.0),
)  # fmt: skip
def test_the_ladder_ends_on_any_panel(log_rate, exponent, dimmer, window, known, guess):
    light = Light(log_rate, exponent, dimmer)
    pedestal = Pedestal(500.0, 5.0, "bias") if known else None
    told = None if guess is None else light.rate * 10.0**guess
    shots = run(
        lambda s: next_ladder_shot(s, dimmer, window, TARGET, pedestal, told), light, window, MOST_IN_MAIN
    )
    assert shots or told is not None
    taken = [(s.exposure_s, s.brightness) for s in shots]
    assert len(set(taken)) == len(taken), "no shot is taken twice"


@settings(max_examples=80)
@given(log_rate=st.floats(3.6, 5.2), exponent=EXPONENTS)
def test_a_light_of_the_usual_kind_is_followed_over_its_whole_range(log_rate, exponent):
    dimmer, window = Dimmer(18, 255), FlatWishes().window()
    light, pedestal = Light(log_rate, exponent, dimmer), Pedestal(500.0, 5.0, "bias")
    shots = run(lambda s: next_ladder_shot(s, dimmer, window, TARGET, pedestal), light, window, MOST_IN_MAIN)
    seen = [s for s in shots if readable(s, pedestal, TARGET)]
    assume(len(seen) >= 5)
    response = fit_response(rates(shots, TARGET, pedestal, "x"), dimmer)
    low, high = min(s.brightness for s in seen), max(s.brightness for s in seen)
    for brightness in range(low, high + 1, 7):
        said = math.exp(response.log_output(brightness) - response.log_output(high))
        assert said == pytest.approx(light.output(brightness) / light.output(high), rel=0.03)


@settings(max_examples=120)
@given(
    log_rate=st.floats(-1.0, 8.0), exponent=EXPONENTS, dimmer=DIMMERS, window=WINDOWS,
    guess=st.none() | st.floats(-2.0, 2.0),
)  # fmt: skip
def test_another_filter_takes_one_shot_more_only_where_one_was_full_or_dark(
    log_rate, exponent, dimmer, window, guess
):
    pedestal = Pedestal(500.0, 5.0, "bias")
    main = Light(4.5, exponent, dimmer)
    ladder = run(
        lambda s: next_ladder_shot(s, dimmer, FlatWishes().window(), TARGET, pedestal),
        main, FlatWishes().window(), MOST_IN_MAIN,
    )  # fmt: skip
    response = fit_response(rates(ladder, TARGET, pedestal, "main"), dimmer)
    light = Light(log_rate, exponent, dimmer)
    told = None if guess is None else light.rate * 10.0**guess
    shots = run(
        lambda s: next_factor_shot(s, response, window, TARGET, pedestal, told), light, window, MOST_IN_OTHER
    )
    for early in shots[:-1]:
        assert not readable(early, pedestal, TARGET), "the first that can be read ends it"
    for before, after in zip(shots, shots[1:], strict=False):
        less = after.level_adu <= before.level_adu
        assert less if is_full(before, WHITE) else after.level_adu >= before.level_adu * 0.999


@given(factor=st.floats(1.02, 900.0), exposure=st.floats(0.002, 500.0), bright=st.booleans())
def test_a_widened_bound_brings_the_target_into_reach_or_is_not_offered(factor, exposure, bright):
    """The light is in proportion to the time: a bound is moved by the factor that is missing, and a little more."""
    bound, level, base = Bound(exposure, "your limit"), 30_000.0, 500.0
    if bright:
        no = too_bright(bound, 20, base + factor * (level - base), level, base, at_least=False)
    else:
        no = too_dim(bound, 255, base + (level - base) / factor, level, base, at_least=False)
    assert isinstance(no, NoAnswer)
    offered = widened(no)
    exact = exposure / factor if bright else exposure * factor
    if offered is None:
        assert exact < SHORTEST_WORTH_S * 1.1 or exact > LONGEST_WORTH_S * 0.9
        return
    assert SHORTEST_WORTH_S <= offered <= LONGEST_WORTH_S
    assert (offered <= exact) if bright else (offered >= exact)
    assert 0.85 <= (offered / exact if bright else exact / offered) <= 1.0
    window = (
        ExposureWindow(Bound(offered, ""), bound) if bright else ExposureWindow(bound, Bound(offered, ""))
    )
    assert window.shortest.exposure_s < window.longest.exposure_s
