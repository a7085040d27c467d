"""Loops that run along neighbouring pixels, frame after frame, compiled so that many pixels are worked on at once.

Each is plain, without a choice in it: so it runs in lanes.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from grayshelf.core.masters.clipping import variance_at
from grayshelf.core.masters.clipping_kinds import EXTREMES, NO_CLIPPING, POOLED, STD, Clip

Doubles = NDArray[np.float64]
Places = NDArray[np.int32]
Marks = NDArray[np.uint8]

#: A sum of n squares in 32 bits may be wrong by n times this share of itself.
WRONG_BY = 2.5e-7


@njit(cache=True, nogil=True)
def _allowed(n: int, sigma: float, kappa: float, quantum: float) -> float:  # pragma: no cover - compiled
    """How far a pixel's lowest or highest of `n` samples may lie from the mean of the others, times n − 1; see
    `_clip_pooled`."""
    if n < 3:
        return math.inf
    limit = max(kappa * sigma * math.sqrt(n / (n - 1.0)) + 0.5 * quantum, 1.5 * quantum)
    # A hair less, since the one-by-one sums are taken in another order.
    return limit * (n - 1) * (1.0 - 1e-9)


@njit(cache=True, nogil=True)
def _mark_wide(
    total: Doubles, low: NDArray[Any], high: NDArray[Any], n: int, allowed: float, marked: NDArray[np.uint8]
) -> None:  # pragma: no cover - compiled
    """Mark pixels of which a sample may lie too far off, or is no number."""
    for p in range(total.size):
        below, above = total[p] - n * np.float64(low[p]), n * np.float64(high[p]) - total[p]
        marked[p] |= np.uint8(0 if below <= allowed and above <= allowed else 1)


@njit(cache=True, nogil=True)
def _mark_by_own_spread(
    samples: NDArray[Any],
    start: int,
    total: Doubles,
    low: NDArray[Any],
    high: NDArray[Any],
    in_order: NDArray[Any],
    kappa: float,
    marked: NDArray[np.uint8],
) -> None:  # pragma: no cover - compiled
    """Mark pixels of which the lowest or highest sample may lie beyond κ of their own standard deviations about their
    median. Sums about the first sample in 32 bits tell it, less than they may be wrong by: where that one is far off, the
    pixel is marked anyway."""
    n, m = len(samples), total.size
    first = samples[0, start : start + m]
    sums, squares = np.zeros(m, np.float32), np.zeros(m, np.float32)
    for i in range(1, n):
        row = samples[i, start : start + m]
        for p in range(m):
            off = np.float32(row[p]) - np.float32(first[p])
            sums[p] += off
            squares[p] += off * off
    upper, lower = in_order[n // 2], in_order[(n - 1) // 2]
    for p in range(m):
        center = 0.5 * (np.float64(lower[p]) + np.float64(upper[p]))
        square, mean = np.float64(squares[p]) / n, np.float64(sums[p]) / n
        variance = square - mean * mean - WRONG_BY * n * square
        far = kappa * math.sqrt(max(variance, 0.0))
        inside = low[p] >= center - far and high[p] <= center + far
        marked[p] |= np.uint8(0 if inside else 1)


@njit(cache=True, nogil=True)
def _add(
    row: NDArray[Any], total: NDArray[Any], low: NDArray[Any], high: NDArray[Any]
) -> None:  # pragma: no cover - compiled
    """Add a frame's samples to the sums, lowest and highest of their pixels; two plain loops, which run in lanes."""
    for p in range(total.size):
        total[p] += row[p]
    for p in range(total.size):
        v = row[p]
        low[p] = v if v < low[p] else low[p]
        high[p] = v if v > high[p] else high[p]


