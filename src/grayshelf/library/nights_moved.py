"""Nights that a person parted or joined, kept for the whole library: they hold for frames that come in later, too."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy.orm import Session

from grayshelf.core.frames.night_moves import NightMove
from grayshelf.library.models import Setting
from grayshelf.library.records import as_kept, read

_PLACE = "nights parted or joined"


@dataclass(frozen=True)
class _Kept:
    moves: tuple[NightMove, ...] = ()


def night_moves(session: Session) -> tuple[NightMove, ...]:
    """All of them, the newest last."""
    row = session.get(Setting, _PLACE)
    return () if row is None else read(_Kept, row.value).moves


def keep_moves(session: Session, moves: Sequence[NightMove]) -> None:
    """Keep these in place of those that were kept."""
    row = session.get(Setting, _PLACE)
    value = as_kept(_Kept(tuple(moves)))
    if row is None:
        session.add(Setting(key=_PLACE, value=value))
    else:
        row.value = value
