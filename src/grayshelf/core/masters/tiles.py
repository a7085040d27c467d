"""Combining many pixels at once: the compiled loops that run along neighbouring pixels, frame after frame.

Nearly every pixel has no outlier. That is told for many pixels together from their sums, lowest and highest samples, by a
test that no pixel passes from which `clipping` would leave a sample out; only the others are looked at one by one. Medians
are taken by a sorting network (Batcher 1968, odd-even merge), which runs along the pixels, too.

Whole numbers of 16 bits stay what they are: eight times as many of them are added or compared at once as of doubles.
"""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from grayshelf.core.masters import along, clipping, clipping_kinds
from grayshelf.core.masters.along import mark, put_in_order, sum_up
from grayshelf.core.masters.clipping import combine_pixel, combine_sorted
from grayshelf.core.masters.clipping_kinds import EXTREMES, STD, Clip

Floats = NDArray[np.float32]
Doubles = NDArray[np.float64]
Whole = NDArray[np.uint16]
Places = NDArray[np.int32]
Networks = tuple[Places, Places, Places, Places]

#: Bytes of one block of pixels: they stay in a core's own cache while they are worked on.
BLOCK_BYTES = 131_072
#: As much of it as is gone over more than a hundred times stays in its nearest one.
NEAREST_BYTES = 49_152
#: More whole numbers of 16 bits than this may add up to more than 32 bits hold.
MOST_WHOLE = 65_536


