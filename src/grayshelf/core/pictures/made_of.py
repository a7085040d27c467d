"""Pictures made of others: a colour alone, two held against each other, a light that is calibrated."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.pictures.colours import (
    Colour,
    cell_of,
    levels_of_colours,
    places_of,
    side_of,
    times_by_place,
)
from grayshelf.core.pictures.parts import Parts, Pixels

#: So many pixels tell how bright the colours of a picture are.
SAMPLED = 1_000_000
#: Stands for a pattern that is not told: a mono sensor's pixels are as bright at all four places.
NOT_TOLD = "    "
#: Colours that differ by less than this share are as bright as one another.
ALIKE = 0.01


@dataclass(frozen=True)
class _AsLarge:
    """A picture as large as the first of those that it is made of."""

    of: Parts

    @property
    def width(self) -> int:
        """Columns."""
        return self.of.width

    @property
    def height(self) -> int:
        """Rows."""
        return self.of.height


@dataclass(frozen=True)
class OneColour:
    """The pixels of one colour of a sensor with a pattern; of several in one of its cells (`cell_of`) their mean."""

    of: Parts
    pattern: str
    colour: Colour

    @property
    def width(self) -> int:
        """Columns."""
        return self.of.width // cell_of(self.pattern)

    @property
    def height(self) -> int:
        """Rows."""
        return self.of.height // cell_of(self.pattern)

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        side, cell = side_of(self.pattern), cell_of(self.pattern)
        pixels = self.of.part(cell * top, cell * bottom, cell * left, cell * right)
        total = np.zeros((bottom - top, right - left), np.float32)
        count = np.zeros_like(total)
        cells = side // cell
        for row, column in places_of(self.pattern, self.colour):
            # Every second cell, where a pattern has several, from the first that it lies in.
            down, across = (row // cell - top) % cells, (column // cell - left) % cells
            here = slice(down, None, cells), slice(across, None, cells)
            total[here] += pixels[row % cell :: cell, column % cell :: cell][here]
            count[here] += 1
        return total / count


@dataclass(frozen=True, eq=False)
class InOneLight(_AsLarge):
    """A flat of a colour sensor with each of its colours as bright as the brightest: what is left tells pixels, shadows and
    vignetting apart from the filters over them."""

    factors: NDArray[np.float64]
    """What each place of the pattern is multiplied by."""

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        pixels = np.array(self.of.part(top, bottom, left, right), np.float32)
        times_by_place(pixels, self.factors, top, left)
        return pixels


def colours_of(flat: Parts, pattern: str) -> NDArray[np.float64]:
    """Medians of a picture by the colours of its pixels, shape (side, side): see `colours.levels_of_colours`.

    Parameters
    ----------
    flat
        Begins where the pattern does; any unit. Of a large one some rows are read.
    """
    side = side_of(pattern)
    n = flat.height // side
    every = max(1, n * side * flat.width // SAMPLED)
    bands = [flat.part(side * i, side * (i + 1), 0, flat.width) for i in range(0, n, every)]
    return levels_of_colours(bands, pattern)


def in_one_light(flat: Parts, pattern: str | None) -> Parts:
    """A flat whose colours are as bright as one another: itself where they are, as of a mono sensor, or of a master of which
    each was divided by its own level.

    Parameters
    ----------
    flat
        Begins where the pattern does; any unit.
    pattern
        Of its pixels, see `colours.pattern_of_pixels`. Where none is told there may be one of 2 × 2 all the same: many a header
        of a colour sensor does not tell it.
    """
    levels = colours_of(flat, pattern or NOT_TOLD)
    if not (levels > 0).all() or levels.max() < (1.0 + ALIKE) * levels.min():
        return flat
    return InOneLight(flat, levels.max() / levels)


@dataclass(frozen=True)
class Difference(_AsLarge):
    """One picture minus another of its size."""

    other: Parts

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        here = top, bottom, left, right
        return np.asarray(self.of.part(*here) - self.other.part(*here), np.float32)


@dataclass(frozen=True)
class Quotient(_AsLarge):
    """One picture over another of its size, each divided by its own level."""

    other: Parts
    scale: float
    """Level of the second over that of the first: where both are alike, 1 is left."""

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`. Where nothing is left of the second, NaN."""
        here = top, bottom, left, right
        return _over(self.of.part(*here) * np.float32(self.scale), self.other.part(*here))


@dataclass(frozen=True)
class ScaledDark(_AsLarge):
    """A longer dark and its bias as a shorter dark: ``bias + share·(dark − bias)``, reckoned in float64 and rounded once.

    What `subtract_dark(..., scale=True)` of ccdproc takes off a light without its bias, with the bias.
    """

    bias: Parts
    share: float
    unit: float = 1.0
    """What an ADU is in the unit in which it is told."""

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        dark, bias = (p.part(top, bottom, left, right).astype(np.float64) for p in (self.of, self.bias))
        return (self.unit * (bias + self.share * (dark - bias))).astype(np.float32)


@dataclass(frozen=True)
class Alone(_AsLarge):
    """A picture of which some columns and rows alone hold numbers, all else NaN."""

    left: int
    top: int
    right: int
    bottom: int

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        pixels = np.full((bottom - top, right - left), np.nan, np.float32)
        first, last = max(top, self.top), min(bottom, self.bottom)
        start, end = max(left, self.left), min(right, self.right)
        if first < last and start < end:
            pixels[first - top : last - top, start - left : end - left] = self.of.part(
                first, last, start, end
            )
        return pixels


@dataclass(frozen=True)
class Calibrated(_AsLarge):
    """A light as its dark and flat correct it: ``(light − dark) / (flat / flat's level)``."""

    dark: Parts | None
    """Dark or bias; without one nothing is taken off."""
    flat: Parts | None
    flat_level: float = 1.0

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        here = top, bottom, left, right
        pixels = self.of.part(*here)
        if self.dark is not None:
            pixels = pixels - self.dark.part(*here)
        if self.flat is None:
            return np.asarray(pixels, np.float32)
        return _over(pixels * np.float32(self.flat_level), self.flat.part(*here))


def _over(first: Pixels, second: Pixels) -> Pixels:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(second > 0, first / second, np.float32(np.nan)).astype(np.float32)
