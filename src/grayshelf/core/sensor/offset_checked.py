"""Whether the offset that frames were taken at was ever checked at their gain."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date


@dataclass(frozen=True)
class CheckedOffset:
    """What was accepted of the offset at one gain."""

    chosen: float
    lowest: float
    """The lowest offset whose darkest good pixels stay clear of zero by the margin."""
    at_zero: float
    slope: float | None
    """Mean level at offset 0, and ADU for one step; None where only one offset was looked at."""
    depth: float
    """How far below the pedestal 99 % of frames' darkest good pixels stay above, in ADU; negative."""
    on: date

    def floor_at(self, offset: float) -> float | None:
        """The floor at an offset, in ADU; None where it cannot be told."""
        if self.slope is None:
            return None if offset != self.chosen else self.at_zero + self.depth
        return self.at_zero + self.slope * offset + self.depth


@dataclass(frozen=True)
class PairWarning:
    """What is wrong with an offset at a gain, and what to do."""

    message: str
    advice: str

    def __str__(self) -> str:
        return f"{self.message} {self.advice}"


def pair_warning(
    gain: float | None, offset: float | None, checked: Mapping[float, CheckedOffset], word: str = "gain"
) -> PairWarning | None:
    """What to say of frames taken at a gain and offset; None where the pair was checked and holds.

    Parameters
    ----------
    checked
        What was accepted of this camera, by gain.
    word
        What the camera calls its gain.
    """
    if gain is None or offset is None:
        return None
    known = checked.get(gain)
    if known is None:
        return PairWarning(
            f"Offset {offset:g} was never checked at {word} {gain:g}: if dark pixels are cut off at zero, their "
            "information is gone.",
            "Measure it on the Bench.",
        )
    return None if offset >= known.lowest else _too_low(known, offset, f"{word} {gain:g}")


def _too_low(known: CheckedOffset, offset: float, at: str) -> PairWarning:
    floor = known.floor_at(offset)
    if floor is None:
        return PairWarning(
            f"Offset {offset:g} was not checked at {at}; {known.chosen:g} was.", "Measure it on the Bench."
        )
    if floor < 0:
        return PairWarning(
            f"At {at}, offset {offset:g} cuts dark pixels off at zero, by up to {-floor:,.0f} ADU.",
            f"From offset {known.lowest:g} on, nothing is lost.",
        )
    return PairWarning(
        f"At {at}, offset {offset:g} leaves only {floor:,.0f} ADU below the darkest pixels.",
        f"Offset {known.lowest:g} has the margin that was asked for.",
    )
