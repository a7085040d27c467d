"""Which lights a person keeps: said by hand, or by a list of names. No file is touched."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.frames.facts import lacking
from grayshelf.core.frames.name_list import stem_of
from grayshelf.library.catalog import IN_SETS, set_aside, what_is_said
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.kept import in_parts
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import Frame, FrameSet, Rig


@dataclass(frozen=True)
class KeptTold:
    """What came of a list."""

    changed: tuple[int, ...]
    """Frames that count otherwise now."""
    not_found: tuple[str, ...]
    """Names that no light has."""
    in_rejects: int
    """Lights that cannot be kept, since they lie in a folder of rejects."""


def lights_of(library: Library, session: Session, rig: Rig, night: date | None) -> list[Frame]:
    """The lights of a rig, of one night or of all, in the order in which they were taken."""
    sets = [s.row.id for s in light_sets(library, rig) if night is None or s.row.night == night]
    found: list[Frame] = []
    for part in in_parts(sets):
        found += session.scalars(
            select(Frame)
            .where(Frame.set_id.in_(part), Frame.state.in_(IN_SETS))
            .order_by(Frame.utc, Frame.id)
        )
    return sorted(found, key=lambda f: (f.utc is None, f.utc or datetime.min, f.id))


def light_ids(library: Library, session: Session, rig: Rig) -> list[int]:
    """The numbers of all lights of a rig, in the order in which they were taken."""
    found: list[tuple[datetime | None, int]] = []
    for part in in_parts([s.row.id for s in light_sets(library, rig)]):
        of_sets = Frame.set_id.in_(part), Frame.state.in_(IN_SETS)
        found += [
            (utc, number) for utc, number in session.execute(select(Frame.utc, Frame.id).where(*of_sets))
        ]
    return [number for utc, number in sorted(found, key=lambda f: (f[0] is None, f[0] or datetime.min, f[1]))]


def keep_named(
    library: Library,
    session: Session,
    rig: Rig,
    night: date | None,
    names: Sequence[str],
    *,
    kept: bool,
    others: bool,
    said: str,
) -> KeptTold:
    """Lights with these names are kept, or are not.

    Parameters
    ----------
    others
        All other lights of the nights in which a named one was taken count the other way.
    said
        Why a light does not count, as it is kept with it.
    """
    frames = lights_of(library, session, rig, night)
    by_stem: dict[str, list[Frame]] = {}
    for frame in frames:
        by_stem.setdefault(stem_of(frame.path), []).append(frame)
    named = {stem_of(name): name for name in names}
    hit = [f for stem in named for f in by_stem.get(stem, ())]
    told = _say(hit, kept=kept, said=said)
    if others and hit:
        nights, of_list = {f.night for f in hit}, {f.id for f in hit}
        rest = [f for f in frames if f.night in nights and f.id not in of_list]
        told = [*told, *_say(rest, kept=not kept, said=said)]
    _recount(session, told)
    missing = tuple(name for stem, name in named.items() if stem not in by_stem)
    return KeptTold(tuple(f.id for f in told), missing, sum(set_aside(f.path) for f in hit) if kept else 0)


def keep_frames(
    library: Library, session: Session, rig: Rig, ids: Iterable[int], *, kept: bool, said: str
) -> KeptTold:
    """These lights are kept, or are not."""
    wanted = set(ids)
    frames = [f for f in lights_of(library, session, rig, None) if f.id in wanted]
    told = _say(frames, kept=kept, said=said)
    _recount(session, told)
    return KeptTold(tuple(f.id for f in told), (), sum(set_aside(f.path) for f in frames) if kept else 0)


def _say(frames: Sequence[Frame], *, kept: bool, said: str) -> list[Frame]:
    """Those that count otherwise afterwards."""
    changed = []
    for frame in frames:
        # A folder of rejects says it for good: whoever keeps such a frame takes it out of there.
        if frame.rejected == (not kept) or (kept and set_aside(frame.path)):
            continue
        frame.rejected, frame.reason = not kept, what_its_header_says(frame) if kept else said
        changed.append(frame)
    return changed


def what_its_header_says(frame: Frame) -> str:
    """What there is to say of a frame that counts: what its header lacks, or does not tell alone."""
    facts = facts_if_sound(frame.facts)
    return "" if facts is None else what_is_said(facts, lacking(facts))


def _recount(session: Session, changed: Sequence[Frame]) -> None:
    session.flush()
    for part in in_parts(sorted({f.set_id for f in changed if f.set_id is not None})):
        for row in session.scalars(select(FrameSet).where(FrameSet.id.in_(part))):
            row.n_kept = sum(not f.rejected for f in row.frames)
