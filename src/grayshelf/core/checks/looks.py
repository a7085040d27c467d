"""A frame looked at once: small enough to be kept for all frames of a set, and enough for every check of the set."""

from __future__ import annotations

import math
import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.pictures.colours import cell_of, side_of
from grayshelf.core.pictures.made_of import colours_of
from grayshelf.core.pictures.parts import (
    Parts,
    Picture,
    as_parts,
    is_unsigned_16,
    levels_at,
    rows_of_strips,
    strips,
)
from grayshelf.core.sensor.statistics import background_noise, quantile_of_counts, unshifted_end

#: Squares across the longer side of a frame.
ACROSS = 48
#: Pixels of a capped frame further from its median than so many of its spreads are hot, cold or dead.
STEADY_SPREADS = 6.0
#: Strips from top to bottom in which bands along the rows are looked for: a shadow lies in one or two of them.
STRIPS = 8
#: Rows on which the noise of a frame is measured.
NOISE_ROWS = 64


@dataclass(frozen=True)
class FrameLook:
    """What the checks need to know of a frame. Levels in ADU."""

    height: int
    width: int
    level: float
    """Median; of a colour sensor's flat that of the brightest channel."""
    mean: float
    """Of the steady pixels: a level that is finer than the converter's steps."""
    spread: float
    """Half of what lies between the 16th and the 84th of a hundred pixels."""
    noise: float
    """Temporal noise of a pixel, from neighbours."""
    zeros: float
    """Share of the pixels at zero."""
    full: float
    """Share of the pixels that are full."""
    side: int
    """Of the squares, in pixels."""
    blocks: NDArray[np.float32]
    """Means of the squares, shape (rows, columns)."""
    full_blocks: NDArray[np.float32]
    """Share of each square that is full."""
    rows: NDArray[np.float64]
    """Means of each row's pixels in strips from left to right, shape (`STRIPS`, height)."""
    cell: int
    """So many rows together hold each colour of a sensor alike."""
    colours: NDArray[np.float64]
    """Medians of a colour sensor's channels by their places in the pattern, shape (side, side); all one of a mono sensor."""
    hot: NDArray[np.float32]
    """The pixels that were asked for."""

    @property
    def shape_of_light(self) -> NDArray[np.float32]:
        """How the light is spread: its squares over their mean."""
        return np.asarray(self.blocks / np.float32(np.nanmean(self.blocks)), np.float32)


def side_of_squares(height: int, width: int, cell: int = 2) -> int:
    """Side of the squares in pixels: so that each holds the colours of a sensor's pattern alike (`colours.cell_of`)."""
    return max(cell * round(max(height, width) / ACROSS / cell), 2 * cell)


