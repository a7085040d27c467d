"""What a search sets out with: worked out by hand on a light whose law is known (arithmetic)."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from grayshelf.core.flats.model import Bound, Dimmer, ExposureWindow, FlatTarget, Pedestal
from grayshelf.core.flats.panel.response import LightPath, ResponsePoint, fit_response
from grayshelf.core.flats.search.outset import (
    Asked,
    KnownRates,
    LastSetting,
    Light,
    guessed_rate,
    path_of,
    search_task,
)
from grayshelf.core.flats.settings import RowKey

TARGET = FlatTarget(29_500.0, 2_950.0)
WINDOW = ExposureWindow(Bound(0.5, "bands"), Bound(30.0, "your limit"))
PEDESTAL = Pedestal(500.0, 3.0, "bias")
DIMMER = Dimmer(10, 250)
HA = RowKey("Ha", 200.0, 30.0, 1)
WIDTHS = {"Ha": 5.0, "OIII": 5.0, "L": 300.0, "G": 100.0}
TIME = Asked("time", None, 2.0, 100)
TILE = Light("Lumen tile", DIMMER)
NOTHING = KnownRates()


def points(path, per_step=0.4, brightnesses=(10, 40, 100, 250)):
    """A panel whose light goes as its brightness."""
    return [ResponsePoint(path, b, per_step * b) for b in brightnesses]


def task(asked=TIME, light=TILE, last=None, known=NOTHING):
    return search_task(HA, asked, light, TARGET, WINDOW, PEDESTAL, last, known)


def test_the_last_setting_is_begun_with_while_light_stack_and_brightness_are_the_same():
    last = LastSetting(7.4, 100, 29_500.0, 500.0, "Lumen tile")
    assert task(last=last).prior.exposure_s == 7.4
    # At half the light above the pedestal of then, twice the time for today's target.
    assert task(last=replace(last, expected_adu=15_000.0)).prior.exposure_s == pytest.approx(14.8)
    for other in (
        replace(last, source="white wall"),
        replace(last, diffusers=("cloth",)),
        replace(last, brightness=60),
    ):
        assert task(last=other).prior is None, other
    assert task(last=replace(last, source="")).prior is not None, "nobody wrote down with which light"
    # For another exposure the brightness follows by the panel's law: half the time, about twice the light.
    by_brightness = Asked("brightness", 3.7, 2.0, 100)
    known = KnownRates(points(LightPath("L", 100.0, 1)), WIDTHS)
    carried = task(by_brightness, last=last, known=known).prior
    assert (carried.exposure_s, carried.brightness) == (3.7, pytest.approx(200, abs=6))


def test_a_measured_panel_foretells_the_setting_behind_what_hangs_before_it():
    known = KnownRates(points(path_of(HA)), WIDTHS)
    # 0.4 ADU a second for each step of brightness: at 100 it takes 29,000 / 40 s.
    assert task(known=known).prior.exposure_s == pytest.approx(725.0, rel=0.02)
    behind = task(light=replace(TILE, stack=("cloth",), stack_stops=2.0), known=known)
    assert behind.prior.exposure_s == pytest.approx(2900.0, rel=0.02)
    bright = KnownRates(points(path_of(HA), per_step=40.0), WIDTHS)
    stays = task(Asked("brightness", 5.0, 2.0, 100), known=bright).prior
    assert (stays.exposure_s, stays.brightness) == (5.0, pytest.approx(145, abs=4))
    # One rate at the very brightness that stays is enough, where the time is looked for; else the shape is needed.
    one = KnownRates(points(path_of(HA), per_step=40.0, brightnesses=(100,)), WIDTHS)
    assert task(known=one).prior.exposure_s == pytest.approx(7.25, rel=0.01)
    assert task(replace(TIME, brightness=60), known=one).prior is None


def test_other_filters_tell_by_width_binning_and_gain_and_other_telescopes_only_of_the_panel():
    response = fit_response(points(LightPath("G", 100.0, 1), per_step=40.0), DIMMER)

    def guess(*paths, e_per_adu=None):
        known = KnownRates(
            [p for path in paths for p in points(path, per_step=40.0)], WIDTHS, e_per_adu or {}
        )
        return guessed_rate(HA, known, response)

    wide = LightPath("G", 200.0, 1)
    # At the highest brightness 40 × 250 ADU a second through 100 nm: a twentieth through 5 nm.
    assert guess(wide) == pytest.approx(500.0, rel=0.02)
    assert guess(wide._replace(binning=2)) == pytest.approx(125.0, rel=0.02), "four pixels gave that"
    assert guess(wide._replace(gain=100.0)) is None, "nobody measured what the gains differ by"
    assert guess(wide._replace(gain=100.0), e_per_adu={100.0: 1.0, 200.0: 0.5}) == pytest.approx(
        1000.0, rel=0.02
    )
    assert guess(wide._replace(telescope="Teal 80")) is None
    assert guess(LightPath("unknown", 200.0, 1)) is None
    assert guess(wide, LightPath("L", 200.0, 1)) == pytest.approx(500.0, rel=0.02), "the most of all"
    # As a search begins with it: at the brightness that stays, behind what hangs.
    known = KnownRates(points(wide, per_step=40.0), WIDTHS)
    light = replace(TILE, stack=("cloth",), stack_stops=1.0)
    assert task(light=light, known=known).guess_rate == pytest.approx(500.0 / 2 * 100 / 250, rel=0.02)
    assert task(Asked("both", None, 2.0, 100), known=known).guess_rate == pytest.approx(500.0, rel=0.02)


def test_a_light_that_cannot_be_dimmed_is_searched_by_time_alone():
    bare = Light("white wall", None)
    found = task(Asked("brightness", 5.0, 2.0, 100), bare, known=KnownRates(points(path_of(HA)), WIDTHS))
    assert (found.mode, found.brightness, found.prior, found.guess_rate) == ("time", None, None, None)
    # Behind something of unknown name nothing is known but where the search before it ended.
    again = task(replace(TIME, begin_s=0.5), bare)
    assert again.prior.exposure_s == 0.5


@given(
    st.floats(0.01, 1e5),
    st.floats(0.0, 12.0),
    st.sampled_from(("time", "brightness", "both")),
    st.integers(10, 250),
)
def test_what_is_foretold_gives_the_target_by_the_law_it_was_foretold_by(per_step, stops, mode, brightness):
    known = KnownRates(points(path_of(HA), per_step), WIDTHS)
    asked = Asked(mode, 4.0, 2.0, brightness)
    found = task(asked, replace(TILE, stack_stops=stops), known=known)
    prior, response = found.prior, found.response
    rate = per_step * 250 * math.e ** response.log_output(prior.brightness) / 2.0**stops
    level = 500.0 + rate * prior.exposure_s
    at_an_end = prior.brightness in (10, 250) or prior.exposure_s in (0.5, 30.0)
    # Between two whole numbers of brightness lies up to a tenth at the dim end; three digits of time hold half a percent.
    assert at_an_end or level == pytest.approx(29_500.0, rel=0.12 if mode == "brightness" else 0.02)
