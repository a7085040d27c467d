"""Pixels that are not as the others: hot and cold ones, counted and mapped.

The limits are common practice, without a published source: on a capped master so many spreads of the usual pixel from its
surroundings, on a flat a share of its neighbours' light.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.looks import medians_of_squares, side_of_squares
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.spread import MAD_TO_SIGMA

#: A pixel of a capped master this many spreads above or below its surroundings is hot, or cold.
SPREADS = 10.0
#: And at least this, in ADU.
LEAST_ADU = 1.0
#: A pixel of a flat with less, or more, than this share of the light around it is cold, or hot.
DIM, BRIGHT = 0.7, 1.3


@dataclass(frozen=True)
class Defects:
    """Defective pixels, by row and column; each array of shape (k,)."""

    row: NDArray[np.int32]
    column: NDArray[np.int32]
    value: NDArray[np.float32]
    """Above its surroundings, ADU; of a flat: over them."""
    hot: NDArray[np.bool_]
    """Else it is cold."""

    @property
    def n_hot(self) -> int:
        """How many are hot."""
        return int(np.count_nonzero(self.hot))

    @property
    def n_cold(self) -> int:
        """How many are cold."""
        return int(self.hot.size) - self.n_hot

    def mask(self, shape: tuple[int, int]) -> NDArray[np.uint8]:
        """A picture of them, shape (h, w): 1 where hot, 2 where cold, else 0."""
        found = np.zeros(shape, np.uint8)
        found[self.row, self.column] = np.where(self.hot, 1, 2)
        return found


def defects_of(pixels: NDArray[Any], kind: FrameKind) -> Defects:
    """The defective pixels of a master.

    Parameters
    ----------
    pixels
        Shape (h, w): ADU of a capped master, ADU or norm 1 of a flat.
    kind
        What its frames were taken for.
    """
    values = np.asarray(pixels, np.float32)
    around = _around(values)
    if kind is FrameKind.FLAT:
        with np.errstate(divide="ignore", invalid="ignore"):
            told = values / around
        hot, cold = told > BRIGHT, told < DIM
    else:
        told = values - around
        sample = told.ravel()[:: max(1, told.size // 1_000_000)]
        spread = MAD_TO_SIGMA * float(np.median(np.abs(sample - np.median(sample))))
        limit = max(SPREADS * spread, LEAST_ADU)
        hot, cold = told > limit, told < -limit
    row, column = np.nonzero(hot | cold)
    return Defects(
        row.astype(np.int32), column.astype(np.int32), told[row, column].astype(np.float32), hot[row, column]
    )


def _around(values: NDArray[np.float32]) -> NDArray[np.float32]:
    """What surrounds each pixel: the medians of squares, in straight lines between their middles, so that neither glow nor
    vignetting is a defect, and a cluster of defects does not hide itself; shape (h, w)."""
    height, width = values.shape
    side = min(side_of_squares(height, width), height, width)
    squares = medians_of_squares(values, side)
    found = np.empty_like(values)
    left, share = _between(width, side, squares.shape[1])
    right = np.minimum(left + 1, squares.shape[1] - 1)
    uppers, shares = _between(height, side, squares.shape[0])
    for row in range(height):
        upper, part = uppers[row], shares[row]
        lower = min(upper + 1, squares.shape[0] - 1)
        line = squares[upper] * (1 - part) + squares[lower] * part
        found[row] = line[left] * (1 - share) + line[right] * share
    return found


def _between(size: int, side: int, squares: int) -> tuple[NDArray[np.intp], NDArray[np.float32]]:
    """For each pixel of a side, the square whose middle lies before it, and its way to the next one's, 0 … 1."""
    at = np.clip((np.arange(size) + 0.5) / side - 0.5, 0.0, squares - 1.0)
    before = np.floor(at).astype(np.intp)
    return before, (at - before).astype(np.float32)
