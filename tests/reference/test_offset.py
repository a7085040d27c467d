"""The offset exercise against the truth of the simulated sensors, and against what the trade sees.

The truth is the model's: each pixel's pedestal and read noise are known to the test, never to the code under test.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from functools import lru_cache

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import brentq
from scipy.special import ndtr
from scipy.stats import binom

from grayshelf.core.sensor.bias import dead_pixels, good_minimum, good_zeros, read_bias
from grayshelf.core.sensor.offset import OffsetDone, OffsetLadder, next_bias, range_cost, read_offsets
from grayshelf.core.sensor.offset_checked import CheckedOffset, pair_warning
from grayshelf.demo.rigs import MODELS
from grayshelf.devices.simulated.camera_model import Conditions, expose
from tests.other_sensors import other_sensor

ON = date(2026, 10, 18)
#: The gains that the scenario's lights are taken at, and gain 0 of the two with a gain setting.
SETTINGS = [("heron", 0), ("heron", 100), ("heron", 200), ("bittern", 0), ("bittern", 120), ("wader", 0)]


@lru_cache(maxsize=8)
def sensor_of(name):
    return MODELS[name]("tiny").sensor


def bias(sensor, gain, offset, rng, exposure_s=0.001):
    return expose(sensor, 0.0, Conditions(exposure_s, gain, offset, -10.0, ON), rng)


def exercise(sensor, gain, seed, take=bias, **changes):
    """The whole exercise, as a rig would do it."""
    rng = np.random.default_rng(seed)
    ladder = OffsetLadder(0, 80, 1, sensor.white_adu, sensor.sample_step, **changes)
    readings = []
    while not isinstance(step := next_bias(readings, ladder), OffsetDone):
        for _ in range(step.count):
            pixels = take(sensor, gain, step.offset, rng, step.exposure_s or 0.001)
            readings.append(read_bias(pixels, step.offset, step.exposure_s or 0.0))
    return step.reading, readings, ladder


@lru_cache(maxsize=32)
def done(name, gain, seed):
    return exercise(sensor_of(name), gain, seed)


def true_floor(sensor, gain, offset, share=0.99):
    """The level that this share of frames' darkest good pixels stay above, from every pixel's own noise."""
    good = np.ones(sensor.width * sensor.height, bool)
    good[sensor.dead] = False
    sigma = (sensor.noise_factor * sensor.read_noise_e(gain) / sensor.e_per_adu(gain)).ravel()[good]
    centre = sensor.pattern_adu.ravel()[good].astype(float)
    depth = brentq(lambda x: ndtr((x - centre) / sigma).sum() + np.log(share), -60 * sigma.max(), 0)
    return sensor.pedestal(offset) + depth


@pytest.mark.parametrize(("name", "gain"), SETTINGS)
def test_the_floor_is_that_of_the_sensor_and_of_fresh_frames(name, gain):
    sensor = sensor_of(name)
    reading, readings, ladder = done(name, gain, 1)
    answer = reading.answer
    assert answer is not None and reading.confirmed and not reading.findings
    assert reading.uncertainty_adu <= 10.0
    # Half a step of the converter is no error: a level stands for all around it.
    slack = reading.uncertainty_adu + sensor.sample_step / 2
    assert abs(answer.floor_adu - true_floor(sensor, gain, answer.offset)) <= slack
    rng = np.random.default_rng(500)
    minima = np.array([good_minimum(read_bias(bias(sensor, gain, answer.offset, rng), answer.offset), reading.dead)
                       for _ in range(500)])  # fmt: skip
    # Of 500 frames, one in a hundred lies below the floor: 1 to 10 of them, by the binomial distribution.
    few, many = binom.ppf([0.01, 0.99], 500, 0.01).astype(int)
    ordered = np.sort(minima)
    assert ordered[few] - slack <= answer.floor_adu <= ordered[many] + slack
    assert minima[:200].min() > 0, "a good pixel was cut off in 200 frames at the answer"
    assert len(readings) <= 0.4 * ladder.frames_of_full_ladder


@pytest.mark.parametrize(("name", "gain"), SETTINGS)
def test_another_run_differs_by_no_more_than_one_setting(name, gain):
    one, two = done(name, gain, 1)[0], done(name, gain, 2)[0]
    assert abs(one.answer.offset - two.answer.offset) <= 1.0
    at = one.answer.offset
    assert abs(one.effect(at).floor_adu - two.effect(at).floor_adu) <= 10.0


def test_the_floors_interval_covers_the_truth():
    """The 95 % interval over 16 more runs, at the gain whose noisy pixels reach deepest."""
    sensor = sensor_of("heron")
    inside = 0
    for seed in range(100, 116):
        reading, readings, ladder = exercise(sensor, 200, seed)
        answer = reading.answer
        error = abs(answer.floor_adu - true_floor(sensor, 200, answer.offset))
        inside += error <= reading.uncertainty_adu + 0.5
        assert reading.confirmed and len(readings) <= 0.4 * ladder.frames_of_full_ladder
    assert inside >= 14, inside


def test_one_dead_pixel_never_moves_it():
    sensor = sensor_of("heron")
    height, width = sensor.height, sensor.width

    def whole(sensor, gain, offset, rng, exposure_s=0.001):
        pixels = bias(sensor, gain, offset, rng, exposure_s)
        pixels.ravel()[sensor.dead] = round(sensor.pedestal(offset))
        return pixels

    def with_one(sensor, gain, offset, rng, exposure_s=0.001):
        pixels = whole(sensor, gain, offset, rng, exposure_s)
        # Cold rather than stuck: it follows the offset, and keeps 60 % of the pedestal.
        pixels[height // 3, width // 4] = round(0.4 * sensor.pedestal(offset))
        return pixels

    without, _, _ = exercise(sensor, 100, 5, whole)
    withit, readings, _ = exercise(sensor, 100, 5, with_one)
    assert without.answer.offset == withit.answer.offset and not without.dead
    assert [d.place(width) for d in withit.dead] == [(width // 4, height // 3)]
    assert all(r.minimum < good_minimum(r, withit.dead) for r in readings if r.offset >= 20)
    # The stuck ones of the sensor itself are found and named, all five and no other.
    assert sorted(d.index for d in done("heron", 100, 1)[0].dead) == sorted(sensor.dead)


def test_zeros_go_from_millions_to_none_and_then_the_minimum_climbs():
    """Common practice, no source: what everybody sees who raises the offset step by step."""
    sensor = replace(MODELS["heron"]("small").sensor, pedestal_adu=-40.0)
    rng = np.random.default_rng(4)
    frames = {o: [read_bias(bias(sensor, 200, o, rng), o) for _ in range(3)] for o in (0, 5, 10, 20, 30, 40)}
    dead = dead_pixels([r for o in (20, 30, 40) for r in frames[o]])
    zeros = [sum(good_zeros(r, dead) for r in frames[o]) for o in (0, 5, 10, 20)]
    assert zeros[0] > 1_000_000 and 100 < zeros[1] < 100_000 and zeros[1] > zeros[2] > 0 and zeros[3] == 0
    lowest = {o: np.mean([good_minimum(r, dead) for r in frames[o]]) for o in (20, 30, 40)}
    jumps = np.ptp([good_minimum(r, dead) for r in frames[30]])
    assert abs((lowest[40] - lowest[30]) / (lowest[30] - lowest[20]) - 1) < 0.35
    assert 2 <= jumps <= 150


def test_what_a_pedestal_costs():
    percent, stops = range_cost(524.28, 65535)
    assert percent == pytest.approx(0.8) and stops == pytest.approx(np.log2(1 / 0.992))


def test_bad_frames_are_told_apart():
    sensor, rng = sensor_of("heron"), np.random.default_rng(9)
    ladder = OffsetLadder(0, 80, 1, sensor.white_adu)

    def said(readings):
        result = read_offsets(readings, ladder)
        return " ".join(f.message for f in result.findings), result

    def frames(offset, n=4, gain=200, light=0.0):
        return [
            read_bias(expose(sensor, light, Conditions(0.001, gain, offset, -10.0, ON), rng), offset)
            for _ in range(n)
        ]

    text, result = said(frames(0) + frames(2))
    assert "Every frame has pixels at zero" in text and result.answer is None
    text, result = said(frames(30, 12))
    assert "Only offset 30" in text and result.answer.offset == 30 and result.effect(20) is None
    side = np.linspace(0, 2e4, sensor.width, dtype=np.float32)[None, :].repeat(sensor.height, 0)
    text, _ = said(frames(30, 6) + frames(40, 6, light=side))
    assert "light falls on them" in text
    text, _ = said([replace(r, offset=o) for o in (20, 40, 60) for r in frames(30)])
    assert "does not follow its setting" in text
    sunk = [read_bias(bias(sensor, 200, 17, rng, 60.0) - np.uint16(40), 17, 60.0)]
    text, _ = said([r for o in (14, 17, 20, 40) for r in frames(o, 8)] + sunk)
    assert "pedestal lies" in text and "lower than in bias" in text
    # A gain at which nothing holds ends in a sentence, not in a number.
    reading, _, _ = exercise(sensor, 400, 3)
    assert reading.answer is None and any("lower the gain" in f.advice for f in reading.findings)


def test_pairs_that_nobody_checked_are_warned_of():
    checked = {200.0: CheckedOffset(30, 17, 20, 16, -235, ON)}
    assert "never checked" in str(pair_warning(100, 30, checked))
    assert pair_warning(200, 30, checked) is None and pair_warning(200, 17, checked) is None
    assert "leaves only 21 ADU" in str(pair_warning(200, 14.75, checked))
    assert "cuts dark pixels off" in str(pair_warning(200, 5, checked))
    assert pair_warning(None, 30, checked) is None


@settings(max_examples=25)
@given(
    sigma=st.floats(0.5, 120.0),
    slope=st.floats(0.5, 40.0),
    at_zero=st.floats(-300.0, 600.0),
    step=st.sampled_from([1, 4, 16]),
    seed=st.integers(0, 99),
)
def test_it_always_ends_within_its_frames_and_its_range(sigma, slope, at_zero, step, seed):
    rng = np.random.default_rng(seed)
    ladder = OffsetLadder(0, 80, 1, 65536 - step, step)
    readings = []
    while not isinstance(wanted := next_bias(readings, ladder), OffsetDone):
        assert 0 <= wanted.offset <= 80 and wanted.count > 0
        assert len(readings) <= ladder.most_frames + 1, "it does not end"
        for _ in range(wanted.count):
            level = at_zero + slope * wanted.offset + sigma * rng.standard_normal((64, 64))
            pixels = np.clip(np.rint(level / step) * step, 0, 65536 - step).astype(np.uint16)
            readings.append(read_bias(pixels, wanted.offset, wanted.exposure_s or 0.0))
    answer = wanted.reading.answer
    if answer is None:
        # No answer, only where none of these offsets is clear by far.
        assert at_zero + slope * 80 < 12 * sigma + 400 or slope < 1.0
    else:
        assert 0 <= answer.offset <= 80
        assert answer.floor_adu >= wanted.reading.margin_adu - wanted.reading.uncertainty_adu - 0.5 * step - 1


@pytest.mark.parametrize("per_offset", [2, 10])
@pytest.mark.parametrize("make", ["heavy", "light", "telegraph"])
def test_the_floor_covers_the_truth_on_sensors_of_another_make(make, per_offset):
    """Few frames and many, five offsets: the 95 % interval, and the margin that is promised for one frame in 10,000."""
    inside, kept = 0, 0
    runs = 24
    for seed in range(runs):
        sensor, rng = other_sensor(make, seed), np.random.default_rng(seed + 900)
        readings = [
            read_bias(sensor.frame(0, o, rng), o) for o in (60, 70, 80, 90, 100) for _ in range(per_offset)
        ]
        reading = read_offsets(readings, OffsetLadder(0, 200, 1, 65535, sensor.step))
        depth, truth = reading.tail.depth(0.99), sensor.floor_depth(0.99)
        inside += abs(depth - truth) <= reading.uncertainty_adu + sensor.step / 2
        kept += 1.0 - np.exp(-sensor.pixels_below(depth - reading.margin_adu)) <= 1e-4
    # 95 % of the runs: so many or more of them in all but one of a hundred tries, by the binomial distribution.
    least = binom.ppf(0.01, runs, 0.95)
    assert inside >= least, inside
    assert kept >= least, kept
