"""Pixels that are not as the others: hot and cold ones, counted and mapped.

The limits are common practice, without a published source: on a capped master so many spreads of the usual pixel from its
surroundings, on a flat a share of its neighbours' light.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.looks import medians_of_squares, side_of_squares
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.spread import MAD_TO_SIGMA
from grayshelf.core.pictures.made_of import in_one_light
from grayshelf.core.pictures.parts import Parts, Picture, as_parts

#: A pixel of a capped master this many spreads above or below its surroundings is hot, or cold.
SPREADS = 10.0
#: And at least this, in ADU.
LEAST_ADU = 1.0
#: So many pixels of a band tell how far the usual ones scatter.
FEW_OF_BAND = 200_000
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

    def moved(self, right: int, down: int) -> Defects:
        """The same in a picture that has so many columns and rows before it."""
        return replace(self, row=self.row + np.int32(down), column=self.column + np.int32(right))

    def mask(self, shape: tuple[int, int]) -> NDArray[np.uint8]:
        """A picture of them, shape (h, w): 1 where hot, 2 where cold, else 0."""
        found = np.zeros(shape, np.uint8)
        found[self.row, self.column] = np.where(self.hot, 1, 2)
        return found


def defects_of(picture: Picture, kind: FrameKind, pattern: str | None = None) -> Defects:
    """The defective pixels of a master.

    Parameters
    ----------
    picture
        ADU of a capped master, ADU or norm 1 of a flat.
    kind
        What its frames were taken for.
    pattern
        Of the filters that neighbouring pixels lie under: a flat's pixels are held to those of their own colour.
    """
    parts = as_parts(picture)
    surroundings = _Surroundings(in_one_light(parts, pattern) if kind is FrameKind.FLAT else parts)
    low, high = (DIM, BRIGHT) if kind is FrameKind.FLAT else _limits(surroundings)
    rows, columns, values = [], [], []
    for first, last in surroundings.bands():
        told = surroundings.told(first, last, over=kind is FrameKind.FLAT)
        row, column = np.nonzero((told > high) | (told < low))
        rows.append(row + first)
        columns.append(column)
        values.append(told[row, column])
    value = np.concatenate(values).astype(np.float32)
    return Defects(
        np.concatenate(rows).astype(np.int32), np.concatenate(columns).astype(np.int32), value, value > high
    )


class _Surroundings:
    """What surrounds each pixel: the medians of squares, in straight lines between their middles, so that neither glow nor
    vignetting is a defect, and a cluster of defects does not hide itself. Made band by band, since a whole one would take
    as much memory as the picture."""

    def __init__(self, parts: Parts) -> None:
        self._parts = parts
        height, width = parts.height, parts.width
        self._side = min(side_of_squares(height, width), height, width)
        self._squares = medians_of_squares(parts, self._side)
        self._left, self._share = _between(width, self._side, self._squares.shape[1])
        self._right = np.minimum(self._left + 1, self._squares.shape[1] - 1)
        self._upper, self._part = _between(height, self._side, self._squares.shape[0])

    def bands(self) -> Iterator[tuple[int, int]]:
        """First and last rows of each band."""
        height = self._parts.height
        return ((first, min(first + self._side, height)) for first in range(0, height, self._side))

    def told(self, first: int, last: int, *, over: bool) -> NDArray[np.float32]:
        """Rows first … last−1 above what surrounds them, or `over` it."""
        upper, part = self._upper[first:last], self._part[first:last, None]
        lower = np.minimum(upper + 1, self._squares.shape[0] - 1)
        lines = self._squares[upper] * (1 - part) + self._squares[lower] * part
        around = lines[:, self._left] * (1 - self._share) + lines[:, self._right] * self._share
        values = self._parts.part(first, last, 0, self._parts.width)
        if not over:
            return np.asarray(values - around, np.float32)
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(values / around, np.float32)


def _limits(surroundings: _Surroundings) -> tuple[float, float]:
    """Below and above which a capped master's pixel is no usual one, by some of its bands."""
    bands = list(surroundings.bands())
    some = bands[:: max(1, len(bands) // 8)]
    sample = np.concatenate([_few_of(surroundings.told(*band, over=False)) for band in some])
    if sample.size == 0:
        return -np.inf, np.inf
    middle = float(np.median(sample))
    limit = max(SPREADS * MAD_TO_SIGMA * float(np.median(np.abs(sample - middle))), LEAST_ADU)
    return -limit, limit


def _few_of(told: NDArray[np.float32]) -> NDArray[np.float32]:
    """Some pixels of a band, of all columns, without what is no number."""
    few = told.ravel()[:: max(3, told.size // FEW_OF_BAND | 1)]
    return few[np.isfinite(few)]


def _between(size: int, side: int, squares: int) -> tuple[NDArray[np.intp], NDArray[np.float32]]:
    """For each pixel of a side, the square whose middle lies before it, and its way to the next one's, 0 … 1."""
    at = np.clip((np.arange(size) + 0.5) / side - 0.5, 0.0, squares - 1.0)
    before = np.floor(at).astype(np.intp)
    return before, (at - before).astype(np.float32)
