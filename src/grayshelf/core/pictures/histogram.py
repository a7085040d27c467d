"""How often each level occurs in a picture."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.pictures.parts import Parts, Pixels, rows_of_strips

BINS = 256
#: What is black and white at first: percentiles of the picture made small, and of its pixels.
AT_FIRST, MOST_PIXELS = (0.5, 99.5), (4.0, 96.0)
#: The bins reach further than those by this share: what lies beyond, such as stars and hot pixels, is counted apart.
MARGIN = 0.6


@dataclass(frozen=True)
class Histogram:
    """Levels of a picture, counted over all its pixels."""

    first: float
    """Lower end of the first bin."""
    step: float
    """Width of a bin: whole where the levels are."""
    counts: tuple[int, ...]
    below: int
    above: int
    """Pixels beyond the bins."""
    lowest: float
    highest: float
    median: float
    mean: float
    unknown: int
    """Pixels that hold no number."""

    @property
    def last(self) -> float:
        """Upper end of the last bin."""
        return self.first + self.step * len(self.counts)


def histogram_of(parts: Parts, overview: Pixels, *, whole: bool) -> Histogram:
    """Count the levels of all pixels, some rows at a time.

    Parameters
    ----------
    overview
        The picture made small.
    whole
        Whether levels are whole numbers: then so are the ends of the bins, and no bin holds more levels than the next.
    """
    sample = _some_rows(parts)
    if sample.size == 0:
        return Histogram(0.0, 1.0, (0,) * BINS, 0, 0, 0.0, 0.0, 0.0, 0.0, parts.width * parts.height)
    low, high = ends_at_first(parts, overview)
    margin = MARGIN * (high - low)
    first, step = low - margin, (high - low + 2 * margin) / BINS
    if whole:
        first, step = float(np.floor(first)) - 0.5, float(np.ceil(step))

    def counted_in(rows: tuple[int, int]) -> _Counted:
        return _count(parts.part(rows[0], rows[1], 0, parts.width), first, step)

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        counted = list(pool.map(counted_in, rows_of_strips(parts)))
    counts = np.sum([c.counts for c in counted], axis=0)
    n = sum(c.known for c in counted)
    return Histogram(
        first,
        step,
        tuple(int(c) for c in counts),
        sum(c.below for c in counted),
        n - int(counts.sum()) - sum(c.below for c in counted),
        min(c.lowest for c in counted),
        max(c.highest for c in counted),
        float(np.median(sample)),
        sum(c.total for c in counted) / max(n, 1),
        parts.width * parts.height - n,
    )


class _Counted(NamedTuple):
    """Some rows, counted."""

    counts: NDArray[np.int64]
    below: int
    known: int
    lowest: float
    highest: float
    total: float


def _count(pixels: Pixels, first: float, step: float) -> _Counted:
    finite = pixels[np.isfinite(pixels)]
    if finite.size == 0:
        return _Counted(np.zeros(BINS, np.int64), 0, 0, np.inf, -np.inf, 0.0)
    place = np.floor((finite - np.float32(first)) / np.float32(step))
    inside = np.clip(place, -1, BINS).astype(np.int16) + 1
    counts = np.bincount(inside, minlength=BINS + 2)
    return _Counted(
        counts[1:-1],
        int(counts[0]),
        int(finite.size),
        float(finite.min()),
        float(finite.max()),
        float(finite.sum(dtype=np.float64)),
    )


def _some_rows(parts: Parts, rows: int = 96) -> Pixels:
    """Rows spread over a picture, in one line; without what holds no number."""
    every = max(parts.height // rows, 1)
    # Pairs of rows, so that a colour sensor's pattern is had whole.
    tops = range(0, parts.height, 2 * every)
    cut = np.concatenate([parts.part(t, min(t + 2, parts.height), 0, parts.width).ravel() for t in tops])
    return np.asarray(cut[np.isfinite(cut)], np.float32)


def ends_at_first(parts: Parts, overview: Pixels) -> tuple[float, float]:
    """The levels that are black and white until somebody chooses others: percentiles of the picture made small, wide enough
    for most single pixels, which scatter more."""
    known, sample = overview[np.isfinite(overview)], _some_rows(parts)
    if known.size == 0 or sample.size == 0:
        return 0.0, 1.0
    black, white = (float(v) for v in np.percentile(known, AT_FIRST))
    low, high = (float(v) for v in np.percentile(sample, MOST_PIXELS))
    black, white = min(black, low), max(white, high)
    return black, white if white > black else black + max(abs(black), 1.0) * 1e-6
