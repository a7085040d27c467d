"""What lies on the disks: room by kind, night and age, and the raw frames of each set with what stands for them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import NamedTuple

from sqlalchemy import ColumnElement, UnaryExpression, exists, func, select, text
from sqlalchemy.orm import Session
from sqlalchemy.sql.operators import custom_op

from grayshelf.core.filing.letting_go import Master, RawFrames, RawSet
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.kept import in_parts, kept
from grayshelf.library.library import Library
from grayshelf.library.models import PACKED, Frame, FrameSet, MasterInput, MasterRecord, Rig
from grayshelf.library.rig_terms import house_rules_of
from grayshelf.library.trains import sorter, standing_rigs
from grayshelf.library.unreadable import readable

#: With a sign before it SQLite does not go by the index of states, which are nearly all the same, but by that of sets.
_STATE: ColumnElement[str] = UnaryExpression(
    Frame.state.expression, operator=custom_op("+"), type_=Frame.state.type
)


@dataclass(frozen=True)
class Taken:
    """Room that frames of one kind and night take."""

    kind: str
    """A kind of frame, 'master', or '' where it is not known."""
    night: date | None
    n_frames: int
    size_bytes: int


class _Files(NamedTuple):
    """Files of one set, kind and night that are there."""

    set_id: int | None
    kind: str
    night: date | None
    in_sets: bool
    n_frames: int
    size_bytes: int


def _files(session: Session, set_ids: Sequence[int] | None = None) -> list[_Files]:
    """All files that are there, in one look at every frame; of some sets alone where they are named."""
    # In the order of their index, and of its columns alone.
    grouped = Frame.set_id, Frame.state, Frame.kind, Frame.night
    query = (
        select(*grouped, func.count(), func.sum(Frame.size_bytes))
        .where(Frame.state != "gone", Frame.missing_since.is_(None))
        .group_by(*grouped)
    )
    parts = [query] if set_ids is None else [query.where(Frame.set_id.in_(p)) for p in in_parts(set_ids)]
    return [
        _Files(set_id, kind or "", night, state in IN_SETS, n_frames, size_bytes)
        for part in parts
        for set_id, state, kind, night, n_frames, size_bytes in session.execute(part)
    ]


def _packed(session: Session) -> dict[int | None, int]:
    """How many frames of each set lie packed."""
    there = _STATE.in_(IN_SETS) & Frame.missing_since.is_(None)
    query = (
        select(Frame.set_id, func.count().label("n_frames")).where(text(PACKED), there).group_by(Frame.set_id)
    )
    return {row.set_id: row.n_frames for row in session.execute(query)}


@kept(2)
def _all_files(library: Library, revision: int) -> list[_Files]:
    with library.db.own_session() as session:
        return _files(session)


def room_taken(library: Library) -> Sequence[Taken]:
    """Room that all frames take whose files are there, copies too, by kind and night."""
    return _room_taken(library, library.revision)


@kept(2)
def _room_taken(library: Library, revision: int) -> Sequence[Taken]:
    with library.db.own_session() as session:
        masters = set(session.scalars(select(FrameSet.id).where(FrameSet.is_master)))
    taken: dict[tuple[str, date | None], list[int]] = defaultdict(lambda: [0, 0])
    for files in _all_files(library, revision):
        sums = taken["master" if files.set_id in masters else files.kind, files.night]
        sums[0] += files.n_frames
        sums[1] += files.size_bytes
    return [Taken(kind, night, n, size) for (kind, night), (n, size) in taken.items()]


def raw_sets(library: Library) -> Mapping[int, RawSet]:
    """Sets of raw frames, lights too, with what stands for them; what was shot for the Bench is not among them."""
    return _all_raw_sets(library, library.revision)


def raw_sets_of(library: Library, session: Session, set_ids: Collection[int]) -> dict[int, RawSet]:
    """The same of some sets, as they are at this moment."""
    return _raw_sets(library, session, sorted(set_ids))


@kept(1)
def _all_raw_sets(library: Library, revision: int) -> Mapping[int, RawSet]:
    with library.db.own_session() as session:
        return _raw_sets(library, session, None)


def _raw_sets(library: Library, session: Session, wanted: Sequence[int] | None) -> dict[int, RawSet]:
    files = _all_files(library, library.revision) if wanted is None else _files(session, wanted)
    of_set: dict[int | None, list[int]] = defaultdict(lambda: [0, 0])
    for one in files:
        if one.in_sets:
            sums = of_set[one.set_id]
            sums[0] += one.n_frames
            sums[1] += one.size_bytes
    packed = _packed(session)
    rows = [row for row in _rows(session, wanted) if row.id in of_set]
    masters = {row.master_set_id for row in rows if row.master_set_id is not None}
    stands = _masters(session, masters)
    left_out = _left_out(session, masters)
    unknown = _not_in_master(session, wanted)
    rules, sort = _rules(session), sorter(library)
    # Frames behind a cap often name no telescope: they are the first rig's with their camera.
    of_camera = {rig.camera: rig.id for rig in reversed(list(session.scalars(standing_rigs())))}
    unsound = {set_id for _, set_id in library.left_out}
    found: dict[int, RawSet] = {}
    for row in rows:
        if row.id in unsound:
            continue
        rig = sort.of(row) or (None if row.telescope else of_camera.get(row.camera or ""))
        rule, days = rules.get(rig, (RawFrames.KEPT, 0))
        n_frames, size_bytes = of_set[row.id]
        found[row.id] = RawSet(
            set_id=row.id,
            kind=FrameKind(row.kind),
            night=row.night,
            n_frames=n_frames,
            size_bytes=size_bytes,
            filter_code=row.filter_code or "",
            n_packed=packed.get(row.id, 0),
            master=stands.get(row.master_set_id or 0, Master.NONE),
            left_out=left_out.get(row.master_set_id or 0, ()),
            n_not_in_master=unknown.get(row.id, 0),
            rule=rule,
            rule_days=days,
            rig_id=rig,
        )
    return found


class _Row(NamedTuple):
    """What is asked of a set: of its facts those alone that are needed, since all of them take as long as the rest."""

    id: int
    kind: str
    camera: str | None
    night: date | None
    master_set_id: int | None
    telescope: str | None
    focal_length_mm: float | None
    filter_code: str | None


def _rows(session: Session, set_ids: Sequence[int] | None) -> list[_Row]:
    facts = readable(FrameSet.facts)
    query = (
        select(
            FrameSet.id,
            FrameSet.kind,
            FrameSet.camera,
            FrameSet.night,
            FrameSet.master_set_id,
            facts["telescope"].as_string(),
            facts["focal_length_mm"].as_float(),
            facts["filter_code"].as_string(),
        )
        .where(FrameSet.is_master.is_(False), FrameSet.measurement_id.is_(None))
        .order_by(FrameSet.night.desc(), FrameSet.kind, FrameSet.id)
    )
    if set_ids is None:
        return [_Row(*row) for row in session.execute(query.where(func.json_valid(FrameSet.facts)))]
    found: list[_Row] = []
    for part in in_parts(set_ids):
        whole = session.execute(select(FrameSet.id, FrameSet.facts).where(FrameSet.id.in_(part)))
        # Of sets that are to be let go, all of what is told must make sense.
        sound = [set_id for set_id, kept_facts in whole if facts_if_sound(kept_facts) is not None]
        found += [_Row(*row) for row in session.execute(query.where(FrameSet.id.in_(sound)))]
    return found


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


def _not_in_master(session: Session, set_ids: Sequence[int] | None = None) -> dict[int, int]:
    """How many frames of each combined set count that its master does not know, each asked for itself: one that came
    and one that is kept no more do not make up for one another."""
    known = exists().where(MasterInput.master_id == FrameSet.master_set_id, MasterInput.frame_id == Frame.id)
    query = (
        select(Frame.set_id, func.count())
        .join(FrameSet, FrameSet.id == Frame.set_id)
        .where(FrameSet.master_set_id.is_not(None), _STATE.in_(IN_SETS), Frame.rejected.is_(False), ~known)
        .group_by(Frame.set_id)
    )
    asked = [query] if set_ids is None else [query.where(Frame.set_id.in_(p)) for p in in_parts(set_ids)]
    return {set_id: n for one in asked for set_id, n in session.execute(one) if set_id is not None}


def _rules(session: Session) -> dict[int | None, tuple[RawFrames, int]]:
    """The house rule of each rig."""
    return {
        rig.id: (rules.raw_frames, rules.raw_days)
        for rig in session.scalars(select(Rig))
        for rules in (house_rules_of(rig),)
    }
