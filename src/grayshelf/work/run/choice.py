"""What the person chose for tonight’s sheet, and what it may hold where nobody chose."""

from __future__ import annotations

from dataclasses import dataclass

FRAME_CHOICES = (10, 15, 25, 50, 100)
#: Flats of each filter, and darks, where nobody says how many (common practice).
DEFAULT_FRAMES = 25
DEFAULT_DARKS = 30


@dataclass(frozen=True)
class SheetChoice:
    """What the person chose on the page."""

    frames: int = DEFAULT_FRAMES
    leave_out: frozenset[str] = frozenset()
    add: frozenset[str] = frozenset()


#: Where nobody chose.
AS_USUAL = SheetChoice()
