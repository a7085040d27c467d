"""Nights that a person parted or joined: the frames between two times belong to another night than they tell."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime

from grayshelf.core.frames.facts import FrameFacts

#: What stands behind how a night came about, where a person moved the frame.
BY_HAND = "; put there by hand"


@dataclass(frozen=True)
class NightMove:
    """Frames of a camera from one time up to another, UTC, and the night that they belong to."""

    camera: str
    begins: datetime
    ends: datetime
    """The first moment that is not moved."""
    night: date


def as_told(facts: FrameFacts) -> FrameFacts:
    """The facts as the frame tells them, before a person moved it."""
    if facts.night_before is None:
        return facts
    return replace(
        facts, night=facts.night_before, night_from=facts.night_from.removesuffix(BY_HAND), night_before=None
    )


def moved(facts: FrameFacts, moves: Sequence[NightMove]) -> FrameFacts:
    """The facts with the night that a person gave it, by the newest move that says something of it."""
    if facts.utc is None or facts.night is None or "night" in facts.said:
        return facts
    for move in reversed(moves):
        if move.camera == facts.camera and move.begins <= facts.utc < move.ends:
            if move.night == facts.night:
                return facts
            told = f"{facts.night_from}{BY_HAND}"
            return replace(facts, night=move.night, night_from=told, night_before=facts.night)
    return facts


def notes_joined(there: str, came: str) -> str:
    """Notes of a night with those of another behind them."""
    return "\n".join(part for part in (there, came) if part)


def notes_parted(now: str, came: str) -> str:
    """Notes of a night without those that came with another; as they are where those were changed since."""
    if not came:
        return now
    before, found, after = now.rpartition(came)
    whole_lines = before[-1:] in ("", "\n") and after[:1] in ("", "\n")
    if not found or not whole_lines:
        return now
    return notes_joined(before.removesuffix("\n"), after.removeprefix("\n"))
