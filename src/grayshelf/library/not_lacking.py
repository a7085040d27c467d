"""Frames that lack only what a person said there is none of, or is always the same: nobody is asked for it again."""

from __future__ import annotations

from itertools import combinations

from sqlalchemy import ColumnElement, and_, false, or_
from sqlalchemy.orm import Session

from grayshelf.library.catalog import lacks_in_words
from grayshelf.library.models import Frame
from grayshelf.library.trains import standing_rigs

#: What a camera or a train may have none of, in the order in which it is told (`facts.lacking`).
MAY_BE_FIXED = ("gain", "filter")


def lacks_nothing_asked_for(session: Session) -> ColumnElement[bool]:
    """Frames whose header lacks what is fixed on all rigs of their camera, and nothing else."""
    fixed_on: dict[str, set[str]] = {}
    for rig in session.scalars(standing_rigs()):
        fixed = {q for q in MAY_BE_FIXED if (rig.says or {}).get(q) == "fixed"}
        fixed_on[rig.camera] = fixed_on.get(rig.camera, fixed) & fixed
    of_cameras = [
        and_(Frame.camera == camera, Frame.reason.in_(_sentences(fixed)))
        for camera, fixed in sorted(fixed_on.items())
        if fixed
    ]
    if not of_cameras:
        return false()
    return and_(Frame.state == "lacking", Frame.missing_since.is_(None), or_(*of_cameras))


def _sentences(fixed: set[str]) -> list[str]:
    """What a row says of a frame that lacks some of it."""
    there = [q for q in MAY_BE_FIXED if q in fixed]
    return [lacks_in_words(some) for n in range(1, len(there) + 1) for some in combinations(there, n)]
