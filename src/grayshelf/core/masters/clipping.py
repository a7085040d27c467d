"""Leaving outliers out of a pixel's samples: the compiled inner loops of combining.

With the noise of the stack known beforehand, a sample is an outlier where it lies further from the mean of the
others than κ of the standard deviation of that distance, σ·√(1 + 1/(m − 1)): so one of three is found, where plain
kappa-sigma cannot find one of seven. κ·√… about the median of so few would leave out good ones.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from grayshelf.core.masters.clipping_kinds import EXTREMES, MAD, NO_CLIPPING, POOLED, Clip

Floats = NDArray[np.float32]
Doubles = NDArray[np.float64]

#: Of two samples that differ, nobody can say which is wrong.
FEWEST_LEFT = 2


@njit(cache=True, nogil=True)
def median_of(values: Doubles, first: int, last: int) -> float:  # pragma: no cover - compiled
    """Median of a part of sorted values."""
    count = last - first
    half = first + count // 2
    return values[half] if count % 2 else 0.5 * (values[half - 1] + values[half])


@njit(cache=True, nogil=True)
def _sum_of(values: Doubles, first: int, last: int) -> float:  # pragma: no cover - compiled
    total = 0.0
    for i in range(first, last):
        total += values[i]
    return total


@njit(cache=True, nogil=True)
def _sum_between(
    samples: NDArray[Any], low: float, high: float
) -> tuple[float, int]:  # pragma: no cover - compiled
    """Sum and number of the samples from `low` to `high`."""
    total, count = 0.0, 0
    for i in range(samples.size):
        value = np.float64(samples[i])
        if low <= value <= high:
            total += value
            count += 1
    return total, count


@njit(cache=True, nogil=True)
def _without_furthest(
    values: Doubles, n: int, trimmed: int
) -> tuple[int, int]:  # pragma: no cover - compiled
    """The part of sorted values that is left without the `trimmed` furthest from their median."""
    center = median_of(values, 0, n)
    first, last = 0, n
    for _ in range(trimmed):
        if center - values[first] > values[last - 1] - center:
            first += 1
        else:
            last -= 1
    return first, last


@njit(cache=True, nogil=True)
def _sums_about(
    values: Doubles, first: int, last: int, center: float
) -> tuple[float, float]:  # pragma: no cover - compiled
    """Sums of some values' distances from `center`, and of their squares; by two and two, which need not wait for each
    other."""
    sum_a, sum_b, square_a, square_b = 0.0, 0.0, 0.0, 0.0
    for i in range(first, last - 1, 2):
        one, two = values[i] - center, values[i + 1] - center
        sum_a += one
        sum_b += two
        square_a += one * one
        square_b += two * two
    if (last - first) % 2:
        one = values[last - 1] - center
        sum_a += one
        square_a += one * one
    return sum_a + sum_b, square_a + square_b


@njit(cache=True, nogil=True)
def _spread_of(
    values: Doubles, first: int, last: int, center: float, robust: bool
) -> float:  # pragma: no cover - compiled
    """Standard deviation, or 1.4826·MAD, of a part of sorted values."""
    if robust:
        deviations = np.sort(np.abs(values[first:last] - center))
        return 1.482602218505602 * median_of(deviations, 0, last - first)
    total, square = _sums_about(values, first, last, center)
    n = last - first
    return math.sqrt(max(square - total * total / n, 0.0) / n)


@njit(cache=True, nogil=True)
def _sort_into(
    row: NDArray[Any], step: int, start: int, values: Doubles
) -> int:  # pragma: no cover - compiled
    """Copy every `step`-th sample and sort; by insertion for usual depths, where it beats anything general. What is no
    number is not copied; returns how many are."""
    n = 0
    for i in range(start, row.size, step):
        value = np.float64(row[i])
        if value != value:
            continue
        if row.size > 64:
            values[n] = value
        else:
            j = n
            while j > 0 and values[j - 1] > value:
                values[j] = values[j - 1]
                j -= 1
            values[j] = value
        n += 1
    if row.size > 64:
        values[:n] = np.sort(values[:n])
    return n


@njit(cache=True, nogil=True)
def variance_at(level: float, levels: Doubles, variances: Doubles) -> float:  # pragma: no cover - compiled
    """Noise at a level: between those known in a straight line, above them on along the last of it, never falling."""
    k = levels.size
    if k == 1 or level <= levels[0]:
        return variances[0]
    at = k - 1
    for i in range(1, k):
        if level < levels[i]:
            at = i
            break
    width = levels[at] - levels[at - 1]
    slope = (variances[at] - variances[at - 1]) / width if width > 0.0 else 0.0
    if level >= levels[k - 1]:
        return variances[k - 1] + max(slope, 0.0) * (level - levels[k - 1])
    return variances[at - 1] + slope * (level - levels[at - 1])


@njit(cache=True, nogil=True)
def _own_spread(
    values: Doubles, n: int, trimmed: int, center: float, total: float, square: float
) -> float:  # pragma: no cover - compiled
    """Standard deviation of sorted values without the `trimmed` furthest from their median `center`, from their sums
    about it."""
    first, last = 0, n
    for _ in range(trimmed):
        low, high = center - values[first], values[last - 1] - center
        if low > high:
            first += 1
            total += low
            square -= low * low
        else:
            last -= 1
            total -= high
            square -= high * high
    m = last - first
    return math.sqrt(max(square - total * total / m, 0.0) / max(m - 1, 1))


@njit(cache=True, nogil=True)
def _clip_pooled(
    values: Doubles, n: int, total: float, center: float, sigma: float, kappa: float, quantum: float
) -> tuple[int, int]:  # pragma: no cover - compiled
    """The part of sorted values that is left when outliers are taken off, the furthest first; `total` is the sum of their
    distances from `center`.

    A value stands for all within half a step of it, so its nearest end counts, against the noise before rounding; and
    a neighbouring step alone is never an outlier.
    """
    first, last = 0, n
    before_rounding = math.sqrt(max(sigma * sigma - quantum * quantum / 12.0, 0.0))
    while last - first > FEWEST_LEFT:
        m = last - first
        lowest, highest = values[first] - center, values[last - 1] - center
        low = (total - lowest) / (m - 1) - lowest
        high = highest - (total - highest) / (m - 1)
        limit = max(kappa * before_rounding * math.sqrt(m / (m - 1.0)) + 0.5 * quantum, 1.5 * quantum)
        if max(low, high) <= limit:
            break
        if high >= low:
            last -= 1
            total -= highest
        else:
            total -= lowest
            first += 1
    return first, last


@njit(cache=True, nogil=True)
def _clip_rounds(
    values: Doubles, n: int, kappa: float, rounds: int, robust: bool
) -> tuple[int, int]:  # pragma: no cover - compiled
    """Kappa-sigma about the median in rounds, as `astropy.stats.sigma_clip` does it."""
    first, last = 0, n
    for _ in range(rounds):
        center = median_of(values, first, last)
        spread = _spread_of(values, first, last, center, robust)
        low, high = center - kappa * spread, center + kappa * spread
        new_first, new_last = first, last
        while new_first < last and values[new_first] < low:
            new_first += 1
        while new_last > new_first and values[new_last - 1] > high:
            new_last -= 1
        if new_first == first and new_last == last:
            break
        first, last = new_first, new_last
    return first, last


@njit(cache=True, nogil=True)
def _part_left(
    values: Doubles, n: int, clip: Clip, about: float, center: float, sigma: float
) -> tuple[int, int]:  # pragma: no cover - compiled
    """The part of sorted values that is left without outliers; `about` is the sum of their distances from `center`."""
    if clip.how == POOLED:
        return _clip_pooled(values, n, about, center, sigma, clip.kappa, clip.quantum)
    if clip.how == NO_CLIPPING or clip.how == EXTREMES:
        return 0, n
    return _clip_rounds(values, n, clip.kappa, clip.rounds, clip.how == MAD)


@njit(cache=True, nogil=True)
def _halves_apart(
    samples: NDArray[Any], half: Doubles, sigma: float, kappa: float, quantum: float
) -> float:  # pragma: no cover - compiled
    """What the means of a pixel's two half stacks differ by, each clipped on its own at κ σ; NaN where one has no numbers."""
    apart = 0.0
    for start in range(2):
        m = _sort_into(samples, 2, start, half)
        if m == 0:
            return np.nan
        a, b = 0, m
        if kappa < np.inf:
            about, _ = _sums_about(half, 0, m, half[0])
            a, b = _clip_pooled(half, m, about, half[0], sigma, kappa, quantum)
        mean = _sum_of(half, a, b) / (b - a)
        apart = apart + mean if start == 0 else apart - mean
    return apart


