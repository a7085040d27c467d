"""Loops over pixels, and over those of a kind, compiled. The compiler takes as long to load as the rest of a start: import this where it is needed."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray


@njit(cache=True, nogil=True)
def count(values: NDArray[np.uint16], bins: NDArray[np.uint32]) -> None:
    """Count into four rows in turn: neighbours often share a level, and must not wait for one another."""
    n = values.size // 4 * 4
    for i in range(0, n, 4):
        bins[0, values[i]] += np.uint32(1)
        bins[1, values[i + 1]] += np.uint32(1)
        bins[2, values[i + 2]] += np.uint32(1)
        bins[3, values[i + 3]] += np.uint32(1)
    for i in range(n, values.size):
        bins[0, values[i]] += np.uint32(1)


@njit(cache=True, nogil=True)
def sums(
    a: NDArray[np.uint16],
    b: NDArray[np.uint16],
    mask: NDArray[np.bool_],
    block: int,
    pedestal: float,
    scale: float,
    white: int,
) -> tuple[int, float, float, float, float, float, int]:
    """Of the blocks of a pair of frames that count: pixels, sums of both frames and of powers 1, 2 and 4 of their
    difference above the pedestal (ADU), and pixels at white.
    """
    n, full = 0, 0
    sum_a, sum_b, s1, s2, s4 = 0.0, 0.0, 0.0, 0.0, 0.0
    for by in range(mask.shape[0]):
        for bx in range(mask.shape[1]):
            if not mask[by, bx]:
                continue
            for y in range(by * block, (by + 1) * block):
                for x in range(bx * block, (bx + 1) * block):
                    va, vb = float(a[y, x]), float(b[y, x])
                    d = (va - pedestal) - (vb - pedestal) * scale
                    sum_a += va
                    sum_b += vb
                    s1 += d
                    s2 += d * d
                    s4 += d * d * d * d
                    n += 1
                    if va >= white:
                        full += 1
    return n, sum_a, sum_b, s1, s2, s4, full


@njit(cache=True, nogil=True)
def draw_kinds(
    likelihoods: NDArray[np.float64],
    weights: NDArray[np.float64],
    totals: NDArray[np.float64],
    repeats: NDArray[np.int64],
    uniform: NDArray[np.float64],
    counts: NDArray[np.int64],
) -> None:
    """Draw of which kind each pixel is, and count them.

    Parameters
    ----------
    likelihoods
        Shape (n, k): of pixels that are alike, how likely each kind gives what they gave; up to a factor.
    weights
        Shape (k,): how many there are of each kind, up to a factor.
    totals
        Shape (n,): the sum of likelihood times weight over the kinds.
    repeats
        Shape (n,): how many pixels are alike.
    uniform
        Shape (sum of `repeats`,): numbers from 0 to 1, one for each pixel.
    counts
        Shape (k,): to which the pixels of each kind are added.
    """
    up_to = np.empty(weights.size)
    last = weights.size - 1
    pixel = 0
    for i in range(repeats.size):
        if repeats[i] == 1:
            # Most pixels are alone: for one number it is enough to go as far as it reaches.
            reached, drawn, k = 0.0, uniform[pixel] * totals[i], 0
            while k < last:
                reached += likelihoods[i, k] * weights[k]
                if reached > drawn:
                    break
                k += 1
            counts[k] += 1
            pixel += 1
            continue
        total = 0.0
        for k in range(weights.size):
            total += likelihoods[i, k] * weights[k]
            up_to[k] = total
        for _ in range(repeats[i]):
            k = np.searchsorted(up_to, uniform[pixel] * total, side="right")
            counts[min(k, last)] += 1
            pixel += 1
