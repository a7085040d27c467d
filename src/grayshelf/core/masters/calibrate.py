"""A light as its masters correct it, for programs that only stack."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import CannotCombine
from grayshelf.core.frames.full_scale import HIGHEST_FLAT
from grayshelf.core.pictures.parts import Parts, Pixels, rows_of_strips

#: The level of a master flat that was divided by its own is below this; of a frame in ADU it is above.
NORM = 100.0
#: And above this.
LEAST_NORM = HIGHEST_FLAT


@dataclass(frozen=True)
class Flat:
    """A master flat, as it divides lights."""

    of: Parts
    pedestal: Parts | None
    """What is taken off it first: dark flat or bias; None where that was done."""
    mean: float
    """Of all its pixels, the pedestal taken off, in its own unit."""

    def part(self, top: int, bottom: int) -> NDArray[np.float64]:
        """Rows top … bottom−1 over the mean, 1 on the whole; NaN where no light came. Shape (bottom − top, width)."""
        rows = _rows(self.of, self.pedestal, top, bottom) / self.mean
        return np.where(rows > 0.0, rows, np.nan)


def flat_to_divide_by(of: Parts, pedestal: Parts | None) -> Flat:
    """A master flat with its mean, over pixels that are numbers.

    Raises
    ------
    CannotCombine
        Where its mean is not above 0 ADU: nothing can be divided by it.
    """
    total, count = 0.0, 0
    for top, bottom in rows_of_strips(of):
        rows = _rows(of, pedestal, top, bottom)
        known = np.isfinite(rows)
        total += float(rows[known].sum())
        count += int(known.sum())
    if count == 0 or total <= 0.0:
        raise CannotCombine(
            "Nothing is left of the master flat once its pedestal is taken off.", "Look at its card."
        )
    return Flat(of, pedestal, total / count)


@dataclass(frozen=True)
class CalibratedLight:
    """``(light − dark) / (flat / mean of flat)``, in ADU, as float32: what ``subtract_dark`` and ``flat_correct`` of
    ccdproc give, reckoned in float64 and rounded once."""

    light: Parts
    dark: Parts
    """Or a bias, where no dark fits."""
    flat: Flat

    @property
    def width(self) -> int:
        """Columns."""
        return self.light.width

    @property
    def height(self) -> int:
        """Rows."""
        return self.light.height

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        rows = _rows(self.light, self.dark, top, bottom) / self.flat.part(top, bottom)
        return rows[:, left:right].astype(np.float32)


def _rows(of: Parts, less: Parts | None, top: int, bottom: int) -> NDArray[np.float64]:
    rows = of.part(top, bottom, 0, of.width).astype(np.float64)
    return rows if less is None else rows - less.part(top, bottom, 0, less.width)