@njit(cache=True, nogil=True)
def _add_four(
    one: NDArray[Any],
    two: NDArray[Any],
    three: NDArray[Any],
    four: NDArray[Any],
    total: NDArray[Any],
    low: NDArray[Any],
    high: NDArray[Any],
) -> None:  # pragma: no cover - compiled
    """As `_add`, four frames at once: the sums are fetched and put back a quarter as often."""
    for p in range(total.size):
        # One after the other: so they are added as what the total is.
        total[p] = total[p] + one[p] + two[p] + three[p] + four[p]
    for p in range(total.size):
        v, w, x, y = one[p], two[p], three[p], four[p]
        low_a, low_b = v if v < w else w, x if x < y else y
        high_a, high_b = w if v < w else v, y if x < y else x
        low_a, high_a = low_a if low_a < low_b else low_b, high_a if high_a > high_b else high_b
        low[p] = low_a if low_a < low[p] else low[p]
        high[p] = high_a if high_a > high[p] else high[p]


@njit(cache=True, nogil=True)
def put_in_order(block: NDArray[Any], first: Places, second: Places) -> None:  # pragma: no cover - compiled
    """Put every column of a block, shape (frames, pixels), into order, pair after pair."""
    for c in range(first.size):
        a, b = block[first[c]], block[second[c]]
        for p in range(a.size):
            x, y = a[p], b[p]
            a[p] = x if x < y else y
            b[p] = y if x < y else x


@njit(cache=True, nogil=True)
def _lowest(low: NDArray[Any]) -> float:  # pragma: no cover - compiled
    """The lowest of some samples; what is no number does not count."""
    lowest = np.inf
    for p in range(low.size):
        lowest = np.float64(low[p]) if low[p] < lowest else lowest
    return lowest


@njit(cache=True, nogil=True)
def sum_up(
    samples: NDArray[Any], start: int, totals: NDArray[Any], lows: NDArray[Any], highs: NDArray[Any]
) -> None:  # pragma: no cover - compiled
    """Sums, lowest and highest of a block's pixels in either half of the frames, shape (2, pixels) each."""
    n, end = len(samples), start + totals.shape[1]
    totals[:] = 0
    for half in range(2):
        row = samples[min(half, n - 1), start:end]
        total, low, high = totals[half], lows[half], highs[half]
        for p in range(total.size):
            low[p] = high[p] = row[p]
        i = half
        while i + 6 < n:
            one, two = samples[i, start:end], samples[i + 2, start:end]
            three, four = samples[i + 4, start:end], samples[i + 6, start:end]
            _add_four(one, two, three, four, total, low, high)
            i += 8
        while i < n:
            _add(samples[i, start:end], total, low, high)
            i += 2


@njit(cache=True, nogil=True)
def mark(
    samples: NDArray[Any],
    start: int,
    halves: Doubles,
    lows: NDArray[Any],
    highs: NDArray[Any],
    in_order: NDArray[Any],
    clip: Clip,
    marked: Marks,
    marked_half: Marks,
) -> None:  # pragma: no cover - compiled
    """Mark pixels of which a sample may have to be left out, and those of which one may be in either half stack.

    `halves`, `lows` and `highs`, shape (2, pixels), are the sums, lowest and highest of the half stacks, and `in_order` the
    samples with their middle in place.
    """
    n = len(samples)
    if clip.how == NO_CLIPPING or clip.how == EXTREMES:
        return
    if clip.how != POOLED and clip.how != STD:
        marked[:] = 1
        return
    low, high = np.minimum(lows[0], lows[1]), np.maximum(highs[0], highs[1])
    # No sample of the block lies lower, and no level above it has less noise than this.
    variance = variance_at(_lowest(low), clip.levels, clip.least_above) - clip.quantum**2 / 12.0
    sigma, kappa, quantum = math.sqrt(max(variance, 0.0)), clip.kappa, clip.quantum
    for half in range(2):
        m = (n + 1 - half) // 2
        allowed = _allowed(m, sigma, kappa, quantum)
        _mark_wide(halves[half], lows[half], highs[half], m, allowed, marked_half)
    total = halves[0] + halves[1]
    if clip.how == STD:
        _mark_by_own_spread(samples, start, total, low, high, in_order, kappa, marked)
    else:
        _mark_wide(total, low, high, n, _allowed(n, sigma, kappa, quantum), marked)
