"""Leaving outliers out of a pixel's samples: the compiled inner loops of combining.

With the noise of the stack known beforehand, a sample is an outlier where it lies further from the mean of the
others than κ of the standard deviation of that distance, σ·√(1 + 1/(m − 1)): so one of three is found, where plain
kappa-sigma cannot find one of seven. κ·√… about the median of so few would leave out good ones.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from grayshelf.core.masters.clipping_kinds import MAD, NO_CLIPPING, POOLED

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
def _mean_of(values: Doubles, first: int, last: int) -> float:  # pragma: no cover - compiled
    total = 0.0
    for i in range(first, last):
        total += values[i]
    return total / (last - first)


@njit(cache=True, nogil=True)
def _squares(values: Doubles, first: int, last: int) -> float:  # pragma: no cover - compiled
    """Sum of squares about the mean of a part of the values."""
    mean = _mean_of(values, first, last)
    square = 0.0
    for i in range(first, last):
        square += (values[i] - mean) ** 2
    return square


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
def _spread_of(
    values: Doubles, first: int, last: int, center: float, robust: bool
) -> float:  # pragma: no cover - compiled
    """Standard deviation, or 1.4826·MAD, of a part of sorted values."""
    if robust:
        deviations = np.sort(np.abs(values[first:last] - center))
        return 1.482602218505602 * median_of(deviations, 0, last - first)
    return math.sqrt(_squares(values, first, last) / (last - first))


@njit(cache=True, nogil=True)
def _sort_into(row: Floats, step: int, start: int, values: Doubles) -> int:  # pragma: no cover - compiled
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
def _own_spread(values: Doubles, n: int, trimmed: int) -> float:  # pragma: no cover - compiled
    """Standard deviation of sorted values without the `trimmed` furthest from their median."""
    first, last = _without_furthest(values, n, trimmed)
    return math.sqrt(_squares(values, first, last) / max(last - first - 1, 1))


@njit(cache=True, nogil=True)
def _clip_pooled(
    values: Doubles, n: int, sigma: float, kappa: float, quantum: float
) -> tuple[int, int]:  # pragma: no cover - compiled
    """The part of sorted values that is left when outliers are taken off, the furthest first.

    A value stands for all within half a step of it, so its nearest end counts, against the noise before rounding; and
    a neighbouring step alone is never an outlier.
    """
    first, last = 0, n
    before_rounding = math.sqrt(max(sigma * sigma - quantum * quantum / 12.0, 0.0))
    total = 0.0
    for i in range(n):
        total += values[i]
    while last - first > FEWEST_LEFT:
        m = last - first
        low = (total - values[first]) / (m - 1) - values[first]
        high = values[last - 1] - (total - values[last - 1]) / (m - 1)
        limit = max(kappa * before_rounding * math.sqrt(m / (m - 1.0)) + 0.5 * quantum, 1.5 * quantum)
        if max(low, high) <= limit:
            break
        if high >= low:
            last -= 1
            total -= values[last]
        else:
            total -= values[first]
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
def combine_pixel(
    samples: Floats,
    values: Doubles,
    half: Doubles,
    how: int,
    kappa: float,
    rounds: int,
    median_only: bool,
    levels: Doubles,
    variances: Doubles,
    quantum: float,
    noisy_above: float,
    own_factor: float,
    trimmed: int,
    out: Floats,
    half_a: Floats,
    half_b: Floats,
    at: int,
    left_out: NDArray[np.int64],
    halves: bool,
) -> None:  # pragma: no cover - compiled
    """Combine the samples of one pixel into place `at` of `out` and, where `halves` are wanted, of the half stacks; count in
    `left_out` those that were not used, by frame. `values` and `half` are room to work in.

    The half stacks (every other frame) are clipped each on its own: halves that were clipped together would differ by
    less than two stacks do.
    """
    n = _sort_into(samples, 1, 0, values)
    if n == 0:
        out[at] = half_a[at] = half_b[at] = np.nan
        return
    sigma = math.sqrt(variance_at(median_of(values, 0, n), levels, variances))
    if 0 < trimmed < n - 1:
        own = _own_spread(values, n, trimmed)
        if own > noisy_above * sigma + 0.5 * quantum:
            sigma = own * own_factor
    first, last = 0, n
    if how == POOLED:
        first, last = _clip_pooled(values, n, sigma, kappa, quantum)
    elif how != NO_CLIPPING:
        first, last = _clip_rounds(values, n, kappa, rounds, how == MAD)
    low, high = values[first], values[last - 1]
    total, count = 0.0, 0
    for i in range(samples.size):
        value = np.float64(samples[i])
        if low <= value <= high:
            total += value
            count += 1
        else:
            left_out[i] += 1
    out[at] = median_of(values, 0, n) if median_only else total / count
    if halves and samples.size > 1:
        for start in range(2):
            m = _sort_into(samples, 2, start, half)
            if m == 0:
                half_a[at] = half_b[at] = np.nan
                return
            a, b = 0, m
            if how != NO_CLIPPING:
                a, b = _clip_pooled(half, m, sigma, kappa, quantum)
            mean = _mean_of(half, a, b)
            if start == 0:
                half_a[at] = mean
            else:
                half_b[at] = mean


@njit(cache=True, nogil=True, parallel=True)
def scatter_of(
    by_pixel: Floats, sigma: Doubles, kappa: float, quantum: float, trimmed: int
) -> tuple[Doubles, Doubles]:  # pragma: no cover - compiled
    """For each pixel, the sum of squares about the mean of what is left of its samples, and its degrees of freedom.

    Without a `sigma` (0) the `trimmed` furthest from the median are left out; else what lies beyond κ·σ.
    """
    p, n = by_pixel.shape
    squares, freedom = np.zeros(p), np.zeros(p)
    blocks = (p + 4095) // 4096
    for block in prange(blocks):
        values = np.empty(n, np.float64)
        for i in range(block * 4096, min((block + 1) * 4096, p)):
            _sort_into(by_pixel[i], 1, 0, values)
            first, last = 0, n
            if sigma[i] > 0.0:
                first, last = _clip_pooled(values, n, sigma[i], kappa, quantum)
            else:
                first, last = _without_furthest(values, n, trimmed)
            squares[i] = _squares(values, first, last)
            freedom[i] = last - first - 1
    return squares, freedom
