"""A frame looked at once: small enough to be kept for all frames of a set, and enough for every check of the set."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.sensor.statistics import background_noise, count_levels, quantile_of_counts

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
    """Median."""
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
    phases: tuple[float, float, float, float]
    """Means over the four places of a pattern of 2 × 2: a colour sensor's channels."""
    hot: NDArray[np.float32]
    """The pixels that were asked for."""

    @property
    def shape_of_light(self) -> NDArray[np.float32]:
        """How the light is spread: its squares over their mean."""
        return np.asarray(self.blocks / np.float32(np.nanmean(self.blocks)), np.float32)


def side_of_squares(height: int, width: int) -> int:
    """Side of the squares in pixels: even, so that each holds whole patterns of a colour sensor."""
    return max(2 * round(max(height, width) / ACROSS / 2), 4)


def look_at(
    pixels: NDArray[Any], white_adu: float, *, lit: bool, hot_at: NDArray[np.int64] | None = None
) -> FrameLook:
    """Look at a frame.

    Parameters
    ----------
    pixels
        Shape (h, w): uint16, or float32 of a master.
    white_adu
        The level at which its pixels are full.
    lit
        Whether there is light on it: then bright and dark parts are no faults of pixels.
    hot_at
        Flat indices of pixels whose values are wanted.
    """
    from grayshelf.core.checks.looks_compiled import blocks_of

    height, width = pixels.shape
    low_q, level, high_q, zeros, full = _levels(pixels, white_adu)
    spread = max((high_q - low_q) / 2.0, 0.5 if pixels.dtype.kind == "u" else 1e-6)
    low, high = -math.inf, math.inf
    if not lit:
        low, high = level - STEADY_SPREADS * spread, level + STEADY_SPREADS * spread
    side = side_of_squares(height, width)
    shape = max(height // side, 1), max(width // side, 1)
    means, over = np.empty(shape, np.float32), np.empty(shape, np.float32)
    rows = np.empty((STRIPS, height))
    plain = np.ascontiguousarray(pixels)
    blocks_of(plain, min(side, height, width), low, high, white_adu, means, over, rows)
    first = max(height // 2 - NOISE_ROWS // 2, 0)
    quads = [
        float(np.mean(pixels[first + r : first + NOISE_ROWS : 2, c::2]))
        if height > 1 and width > 1
        else level
        for r in (0, 1)
        for c in (0, 1)
    ]
    return FrameLook(
        height,
        width,
        level,
        float(np.nanmean(means)),
        spread,
        background_noise(pixels[first : first + NOISE_ROWS].astype(np.float32, copy=False)),
        zeros,
        full,
        side,
        means,
        over,
        rows,
        (quads[0], quads[1], quads[2], quads[3]),
        np.empty(0, np.float32) if hot_at is None else plain.ravel()[hot_at].astype(np.float32),
    )


def _levels(pixels: NDArray[Any], white_adu: float) -> tuple[float, float, float, float, float]:
    """The 16th, 50th and 84th percentile, the share at zero and the share that is full."""
    if pixels.dtype == np.uint16:
        bins = count_levels(pixels)
        low, middle, high = (quantile_of_counts(bins, q) for q in (0.16, 0.5, 0.84))
        full = float(bins[min(max(round(white_adu), 0), 65_535) :].sum())
        return low, middle, high, float(bins[0]) / pixels.size, full / pixels.size
    sample = pixels.ravel()[:: max(1, pixels.size // 1_000_000)]
    sample = sample[np.isfinite(sample)]
    low, middle, high = (float(v) for v in np.percentile(sample, (16.0, 50.0, 84.0)))
    # Where some lie below nought, as after a bias was taken off, nothing was cut off there.
    zeros = float(np.mean(pixels == 0)) if float(np.nanmin(pixels)) >= 0.0 else 0.0
    return low, middle, high, zeros, float(np.mean(pixels >= white_adu))


def medians_of_squares(pixels: NDArray[Any], side: int) -> NDArray[np.float32]:
    """Medians of the squares of a capped master, shape (h // side, w // side): where it glows no pixel is a hot one."""
    rows, columns = max(pixels.shape[0] // side, 1), max(pixels.shape[1] // side, 1)
    found = np.empty((rows, columns), np.float32)
    for row in range(rows):
        strip = pixels[row * side : (row + 1) * side, : columns * side]
        squares = strip.reshape(strip.shape[0], columns, -1).swapaxes(0, 1).reshape(columns, -1)
        found[row] = np.median(squares, axis=1)
        for column in np.flatnonzero(np.isnan(found[row])):
            known = squares[column][np.isfinite(squares[column])]
            found[row, column] = np.median(known) if known.size else np.nan
    return found


def hottest(frames: Iterable[NDArray[Any]], share: float = 0.002, most: int = 20_000) -> NDArray[np.int64]:
    """Flat indices of the pixels that are hot in all of a few capped frames.

    Parameters
    ----------
    frames
        Of one set, shape (h, w) each, one held at a time: three suffice, so that no cosmic ray counts.
    """
    least: NDArray[Any] | None = None
    for frame in frames:
        least = frame.ravel().copy() if least is None else np.minimum(least, frame.ravel(), out=least)
    if least is None:
        return np.empty(0, np.int64)
    sample = least[:: max(1, least.size // 1_000_000)]
    found = np.flatnonzero(least > np.quantile(sample, 1.0 - share))
    # Of too many the hottest: on a coarse converter many share a level.
    return np.sort(found[np.argsort(-least[found].astype(np.float64), kind="stable")[:most]]).astype(np.int64)
