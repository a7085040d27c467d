"""Stars on a flat of the sky."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.findings import Fault, Place, SetFinding
from grayshelf.core.pictures.parts import Parts, Picture, as_parts, rows_of_strips

Floats = NDArray[np.float64]

#: So many spots are looked at; fewer than this are no stars.
MOST_SPOTS, FEWEST_STARS = 4096, 3
#: Pixels around a spot that tell whether it is one, and those to which it is held.
SPOT_REACH, AROUND_SPOT = 7, 30


def stars_on(flat: Picture, level: float, noise: float) -> list[SetFinding]:
    """Stars on a flat of the sky: bright spots that are larger than a pixel.

    Parameters
    ----------
    flat
        One frame, or a master.
    level, noise
        Its median, and the temporal noise of a pixel, in its unit.
    """
    parts = as_parts(flat)
    if min(parts.width, parts.height) < 32:
        return []
    # Even where the noise is less, what shares a level in nine pixels is the sensor's own.
    limit = max(7.0 * noise / 3.0, 0.002 * level)
    spots = np.concatenate([_spots_in(parts, *rows, level, limit) for rows in rows_of_strips(parts)])
    # The middle of a ring-shaped shadow is as bright as what is around the shadow, and no brighter.
    above = spots[:, 2] - [_mean_around(parts, int(y), int(x)) for y, x in spots[:, :2]]
    spots, above = spots[above > limit], above[above > limit]
    many, ys, xs = len(spots), spots[:, 0].astype(int), spots[:, 1].astype(int)
    if many < FEWEST_STARS:
        return []
    top = float(above.max())
    return [
        SetFinding(
            Fault.STARS,
            float(many),
            "stars",
            f"{many} stars stand on it, the brightest {100.0 * top / level:.1f} % above the sky.",
            "Let the mount drift or move it between the flats, and take them while the sky is brighter: clipping then takes "
            "the stars out.",
            place=Place(int(xs.min()), int(ys.min()), int(xs.max()) + 1, int(ys.max()) + 1),
        )
    ]


def _spots_in(parts: Parts, top: int, bottom: int, level: float, limit: float) -> Floats:
    """Bright spots in some rows: row, column and mean of the nine pixels there, shape (k, 3)."""
    from scipy.ndimage import uniform_filter

    from grayshelf.core.checks.looks_compiled import points_of

    first, last = max(top - SPOT_REACH, 0), min(bottom + SPOT_REACH, parts.height)
    fine = np.ascontiguousarray(parts.part(first, last, 0, parts.width))
    # What is no number would spread along its row.
    fine = np.where(np.isfinite(fine), fine, np.float32(level))
    smooth = uniform_filter(fine, 3)
    spots = np.zeros((MOST_SPOTS, 2), np.int32)
    spots = spots[: points_of(smooth, fine, limit, MOST_SPOTS, spots)]
    found = np.column_stack([spots[:, 0] + first, spots[:, 1], smooth[spots[:, 0], spots[:, 1]]]).astype(
        float
    )
    return found[(found[:, 0] >= top) & (found[:, 0] < bottom)]


def _mean_around(parts: Parts, y: int, x: int) -> float:
    """Mean of the pixels up to `AROUND_SPOT` away, mirrored at the edges as `uniform_filter` does it."""
    rows, columns = (np.abs(np.arange(at - AROUND_SPOT, at + AROUND_SPOT + 1) + 0.5) - 0.5 for at in (y, x))
    rows, columns = (
        np.where(at >= size, 2 * size - 1 - at, at).astype(int)
        for at, size in ((rows, parts.height), (columns, parts.width))
    )
    top, left = int(rows.min()), int(columns.min())
    part = parts.part(top, int(rows.max()) + 1, left, int(columns.max()) + 1)
    return float(np.nanmean(part[np.ix_(rows - top, columns - left)], dtype=float))
