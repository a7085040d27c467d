"""Combining many pixels at once: the compiled loops that run along neighbouring pixels, frame after frame.

Nearly every pixel has no outlier. That is told for many pixels together from their sums, lowest and highest samples, by a
test that no pixel passes from which `clipping` would leave a sample out; only the others are looked at one by one. Medians
are taken by a sorting network (Batcher 1968, odd-even merge), which runs along the pixels, too.
"""

from __future__ import annotations

import math
from functools import lru_cache
from pathlib import Path

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from grayshelf.core.masters import clipping
from grayshelf.core.masters.clipping import combine_pixel, variance_at
from grayshelf.core.masters.clipping_kinds import NO_CLIPPING, POOLED, STD

Floats = NDArray[np.float32]
Doubles = NDArray[np.float64]

#: Samples of one block of pixels: they stay in the nearest cache while they are sorted.
BLOCK_SAMPLES = 8192


@lru_cache(maxsize=64)
def network(n: int) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Which two of `n` places are put into order, one pair after the other, until all are sorted."""
    first: list[int] = []
    second: list[int] = []
    p = 1
    while p < n:
        k = p
        while k >= 1:
            for j in range(k % p, n - k, 2 * k):
                for i in range(min(k, n - j - k)):
                    if (i + j) // (2 * p) == (i + j + k) // (2 * p):
                        first.append(i + j)
                        second.append(i + j + k)
            k //= 2
        p *= 2
    return np.array(first, np.int32), np.array(second, np.int32)


def block_of(n: int) -> int:
    """Pixels of one block for `n` frames."""
    return int(min(max(BLOCK_SAMPLES // n // 16 * 16, 32), 512))


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
    total: Doubles, low: Floats, high: Floats, n: int, allowed: float, m: int, marked: NDArray[np.uint8]
) -> None:  # pragma: no cover - compiled
    """Mark pixels of which a sample may lie too far off, or is no number."""
    for p in range(m):
        below, above = total[p] - n * np.float64(low[p]), n * np.float64(high[p]) - total[p]
        marked[p] |= np.uint8(0 if below <= allowed and above <= allowed else 1)


@njit(cache=True, nogil=True)
def _mark_by_own_spread(
    block: Floats, kappa: float, m: int, marked: NDArray[np.uint8]
) -> None:  # pragma: no cover - compiled
    """Mark pixels of which the lowest or highest of their sorted samples lies beyond κ of their own standard deviations
    about their median; summed in the order in which `_clip_rounds` does it, so that both decide alike."""
    n = len(block)
    mean, square = np.zeros(m), np.zeros(m)
    for i in range(n):
        row = block[i]
        for p in range(m):
            mean[p] += row[p]
    for p in range(m):
        mean[p] /= n
    for i in range(n):
        row = block[i]
        for p in range(m):
            off = row[p] - mean[p]
            square[p] += off * off
    upper, lower = block[n // 2], block[n // 2] if n % 2 else block[n // 2 - 1]
    first, last = block[0], block[n - 1]
    for p in range(m):
        center = np.float64(upper[p]) if n % 2 else 0.5 * (np.float64(lower[p]) + np.float64(upper[p]))
        spread = math.sqrt(square[p] / n)
        inside = first[p] >= center - kappa * spread and last[p] <= center + kappa * spread
        marked[p] |= np.uint8(0 if inside else 1)


@njit(cache=True, nogil=True)
def _add(
    row: Floats, total: Doubles, low: Floats, high: Floats, m: int
) -> None:  # pragma: no cover - compiled
    """Add a frame's samples to the sums, lowest and highest of their pixels; two plain loops, which run in lanes."""
    for p in range(m):
        total[p] += row[p]
    for p in range(m):
        v = row[p]
        low[p] = v if v < low[p] else low[p]
        high[p] = v if v > high[p] else high[p]


@njit(cache=True, nogil=True)
def _sort_block(
    block: Floats, m: int, first: NDArray[np.int32], second: NDArray[np.int32]
) -> None:  # pragma: no cover - compiled
    """Sort every column of a block, shape (frames, pixels)."""
    for c in range(first.size):
        a, b = block[first[c]], block[second[c]]
        for p in range(m):
            x, y = a[p], b[p]
            a[p] = x if x < y else y
            b[p] = y if x < y else x


@njit(cache=True, nogil=True)
def _lowest(low_a: Floats, low_b: Floats, n: int, m: int) -> float:  # pragma: no cover - compiled
    """The lowest sample of a block."""
    lowest = np.inf
    for p in range(m):
        lowest = min(lowest, low_a[p], low_b[p] if n > 1 else low_a[p])
    return lowest


