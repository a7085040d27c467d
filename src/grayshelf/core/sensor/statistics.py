"""Statistics of a whole frame from one pass through its pixels."""

from __future__ import annotations

import math
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.pictures.colours import judged_together, planes_of, side_of

#: Frames larger than this are counted by several threads, in pixels.
SHARED_FROM = 1_000_000
#: Fewer are counted as fast without the compiler, which need not be loaded for them.
COMPILED_FROM = 500_000
_THREADS = max(1, min(4, os.cpu_count() or 1))
_counters = ThreadPoolExecutor(_THREADS, thread_name_prefix="count")


def _counted(count: Callable[..., None], values: NDArray[np.uint16]) -> NDArray[np.int64]:
    bins = np.zeros((4, 65536), np.uint32)
    count(values, bins)
    return bins.sum(axis=0, dtype=np.int64)


@dataclass(frozen=True)
class FrameStatistics:
    """Levels of a 16-bit frame, in ADU."""

    n_pixels: int
    minimum: int
    maximum: int
    mean: float
    median: float
    spread: float
    """Standard deviation over the pixels."""
    zeros: int
    brightest_permille: float
    """The level that the brightest 0.1 % of the pixels reach or exceed."""
    saturated_fraction: float


def count_levels(pixels: NDArray[np.uint16]) -> NDArray[np.int64]:
    """Count how often each of the 65,536 levels occurs.

    Parameters
    ----------
    pixels
        Any shape, dtype uint16.
    """
    if pixels.dtype != np.uint16:
        raise UnreadableFrame(f"The pixels are {pixels.dtype}, where 16-bit unsigned was expected.")
    values = np.ascontiguousarray(pixels).ravel()
    if values.size < COMPILED_FROM:
        return np.bincount(values, minlength=65536)
    # Loaded when it is needed, and before several threads ask for it: it takes as long as a sixth of a start.
    from grayshelf.core.sensor.compiled import count

    if values.size < SHARED_FROM:
        return _counted(count, values)
    parts = np.array_split(values, _THREADS)
    return np.asarray(sum(_counters.map(partial(_counted, count), parts)), np.int64)


def quantile_of_counts(bins: NDArray[np.int64], share: float) -> float:
    """Level below or at which `share` (0 … 1) of the counted pixels lie; the median between two levels."""
    return quantile_of_sums(np.cumsum(bins), share)


def quantile_of_sums(cumulative: NDArray[np.int64], share: float) -> float:
    """The same of counts that are summed up already, shape (65536,): for several shares of one frame."""
    total = int(cumulative[-1])
    rank = share * (total - 1)
    low = int(np.searchsorted(cumulative, math.floor(rank) + 1))
    high = int(np.searchsorted(cumulative, math.ceil(rank) + 1))
    return low + (high - low) * (rank - math.floor(rank))


def frame_statistics(pixels: NDArray[np.uint16], white: int = 65535) -> FrameStatistics:
    """Statistics of a 16-bit frame.

    Parameters
    ----------
    pixels
        Any shape, dtype uint16.
    white
        The level at which this camera's pixels are full, in ADU.
    """
    return _statistics_of_counts(count_levels(pixels), white)


def _statistics_of_counts(bins: NDArray[np.int64], white: int) -> FrameStatistics:
    levels = np.arange(65536, dtype=np.float64)
    total = int(bins.sum())
    mean = float(bins @ levels) / total
    present = np.flatnonzero(bins)
    return FrameStatistics(
        n_pixels=total,
        minimum=int(present[0]),
        maximum=int(present[-1]),
        mean=mean,
        median=quantile_of_counts(bins, 0.5),
        spread=math.sqrt(float(bins @ (levels - mean) ** 2) / total),
        zeros=int(bins[0]),
        brightest_permille=quantile_of_counts(bins, 0.999),
        saturated_fraction=float(bins[white:].sum()) / total,
    )


@dataclass(frozen=True)
class FlatStatistics(FrameStatistics):
    """Levels by which a flat is judged: of the brightest channel, where there are several."""

    weakest_median: float | None = None
    """Median of the channel with the least light; None where there is but one."""


def flat_statistics(pixels: NDArray[np.uint16], white: int, pattern: str | None) -> FlatStatistics:
    """Statistics by which a flat is judged: of the whole frame, or of the brightest channel of a colour sensor.

    The brightest channel leaves the linear range first, so the level is its. The brightest 0.1 % and the share that is
    full are the largest of any channel: none may pass the limit.

    Parameters
    ----------
    pixels
        Shape (h, w), dtype uint16.
    white
        The level at which this camera's pixels are full, in ADU.
    pattern
        Of the filters that neighbouring pixels lie under; None where they lie under the same.
    """
    if pattern is None:
        return FlatStatistics(**vars(frame_statistics(pixels, white)))
    side = side_of(pattern)
    channels = []
    for places in judged_together(pattern):
        bins = np.sum([count_levels(plane) for plane in planes_of(pixels, places, side)], axis=0)
        channels.append(_statistics_of_counts(bins, white))
    values = vars(max(channels, key=lambda s: s.median)) | {
        "brightest_permille": max(s.brightest_permille for s in channels),
        "saturated_fraction": max(s.saturated_fraction for s in channels),
    }
    return FlatStatistics(**values, weakest_median=min(s.median for s in channels))


