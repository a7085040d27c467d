"""What lies on the disks: room by kind, night and age, and the raw frames of each set with what stands for them."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import date

from sqlalchemy import ColumnElement, case, exists, func, select
from sqlalchemy.orm import Session

from grayshelf.core.filing.letting_go import Master, RawFrames, RawSet
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.kept import in_parts
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet, MasterInput, MasterRecord, Rig
from grayshelf.library.packing import PACKED_ENDING
from grayshelf.library.rig_terms import house_rules_of
from grayshelf.library.trains import sorter, standing_rigs


@dataclass(frozen=True)
class Taken:
    """Room that frames of one kind and night take."""

    kind: str
    """A kind of frame, 'master', or '' where it is not known."""
    night: date | None
    n_frames: int
    size_bytes: int


def room_taken(session: Session) -> list[Taken]:
    """Room that all frames take whose files are there, copies too, by kind and night."""
    kind = case((FrameSet.is_master, "master"), else_=func.coalesce(Frame.kind, ""))
    query = (
        select(kind, Frame.night, func.count(), func.sum(Frame.size_bytes))
        .outerjoin(FrameSet, FrameSet.id == Frame.set_id)
        .where(Frame.state != "gone", Frame.missing_since.is_(None))
        .group_by(kind, Frame.night)
    )
    return [Taken(*row) for row in session.execute(query)]


def raw_sets(library: Library, session: Session, set_ids: Collection[int] | None = None) -> dict[int, RawSet]:
    """Sets of raw frames with what stands for them; lights and what was shot for the Bench are among the first only.

    Parameters
    ----------
    set_ids
        Only these, where they are named.
    """
    query = (
        select(FrameSet, func.count(Frame.id), func.sum(Frame.size_bytes), func.sum(_packed()))
        .join(Frame, Frame.set_id == FrameSet.id)
        .where(
            FrameSet.is_master.is_(False),
            FrameSet.measurement_id.is_(None),
            Frame.state.in_(IN_SETS),
            Frame.missing_since.is_(None),
        )
        .group_by(FrameSet.id)
        .order_by(FrameSet.night.desc(), FrameSet.kind, FrameSet.id)
    )
    rows = [row for row in session.execute(query).all() if set_ids is None or row[0].id in set_ids]
    masters = {row[0].master_set_id for row in rows if row[0].master_set_id is not None}
    stands = _masters(session, masters)
    left_out, unknown = _left_out(session, masters), _not_in_master(session)
    rules, sort = _rules(session), sorter(library)
    # Frames behind a cap often name no telescope: they are the first rig's with their camera.
    of_camera = {rig.camera: rig.id for rig in reversed(list(session.scalars(standing_rigs())))}
    found: dict[int, RawSet] = {}
    for row, n_frames, size_bytes, n_packed in rows:
        facts = facts_if_sound(row.facts)
        if facts is None:
            continue
        rig = sort.of(facts) or (None if facts.telescope else of_camera.get(row.camera or ""))
        rule, days = rules.get(rig, (RawFrames.KEPT, 0))
        found[row.id] = RawSet(
            set_id=row.id,
            kind=FrameKind(row.kind),
            title=_title(row, facts.filter_code),
            night=row.night,
            n_frames=n_frames,
            size_bytes=size_bytes or 0,
            n_packed=n_packed or 0,
            master=stands.get(row.master_set_id or 0, Master.NONE),
            left_out=left_out.get(row.master_set_id or 0, ()),
            n_not_in_master=unknown.get(row.id, 0),
            rule=rule,
            rule_days=days,
            rig_id=rig,
        )
    return found


def _packed() -> ColumnElement[int]:
    return case((Frame.path.endswith(PACKED_ENDING), 1), else_=0)


def _title(row: FrameSet, filter_code: str | None) -> str:
    named = f"{row.kind[:1].upper()}{row.kind[1:]}{'' if row.kind == 'bias' else 's'}"
    through = f" {filter_code}" if filter_code and row.kind in ("flat", "light") else ""
    return f"{named}{through} of {row.night:%-d %b %Y}" if row.night else f"{named}{through}"


def _masters(session: Session, set_ids: Collection[int]) -> dict[int, Master]:
    """What each master is worth to the raw frames under it."""
    found: dict[int, Master] = {}
    for part in in_parts(sorted(set_ids)):
        query = (
            select(FrameSet.id, FrameSet.taken_off, MasterRecord.built_here, Frame.missing_since, Frame.state)
            .join(MasterRecord, MasterRecord.set_id == FrameSet.id)
            .outerjoin(Frame, Frame.set_id == FrameSet.id)
            .where(FrameSet.id.in_(part))
        )
        for set_id, taken_off, built_here, missing_since, state in session.execute(query):
            there = state in IN_SETS and missing_since is None and not taken_off
            found[set_id] = Master.AWAY if not there else Master.SAFE if built_here else Master.FROM_ELSEWHERE
    return found


def _left_out(session: Session, set_ids: Collection[int]) -> dict[int, tuple[str, ...]]:
    """Of each master the names of frames that were left out of it."""
    found: dict[int, tuple[str, ...]] = {}
    for part in in_parts(sorted(set_ids)):
        query = select(MasterInput.master_id, MasterInput.name).where(
            MasterInput.master_id.in_(part), MasterInput.used.is_(False)
        )
        for set_id, name in session.execute(query.order_by(MasterInput.seq)):
            found[set_id] = (*found.get(set_id, ()), name)
    return found


def _not_in_master(session: Session) -> dict[int, int]:
    """How many frames of each combined set count that its master does not know, each asked for itself: one that came
    and one that is kept no more do not make up for one another."""
    known = exists().where(MasterInput.master_id == FrameSet.master_set_id, MasterInput.frame_id == Frame.id)
    query = (
        select(Frame.set_id, func.count())
        .join(FrameSet, FrameSet.id == Frame.set_id)
        .where(
            FrameSet.master_set_id.is_not(None), Frame.state.in_(IN_SETS), Frame.rejected.is_(False), ~known
        )
        .group_by(Frame.set_id)
    )
    return {set_id: n for set_id, n in session.execute(query) if set_id is not None}


def _rules(session: Session) -> dict[int | None, tuple[RawFrames, int]]:
    """The house rule of each rig."""
    return {
        rig.id: (rules.raw_frames, rules.raw_days)
        for rig in session.scalars(select(Rig))
        for rules in (house_rules_of(rig),)
    }
