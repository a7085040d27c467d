"""What one bias frame says: its levels, its lowest pixels and where they are, and whether light is on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.sensor.findings import Finding
from grayshelf.core.sensor.statistics import count_levels, quantile_of_sums

#: So many of the lowest pixels of each frame are kept, by place and level.
MOST_LOWEST = 400
#: A pixel that is among the lowest in this share of the frames does not get there by chance.
DEAD_IN_SHARE_OF_FRAMES = 0.8
#: ... and lies this many spreads below the frame.
DEAD_BELOW_SPREADS = 5.0
#: Fewer frames than this say nothing of single pixels ...
FEWEST_FOR_DEAD = 4
#: ... and of fewer than this, it must be in all: noisy pixels get there by chance now and then.
FEW_FRAMES = 6
#: More light than this over a capped frame, as spreads of its pixels, is no read-out pattern.
TILT_SPREADS = 3.0


@dataclass(frozen=True)
class BiasReading:
    """One capped frame, read once. Levels in ADU."""

    offset: float
    n_pixels: int
    zeros: int
    minimum: int
    mean: float
    median: float
    spread: float
    """From the darkest 1 % of each sixteenth of the frame, as a standard deviation: neither hot pixels nor a light
    on one side count in it."""
    darkest_percent: float
    """The level that 1 % of the pixels lie below."""
    darkest_permyriad: float
    """The level that 0.01 % of the pixels lie below."""
    tilt: float
    """Between the brightest and the darkest sixteenth of the frame."""
    complete_to: int
    """All pixels up to this level are in `lowest`; −1 where too many are at zero to keep."""
    lowest: tuple[tuple[int, int], ...]
    """(index into the flattened frame, level) of the lowest pixels."""
    exposure_s: float = 0.0

    @cached_property
    def lowest_table(self) -> NDArray[np.int64]:
        """The same as `lowest`, shape (n, 2): each new frame has all that came before asked again."""
        return np.array(self.lowest, np.int64).reshape(-1, 2)


@dataclass(frozen=True)
class DeadPixel:
    """A pixel that is the lowest for reasons of its own."""

    index: int
    level_adu: float
    share_of_frames: float

    def place(self, width: int) -> tuple[int, int]:
        """Column and row, counted from 0."""
        return self.index % width, self.index // width


def read_bias(pixels: NDArray[np.uint16], offset: float, exposure_s: float = 0.0) -> BiasReading:
    """Read a capped frame.

    Parameters
    ----------
    pixels
        Shape (h, w), dtype uint16.
    offset
        The offset setting it was taken at.
    """
    bins = count_levels(pixels)
    cumulative = np.cumsum(bins)
    total = int(cumulative[-1])
    complete_to = int(np.searchsorted(cumulative, MOST_LOWEST, side="right")) - 1
    lowest: tuple[tuple[int, int], ...] = ()
    if complete_to >= 0 and cumulative[complete_to] > 0:
        # Down to the last level that is there: coarse steps leave levels empty.
        complete_to = int(np.flatnonzero(bins[: complete_to + 1])[-1])
        flat = pixels.ravel()
        where = np.flatnonzero(flat <= complete_to)
        lowest = tuple(zip(where.tolist(), flat[where].tolist(), strict=True))
    tilt, spread = _tilt_and_spread(pixels)
    return BiasReading(
        offset=offset,
        n_pixels=total,
        zeros=int(bins[0]),
        minimum=int(np.argmax(bins > 0)),
        mean=float(bins @ np.arange(65536.0)) / total,
        median=quantile_of_sums(cumulative, 0.5),
        spread=spread,
        darkest_percent=quantile_of_sums(cumulative, 0.01),
        darkest_permyriad=quantile_of_sums(cumulative, 1e-4),
        tilt=tilt,
        complete_to=complete_to,
        lowest=lowest,
        exposure_s=exposure_s,
    )


def _tilt_and_spread(pixels: NDArray[np.uint16]) -> tuple[float, float]:
    """From a sample of the pixels in 4 × 4 tiles: between the medians of the brightest and darkest; and the usual
    tile's standard deviation."""
    height, width = pixels.shape
    step = max(1, min(height, width) // 240)
    # Sorted digit by digit, as whole numbers of 16 bits can be: a fraction of what two percentiles of a tile take.
    tiles = [
        np.sort(pixels[top:bottom:step, left:right:step], axis=None, kind="stable")
        for top, bottom in _quarters(height)
        for left, right in _quarters(width)
    ]
    medians = [_share_of_sorted(tile, 0.5) for tile in tiles]
    below = [median - _share_of_sorted(tile, 0.01) for median, tile in zip(medians, tiles, strict=True)]
    return max(medians) - min(medians), float(np.median(below)) / 2.3263


def _quarters(length: int) -> list[tuple[int, int]]:
    """Where each quarter of a side begins and ends; the first ones are a pixel longer where it does not come out even."""
    each, more = divmod(length, 4)
    edges = [each * i + min(i, more) for i in range(5)]
    return list(pairwise(edges))


def _share_of_sorted(levels: NDArray[np.uint16], share: float) -> float:
    """The level that a share (0 ... 1) of sorted levels lies below, between two of them in a straight line."""
    rank = share * (levels.size - 1)
    low = int(rank)
    high = min(low + 1, levels.size - 1)
    return float(levels[low]) + (float(levels[high]) - float(levels[low])) * (rank - low)


def dead_pixels(readings: Sequence[BiasReading]) -> tuple[DeadPixel, ...]:
    """Pixels that are the lowest in nearly every frame, far below the rest; they must not decide for millions.

    Only frames whose lowest pixels are known by place are asked; fewer than four of them say nothing.
    """
    known = [r for r in readings if r.complete_to >= 0 and r.zeros <= MOST_LOWEST // 4]
    if len(known) < FEWEST_FOR_DEAD:
        return ()
    found = [r.lowest_table for r in known]
    indices = np.concatenate([f[:, 0] for f in found])
    levels = np.concatenate([f[:, 1] for f in found]).astype(np.float64)
    below = np.concatenate(
        [(r.median - f[:, 1]) / max(r.spread, 0.5) for r, f in zip(known, found, strict=True)]
    )
    pixels, which, counts = np.unique(indices, return_inverse=True, return_counts=True)
    mean_level = np.bincount(which, levels) / counts
    mean_below = np.bincount(which, below) / counts
    share = 1.0 if len(known) < FEW_FRAMES else DEAD_IN_SHARE_OF_FRAMES
    dead = (counts >= share * len(known)) & (mean_below > DEAD_BELOW_SPREADS)
    return tuple(
        DeadPixel(int(pixels[i]), float(mean_level[i]), float(counts[i] / len(known)))
        for i in np.flatnonzero(dead)
    )


def good_zeros(reading: BiasReading, dead: Sequence[DeadPixel]) -> int:
    """Pixels at 0 ADU that are not dead."""
    if reading.complete_to >= 0:
        at_zero = reading.lowest_table[reading.lowest_table[:, 1] == 0, 0]
        known = {d.index for d in dead}
        return sum(index not in known for index in at_zero.tolist())
    return max(reading.zeros - len(dead), 0)


def good_minimum(reading: BiasReading, dead: Sequence[DeadPixel]) -> int:
    """The frame's darkest good pixel."""
    if reading.complete_to < 0:
        return 0
    known = {d.index for d in dead}
    return min((level for index, level in reading.lowest if index not in known), default=reading.complete_to)


def light_leaks(short: Sequence[BiasReading]) -> list[Finding]:
    """Of bias frames: that some are brighter on one side, by more than their noise and 20 ADU."""
    lit = [r for r in short if r.tilt > max(TILT_SPREADS * r.spread, 20.0)]
    if not lit:
        return []
    return [
        Finding(
            f"{len(lit)} of {len(short)} frames are brighter on one side, by up to "
            f"{max(r.tilt for r in lit):,.0f} ADU: light falls on them, so their floor is not the sensor's.",
            "Put the cap on, darken the room, and take them again.",
            serious=True,
        )
    ]
