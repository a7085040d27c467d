"""Which pixels of a colour sensor lie under filters of one colour, and how bright each colour is.

A pattern is told by its letters row by row, from the upper left pixel: 'RGGB' repeats after two pixels, one of 36 letters after
six. What is told by any other text is taken for one of two.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Literal, TypeVar

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.pictures.parts import Pixels

Colour = Literal["red", "green", "blue"]
Value = TypeVar("Value", bound=np.generic)
Place = tuple[int, int]
"""Row and column within a pattern."""

#: Letters of a pattern that repeats after six pixels.
OF_SIX = 36
#: Of which a pattern consists.
LETTERS = frozenset("RGBCMYWE")


def pattern_of_pixels(bayer_pattern: str | None, binning: int | None) -> str | None:
    """The pattern of filters that neighbouring pixels of a frame lie under; None where they lie under the same, as of a mono
    sensor: binning adds them up."""
    return bayer_pattern if (binning or 1) == 1 else None


def side_of(pattern: str | None) -> int:
    """After how many pixels a pattern repeats, either way."""
    return 6 if pattern is not None and len(pattern) == OF_SIX and LETTERS.issuperset(pattern) else 2


def cell_of(pattern: str | None) -> int:
    """Side of the squares, laid side by side from the upper left, that all hold each colour equally often: of a pattern of six
    pixels its quarters may, as where each has five greens, two reds and two blues."""
    side = side_of(pattern)
    if pattern is None or side == 2:
        return 2
    rows = [pattern[side * y : side * (y + 1)] for y in range(side)]
    quarters = {
        "".join(sorted(letter for row in rows[y : y + 3] for letter in row[x : x + 3]))
        for y in (0, 3)
        for x in (0, 3)
    }
    return 3 if len(quarters) == 1 else side


def shifted(pattern: str, right: int, down: int) -> str:
    """The pattern of a picture that begins so many pixels to the right of another, and below it."""
    side = side_of(pattern)
    if len(pattern) != side * side:
        return pattern
    return "".join(
        pattern[(y + down) % side * side + (x + right) % side] for y in range(side) for x in range(side)
    )


def places_of(pattern: str, colour: Colour) -> tuple[Place, ...]:
    """Where a colour's pixels lie in a pattern such as 'RGGB'."""
    side, letter = side_of(pattern), colour[0].upper()
    return tuple(divmod(i, side) for i, one in enumerate(pattern.upper()[: side * side]) if one == letter)


def judged_together(pattern: str) -> list[tuple[Place, ...]]:
    """Places whose pixels are one channel: each of 2 × 2 alone, since greens beside red and beside blue may differ; of 6 × 6
    all of a colour."""
    side = side_of(pattern)
    if side == 2:
        return [((0, 0),), ((0, 1),), ((1, 0),), ((1, 1),)]
    return [
        tuple(divmod(i, side) for i, one in enumerate(pattern) if one == letter)
        for letter in sorted(set(pattern))
    ]


def in_short(pattern: str | None) -> str | None:
    """A pattern as it is told: of six rows the first two, which no other place in it begins with."""
    if pattern is None or side_of(pattern) == 2:
        return pattern
    return f"{pattern[:6]} {pattern[6:12]} …"


def planes_of(pixels: NDArray[Value], places: Sequence[Place], side: int) -> list[NDArray[Value]]:
    """The pixels at some places of each pattern, as views; `pixels` begins where a pattern does."""
    return [pixels[row::side, column::side] for row, column in places]


def times_by_place(pixels: Pixels, factors: NDArray[np.float64], top: int, left: int = 0) -> None:
    """Multiply pixels in place by the factors of their places in a pattern, shape (side, side).

    Parameters
    ----------
    top, left
        Row and column of the frame at which they begin; the pattern begins where the frame does.
    """
    side = len(factors)
    for (row, column), factor in np.ndenumerate(factors):
        pixels[(row - top) % side :: side, (column - left) % side :: side] *= np.float32(factor)


def levels_of_colours(bands: Sequence[Pixels], pattern: str | None) -> NDArray[np.float64]:
    """Medians of a frame by the colours of its pixels; where nothing holds a number, NaN.

    Parameters
    ----------
    bands
        Some of its rows, each band beginning where a pattern does.
    pattern
        None where all pixels are of one colour.

    Returns
    -------
    Array of shape (side, side), by row and column within the pattern.
    """
    side = side_of(pattern)
    if pattern is None:
        return np.full((side, side), _median([band.ravel() for band in bands]))
    levels = np.empty((side, side))
    for places in judged_together(pattern):
        found = _median([plane.ravel() for band in bands for plane in planes_of(band, places, side)])
        for row, column in places:
            levels[row, column] = found
    return levels


def _median(pieces: Sequence[NDArray[np.generic]]) -> float:
    pixels = np.concatenate(pieces) if pieces else np.empty(0)
    known = pixels[np.isfinite(pixels)]
    return float(np.median(known)) if known.size else math.nan