@njit(cache=True, nogil=True)
def combine_pixel(
    samples: NDArray[Any],
    values: Doubles,
    half: Doubles,
    clip: Clip,
    out: Floats,
    difference: Floats,
    at: int,
    at_half: int,
    left_out: NDArray[np.int64],
) -> None:  # pragma: no cover - compiled
    """Combine the samples of one pixel into place `at` of `out`, and put what its half stacks differ by into place
    `at_half` of `difference` unless that is −1; count in `left_out` those that were not used, by frame. `values` and
    `half` are room to work in.

    The half stacks (every other frame) are clipped each on its own: halves that were clipped together would differ by
    less than two stacks do.
    """
    n = _sort_into(samples, 1, 0, values)
    if n == 0:
        out[at] = np.nan
        if at_half >= 0:
            difference[at_half] = np.nan
        return
    combine_sorted(samples, values, n, half, clip, out, difference, at, at_half, left_out)


@njit(cache=True, nogil=True)
def combine_sorted(
    samples: NDArray[Any],
    values: Doubles,
    n: int,
    half: Doubles,
    clip: Clip,
    out: Floats,
    difference: Floats,
    at: int,
    at_half: int,
    left_out: NDArray[np.int64],
) -> None:  # pragma: no cover - compiled
    """As `combine_pixel`, where the first `n` of `values` are the samples that are numbers, sorted."""
    how, kappa, quantum, trimmed = clip.how, clip.kappa, clip.quantum, clip.trimmed
    center = median_of(values, 0, n)
    about, sigma = 0.0, 0.0
    if how == POOLED or at_half >= 0:
        about, square = _sums_about(values, 0, n, center)
        sigma = math.sqrt(variance_at(center, clip.levels, clip.variances))
        usual = clip.noisy_above * sigma + 0.5 * quantum
        # Of all samples it would be larger still.
        if 0 < trimmed < n - 1 and square > usual * usual * (n - trimmed - 1):
            own = _own_spread(values, n, trimmed, center, about, square)
            if own > usual:
                sigma = own * clip.own_factor
    first, last = _part_left(values, n, clip, about, center, sigma)
    low, high = values[first], values[last - 1]
    total, count = _sum_between(samples, low, high)
    if count < samples.size:
        for i in range(samples.size):
            left_out[i] += 0 if low <= np.float64(samples[i]) <= high else 1
    if how == EXTREMES and n > 2:
        # One of each, also where others are as low or as high; nobody calls them outliers.
        out[at] = _sum_of(values, 1, n - 1) / (n - 2)
    else:
        out[at] = center if clip.median_only else total / count
    if at_half >= 0 and samples.size >= 2:
        clips = how != NO_CLIPPING and how != EXTREMES
        difference[at_half] = _halves_apart(samples, half, sigma, kappa if clips else np.inf, quantum)


