"""A longer dark scaled to lights: with a bias of its settings, where a person agreed, and never as the first choice.

The conditions are common practice (long to short, a bias of the same settings, no glow); the equation is that of dark
subtraction with scaling as general libraries have it (`ccdproc.subtract_dark`), held against it in `tests/web`.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.scaled import Scaled
from grayshelf.core.matching.by_choice import CANNOT_BE_SCALED, CHOSEN_BY_HAND, NO_NEED_TO_SCALE
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.match import Asking, pull_slips
from grayshelf.core.matching.model import LightsNoise, SensorTraits, Verdict
from grayshelf.core.matching.scaling import scaled, too_much_glow
from grayshelf.core.matching.stock import Role, Stock, Wanted
from grayshelf.core.pictures.parts import Whole
from tests.core.holdings import WANT, hold
from tests.helpers import settings

#: The lights are of 300 s.
TERMS = Terms(
    traits=SensorTraits(read_noise_e=3.0, dark_rate_e_s=0.01, hot_rate_e_s=0.02), lights=LightsNoise(20, 30.0)
)
WANTED = Wanted(Role.DARK, WANT, TERMS)
LONG = hold("long", exposure_s=600.0, n=25)
BIAS = hold("bias", FrameKind.BIAS, exposure_s=0.001, n=100)


def dark_line(*shelf, chosen="long"):
    asking = Asking(WANT, TERMS, by_hand={"dark": chosen} if chosen else {}, scaled=bool(chosen))
    slip = pull_slips([asking], Stock(shelf))[0]
    return next(line for line in slip.lines if line.kind is FrameKind.DARK)


def test_it_is_never_chosen_by_itself_and_with_consent_serves_with_care():
    assert dark_line(LONG, BIAS, chosen=None).verdict is Verdict.NOTHING
    line = dark_line(LONG, BIAS)
    assert (line.verdict, line.by_hand, line.note) == (Verdict.CARE, True, CHOSEN_BY_HAND)
    dark = line.chosen
    assert dark.holding == LONG and dark.scaling.bias_key == "bias" and dark.scaling.share == 0.5
    assert dark.reasons == ("scaled from 600 s to 300 s, not shot",)
    # Of a dark at the lights' own temperature no current is left, in any pixel.
    assert dark.mismatch_e == 0.0
    of_dark, of_bias = math.sqrt(9 + 0.01 * 600) / 5, math.sqrt(9 + 0.01 * 0.001) / 10
    assert dark.noise_e == pytest.approx(math.hypot(0.5 * of_dark, 0.5 * of_bias))


def test_a_dark_that_fits_takes_its_place():
    line = dark_line(LONG, BIAS, hold("right"))
    assert line.chosen.holding.key == "right" and line.verdict is Verdict.FITS
    assert line.note == NO_NEED_TO_SCALE and not line.by_hand


@pytest.mark.parametrize(
    ("dark", "bias", "why"),
    [
        (LONG, None, "no master bias"),
        (LONG, replace(BIAS, is_master=False), "no master bias"),
        (LONG, hold("bias", FrameKind.BIAS, offset=99), "no master bias"),
        (LONG, hold("bias", FrameKind.BIAS, gain=99), "no master bias"),
        (LONG, hold("bias", FrameKind.BIAS, offset=None), "no master bias"),
        (LONG, hold("bias", FrameKind.BIAS, width=50), "no master bias"),
        (LONG, replace(BIAS, pedestal_adu=100.0), "no master bias"),
        (LONG, replace(BIAS, spoiled=True), "no master bias"),
        (replace(LONG, is_master=False), BIAS, "loose frames"),
        (replace(LONG, scaled_from_s=900.0), BIAS, "scaled before"),
        (replace(LONG, spoiled=True, care=("leaky",)), BIAS, "leaky"),
        (hold("long", exposure_s=60.0), BIAS, "only a longer dark"),
        (hold("long", exposure_s=None), BIAS, "not known"),
        (hold("long", exposure_s=600.0, sensor_temp_c=20.0), BIAS, "temperature off by"),
        (hold("long", exposure_s=600.0, gain=99), replace(BIAS, settings=settings(gain=99)), "gain 99"),
        (hold("long", exposure_s=600.0, from_name=frozenset({"exposure"})), BIAS, "file’s name"),
    ],
)
def test_what_cannot_be_scaled_is_left_to_the_shelf_and_says_why(dark, bias, why):
    shelf = [dark] if bias is None else [dark, bias]
    assert why in scaled(WANTED, dark, Stock(shelf))
    line = dark_line(*shelf)
    assert not line.by_hand and line.note.startswith(CANNOT_BE_SCALED) and why in line.note
    assert line.chosen is None or line.chosen.scaling is None


def test_a_dark_a_little_warm_costs_what_its_current_costs_in_the_time_of_the_lights():
    warm = hold("long", exposure_s=600.0, sensor_temp_c=-8.8, n=25)
    found = scaled(WANTED, warm, Stock([warm, BIAS]))
    # 6 degrees are a doubling: as much as the lights have comes on top (common practice).
    at_light = 0.01 * 2 ** ((WANT.sensor_temp_c + 10) / 6)
    doubled = 2 ** ((-8.8 - WANT.sensor_temp_c) / 6)
    assert found.mismatch_e == pytest.approx(300 * at_light * (doubled - 1), rel=1e-6)
    assert any("scaled from" in r for r in found.reasons)


def test_the_care_of_its_bias_is_told():
    found = scaled(WANTED, LONG, Stock([LONG, replace(BIAS, care=("a corner is bright",))]))
    assert "its bias: a corner is bright" in found.reasons


def test_a_glow_forbids_it_from_a_tenth_of_the_lights_own_noise_on():
    # A background of 30 e⁻ at 1 e⁻/ADU: 3 ADU.
    assert too_much_glow(WANTED, 2.9) == ""
    assert "glows, by 3.1 ADU" in too_much_glow(WANTED, 3.1)


def test_its_pixels_are_the_bias_and_a_share_of_what_the_dark_has_above_it():
    rng = np.random.default_rng(5)
    hot = np.where(rng.random((40, 50)) > 0.99, 30.0, 0.2)
    bias = 500 + rng.normal(0, 8, hot.shape)
    made = Scaled(7, 600.0, 150.0).of_pictures(Whole(bias + 600 * hot), Whole(bias))
    truth = (bias + 150 * hot)[3:20, 5:30]
    assert np.allclose(made.part(3, 20, 5, 30), truth, rtol=3e-7)
    # Its noise is foretold from that of dark and bias.
    dark, bias = (rng.normal(0, sigma, (400, 400)) for sigma in (2.0, 0.7))
    noise = Scaled(7, 600.0, 150.0).of_pictures(Whole(dark), Whole(bias)).part(0, 400, 0, 400).std()
    assert noise == pytest.approx(math.hypot(0.25 * 2.0, 0.75 * 0.7), rel=0.01)
