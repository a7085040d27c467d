"""Frames shot in one go over noon: by the calendar they are of two nights, and yet one set."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.sets import goes_on, may_pass_noon
from grayshelf.library.catalog import IN_SETS, key_of
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.models import Frame

#: Nights over which frames may be shot in one go: a campaign of darks takes days.
MOST_NIGHTS = 12


def keys_in_one_go(session: Session, key: str) -> list[str]:
    """A key of frames (`catalog.key_of`), and those of the nights before and after it whose frames were shot in one go with its
    own."""
    keys = [key]
    for days, ours, theirs in ((1, _last_of, _first_of), (-1, _first_of, _last_of)):
        at = key
        while len(keys) < MOST_NIGHTS:
            here = ours(session, at)
            if here is None or here.night is None or not may_pass_noon(here):
                break
            at = key_of(replace(here, night=here.night + timedelta(days=days)))
            there = theirs(session, at)
            if there is None or not (goes_on(here, there) if days > 0 else goes_on(there, here)):
                break
            keys.append(at)
    return keys


def _first_of(session: Session, key: str) -> FrameFacts | None:
    return _edge_of(session, key, Frame.utc)


def _last_of(session: Session, key: str) -> FrameFacts | None:
    return _edge_of(session, key, Frame.utc.desc())


def _edge_of(session: Session, key: str, order: Any) -> FrameFacts | None:
    query = select(Frame.facts).where(
        Frame.group_key == key, Frame.state.in_(IN_SETS), Frame.utc.is_not(None)
    )
    told = session.scalar(query.order_by(order).limit(1))
    return None if told is None else facts_if_sound(told)
