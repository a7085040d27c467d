"""What names in headers stand for in this library, as it is kept, and how a frame's facts are told by it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.filters import normal_filter
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.rigs.propose import Decided, Join, NameOf
from grayshelf.library.library import Library
from grayshelf.library.models import FlatRow, FlatSetting, Rig, RigFilter, Spelling

#: Under what names are kept as they were written (`FrameFacts.as_written`).
CAMERA, TELESCOPE, FILTER = (about.value for about in NameOf)
_THROUGH_TELESCOPE = (FrameKind.LIGHT, FrameKind.FLAT)


@dataclass(frozen=True)
class Spellings:
    """For each name in headers the one that is kept."""

    stands_for: dict[tuple[str, str, str], str] = field(default_factory=dict)
    """By what is named, the camera (empty for cameras), and the spelling."""

    def apply(self, facts: FrameFacts) -> FrameFacts:
        """The facts by the names that are kept; what was written is kept beside them.

        It begins with what was written, so that a spelling that stands for nothing any more is itself again.
        """
        if not self.stands_for and not facts.as_written:
            return facts
        written = facts.as_written
        camera = written.get(CAMERA, facts.camera)
        own_camera = self._name(CAMERA, "", camera)
        telescope = written.get(TELESCOPE, facts.telescope) or None
        own_telescope = telescope
        if telescope or facts.kind in _THROUGH_TELESCOPE:
            own_telescope = self._name(TELESCOPE, own_camera or "", telescope)
        named = written.get(FILTER, facts.filter_code)
        code = self.stands_for.get((FILTER, own_camera or "", named or ""))
        if code is None:
            code = self._name(FILTER, own_camera or "", normal_filter(named)) if named else None
        kept = {CAMERA: (camera, own_camera), TELESCOPE: (telescope, own_telescope), FILTER: (named, code)}
        return replace(
            facts,
            camera=own_camera,
            telescope=own_telescope,
            filter_code=code,
            as_written={what: was or "" for what, (was, own) in kept.items() if was != own},
        )

    def _name(self, about: str, camera: str, spelled: str | None) -> str | None:
        return self.stands_for.get((about, camera, spelled or ""), spelled) or None


def spellings(session: Session) -> Spellings:
    """As they are kept."""
    rows = session.scalars(select(Spelling).where(Spelling.apart.is_(False)))
    return Spellings({(r.about, r.camera, r.spelled): r.name for r in rows})


def decided(session: Session) -> Decided:
    """What stands already of names and rigs."""
    rows = session.scalars(select(Spelling)).all()
    rigs = session.execute(select(Rig.camera, Rig.telescope).where(Rig.joined_to.is_(None))).all()
    return Decided(
        tuple(Join(NameOf(r.about), r.camera, r.spelled, r.name) for r in rows if not r.apart),
        frozenset((NameOf(r.about), r.camera, frozenset((r.spelled, r.name))) for r in rows if r.apart),
        tuple((camera, telescope) for camera, telescope in rigs),
        _filters_in_use(session),
    )


def _filters_in_use(session: Session) -> tuple[tuple[str, str], ...]:
    """Filters that somebody typed, or for which settings were found, with their camera."""
    codes = (
        (RigFilter.code, RigFilter.rig_id),
        (FlatSetting.filter_code, FlatSetting.rig_id),
        (FlatRow.filter_code, FlatRow.rig_id),
    )
    queries = [select(Rig.camera, code).join(Rig, Rig.id == rig_id).distinct() for code, rig_id in codes]
    return tuple(sorted({(camera, code) for query in queries for camera, code in session.execute(query)}))


def keep_joins(
    library: Library, session: Session, joins: Iterable[Join], *, by_hand: bool = False
) -> list[Spelling]:
    """Keep what spellings stand for. What stood for the spelling stands for its name from now on, too."""
    made = []
    for join in joins:
        about, camera = join.about.value, join.camera
        there = session.scalars(
            select(Spelling).where(Spelling.about == about, Spelling.camera == camera)
        ).all()
        for row in there:
            if row.apart and {row.spelled, row.name} == {join.spelled, join.name}:
                session.delete(row)
                # Before the one is inserted that may have the same two names.
                session.flush()
            elif not row.apart and row.name == join.spelled and row.spelled != join.spelled:
                row.name = join.name
        before = next((r for r in there if not r.apart and r.spelled == join.spelled), None)
        if before is not None:
            before.name, before.by_hand, before.at = join.name, by_hand, library.clock.now()
            made.append(before)
            continue
        row = Spelling(
            about=about,
            camera=camera,
            spelled=join.spelled,
            name=join.name,
            apart=False,
            by_hand=by_hand,
            at=library.clock.now(),
        )
        session.add(row)
        made.append(row)
    session.flush()
    return made


def _said_two(session: Session, join: Join) -> Spelling | None:
    return session.scalar(
        select(Spelling).where(
            Spelling.about == join.about.value,
            Spelling.camera == join.camera,
            Spelling.spelled == join.spelled,
            Spelling.name == join.name,
        )
    )


def keep_apart(library: Library, session: Session, join: Join) -> None:
    """Keep that two names are two things: it is not asked again."""
    there = _said_two(session, join)
    if there is None:
        there = Spelling(
            about=join.about.value, camera=join.camera, spelled=join.spelled, name=join.name, apart=True
        )
        session.add(there)
    there.apart, there.by_hand, there.at = True, True, library.clock.now()


def ask_again(session: Session, join: Join) -> None:
    """Forget that two names are two things."""
    there = _said_two(session, join)
    if there is not None and there.apart:
        session.delete(there)
