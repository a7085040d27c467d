"""Whether a master still serves: held against a newer one, or against one fresh frame.

The limits are common practice, with no published source.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.defects import Defects, defects_of
from grayshelf.core.checks.dust import Shadow, shadows_in
from grayshelf.core.checks.light_fall import Squares
from grayshelf.core.checks.over_its_light import over_its_light
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.parts import Parts, Picture, Pixels, as_parts, levels_at
from grayshelf.core.pictures.quantiles import quantile_of

Floats = NDArray[np.float64]

#: Of the hot pixels so many in a hundred may have changed; beyond the second it is to be made anew.
HOT_GOOD, HOT_CARE = 5.0, 15.0
#: A hot pixel changed where it is further from what it was than this share of it, and than so many spreads of both.
CHANGED_BY, CHANGED_SPREADS = 0.4, 8.0
#: A pedestal that moved by less than this, in ADU, is no matter.
LEVEL_ADU = 5.0
#: Of flat over flat so many percent from side to side may be left; beyond the second it is to be made anew.
FLAT_GOOD, FLAT_CARE = 0.5, 1.5
#: And a shadow that came, went or moved may leave as many percent.
SHADOW_GOOD, SHADOW_CARE = 0.5, 1.5
#: Shadows less than this apart, in pixels of the picture that is looked at, or than half of the wider one, are of one speck.
SIDE_BY_SIDE_PX = 16.0
#: With fewer hot pixels than this nothing can be said in percent.
FEWEST_HOT = 20


class Serves(StrEnum):
    """How a master that was held against a newer one does."""

    GOOD = "still good"
    CARE = "use with care"
    ANEW = "make it anew"


@dataclass(frozen=True)
class StillGood:
    """How an older master does, held against a newer one."""

    serves: Serves
    size: float
    """Of what decided it."""
    unit: str
    line: str
    """In one line."""
    shadows: tuple[Shadow, ...] = ()
    """Of flats: what came, went or moved, in pixels of the flat."""


def capped_still_good(
    old: Picture, new: Picture, kind: FrameKind, progress: Callable[[float], None] = lambda share: None
) -> StillGood:
    """Hold a dark, dark flat or bias against a newer one, or against one fresh frame.

    The share of hot pixels that changed: those of the old one that are another now, and those that came, over those of
    either. How warm the new one was is taken out by the median of new over old at the hot pixels.

    Parameters
    ----------
    old, new
        ADU, of one size and the same settings.
    progress
        Called with the share done, 0 … 1; may raise to stop.
    """
    older, newer = as_parts(old), as_parts(new)
    was = defects_of(older, kind)
    progress(0.35)
    now = defects_of(newer, kind)
    progress(0.7)
    old_level, new_level = quantile_of(older, 0.5), quantile_of(newer, 0.5)
    level = new_level - old_level
    spread = max(_spread(older), 0.3), max(_spread(newer), 0.3)
    progress(0.9)
    sure = CHANGED_SPREADS * float(np.hypot(*spread))
    # Only what the noisier of the two can show is asked of either.
    hot = np.union1d(_hot(was, 2 * sure, older.width), _hot(now, 2 * sure, older.width))
    before, after = (levels_at(parts, hot).astype(np.float64) for parts in (older, newer))
    known = np.isfinite(before) & np.isfinite(after)
    hot, before, after = hot[known], before[known] - old_level, after[known] - new_level
    if hot.size < FEWEST_HOT:
        return _by_level(level, hot.size)
    percent = 100.0 * float(np.count_nonzero(_changed(before, after, sure))) / hot.size
    serves = Serves.GOOD if percent < HOT_GOOD else Serves.CARE if percent < HOT_CARE else Serves.ANEW
    line = f"{percent:.1f} % of {hot.size:,} hot pixels changed"
    if abs(level) >= LEVEL_ADU:
        serves = Serves.CARE if serves is Serves.GOOD else serves
        line += f", and its level moved by {level:+.0f} ADU"
    return StillGood(serves, percent, "% of hot pixels", line)


def _changed(before: Floats, after: Floats, sure: float) -> NDArray[np.bool_]:
    """Which hot pixels are others now, by what they held above the level, in ADU; `sure` is beyond noise."""
    steady = before > 2 * sure
    warmer = float(np.median(after[steady] / before[steady])) if steady.any() else 1.0
    warmer = warmer if 0.2 < warmer < 5.0 else 1.0
    change = np.abs(after / warmer - before)
    return (change > CHANGED_BY * np.maximum(before, after / warmer)) & (change > sure / min(warmer, 1.0))


def _by_level(level: float, hot: int) -> StillGood:
    """Where too few pixels are hot, as in a bias, its level is what can change."""
    serves = Serves.GOOD if abs(level) < LEVEL_ADU else Serves.CARE
    few = {0: "no pixel is hot", 1: "only one pixel is hot"}.get(hot, f"only {hot} pixels are hot")
    return StillGood(serves, abs(level), "ADU", f"its level moved by {level:+.1f} ADU; {few}")


def _hot(defects: Defects, least: float, width: int) -> NDArray[np.int64]:
    strong = defects.hot & (defects.value > least)
    flat = defects.row[strong].astype(np.int64) * width + defects.column[strong]
    return np.asarray(flat, np.int64)


def _spread(parts: Parts) -> float:
    return (quantile_of(parts, 0.84) - quantile_of(parts, 0.16)) / 2


def flat_still_good(
    ratio: Pixels, factor: int, progress: Callable[[float], None] = lambda share: None
) -> StillGood:
    """Hold a flat against a newer one: what is left of the new one over the old.

    Parameters
    ----------
    ratio
        New over old, each less its pedestal and over its own level, made small by `factor`; shape (h, w).
    progress
        Called with the share done, 0 … 1; may raise to stop.
    """
    squares = Squares.of(ratio, 48)
    known = squares.level[squares.known]
    low, high = np.percentile(known, (1.0, 99.0))
    # What noise alone would leave: neighbours differ by it, and by next to nothing else.
    columns = int(np.count_nonzero(squares.y == squares.y[0]))
    rows = squares.level.reshape(-1, columns)
    noise = float(np.median(np.abs(np.diff(rows, axis=1)))) / 0.6745 / np.sqrt(2)
    left = 100.0 * max(float(high - low) - 4.65 * noise, 0.0)
    progress(0.1)
    shadows = _moved(ratio, progress)
    deepest = max((100.0 * s.depth for s in shadows), default=0.0)
    serves = Serves.GOOD
    if left >= FLAT_GOOD or deepest >= SHADOW_GOOD:
        serves = Serves.CARE if left < FLAT_CARE and deepest < SHADOW_CARE else Serves.ANEW
    told = "no shadow moved"
    if shadows:
        places = "at one place a shadow" if len(shadows) == 1 else f"at {len(shadows)} places shadows"
        told = f"{places} came, went or moved, by up to {deepest:.1f} %"
    line = f"{left:.2f} % is left from side to side; {told}"
    size = max(left, deepest)
    full = tuple(Shadow(s.x * factor, s.y * factor, s.diameter * factor, s.depth) for s in shadows)
    return StillGood(serves, size, "%", line, full)


def _moved(ratio: Pixels, progress: Callable[[float], None]) -> list[Shadow]:
    """Where shadows came, went or moved, the deepest first: one for each place."""
    came = shadows_in(over_its_light(ratio))
    progress(0.5)
    with np.errstate(divide="ignore", invalid="ignore"):
        went = shadows_in(over_its_light((np.float32(1) / ratio).astype(np.float32)))
    return sorted(_places([*came, *went]), key=lambda s: -s.depth)


def _places(shadows: Sequence[Shadow]) -> list[Shadow]:
    """Those that lie side by side as one, which holds them all: a speck that moved leaves crescents, dark and bright, and one
    that went leaves a bright disc with a darker rim."""
    groups: list[list[Shadow]] = []
    for shadow in shadows:
        beside = [g for g in groups if any(_side_by_side(shadow, other) for other in g)]
        groups = [g for g in groups if g not in beside] + [[shadow, *(s for g in beside for s in g)]]
    return [group[0] if len(group) == 1 else _around(group) for group in groups]


def _side_by_side(one: Shadow, other: Shadow) -> bool:
    gap = math.hypot(one.x - other.x, one.y - other.y) - (one.diameter + other.diameter) / 2
    return gap < max(SIDE_BY_SIDE_PX, 0.5 * max(one.diameter, other.diameter))


def _around(group: Sequence[Shadow]) -> Shadow:
    left, right = min(s.x - s.diameter / 2 for s in group), max(s.x + s.diameter / 2 for s in group)
    top, bottom = min(s.y - s.diameter / 2 for s in group), max(s.y + s.diameter / 2 for s in group)
    depth = max(s.depth for s in group)
    return Shadow((left + right) / 2, (top + bottom) / 2, max(right - left, bottom - top), depth)
