"""Medians and percentiles of all pixels of a picture, exact, without ever holding them all."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.pictures.parts import Parts, Pixels, strips

#: Pixels of the sample that tells about where a quantile lies.
SAMPLE = 500_000
#: So many of its standard deviations about that are gone through one by one.
SURE = 5.0


def quantile_of(parts: Parts, share: float, about: float | None = None) -> float:
    """The level below which a share of the pixels lies, between two of them in a straight line; NaN where there is none.

    A sample tells between which two levels it must lie; only the pixels between those are held, and the others counted.

    Parameters
    ----------
    share
        0 … 1. What is no number does not count.
    about
        Where it is given, distances from this level count in place of the levels.
    """

    def known() -> Iterator[Pixels]:
        for strip in strips(parts):
            pixels = strip[np.isfinite(strip)]
            yield pixels if about is None else np.abs(pixels - np.float32(about))

    # Odd, so that all columns of a colour pattern are met.
    every = max(1, parts.width * parts.height // SAMPLE) | 1
    # Copied, so that nothing is left of what they were taken from.
    sample = np.sort(np.concatenate([pixels[::every].copy() for pixels in known()]))
    n = sample.size
    if n == 0:
        return math.nan
    away = SURE * math.sqrt(n * share * (1.0 - share)) + SURE
    low, high = math.floor(n * share - away), math.ceil(n * share + away)
    while True:
        first = -np.inf if low < 0 else sample[low]
        last = np.inf if high >= n else sample[high]
        below, inside, size = 0, [], 0
        for pixels in known():
            below += int(np.count_nonzero(pixels < first))
            inside.append(pixels[(pixels >= first) & (pixels <= last)])
            size += pixels.size
        rank = share * (size - 1)
        found = _at_rank(np.concatenate(inside), rank - below)
        if found is not None:
            return found
        # Levels that the sample missed lie in between: look in a wider part of them.
        low, high = low - n // 4, high + n // 4


def _at_rank(pixels: NDArray[np.float32], rank: float) -> float | None:
    """The level at a rank among pixels, from 0 on; None where it lies beyond them."""
    lower, upper = math.floor(rank), math.ceil(rank)
    if lower < 0 or upper >= pixels.size:
        return None
    ordered = np.partition(pixels, (lower, upper))
    return float(ordered[lower] + (float(ordered[upper]) - float(ordered[lower])) * (rank - lower))
