"""What the person chose for tonight’s sheet, and what it may hold where nobody chose."""

from __future__ import annotations

import math
from dataclasses import dataclass

from grayshelf.core.planning.flats_go import FlatsGo

FRAME_CHOICES = (10, 15, 25, 50, 100)


def frame_choices(usual: int) -> list[int]:
    """The counts to choose from: the usual one of the rig stands in for the one that is nearest to it."""
    nearest = min(FRAME_CHOICES, key=lambda n: abs(math.log(n / usual)))
    return sorted({usual, *FRAME_CHOICES} - ({nearest} - {usual}))


@dataclass(frozen=True)
class SheetChoice:
    """What the person chose on the page."""

    frames: int | None = None
    """Flats and dark flats of each filter; None leaves them to the house rules."""
    leave_out: frozenset[str] = frozenset()
    add: frozenset[str] = frozenset()
    go: FlatsGo | None = None
    """Where the flats go tonight; None leaves it to the house rules."""


#: Where nobody chose.
AS_USUAL = SheetChoice()
