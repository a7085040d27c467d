"""Nights that a person parted or joined, kept for the whole library: they hold for frames that come in later, too."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date

from sqlalchemy.orm import Session

from grayshelf.core.frames.night_moves import NightMove
from grayshelf.library.models import Setting
from grayshelf.library.records import as_kept, read

_PLACE = "nights parted or joined"


@dataclass(frozen=True)
class NotesMoved:
    """What was noted of a night that was joined to another, as it was before; for taking that back."""

    move: NightMove
    rig_id: int
    night: date
    notes: str = ""
    weather: dict[str, float] = field(default_factory=dict)
    weather_there: dict[str, float] | None = None
    """Of the night that it was joined to; None where nothing was noted of that."""


@dataclass(frozen=True)
class _Kept:
    moves: tuple[NightMove, ...] = ()
    notes: tuple[NotesMoved, ...] = ()


def _kept(session: Session) -> _Kept:
    row = session.get(Setting, _PLACE)
    return _Kept() if row is None else read(_Kept, row.value)


def night_moves(session: Session) -> tuple[NightMove, ...]:
    """All of them, the newest last."""
    return _kept(session).moves


def notes_of_move(session: Session, move: NightMove) -> NotesMoved | None:
    """What was noted of the night that a move joined to another; None where nothing was, or it parted a night."""
    return next((n for n in reversed(_kept(session).notes) if n.move == move), None)


def keep_moves(session: Session, moves: Sequence[NightMove], notes: NotesMoved | None = None) -> None:
    """Keep these in place of those that were kept, and what was noted of a night that the newest joins to another."""
    row = session.get(Setting, _PLACE)
    all_notes = (*_kept(session).notes, *(() if notes is None else (notes,)))
    value = as_kept(_Kept(tuple(moves), tuple(n for n in all_notes if n.move in moves)))
    if row is None:
        session.add(Setting(key=_PLACE, value=value))
    else:
        row.value = value
