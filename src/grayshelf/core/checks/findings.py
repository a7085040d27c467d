"""What a check found: of which kind, how large, in a sentence, and where in the picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum


class Fault(StrEnum):
    """What can be wrong with frames or with the master made of them."""

    LEVEL = "wrong level"
    TEMPERATURE = "wrong temperature"
    SATURATED = "saturated"
    CLIPPED = "clipped at zero"
    LEAK = "light leak"
    SHADE = "shutter shade"
    BANDING = "banding"
    PANEL_DRIFT = "panel drift"
    FILTER = "wrong filter"
    TILT = "tilt"
    PEDESTAL_DRIFT = "pedestal drift"
    UNSETTLED = "unsettled first frames"
    STARS = "stars"
    TWO_SETTINGS = "two settings"
    EMPTY = "no levels"
    SCALE = "scale in doubt"


#: Why a master without levels serves no lights.
NOTHING_IN_IT = "none of its pixels holds a number"
#: Why a master whose values run from 0 to 1 is used with care, where nothing tells that this is so.
SHARES_IN_DOUBT = "its values, from 0 to 1, are taken as shares of 65,535 ADU"


@dataclass(frozen=True)
class Place:
    """A part of the picture, in pixels from its first row and column; the ends are outside."""

    left: int
    top: int
    right: int
    bottom: int

    def moved(self, right: int, down: int) -> Place:
        """The same in a picture that has so many columns and rows before it."""
        return Place(self.left + right, self.top + down, self.right + right, self.bottom + down)


@dataclass(frozen=True)
class SetFinding:
    """One thing that is wrong."""

    fault: Fault
    size: float
    unit: str
    message: str
    advice: str
    frames: tuple[int, ...] = ()
    """Which of the set's frames, by their place in it; empty: all of them, or the master."""
    leave_out: bool = False
    """Whether those frames do not belong into a master."""
    place: Place | None = None


def moved(found: Sequence[SetFinding], right: int, down: int) -> list[SetFinding]:
    """Findings in a part of a picture, told of the whole, which has so many columns and rows before it."""
    return [replace(f, place=f.place and f.place.moved(right, down)) for f in found]
