"""Levels from one count of the pixels, and the plan of a transfer curve for any sensor."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, arrays

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.sensor.gain_plan import dimmed, plan_pairs
from grayshelf.core.sensor.pairs import PairReading, channels, even_part
from grayshelf.core.sensor.statistics import (
    SHARED_FROM,
    count_levels,
    frame_statistics,
    quantile_of_counts,
    sample_step,
)


def same_as_numpy(pixels):
    s, bins = frame_statistics(pixels), count_levels(pixels)
    assert (s.minimum, s.maximum, s.n_pixels) == (pixels.min(), pixels.max(), pixels.size)
    assert s.zeros == np.count_nonzero(pixels == 0)
    assert s.median == np.median(pixels)
    assert s.mean == pytest.approx(pixels.mean(dtype=np.float64), rel=1e-9)
    assert s.spread == pytest.approx(pixels.std(dtype=np.float64), rel=1e-9, abs=1e-9)
    assert s.saturated_fraction == np.mean(pixels == 65535)
    for share in (0.0, 1e-4, 0.01, 0.5, 0.999, 1.0):
        assert quantile_of_counts(bins, share) == pytest.approx(np.quantile(pixels, share), abs=1e-6)


@settings(max_examples=150)
@given(arrays(np.uint16, array_shapes(min_dims=2, max_dims=2, min_side=1, max_side=40)))
def test_one_count_gives_what_numpy_gives(pixels):
    same_as_numpy(pixels)


def test_a_frame_counted_by_several_threads_loses_no_pixel():
    rng = np.random.default_rng(1)
    pixels = np.clip(rng.normal(500, 6, (1001, 1003)), 0, 65535).astype(np.uint16)
    assert pixels.size > SHARED_FROM
    same_as_numpy(pixels)
    same_as_numpy(pixels[:700])
    same_as_numpy(pixels[::2, 1::2])
    with pytest.raises(UnreadableFrame, match="16-bit"):
        count_levels(pixels.astype(np.float32))


@given(st.sampled_from([1, 4, 16]), st.integers(0, 2**31))
def test_left_justified_samples_are_told_by_their_step(step, seed):
    rng = np.random.default_rng(seed)
    pixels = (np.rint(rng.normal(3000, 400, (40, 40)) / step) * step).astype(np.uint16)
    assert sample_step(pixels) == step


def test_colour_channels_are_views_in_their_places():
    pixels = np.arange(64, dtype=np.uint16).reshape(8, 8)
    found = channels(pixels, "GRBG")
    assert list(found) == ["R", "G", "B"]
    assert (
        found["R"][0, 0] == pixels[0, 1] and found["B"][0, 0] == pixels[1, 0] and found["G"].base is not None
    )
    assert list(channels(pixels, None)) == [""]


def test_the_evenly_lit_part_leaves_out_corners_and_dust():
    rng = np.random.default_rng(5)
    y, x = np.mgrid[0:480, 0:640]
    field = 1 - 0.3 * (((x - 360) / 400) ** 2 + ((y - 220) / 400) ** 2)
    field[200:232, 352:384] *= 0.9
    flat = rng.normal(500 + 20_000 * field, 30).astype(np.uint16)
    part = even_part(flat, 500.0)
    chosen = np.kron(part, np.ones((16, 16), bool))
    levels = field[chosen]
    assert 0.02 < part.mean() < 0.5 and np.ptp(levels) / levels.mean() < 0.05
    assert not part[13, 22], "the shadow of a speck of dust"
    with pytest.raises(UnreadableFrame, match="too small"):
        even_part(flat[:8, :8], 500.0)


@settings(max_examples=60)
@given(
    rate=st.floats(200.0, 60_000.0),
    full_share=st.floats(0.2, 1.3),
    weak=st.floats(0.3, 1.0),
    shortest=st.floats(0.01, 3.0),
    colour=st.booleans(),
)
def test_the_plan_ends_passes_saturation_and_never_asks_for_less_than_it_may(
    rate, full_share, weak, shortest, colour
):
    """For any rate and any full well, below or above the converter's end."""
    white, pedestal = 65535.0, 500.0
    full = pedestal + full_share * (white - pedestal)
    rates = {"R": weak * rate, "G": rate} if colour else {"": rate}
    seen: dict[str, list[PairReading]] = {}
    count = 0
    while todo := plan_pairs(seen, rate, pedestal, white, shortest, has_dimmer=True, main="m", dim="d"):
        pair = todo[0]
        count += 1
        assert count <= 45, "it does not end"
        assert pair.exposure_s >= shortest
        for name, speed in rates.items():
            level = pedestal + speed * (0.2 if pair.dim else 1.0) * pair.exposure_s
            level = min(level, full, white)
            seen.setdefault(name, []).append(
                PairReading(
                    level,
                    1.0,
                    0.1,
                    1000,
                    0.0,
                    float(level >= white),
                    pair.exposure_s,
                    "d" if pair.dim else "m",
                )
            )
    for pairs in seen.values():
        assert max(p.mean_adu for p in pairs) >= min(full, white) - 1, "every channel is filled"


@given(st.integers(18, 255), st.floats(-8, 8))
def test_a_brightness_stays_on_the_panel_and_goes_the_right_way(brightness, stops):
    changed = dimmed(brightness, stops, 18, 255)
    assert 18 <= changed <= 255
    assert (changed <= brightness) if stops > 0.1 else (changed >= brightness) if stops < -0.1 else True
