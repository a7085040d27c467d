"""What frames' headers name, counted: for proposing rigs, and for showing in which spellings a name came."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import ColumnElement, and_, case, func, or_, select
from sqlalchemy.orm import Session

from grayshelf.core.frames.filters import normal_filter
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.rigs.propose import Join, NameOf, Proposal, Seen, propose
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet, counts_once
from grayshelf.library.spellings import CAMERA, FILTER, TELESCOPE, decided, keep_joins
from grayshelf.library.unreadable import readable

_WRITTEN = "as_written"
#: Frames that are in no set yet: those that a scan has just read.
LOOSE = and_(Frame.set_id.is_(None), Frame.state.in_(IN_SETS), Frame.group_key.is_not(None))


def _seen(
    session: Session,
    table: type[Frame] | type[FrameSet],
    frames: ColumnElement[int],
    *which: ColumnElement[bool],
) -> list[Seen]:
    facts = readable(table.facts)
    columns = (
        func.coalesce(facts[(_WRITTEN, CAMERA)].as_string(), table.camera),
        func.coalesce(facts[(_WRITTEN, TELESCOPE)].as_string(), facts["telescope"].as_string()),
        func.coalesce(facts[(_WRITTEN, FILTER)].as_string(), facts["filter_code"].as_string()),
        table.kind,
        facts["focal_length_mm"].as_float(),
        # Some programs write the size of the binned pixel.
        case((facts["binning_x"].as_integer() == 1, facts["pixel_um"].as_float())),
        facts["bayer_pattern"].as_string(),
    )
    query = select(*columns, frames).where(table.camera.is_not(None), *which).group_by(*columns)
    kinds = {kind.value: kind for kind in FrameKind}
    return [
        Seen(camera, telescope or None, code, kinds.get(kind or ""), mm, um, pattern, int(n or 0))
        for camera, telescope, code, kind, mm, um, pattern, n in session.execute(query)
    ]


def seen_on_shelf(session: Session) -> list[Seen]:
    """By the names that are kept."""
    return _seen(session, FrameSet, func.sum(FrameSet.n_frames), counts_once())


def seen_in_new_frames(session: Session) -> list[Seen]:
    """As headers have it, in frames that are in no set yet."""
    return _seen(session, Frame, func.count(), LOOSE)


def join_what_is_sure(library: Library) -> list[Join]:
    """Before new frames are put into sets: keep for which names their spellings stand, where that is sure."""
    with library.db.session() as session:
        new = seen_in_new_frames(session)
        if not new:
            return []
        joins = propose([*new, *seen_on_shelf(session)], decided(session)).joins
        keep_joins(library, session, joins)
    # What is shortened when a header is read needs not be told again.
    return [j for j in joins if j.about is not NameOf.FILTER or normal_filter(j.spelled) != j.name]


def carrying(joins: Sequence[Join], *, either: bool = False) -> ColumnElement[bool]:
    """Frames that a join changes: those that carry its spelling, in their headers or as it is kept.

    Parameters
    ----------
    either
        Also those that have the name: where a join is taken back, they may be of the spelling.
    """
    facts = readable(Frame.facts)
    kept_as = {
        NameOf.CAMERA: Frame.camera,
        NameOf.TELESCOPE: func.coalesce(facts["telescope"].as_string(), ""),
        NameOf.FILTER: func.coalesce(facts["filter_code"].as_string(), ""),
    }
    names: dict[NameOf, set[str]] = defaultdict(set)
    for join in joins:
        names[join.about] |= {join.spelled, join.name} if either else {join.spelled}
    return or_(
        *(
            or_(kept_as[about].in_(told), facts[(_WRITTEN, about.value)].as_string().in_(told))
            for about, told in names.items()
        )
    )


@dataclass(frozen=True)
class Spelled:
    """One way in which headers write a name."""

    text: str
    frames: int


@kept(4)
def _spelled(library: Library, revision: int) -> dict[tuple[str, str, str], list[Spelled]]:
    found: dict[tuple[str, str, str], dict[str, int]] = defaultdict(lambda: defaultdict(int))
    query = select(Frame.camera, Frame.written, func.count()).where(
        Frame.written.is_not(None), Frame.camera.is_not(None), Frame.state.in_(IN_SETS)
    )
    with library.db.own_session() as session:
        for camera, written, n in session.execute(query.group_by(Frame.written, Frame.camera)):
            for about, (text, name) in json.loads(written or "{}").items():
                found[about, "" if about == CAMERA else camera or "", name][text] += n
    return {
        key: sorted((Spelled(text, n) for text, n in ways.items()), key=lambda s: (-s.frames, s.text))
        for key, ways in found.items()
    }


def spelled(library: Library, about: NameOf, camera: str, name: str) -> list[Spelled]:
    """In which other spellings a name came, most frames first.

    Parameters
    ----------
    camera
        For telescopes and filters, the camera of their frames; empty for cameras.
    """
    return _spelled(library, library.revision).get((about.value, camera, name), [])


@kept(4)
def _proposal(library: Library, revision: int) -> Proposal:
    with library.db.own_session() as session:
        return propose(seen_on_shelf(session), decided(session))


def doubts(library: Library) -> Proposal:
    """What nobody but a person can tell of the names on the shelf."""
    return _proposal(library, library.revision)
