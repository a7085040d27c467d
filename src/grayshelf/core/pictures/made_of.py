"""Pictures made of others: a colour alone, two held against each other, a light that is calibrated."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from grayshelf.core.pictures.parts import Parts, Pixels

Colour = Literal["red", "green", "blue"]


@dataclass(frozen=True)
class OneColour:
    """The pixels of one colour of a sensor with a pattern of 2 × 2; of two greens their mean."""

    of: Parts
    places: tuple[tuple[int, int], ...]
    """Rows and columns within the pattern."""

    @property
    def width(self) -> int:
        """Columns."""
        return self.of.width // 2

    @property
    def height(self) -> int:
        """Rows."""
        return self.of.height // 2

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        pixels = self.of.part(2 * top, 2 * bottom, 2 * left, 2 * right)
        planes = [pixels[row::2, column::2] for row, column in self.places]
        return np.asarray(sum(planes[1:], planes[0]) / np.float32(len(planes)), np.float32)


def places_of(bayer_pattern: str, colour: Colour) -> tuple[tuple[int, int], ...]:
    """Where a colour's pixels lie in a pattern such as 'RGGB', as (row, column)."""
    letter = colour[0].upper()
    return tuple((i // 2, i % 2) for i, one in enumerate(bayer_pattern.upper()[:4]) if one == letter)


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
