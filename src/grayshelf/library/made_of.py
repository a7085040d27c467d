"""Of which frames masters were made, as far as frames that are here tell: how many they were, and how bright."""

from __future__ import annotations

from collections.abc import Collection, Hashable
from typing import Any, NamedTuple

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import nominal_exposure, set_key
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.kept import in_parts
from grayshelf.library.models import FrameSet, MasterInput, MasterRecord


class MadeOf(NamedTuple):
    """Frames that a master was made of."""

    level_adu: float | None
    n_frames: int


def made_of_frames(session: Session) -> dict[int, MadeOf]:
    """By the master's number; those of other programs were made of the frames of their night and settings."""
    query = select(FrameSet.master_set_id, FrameSet.level_adu, FrameSet.n_kept)
    ours = session.execute(query.where(FrameSet.master_set_id.is_not(None)))
    return _of_other_programs(session) | {m: MadeOf(level, n) for m, level, n in ours if m is not None}


def come_since(session: Session, sets: Collection[int] | None = None) -> dict[int, int]:
    """How many frames came to a set since its master was made of it here, by the set's number; of all sets, or some."""
    made_of = func.count(MasterInput.id)
    query = (
        select(FrameSet.id, FrameSet.n_kept - made_of)
        .join(MasterInput, MasterInput.master_id == FrameSet.master_set_id)
        .group_by(FrameSet.id)
        .having(FrameSet.n_kept > made_of)
    )
    if sets is not None:
        query = query.where(FrameSet.id.in_(sets))
    return dict(session.execute(query).all())


def _of_other_programs(session: Session) -> dict[int, MadeOf]:
    theirs = select(MasterRecord.set_id).where(MasterRecord.built_here.is_(False))
    query = select(FrameSet.id, FrameSet.night, FrameSet.facts).where(FrameSet.night.is_not(None))
    masters = session.execute(query.where(FrameSet.is_master, FrameSet.id.in_(theirs))).all()
    loose = query.add_columns(FrameSet.level_adu, FrameSet.n_kept).where(
        FrameSet.is_master.is_(False), FrameSet.kind != FrameKind.LIGHT
    )
    frames: dict[Hashable, MadeOf] = {}
    for nights in in_parts(sorted({night for _, night, _ in masters})):
        for _, _, plain, level, n in session.execute(loose.where(FrameSet.night.in_(nights))):
            frames[_alike(plain)] = MadeOf(level, n)
    found = ((number, frames.get(_alike(plain))) for number, _, plain in masters)
    return {number: made_of for number, made_of in found if made_of is not None}


def _alike(plain: Any) -> Hashable:
    """What frames and the master made of them have in common; nothing, where it cannot be read."""
    facts = facts_if_sound(plain)
    if facts is None:
        return object()
    return set_key(facts), None if facts.exposure_s is None else nominal_exposure(facts.exposure_s)
