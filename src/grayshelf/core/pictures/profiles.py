"""Levels along a row, along a column, and from the middle outwards."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.pictures.parts import Parts, Pixels

Along = Literal["row", "column", "radius"]
#: A profile has at most so many points; a longer line is given in means of neighbours.
MOST_POINTS = 1200
#: Rings from the middle to the furthest corner.
RINGS = 100


@dataclass(frozen=True)
class Profile:
    """Levels along a line."""

    at: tuple[float, ...]
    """Pixels from the first one, or from the middle."""
    level: tuple[float, ...]
    step: float
    """So many pixels make one point."""


def profile_of(parts: Parts, overview: Pixels, along: Along, place: int, band: int = 1) -> Profile:
    """Levels along a row or column, or from a picture's middle outwards.

    Parameters
    ----------
    overview
        The picture made small: rings are means of its pixels.
    place
        Which row or column.
    band
        Mean of so many rows or columns about it.
    """
    if along == "radius":
        return _rings(overview, parts.width, parts.height)
    side = parts.height if along == "row" else parts.width
    first = min(max(place - band // 2, 0), side - 1)
    last = min(first + band, side)
    if along == "row":
        values = _means(parts.part(first, last, 0, parts.width), axis=0)
    else:
        values = np.concatenate(
            [
                _means(parts.part(top, min(top + 512, parts.height), first, last), axis=1)
                for top in range(0, parts.height, 512)
            ]
        )
    step = -(-values.size // MOST_POINTS)
    short = -values.size % step
    points = _means(np.pad(values, (0, short), constant_values=np.nan).reshape(-1, step), axis=1)
    at = np.arange(points.size) * step + (step - 1) / 2
    return Profile(tuple(at.tolist()), tuple(points.tolist()), float(step))


def _rings(overview: Pixels, width: int, height: int) -> Profile:
    """Means of rings of equal width about the middle; distances in pixels of the picture."""
    rows, columns = overview.shape
    y, x = np.ogrid[0:rows, 0:columns]
    distance = np.hypot(x + 0.5 - columns / 2, y + 0.5 - rows / 2)
    ring = np.minimum((distance / (math.hypot(rows, columns) / 2) * RINGS).astype(np.int64), RINGS - 1)
    known = np.isfinite(overview)
    n = np.bincount(ring[known], minlength=RINGS)
    total = np.bincount(ring[known], overview[known], minlength=RINGS)
    told = n > 0
    size = math.hypot(width, height) / 2 / RINGS
    # Where its pixels are in the mean: the last ring is only four corners.
    at = np.bincount(ring[known], distance[known], minlength=RINGS) / np.maximum(n, 1) * (width / columns)
    return Profile(tuple(at[told].tolist()), tuple((total[told] / n[told]).tolist()), size)


def _means(pixels: NDArray[np.floating], axis: int) -> NDArray[np.float64]:
    known = np.isfinite(pixels)
    n = known.sum(axis=axis)
    total = np.where(known, pixels, 0.0).sum(axis=axis, dtype=np.float64)
    return np.where(n > 0, total / np.maximum(n, 1), np.nan)
