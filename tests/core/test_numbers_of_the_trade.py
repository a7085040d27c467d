"""Numbers and orders of the job that a slip of the finger could change without any page looking wrong.

Common practice, with no published source, where none is named.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from grayshelf.core.checks.figures import master_figures
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import event_moment
from grayshelf.core.frames.sets import held, nominal_temperature
from grayshelf.core.matching.costs import few_flats_percent
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.match import gap_key, pull_slip
from grayshelf.core.matching.model import CommonSettings, Holding, LightsNoise, RigSays, SensorTraits, Verdict
from grayshelf.core.planning.runsheet import plan_sheet
from grayshelf.core.planning.sheet import DarkSeries, RigPace, StepKind

LIGHTS = CommonSettings(
    "Ruff 9", 600, 400, (1, 1), gain=80.0, offset=20.0, exposure_s=180.0, sensor_temp_c=-10.0, held=True,
    telescope="Snipe 6", filter_code="R", night=date(2025, 5, 2), taken=datetime(2025, 5, 3, 1, tzinfo=UTC),
)  # fmt: skip
BIAS_WILL_DO = Terms(says=RigSays(fixed=frozenset({"dark flat", "focus", "angle"})))


def held_flat(seconds):
    return Holding("f", FrameKind.FLAT, replace(LIGHTS, exposure_s=seconds), 30)


def bias():
    return Holding("b", FrameKind.BIAS, replace(LIGHTS, exposure_s=0.0), 60)


def test_flats_of_unknown_level_are_taken_to_be_as_bright_as_flats_are():
    """A third of a usual pixel, some 20,000 e⁻: ten of them cost sixty lights of 1,000 e⁻ of sky 14 %."""
    quiet = SensorTraits(read_noise_e=0.1, dark_rate_e_s=0.0)
    unknown = replace(held_flat(2.0), n_frames=10)
    percent = few_flats_percent(LIGHTS, unknown, quiet, LightsNoise(60, 1000.0**0.5), 1)
    assert percent == pytest.approx(14.0, abs=0.5)


def test_a_master_stands_before_loose_frames_that_are_the_same_in_everything():
    dark = Holding("1", FrameKind.DARK, LIGHTS, 40)
    for pair in (
        [replace(dark, is_master=False), replace(dark, key="2")],
        [replace(dark, key="0"), replace(dark, is_master=False)],
    ):
        assert pull_slip(LIGHTS, pair, BIAS_WILL_DO).lines[0].chosen.holding.is_master


@pytest.mark.parametrize(
    ("seconds", "verdict"),
    [(1.0, Verdict.FITS), (4.9, Verdict.FITS), (5.1, Verdict.CARE), (40.0, Verdict.CARE)],
)
def test_a_bias_stands_in_without_care_for_flats_up_to_five_seconds(seconds, verdict):
    line = pull_slip(LIGHTS, [held_flat(seconds), bias()], BIAS_WILL_DO).lines[2]
    assert (line.kind, line.verdict) == (FrameKind.BIAS, verdict)


def test_lights_of_two_temperatures_wait_for_two_darks_and_for_one_flat():
    cold, warm = LIGHTS, replace(LIGHTS, sensor_temp_c=-5.0)
    assert gap_key(FrameKind.DARK, cold) != gap_key(FrameKind.DARK, warm)
    assert gap_key(FrameKind.DARK, cold) == gap_key(FrameKind.DARK, replace(cold, sensor_temp_c=-9.8))
    assert gap_key(FrameKind.FLAT, cold) == gap_key(FrameKind.FLAT, warm)


@pytest.mark.parametrize(
    ("measured", "is_held", "stands_for"),
    [(-9.1, True, -10.0), (-10.9, True, -10.0), (-8.4, False, -8.0), (-6.0, False, -6.0)],
)
def test_a_cooler_holds_within_a_degree_or_not_at_all(measured, is_held, stands_for):
    facts = FrameFacts(600, 400, 16, FrameKind.LIGHT, sensor_temp_c=measured, set_temp_c=-10.0)
    assert held(facts) is is_held
    assert nominal_temperature(measured, -10.0) == stands_for


@pytest.mark.parametrize("zone", ["Europe/London", "Pacific/Auckland", "America/Denver"])
def test_what_was_done_on_a_day_was_done_before_the_night_of_that_day_and_after_the_one_before(zone):
    there = ZoneInfo(zone)
    at = event_moment(date(2025, 5, 2), datetime(2025, 6, 1, tzinfo=UTC), there)
    assert datetime(2025, 5, 2, 5, tzinfo=there) < at < datetime(2025, 5, 2, 19, tzinfo=there)


def test_a_master_dark_tells_its_warm_pixels_from_the_tail_of_its_noise():
    """Beyond 10 σ: of a million pixels of normal noise three σ would call 1,350 warm (arithmetic), ten none."""
    rng = np.random.default_rng(4)
    pixels = rng.normal(500.0, 2.0, (1000, 1000)).astype(np.float32)
    warm = {f.name: f.value for f in master_figures(pixels, FrameKind.DARK)}
    assert warm["Warm pixels"] == 0.0
    pixels.flat[:2000] = 530.0
    warm = {f.name: f.value for f in master_figures(pixels, FrameKind.DARK)}
    assert warm["Warm pixels"] == pytest.approx(0.2)


def test_the_corners_of_a_flat_are_told_by_the_weakest_and_the_mean():
    pixels = np.full((240, 240), 1.0, np.float32)
    for corner, level in (((0, 0), 0.9), ((0, -20), 0.8), ((-20, 0), 0.7), ((-20, -20), 0.6)):
        rows = slice(corner[0], corner[0] + 20 or None)
        pixels[rows, slice(corner[1], corner[1] + 20 or None)] = level
    told = {f.name: f.value for f in master_figures(pixels, FrameKind.FLAT)}
    assert told["Weakest corner"] == pytest.approx(60.0)
    assert told["Corner to centre"] == pytest.approx(75.0)


def test_a_sensor_that_is_cooled_is_given_time_to_settle():
    pace = RigPace()
    steps = plan_sheet(
        [], [DarkSeries(300.0, -10.0, 80.0, 20.0, 1, 30)], pace, sensor_temp_c=-5.0, current_position=0
    ).steps
    cool = next(s for s in steps if s.kind is StepKind.COOL)
    assert cool.seconds == pytest.approx(5 * pace.cooling_s_per_c + 30.0)