#: Levels from which a common step of more than 1 is no chance.
LEVELS_FOR_STEP = 8


def sample_step(pixels: NDArray[np.uint16]) -> int | None:
    """The step between neighbouring levels, ADU: 16 or 4 for left-justified 12- or 14-bit data, else 1.

    Another driver of the same camera may not shift its samples, so that levels differ by this factor. None where the
    frame does not tell: one that is full, or empty, has next to no levels to compare.

    Parameters
    ----------
    pixels
        Any shape, dtype uint16.
    """
    return _step_of(np.flatnonzero(count_levels(pixels)))


def _step_of(levels: NDArray[np.int64]) -> int | None:
    present = levels[levels < 65520]
    if present.size < 2:
        return None
    step = int(np.gcd.reduce(np.diff(present)))
    if step > 1 and present.size < LEVELS_FOR_STEP:
        return None
    return next((s for s in (16, 8, 4, 2) if step % s == 0), 1)


def background_noise(rows: NDArray[np.float32], apart: int = 2) -> float:
    """Temporal noise of a frame's background from neighbours in it, ADU.

    Pixels so many apart as a colour pattern has lie under the same filter and in the same gradient; their differences are
    clipped at 3 σ, so that stars do not count. (1.4826·MAD would be wrong where the converter's steps are coarse.)

    Parameters
    ----------
    rows
        Whole rows of one frame, shape (n, width). What is no number is left out.
    apart
        After how many pixels the pattern repeats.
    """
    if rows.shape[1] <= apart:
        return math.nan
    differences = (rows[:, apart:] - rows[:, :-apart]).ravel().astype(np.float64)
    differences = differences[np.isfinite(differences)]
    if differences.size == 0:
        return math.nan
    low, high = np.percentile(differences, [5.0, 95.0])
    # Nine tenths of a normal distribution have 0.79 of its standard deviation.
    sigma = max(float(differences[(differences >= low) & (differences <= high)].std()) / 0.79, 1e-9)
    away = np.abs(differences - np.median(differences))
    for _ in range(6):
        kept = differences[away <= 3.0 * sigma]
        # What 3 σ leave of a normal distribution has 0.9866 of its standard deviation.
        sigma = max(float(kept.std()) / 0.9866, 1e-9) if kept.size else sigma
    return sigma / math.sqrt(2.0)


def camera_white(step: int | None, bits_per_sample: int = 16) -> int:
    """The highest level, ADU, that a camera with this sample step can give: 65,520 for ×16, 65,532 for ×4; unknown counts as 1."""
    return (1 << bits_per_sample) - (step or 1)


#: Ends of the range of 12- and 14-bit samples that a driver did not shift up.
UNSHIFTED_ENDS = (4095, 16383)
#: A camera that is full below this, ADU, has samples that nobody shifted up.
UNSHIFTED_BELOW_ADU = 32_768
#: So many of the pixels at exactly such an end, with none above it, are a full sensor and no chance.
PILED_UP = 0.001


def full_level(pixels: NDArray[np.uint16], told_adu: float | None = None) -> int:
    """The level at which the camera of a frame is full, as far as the frame tells; see `full_of_counts`.

    Parameters
    ----------
    told_adu
        As its file says (`FrameFacts.full_adu`); the lower of both holds.
    """
    return lower_full(full_of_counts(count_levels(pixels)), told_adu)


def lower_full(found_adu: int, told_adu: float | None) -> int:
    """The lower of the level at which a camera was found to be full and the one that its files say, ADU."""
    return found_adu if told_adu is None else min(found_adu, int(told_adu))


def full_of_counts(bins: NDArray[np.int64]) -> int:
    """The level at which the camera of a frame is full, as far as its counted levels tell.

    By the step of its samples; and where a driver does not shift them up, by the end of 12 or 14 bits at which pixels
    pile up. A frame of such a driver that is nowhere full does not tell: the whole range is taken.
    """
    return unshifted_end(bins) or camera_white(_step_of(np.flatnonzero(bins)))


def unshifted_end(bins: NDArray[np.int64]) -> int | None:
    """The end of 12 or 14 bits, ADU, where pixels pile up at it and none lies above; None where a frame does not tell.

    Parameters
    ----------
    bins
        How often each of the 65,536 levels occurs, of a frame that has pixels.
    """
    top = int(np.flatnonzero(bins)[-1])
    piled = top in UNSHIFTED_ENDS and bins[top] > PILED_UP * int(bins.sum())
    return top if piled else None