@lru_cache(maxsize=64)
def networks(n: int) -> Networks:
    """Which two of `n` places are put into order, one pair after the other, until the middle of them holds what belongs there
    (the first two arrays), and until all do (the others)."""
    pairs: list[tuple[int, int]] = []
    p = 1
    while p < n:
        k = p
        while k >= 1:
            for j in range(k % p, n - k, 2 * k):
                for i in range(min(k, n - j - k)):
                    if (i + j) // (2 * p) == (i + j + k) // (2 * p):
                        pairs.append((i + j, i + j + k))
            k //= 2
        p *= 2
    # What does not reach the middle need not be put into order.
    asked, kept = {n // 2, (n - 1) // 2}, []
    for pair in reversed(pairs):
        if asked & set(pair):
            asked |= set(pair)
            kept.append(pair)
    middle, whole = np.array(kept[::-1], np.int32).reshape(-1, 2), np.array(pairs, np.int32).reshape(-1, 2)
    return middle[:, 0].copy(), middle[:, 1].copy(), whole[:, 0].copy(), whole[:, 1].copy()


def block_of(n: int, item_bytes: int, block_bytes: int = BLOCK_BYTES) -> int:
    """Pixels of one block for `n` frames."""
    return int(min(max(block_bytes // (n * item_bytes) // 64 * 64, 64), 2048))


@njit(cache=True, nogil=True)
def _combine_block(
    samples: NDArray[Any],
    start: int,
    at: int,
    totals: NDArray[Any],
    lows: NDArray[Any],
    highs: NDArray[Any],
    clip: Clip,
    networks: Networks,
    out: Floats,
    difference: Floats,
    spare: int,
    left_out: NDArray[np.int64],
) -> None:  # pragma: no cover - compiled
    """Combine some neighbouring pixels, from `start` on in `samples`, into the places from `at` on."""
    n, m = len(samples), totals.shape[1]
    n_a, n_b = (n + 1) // 2, n // 2
    sum_up(samples, start, totals, lows, highs)
    halves = totals.astype(np.float64)
    half_a, half_b = halves[0], halves[1]
    total = half_a + half_b
    sorts = clip.median_only or clip.how == STD
    in_order = np.empty((n if sorts else 1, m), samples.dtype)
    if sorts:
        for i in range(n):
            row, into = samples[i, start : start + m], in_order[i]
            for p in range(m):
                into[p] = row[p]
        put_in_order(in_order, networks[0], networks[1])
    marked, marked_half = np.zeros(m, np.uint8), np.zeros(m, np.uint8)
    mark(samples, start, halves, lows, highs, in_order, clip, marked, marked_half)
    upper, lower = in_order[(n // 2) if sorts else 0], in_order[((n - 1) // 2) if sorts else 0]
    # Places of those that are looked at one by one; and the next one whose half stacks are wanted.
    single, n_single = np.empty(m, np.int32), 0
    next_half = -(-at // spare) * spare - at
    for p in range(m):
        wanted = p == next_half
        next_half += spare if wanted else 0
        # What is no number is for the one-by-one path to judge.
        if marked[p] != 0 or (marked_half[p] != 0 and wanted) or total[p] != total[p]:
            single[n_single] = p
            n_single += 1
            continue
        if clip.how == EXTREMES and n > 2:
            low, high = min(lows[0, p], lows[1, p]), max(highs[0, p], highs[1, p])
            out[at + p] = (total[p] - np.float64(low) - np.float64(high)) / (n - 2)
        else:
            out[at + p] = (
                0.5 * (np.float64(lower[p]) + np.float64(upper[p])) if clip.median_only else total[p] / n
            )
        if wanted and n > 1:
            difference[(at + p) // spare] = half_a[p] / n_a - half_b[p] / n_b
    if n_single > 0:
        _one_by_one(
            samples, start, at, single[:n_single], total, clip, networks, out, difference, spare, left_out
        )


@njit(cache=True, nogil=True)
def _one_by_one(
    samples: NDArray[Any],
    start: int,
    at: int,
    single: Places,
    total: Doubles,
    clip: Clip,
    networks: Networks,
    out: Floats,
    difference: Floats,
    spare: int,
    left_out: NDArray[np.int64],
) -> None:  # pragma: no cover - compiled
    """Combine the pixels at the places `single` of a block, each by itself; only their sorting is done together."""
    n = len(samples)
    ordered = np.empty((n, single.size), samples.dtype)
    by_pixel = np.empty((single.size, n), samples.dtype)
    for i in range(n):
        row, into = samples[i], ordered[i]
        for k in range(single.size):
            into[k] = by_pixel[k, i] = row[start + single[k]]
    put_in_order(ordered, networks[2], networks[3])
    values, half = np.empty(n, np.float64), np.empty(n, np.float64)
    for k in range(single.size):
        p, here = single[k], by_pixel[k]
        at_half = (at + p) // spare if (at + p) % spare == 0 else -1
        if total[p] == total[p]:
            for i in range(n):
                values[i] = ordered[i, k]
            combine_sorted(here, values, n, half, clip, out, difference, at + p, at_half, left_out)
        else:
            combine_pixel(here, values, half, clip, out, difference, at + p, at_half, left_out)


@njit(cache=True, nogil=True)
def combine_numbers(
    stack: Floats,
    clip: Clip,
    wide: int,
    networks: Networks,
    out: Floats,
    difference: Floats,
    spare: int,
    left_out: NDArray[np.int64],
) -> None:  # pragma: no cover - compiled
    """Combine samples, shape (frames, pixels), into `out`.

    `wide` is the pixels of a block, `networks` those of the function; `difference` gets what the two half stacks differ
    by in every `spare`-th pixel; `left_out`, one for each frame, is raised by the samples that were left out.
    """
    size = stack.shape[1]
    totals = np.empty((2, wide), np.float64)
    lows, highs = np.empty((2, wide), np.float32), np.empty((2, wide), np.float32)
    for at in range(0, size, wide):
        if at + wide > size:
            totals = np.empty((2, size - at), np.float64)
            lows, highs = np.empty((2, size - at), np.float32), np.empty((2, size - at), np.float32)
        _combine_block(stack, at, at, totals, lows, highs, clip, networks, out, difference, spare, left_out)


@njit(cache=True, nogil=True)
def _from_file(kept: np.uint16) -> np.uint16:  # pragma: no cover - compiled
    """A number as FITS keeps it, high byte first and 32,768 less, on a machine that has the low byte first."""
    return np.uint16(((kept << 8) | (kept >> 8)) ^ 0x8000)


@njit(cache=True, nogil=True)
def combine_whole(
    kept: Whole,
    clip: Clip,
    wide: int,
    networks: Networks,
    out: Floats,
    difference: Floats,
    spare: int,
    left_out: NDArray[np.int64],
) -> None:  # pragma: no cover - compiled
    """As `combine_numbers`, of samples as FITS keeps unsigned numbers of 16 bits; of at most `MOST_WHOLE` frames."""
    n, size = kept.shape
    for at in range(0, size, wide):
        m = min(wide, size - at)
        block = np.empty((n, m), np.uint16)
        for i in range(n):
            row, into = kept[i, at : at + m], block[i]
            for p in range(m):
                into[p] = _from_file(row[p])
        totals = np.empty((2, m), np.uint32)
        lows, highs = np.empty((2, m), np.uint16), np.empty((2, m), np.uint16)
        _combine_block(block, 0, at, totals, lows, highs, clip, networks, out, difference, spare, left_out)


@njit(cache=True, nogil=True)
def median_of_whole(
    kept: Whole, wide: int, networks: Networks, out: Floats, difference: Floats, spare: int
) -> None:  # pragma: no cover - compiled
    """As `combine_whole` for plain medians: nothing has to be known of a pixel but its middle, and of every `spare`-th one
    its half stacks."""
    n, size = kept.shape
    for at in range(0, size, wide):
        m = min(wide, size - at)
        block = np.empty((n, m), np.uint16)
        for i in range(n):
            row, into = kept[i, at : at + m], block[i]
            for p in range(m):
                into[p] = _from_file(row[p])
        put_in_order(block, networks[0], networks[1])
        lower, upper, result = block[(n - 1) // 2], block[n // 2], out[at : at + m]
        for p in range(m):
            result[p] = np.float32(0.5) * np.float32(np.uint32(lower[p]) + np.uint32(upper[p]))
    if n < 2:
        return
    for k in range(difference.size):
        half_a, half_b = 0, 0
        for i in range(0, n, 2):
            half_a += int(_from_file(kept[i, k * spare]))
        for i in range(1, n, 2):
            half_b += int(_from_file(kept[i, k * spare]))
        difference[k] = half_a / ((n + 1) // 2) - half_b / (n // 2)


@njit(cache=True, nogil=True)
def combine_scaled(
    kept: Whole,
    scales: Floats,
    dark: Floats,
    clip: Clip,
    wide: int,
    networks: Networks,
    out: Floats,
    difference: Floats,
    spare: int,
    left_out: NDArray[np.int64],
) -> None:  # pragma: no cover - compiled
    """As `combine_whole`, each frame less `dark` (empty: nothing) and times its one of `scales`."""
    n, size = kept.shape
    for at in range(0, size, wide):
        m = min(wide, size - at)
        block = np.empty((n, m), np.float32)
        for i in range(n):
            row, into, scale = kept[i, at : at + m], block[i], scales[i]
            if dark.size == 0:
                for p in range(m):
                    into[p] = np.float32(_from_file(row[p])) * scale
            else:
                less = dark[at : at + m]
                for p in range(m):
                    into[p] = (np.float32(_from_file(row[p])) - less[p]) * scale
        totals = np.empty((2, m), np.float64)
        lows, highs = np.empty((2, m), np.float32), np.empty((2, m), np.float32)
        _combine_block(block, 0, at, totals, lows, highs, clip, networks, out, difference, spare, left_out)


def forget_older(kept_in: Path, *sources: Path) -> None:
    """Forget compiled loops of this file that are older than a file whose loops they call: the compiler looks at the one
    that it compiles alone, and would go on with what the other was before an update.

    Parameters
    ----------
    kept_in
        Where the compiler keeps them.
    """
    try:
        changed = max(source.stat().st_mtime for source in sources)
        for index in kept_in.glob(f"{Path(__file__).stem}.*.nbi"):
            if index.stat().st_mtime < changed:
                index.unlink(missing_ok=True)
    except OSError:
        # Where they cannot be written nobody else's are there.
        return


_CALLED = (along.__file__, clipping.__file__, clipping_kinds.__file__)
forget_older(Path(combine_whole.stats.cache_path or ""), *(Path(name) for name in _CALLED if name))
