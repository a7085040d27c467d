"""What flats of other nights say of dust: since when it is there, whether it comes back to its place, when to clean."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from enum import Enum, auto

from grayshelf.core.checks.dust import Shadow
from grayshelf.core.checks.dust_where import same_shadow
from grayshelf.core.frames.night import nights_apart

#: Flats of two nights tell of one another's dust where the camera was turned by less than this between them.
SAME_ANGLE_DEG = 1.0
#: A wheel or camera does not come back to its place where shadows usually move by this share of their width; told from so
#: many shadows on.
MOVED, FEWEST_MOVED = 0.1, 2
#: Deeper than this, a shadow costs signal that no flat gives back: the noise there grows by a fifth.
DEEP = 0.3


#: Flats of other filters tell of one's dust where they were taken within so many nights of it: dust comes and goes.
SAME_TIME_NIGHTS = 21


def of_one_time(one: date | None, other: date | None) -> bool:
    """Whether two flats tell of one another's dust, as far as their nights go."""
    return one is not None and other is not None and nights_apart(one, other) <= SAME_TIME_NIGHTS


@dataclass(frozen=True)
class Since:
    """Since when flats show a shadow."""

    new_after: date | None
    """The night of the last flat that did not show it yet."""
    seen_on: date | None
    """The first night, before this one, whose flat shows it."""


def since_when(shadow: Shadow, earlier: Sequence[tuple[date, Sequence[Shadow]]]) -> Since:
    """Since when a shadow is there.

    Parameters
    ----------
    earlier
        Nights of earlier flats of its filter, train and angle, and their shadows; in any order.
    """
    seen: date | None = None
    for night, shadows in sorted(earlier, key=lambda one: one[0], reverse=True):
        if not same_shadow(shadow, shadows):
            return Since(night, seen)
        seen = night
    return Since(None, seen)


def comes_back(own: Sequence[Shadow], others: Sequence[Sequence[Shadow]]) -> bool:
    """Whether shadows lie where they lay on flats of other nights; so too where nothing can be said."""
    moved = sorted(
        math.hypot(other.x - shadow.x, other.y - shadow.y) / shadow.diameter
        for theirs in others
        for shadow in own
        if (other := same_shadow(shadow, theirs)) is not None
    )
    return len(moved) < FEWEST_MOVED or moved[len(moved) // 2] < MOVED


class Cleaning(Enum):
    """What is to be done about dust."""

    NOTHING = auto()
    WHEN_CONVENIENT = auto()
    NEW = auto()
    """When convenient; but lights from before want the flats from before."""
    SOON = auto()


def cleaning(own: Sequence[Shadow], since: Sequence[Since]) -> Cleaning:
    """What is to be done about the shadows of a flat, of each of which is known since when it is there."""
    if not own:
        return Cleaning.NOTHING
    if max(s.depth for s in own) > DEEP:
        return Cleaning.SOON
    new = any(s.new_after is not None and s.seen_on is None for s in since)
    return Cleaning.NEW if new else Cleaning.WHEN_CONVENIENT