@njit(cache=True, nogil=True, parallel=True)
def scatter_of(
    by_pixel: Floats, sigma: Doubles, kappa: float, quantum: float, trimmed: int
) -> tuple[Doubles, Doubles]:  # pragma: no cover - compiled
    """For each pixel, the sum of squares about the mean of what is left of its sorted samples, and its degrees of freedom.

    Without a `sigma` (0) the `trimmed` furthest from the median are left out; else what lies beyond κ·σ.
    """
    p, n = by_pixel.shape
    squares, freedom = np.zeros(p), np.zeros(p)
    blocks = (p + 4095) // 4096
    for block in prange(blocks):
        values = np.empty(n, np.float64)
        for i in range(block * 4096, min((block + 1) * 4096, p)):
            for k in range(n):
                values[k] = by_pixel[i, k]
            first, last, middle = 0, n, values[n // 2]
            total, square = _sums_about(values, 0, n, middle)
            if sigma[i] > 0.0:
                first, last = _clip_pooled(values, n, total, middle, sigma[i], kappa, quantum)
            else:
                first, last = _without_furthest(values, n, trimmed)
            if last - first < n:
                total, square = _sums_about(values, first, last, middle)
            squares[i] = max(square - total * total / (last - first), 0.0)
            freedom[i] = last - first - 1
    return squares, freedom
