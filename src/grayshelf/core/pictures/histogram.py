"""How often each level occurs in a picture."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.pictures.parts import Parts, Pixels, rows_of_strips

BINS = 256
#: Percentiles between which the bins lie, and what is black and white at first.
ENDS = (0.02, 99.98)
AT_FIRST = (0.5, 99.5)
#: The bins reach further than those by this share, so that what lies just outside is seen.
MARGIN = 0.15


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
        The picture made small: between its ends the bins lie.
    whole
        Whether levels are whole numbers: then so are the ends of the bins, and no bin holds more levels than the next.
    """
    sample = _some_rows(parts)
    if sample.size == 0:
        return Histogram(0.0, 1.0, (0,) * BINS, 0, 0, 0.0, 0.0, 0.0, 0.0, parts.width * parts.height)
    known = overview[np.isfinite(overview)]
    low, high = (float(v) for v in np.percentile(sample, ENDS))
    low, high = min(low, float(known.min())), max(high, float(known.max()))
    margin = MARGIN * (high - low) or max(abs(high), 1.0) * 1e-3
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


def ends_at_first(overview: Pixels, ends: Sequence[float] = AT_FIRST) -> tuple[float, float]:
    """The levels that are black and white until somebody chooses others: percentiles of the picture made small."""
    known = overview[np.isfinite(overview)]
    if known.size == 0:
        return 0.0, 1.0
    black, white = (float(v) for v in np.percentile(known, list(ends)))
    return black, white if white > black else black + max(abs(black), 1.0) * 1e-6
