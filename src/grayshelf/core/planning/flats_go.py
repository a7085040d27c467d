"""Where in a night, or after it, its flats go: rounds of flats, and what can no longer be shot when the camera was turned."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from enum import StrEnum
from typing import Generic, TypeVar
from zoneinfo import ZoneInfo

from grayshelf.core.frames.night import night_of_utc

K = TypeVar("K", bound=Hashable)


class FlatsGo(StrEnum):
    """Where the flats of a night go."""

    AFTER_EACH_TARGET = "after each target"
    BEFORE_EACH_TURN = "before each turn of the camera"
    AT_THE_END = "at the end of the night"
    NEXT_DAY = "next day, indoors"
    NEXT_TWILIGHT = "at the next twilight"
    END_OF_SET_UP = "once, when the set-up ends"


#: Not shot with what is on tonight's sheet, unless somebody puts them on it.
NOT_TONIGHT = (FlatsGo.NEXT_TWILIGHT, FlatsGo.END_OF_SET_UP)
#: Flats of the next day begin at this hour by the clock where nobody is up earlier.
NEXT_DAY_HOUR = 10


def begins_at(go: FlatsGo, now: datetime, zone: ZoneInfo) -> datetime:
    """When a sheet is begun, UTC: now, or in the morning after this night where its flats go to the next day."""
    if go is not FlatsGo.NEXT_DAY:
        return now
    morning = datetime.combine(night_of_utc(now, zone) + timedelta(days=1), time(NEXT_DAY_HOUR), tzinfo=zone)
    return max(morning.astimezone(UTC), now)


@dataclass(frozen=True)
class Round(Generic[K]):
    """Flats that are shot in one go."""

    after: int
    """Index of the target that was imaged last."""
    stands: tuple[tuple[int, tuple[K, ...]], ...]
    """The rows of flats at each stand of the camera, in the order of the night."""


@dataclass(frozen=True)
class Rounds(Generic[K]):
    """All flats of a night."""

    rounds: tuple[Round[K], ...]
    lost: tuple[tuple[int, tuple[K, ...]], ...] = ()
    """Rows of stands that a hand has turned away from before their flats: nothing brings that angle back to a degree."""


def stands_of(turned: Sequence[bool]) -> list[int]:
    """The stand of the camera at each target, counted from 0: another one after each turn."""
    stands, now = [], 0
    for index, turn in enumerate(turned):
        now += int(turn and index > 0)
        stands.append(now)
    return stands


def lay_rounds(
    stands: Sequence[int], wanted: Sequence[Sequence[K]], go: FlatsGo, *, turns_back: bool
) -> Rounds[K]:
    """The rounds of flats of a night.

    Parameters
    ----------
    stands
        The stand of the camera at each target (`stands_of`).
    wanted
        The rows of flats that each target's lights want. A row that was shot at a stand is not shot at it again.
    turns_back
        Whether the rig finds an angle again by itself (a rotator). Without one, flats of an earlier stand are lost
        where they are not shot before the camera is turned.
    """
    rounds: list[Round[K]] = []
    lost: list[tuple[int, tuple[K, ...]]] = []
    shot: set[tuple[int, K]] = set()
    begin = 0
    for end in _ends(stands, go):
        at = _fresh(stands[begin : end + 1], wanted[begin : end + 1], shot)
        can = {stand: rows for stand, rows in at.items() if turns_back or stand == stands[end]}
        lost += [(stand, rows) for stand, rows in at.items() if stand not in can]
        if can:
            rounds.append(Round(end, tuple(can.items())))
        begin = end + 1
    return Rounds(tuple(rounds), tuple(lost))


def _ends(stands: Sequence[int], go: FlatsGo) -> list[int]:
    """After which targets flats are shot."""
    every = range(len(stands))
    if go is FlatsGo.AFTER_EACH_TARGET:
        return list(every)
    if go is FlatsGo.BEFORE_EACH_TURN:
        return [i for i in every if i + 1 == len(stands) or stands[i + 1] != stands[i]]
    return list(every[-1:])


def _fresh(
    stands: Sequence[int], wanted: Sequence[Sequence[K]], shot: set[tuple[int, K]]
) -> dict[int, tuple[K, ...]]:
    """What was not shot yet of some targets, by stand; it counts as shot from now on."""
    at: dict[int, tuple[K, ...]] = {}
    for stand, rows in zip(stands, wanted, strict=True):
        fresh = tuple(row for row in dict.fromkeys(rows) if (stand, row) not in shot)
        shot.update((stand, row) for row in fresh)
        if fresh:
            at[stand] = at.get(stand, ()) + fresh
    return at