def look_at(
    picture: Picture,
    white_adu: float,
    *,
    lit: bool,
    hot_at: NDArray[np.int64] | None = None,
    pattern: str | None = None,
) -> FrameLook:
    """Look at a frame, some rows at a time.

    Parameters
    ----------
    picture
        The frame, or a master.
    white_adu
        The level at which its pixels are full, unless they themselves tell another (see `unshifted_end`).
    lit
        Whether there is light on it: then bright and dark parts are no faults of pixels.
    hot_at
        Flat indices of pixels whose values are wanted, rising.
    pattern
        Of the filters that neighbouring pixels lie under, where there is light; it begins where the picture does.
    """
    parts = as_parts(picture)
    height, width = parts.height, parts.width
    levels = _levels(parts, white_adu)
    spread = max((levels.high - levels.low) / 2.0, 0.5 if is_unsigned_16(parts) else 1e-6)
    low, high = -math.inf, math.inf
    if not lit:
        low, high = levels.middle - STEADY_SPREADS * spread, levels.middle + STEADY_SPREADS * spread
    repeat, cell = side_of(pattern), cell_of(pattern)
    side = side_of_squares(height, width, cell)
    squares = _squares_of(parts, min(side, height, width), low, high, levels.white)
    first = max(height // 2 - NOISE_ROWS // 2, 0) // repeat * repeat
    middle = parts.part(first, min(first + NOISE_ROWS, height), 0, width)
    colours = np.full((2, 2), levels.middle) if pattern is None else colours_of(parts, pattern)
    return FrameLook(
        height,
        width,
        float(colours.max()),
        _mean_of(squares.means, levels.middle),
        spread,
        background_noise(middle, repeat),
        levels.zeros,
        levels.full,
        side,
        squares.means,
        squares.full,
        squares.rows,
        cell,
        colours,
        np.empty(0, np.float32) if hot_at is None else levels_at(parts, hot_at),
    )


def _mean_of(pixels: NDArray[np.float32], otherwise: float) -> float:
    known = pixels[np.isfinite(pixels)]
    return float(known.mean()) if known.size else otherwise


class _Levels(NamedTuple):
    """The 16th, 50th and 84th percentile, the share at zero, where pixels are full, and the share that is."""

    low: float
    middle: float
    high: float
    zeros: float
    white: float
    full: float


def _levels(parts: Parts, white_adu: float) -> _Levels:
    size = parts.width * parts.height
    if is_unsigned_16(parts):
        bins = counted_levels(parts)
        low, middle, high = (quantile_of_counts(bins, q) for q in (0.16, 0.5, 0.84))
        white = unshifted_end(bins) or white_adu
        # A master whose levels are as low as a norm has no full pixels, in whole numbers either.
        full = 0.0 if math.isinf(white) else float(bins[min(max(round(white), 0), 65_535) :].sum())
        return _Levels(low, middle, high, float(bins[0]) / size, white, full / size)
    # Odd, so that all columns of a colour pattern are met.
    every = max(1, size // 1_000_000) | 1
    sample, zeros, over, lowest = [], 0, 0, math.inf
    for strip in strips(parts):
        some = strip.ravel()[::every]
        sample.append(some[np.isfinite(some)])
        zeros += int(np.count_nonzero(strip == 0))
        over += int(np.count_nonzero(strip >= white_adu))
        lowest = float(np.fmin(lowest, np.fmin.reduce(strip, axis=None)))
    known = np.concatenate(sample)
    if known.size == 0:
        return _Levels(math.nan, math.nan, math.nan, 0.0, white_adu, 0.0)
    low, middle, high = (float(v) for v in np.percentile(known, (16.0, 50.0, 84.0)))
    # Where some lie below nought, as after a bias was taken off, nothing was cut off there.
    return _Levels(low, middle, high, zeros / size if lowest >= 0.0 else 0.0, white_adu, over / size)


def counted_levels(parts: Parts) -> NDArray[np.int64]:
    """How often each of the 65,536 levels occurs in a frame of whole numbers of 16 bits."""
    from grayshelf.core.sensor.compiled import count

    bins = np.zeros((4, 65_536), np.uint32)
    for strip in strips(parts):
        count(strip.astype(np.uint16).ravel(), bins)
    return bins.sum(axis=0, dtype=np.int64)


class _Squares(NamedTuple):
    """Means of squares and of strips of rows; see `FrameLook`."""

    means: NDArray[np.float32]
    full: NDArray[np.float32]
    rows: NDArray[np.float64]


def _squares_of(parts: Parts, side: int, low: float, high: float, white: float) -> _Squares:
    from grayshelf.core.checks.looks_compiled import blocks_of

    height, width = parts.height, parts.width
    shape = max(height // side, 1), max(width // side, 1)
    means, full = np.empty(shape, np.float32), np.empty(shape, np.float32)
    rows = np.empty((STRIPS, height))
    for top, bottom in rows_of_strips(parts, side):
        strip = parts.part(top, bottom, 0, width)
        cut = slice(top // side, bottom // side)
        some = np.empty((STRIPS, bottom - top))
        blocks_of(np.ascontiguousarray(strip), side, low, high, float(white), means[cut], full[cut], some)
        rows[:, top:bottom] = some
    return _Squares(means, full, rows)


def medians_of_squares(picture: Picture, side: int, deep: int | None = None) -> NDArray[np.float32]:
    """Medians of the squares of a capped master, shape (h // side, w // side): where it glows no pixel is a hot one.

    Parameters
    ----------
    side
        Of a square, in pixels.
    deep
        Only so many rows of each square are looked at; None for all.
    """
    parts, deep = as_parts(picture), min(deep or side, side)
    rows, columns = max(parts.height // side, 1), max(parts.width // side, 1)

    def of_row(row: int) -> NDArray[np.float32]:
        strip = parts.part(row * side, min(row * side + deep, parts.height), 0, columns * side)
        squares = strip.reshape(strip.shape[0], columns, -1).swapaxes(0, 1).reshape(columns, -1)
        medians = np.asarray(np.median(squares, axis=1), np.float32)
        for column in np.flatnonzero(np.isnan(medians)):
            known = squares[column][np.isfinite(squares[column])]
            medians[column] = np.median(known) if known.size else np.nan
        return medians

    with ThreadPoolExecutor(os.cpu_count()) as several:
        return np.stack(list(several.map(of_row, range(rows))))


def hottest(frames: Sequence[Picture], share: float = 0.002, most: int = 20_000) -> NDArray[np.int64]:
    """Flat indices of the pixels that are hot in all of a few capped frames, rising.

    Parameters
    ----------
    frames
        Of one set, all of one size: three suffice, so that no cosmic ray counts.
    """
    several = [as_parts(frame) for frame in frames]
    if not several:
        return np.empty(0, np.int64)
    width, height = several[0].width, several[0].height

    def least() -> Iterator[NDArray[np.float32]]:
        for top, bottom in rows_of_strips(several[0]):
            yield np.minimum.reduce([one.part(top, bottom, 0, width) for one in several]).ravel()

    every = max(1, width * height // 1_000_000) | 1
    limit = np.quantile(np.concatenate([strip[::every].copy() for strip in least()]), 1.0 - share)
    places, values, start = [], [], 0
    for strip in least():
        found = np.flatnonzero(strip > limit)
        places.append(found + start)
        values.append(strip[found])
        start += strip.size
    place, value = np.concatenate(places), np.concatenate(values)
    # Of too many the hottest: on a coarse converter many share a level.
    return np.sort(place[np.argsort(-value.astype(np.float64), kind="stable")[:most]]).astype(np.int64)
