"""Loops over the pixels of a frame that is looked at, compiled. Import it where it is needed: the compiler is slow to load."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray


@njit(cache=True, nogil=True)
def blocks_of(
    pixels: NDArray[np.float32],
    side: int,
    low: float,
    high: float,
    white: float,
    means: NDArray[np.float32],
    full: NDArray[np.float32],
    rows: NDArray[np.float64],
) -> None:
    """Means of the squares of a frame and of strips of its rows, over the pixels from `low` to `high`; and the share of
    each square at `white` or above.

    Pixels shape (h, w); `means` and `full` (h // side, w // side); `rows` (strips, h), from left to right.
    """
    height, width = pixels.shape
    n_y, n_x = means.shape
    wide = width // len(rows)
    sums = np.zeros(n_x)
    counts = np.zeros(n_x)
    over = np.zeros(n_x)
    for by in range(n_y):
        sums[:] = 0.0
        counts[:] = 0.0
        over[:] = 0.0
        for y in range(by * side, (by + 1) * side):
            for bx in range(n_x):
                s, c, f = 0.0, 0.0, 0.0
                for x in range(bx * side, (bx + 1) * side):
                    v = pixels[y, x]
                    if v >= white:
                        f += 1.0
                    if v >= low and v <= high:
                        s += v
                        c += 1.0
                sums[bx] += s
                counts[bx] += c
                over[bx] += f
        for bx in range(n_x):
            means[by, bx] = sums[bx] / counts[bx] if counts[bx] > 0 else np.nan
            full[by, bx] = over[bx] / (side * side)
    for y in range(height):
        for part in range(len(rows)):
            first = part * wide
            s, c = 0.0, 0.0
            for x in range(first, first + wide):
                v = pixels[y, x]
                if v >= low and v <= high:
                    s += v
                    c += 1.0
            rows[part, y] = s / c if c > 0 else np.nan


@njit(cache=True, nogil=True)
def points_of(
    smooth: NDArray[np.float32], fine: NDArray[np.float32], limit: float, most: int, found: NDArray[np.int32]
) -> int:
    """Bright spots that are larger than a pixel and stand alone; returns how many, the first `most` of them in `found` as
    (y, x).

    `smooth` is the frame averaged over 3 × 3; `fine` the same before averaging, above its surroundings. A spot is a peak of
    `smooth` that lies `limit` above all that is 6 pixels away, so that no edge of a shadow is one, and whose brightest
    pixel holds less than 60 % of what its 3 × 3 hold above that: a hot pixel holds it all.
    """
    height, width = smooth.shape
    n = 0
    for y in range(6, height - 6):
        for x in range(6, width - 6):
            v = smooth[y, x]
            around = -np.inf
            for dy, dx in ((-6, 0), (6, 0), (0, -6), (0, 6), (-4, -4), (-4, 4), (4, -4), (4, 4)):
                around = max(around, smooth[y + dy, x + dx])
            if v - around < limit:
                continue
            peak = True
            total, top = 0.0, 0.0
            for dy in range(-1, 2):
                for dx in range(-1, 2):
                    other = smooth[y + dy, x + dx]
                    if other > v or (other == v and (dy < 0 or (dy == 0 and dx < 0))):
                        peak = False
                    one = fine[y + dy, x + dx] - around
                    total += one
                    top = max(top, one)
            if peak and top < 0.6 * total:
                if n < most:
                    found[n, 0] = y
                    found[n, 1] = x
                n += 1
    return n