@njit(cache=True, nogil=True)
def _middle(sorted_block: Floats, n: int, p: int) -> float:  # pragma: no cover - compiled
    """The median of a pixel whose samples are sorted."""
    middle = np.float64(sorted_block[n // 2, p])
    return middle if n % 2 else 0.5 * (np.float64(sorted_block[n // 2 - 1, p]) + middle)


@njit(cache=True, nogil=True)
def _as_numbers(
    raw: NDArray[np.int16], scale: np.float32, dark: Floats, start: int, m: int, row: Floats
) -> None:  # pragma: no cover - compiled
    """Samples of a frame as FITS keeps unsigned numbers of 16 bits (32,768 less), less the dark, scaled."""
    middle = np.float32(32768.0)
    if dark.size == 0:
        for p in range(m):
            row[p] = (np.float32(raw[p]) + middle) * scale
        return
    for p in range(m):
        row[p] = (np.float32(raw[p]) + middle - dark[start + p]) * scale


@njit(cache=True, nogil=True, parallel=True)
def combine_tile(
    stack: Floats,
    raw: NDArray[np.int16],
    scales: Floats,
    dark: Floats,
    how: int,
    kappa: float,
    rounds: int,
    median_only: bool,
    levels: Doubles,
    variances: Doubles,
    least: Doubles,
    quantum: float,
    noisy_above: float,
    own_factor: float,
    trimmed: int,
    wide: int,
    first: NDArray[np.int32],
    second: NDArray[np.int32],
    out: Floats,
    half_a: Floats,
    half_b: Floats,
    spare: int,
    left_out: NDArray[np.int64],
) -> None:  # pragma: no cover - compiled
    """Combine a tile, shape (frames, pixels), into `out` and the two half stacks.

    The samples are in `stack`, or, where that is empty, in `raw`: as FITS keeps them, which is a quarter of the memory
    to go through; each frame less `dark` (empty: nothing) and times its one of `scales`.
    `least` is the least variance at or above each of `levels`; `wide` the pixels of a block, `first` and `second` the
    sorting network; the half stacks are wanted of every `spare`-th pixel alone; `left_out`, shape (blocks, frames), counts the samples that were left out.
    """
    is_raw = stack.size == 0
    n, size = raw.shape if is_raw else stack.shape
    n_a, n_b = (n + 1) // 2, n // 2
    for number in prange((size + wide - 1) // wide):
        start = number * wide
        m = min(wide, size - start)
        total_a, total_b = np.zeros(m), np.zeros(m)
        low_a, high_a = np.full(m, np.float32(np.inf)), np.full(m, np.float32(-np.inf))
        low_b, high_b = low_a.copy(), high_a.copy()
        values, half = np.empty(n, np.float64), np.empty(n, np.float64)
        block = np.empty((n, m), np.float32)
        for i in range(n):
            row = block[i]
            if is_raw:
                _as_numbers(raw[i, start : start + m], scales[i], dark, start, m, row)
            else:
                row[:] = stack[i, start : start + m]
            if i % 2 == 0:
                _add(row, total_a, low_a, high_a, m)
            else:
                _add(row, total_b, low_b, high_b, m)
        sorts = median_only or how == STD
        sorted_block = np.empty((n if sorts else 1, m), np.float32)
        if sorts:
            for i in range(n):
                sorted_block[i] = block[i]
            _sort_block(sorted_block, m, first, second)
        marked, marked_half = np.zeros(m, np.uint8), np.zeros(m, np.uint8)
        if how in (POOLED, STD):
            lowest = _lowest(low_a, low_b, n, m)
            # No sample of the block lies lower, and no level above it has less noise than this.
            variance = variance_at(lowest, levels, least) - quantum * quantum / 12.0
            sigma = math.sqrt(max(variance, 0.0))
            _mark_wide(total_a, low_a, high_a, n_a, _allowed(n_a, sigma, kappa, quantum), m, marked_half)
            _mark_wide(total_b, low_b, high_b, n_b, _allowed(n_b, sigma, kappa, quantum), m, marked_half)
            if how == STD:
                _mark_by_own_spread(sorted_block, kappa, m, marked)
            else:
                total, low, high = total_a + total_b, np.minimum(low_a, low_b), np.maximum(high_a, high_b)
                _mark_wide(total, low, high, n, _allowed(n, sigma, kappa, quantum), m, marked)
        elif how != NO_CLIPPING:
            marked[:] = 1
        for p in range(m):
            at = start + p
            total_here = total_a[p] + total_b[p]
            halves = at % spare == 0
            # What is no number is for the one-by-one path to judge.
            if marked[p] == 0 and (marked_half[p] == 0 or not halves) and total_here == total_here:
                out[at] = _middle(sorted_block, n, p) if median_only else total_here / n
                if n > 1:
                    half_a[at] = total_a[p] / n_a
                    half_b[at] = total_b[p] / n_b
                continue
            combine_pixel(
                block[:, p],
                values,
                half,
                how,
                kappa,
                rounds,
                median_only,
                levels,
                variances,
                quantum,
                noisy_above,
                own_factor,
                trimmed,
                out,
                half_a,
                half_b,
                at,
                left_out[number],
                halves,
            )


def forget_older(kept_in: Path, source: Path) -> None:
    """Forget compiled loops of this file that are older than a file whose loops they call: the compiler looks at the one
    that it compiles alone, and would go on with what the other was before an update.

    Parameters
    ----------
    kept_in
        Where the compiler keeps them.
    """
    try:
        changed = source.stat().st_mtime
        for index in kept_in.glob(f"{Path(__file__).stem}.*.nbi"):
            if index.stat().st_mtime < changed:
                index.unlink(missing_ok=True)
    except OSError:
        # Where they cannot be written nobody else's are there.
        return


forget_older(Path(combine_tile.stats.cache_path or ""), Path(clipping.__file__))
