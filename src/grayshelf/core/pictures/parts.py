"""Parts of a picture, at its own size or smaller: all that is looked at is made of these, so that none is ever held whole."""

from __future__ import annotations

import os
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

Pixels = NDArray[np.float32]

#: Side of a tile, in its own pixels.
TILE = 256
#: The whole of a picture is kept so small that neither side is longer than this.
OVERVIEW = 1024
#: Pixels that are held at a time where all are gone through: so many stay in a processor's cache.
AT_A_TIME = 400_000


class Parts(Protocol):
    """A picture of which parts can be had."""

    @property
    def width(self) -> int:
        """Columns."""
        ...

    @property
    def height(self) -> int:
        """Rows."""
        ...

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """Rows top … bottom−1 and columns left … right−1, shape (bottom − top, right − left)."""
        ...


@dataclass(frozen=True)
class Whole:
    """A picture that is in memory, shape (h, w)."""

    pixels: NDArray[Any]

    @property
    def width(self) -> int:
        """Columns."""
        return int(self.pixels.shape[1])

    @property
    def height(self) -> int:
        """Rows."""
        return int(self.pixels.shape[0])

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        return np.asarray(self.pixels[top:bottom, left:right], np.float32)

    @property
    def unsigned_16(self) -> bool:
        """See `is_unsigned_16`."""
        return self.pixels.dtype == np.uint16


@dataclass(frozen=True)
class Cropped:
    """Some columns and rows of another picture."""

    of: Parts
    left: int
    top: int
    width: int
    height: int

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """See `Parts`."""
        return self.of.part(self.top + top, self.top + bottom, self.left + left, self.left + right)

    @property
    def unsigned_16(self) -> bool:
        """See `is_unsigned_16`."""
        return is_unsigned_16(self.of)


Picture = Parts | NDArray[Any]
"""A picture in parts, or in memory with shape (h, w)."""


def as_parts(picture: Picture) -> Parts:
    """The same picture in parts."""
    return Whole(picture) if isinstance(picture, np.ndarray) else picture


def is_unsigned_16(parts: Parts) -> bool:
    """Whether all levels are whole numbers of 16 bits, so that they can be counted."""
    return bool(getattr(parts, "unsigned_16", False))


def rows_of_strips(parts: Parts, whole: int = 1) -> Iterator[tuple[int, int]]:
    """All of a picture, some rows at a time (a multiple of `whole`): the first and the one after the last."""
    rows = max(AT_A_TIME // parts.width // whole, 1) * whole
    return ((top, min(top + rows, parts.height)) for top in range(0, parts.height, rows))


def strips(parts: Parts, whole: int = 1) -> Iterator[Pixels]:
    """The pixels of those rows, one strip after the other."""
    return (parts.part(rows[0], rows[1], 0, parts.width) for rows in rows_of_strips(parts, whole))


def levels_at(parts: Parts, places: NDArray[np.int64]) -> NDArray[np.float32]:
    """The levels of some pixels, by their flat indices, which rise."""
    found = []
    for top, bottom in rows_of_strips(parts):
        first, last = np.searchsorted(places, (top * parts.width, bottom * parts.width))
        if first < last:
            strip = parts.part(top, bottom, 0, parts.width)
            found.append(strip.ravel()[places[first:last] - top * parts.width])
    return np.concatenate(found) if found else np.empty(0, np.float32)


def reduced(pixels: Pixels, factor: int) -> Pixels:
    """Means of squares of `factor` × `factor` pixels; at the right and lower edge, of what is left of them.

    Parameters
    ----------
    pixels
        Shape (h, w). NaN is left out, and stays where a square holds nothing else.

    Returns
    -------
    Shape (⌈h / factor⌉, ⌈w / factor⌉).
    """
    if factor == 1:
        return pixels
    height, width = pixels.shape
    down, across = -(-height // factor), -(-width // factor)
    short = down * factor - height, across * factor - width
    if any(short):
        pixels = np.pad(pixels, ((0, short[0]), (0, short[1])), constant_values=np.nan)
    # Rows first: whole rows are added up many pixels at a time.
    rows = pixels.reshape(down, factor, across * factor).sum(axis=1, dtype=np.float32)
    means = rows.reshape(down, across, factor) @ np.full(factor, 1.0 / factor**2, np.float32)
    holes = np.isnan(means)
    if holes.any():
        # Their mean by hand: NumPy's own complains of squares that hold nothing at all.
        cut = pixels.reshape(down, factor, across, factor).swapaxes(1, 2)[holes].reshape(int(holes.sum()), -1)
        known = np.isfinite(cut)
        n = known.sum(axis=1)
        sums = np.where(known, cut, 0.0).sum(axis=1)
        means[holes] = np.where(n > 0, sums / np.maximum(n, 1), np.nan)
    return np.asarray(means, np.float32)


def factor_of_overview(width: int, height: int, longest: int = OVERVIEW) -> int:
    """The power of two by which a picture is made small to be seen whole."""
    factor = 1
    while max(width, height) > longest * factor:
        factor *= 2
    return factor


def overview_of(parts: Parts, longest: int = OVERVIEW) -> Pixels:
    """The whole picture, reduced by `factor_of_overview`."""
    return made_small(parts, factor_of_overview(parts.width, parts.height, longest))


def made_small(parts: Parts, factor: int) -> Pixels:
    """The whole picture, reduced (see `reduced`); a few strips of it are held at a time."""

    def of_rows(rows: tuple[int, int]) -> Pixels:
        return reduced(parts.part(rows[0], rows[1], 0, parts.width), factor)

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        return np.concatenate(list(pool.map(of_rows, rows_of_strips(parts, factor))))


def tile_of(parts: Parts, level: int, column: int, row: int) -> Pixels:
    """One tile of a picture reduced by `level`, at most `TILE` × `TILE` of its pixels.

    Parameters
    ----------
    level
        1, 2, 4 …: so many pixels of the picture make one of the tile's, across and down.
    column, row
        Which tile, from the upper left.

    Raises
    ------
    IndexError
        Where the picture does not reach that far.
    """
    side = TILE * level
    left, top = column * side, row * side
    if not (0 <= left < parts.width and 0 <= top < parts.height):
        raise IndexError("The picture does not reach that far.")
    part = parts.part(top, min(top + side, parts.height), left, min(left + side, parts.width))
    return reduced(part, level)
