"""Frames that masters were made of and that the library has not, found again when they come in: known by their bytes.

So it is where a folder was taken off the list and is named again, where what was let go of is back, and where masters came
without their frames, which follow. What was packed here meanwhile is known by the bytes that it had.
"""

from __future__ import annotations

import hashlib
from collections import Counter, defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path, PurePosixPath

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session, aliased

from grayshelf.library.catalog import IN_SETS
from grayshelf.library.files import sha256_of
from grayshelf.library.kept import in_parts
from grayshelf.library.letting_go import give_masters_back
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, FrameSet, MasterInput, MasterRecord
from grayshelf.library.packing import PACKED_ENDING, NotPacked, unpacked


@dataclass
class _Wanted:
    """What is known of frames that masters of one kind and camera were made of."""

    names: set[str] = field(default_factory=set)
    """Of their files, without their endings: a packed file has another."""
    nights: set[date | None] = field(default_factory=set)
    hashes: set[str] = field(default_factory=set)


_KindAndCamera = tuple[str, str | None]


def find_inputs(library: Library, check: Callable[[], None], progress: Callable[[float], None]) -> int:
    """Look among frames for those that masters lack; return how many were found.

    Parameters
    ----------
    check
        Called before each file is read; raises where the work was stopped.
    progress
        Told the share done, 0 … 1.
    """
    with library.db.session() as session:
        wanted = _wanted(session)
        todo = _may_be(session, wanted) if wanted else []
    packed = list[int]()
    for number, (frame_id, path) in enumerate(todo):
        check()
        try:
            sha256, as_it_was = sha256_of(path), _before_it_was_packed(path)
        except OSError:
            # Gone since it was scanned: the next scan tells of it.
            continue
        with library.db.session() as session:
            session.get_one(Frame, frame_id).sha256 = sha256
            lacks_it = (MasterInput.sha256 == as_it_was) & MasterInput.frame_id.is_(None)
            if session.scalar(select(MasterInput.id).where(lacks_it).limit(1)) is not None:
                session.execute(update(MasterInput).where(lacks_it).values(frame_id=frame_id))
                packed.append(frame_id)
        progress((number + 1) / len(todo))
    found = packed + _link(library, {sha256 for one in wanted.values() for sha256 in one.hashes})
    give_masters_back(library, _of_sets_found_again(library, found))
    return len(found)


def _before_it_was_packed(path: Path) -> str | None:
    """The hash of the file that was packed here; None of any other."""
    if path.suffix.lower() != PACKED_ENDING:
        return None
    try:
        return hashlib.sha256(unpacked(path)).hexdigest()
    except NotPacked:
        return None


def _wanted(session: Session) -> dict[_KindAndCamera, _Wanted]:
    """Inputs that are no frame of the library, or one of which nobody knows whether it is still what it was."""
    query = (
        select(FrameSet.kind, FrameSet.camera, FrameSet.night, MasterInput.name, MasterInput.sha256)
        .join(MasterInput, MasterInput.master_id == FrameSet.id)
        .join(MasterRecord, MasterRecord.set_id == FrameSet.id)
        .outerjoin(Frame, Frame.id == MasterInput.frame_id)
        .where(MasterRecord.built_here, Frame.sha256.is_(None))
    )
    wanted: dict[_KindAndCamera, _Wanted] = defaultdict(_Wanted)
    for kind, camera, night, name, sha256 in session.execute(query):
        of_it = wanted[kind, camera]
        of_it.names.add(_stem(name))
        of_it.nights.add(night)
        of_it.hashes.add(sha256)
    return wanted


def _may_be(session: Session, wanted: dict[_KindAndCamera, _Wanted]) -> list[tuple[int, Path]]:
    """Frames that nobody has hashed and that may be inputs: by their file's name, or by their night where they were given
    another name since."""
    query = (
        select(Frame.id, Folder.path, Frame.path, FrameSet.kind, FrameSet.camera, FrameSet.night)
        .join(FrameSet, FrameSet.id == Frame.set_id)
        .join(Folder, Folder.id == Frame.folder_id)
        .where(
            Frame.sha256.is_(None),
            Frame.state.in_(IN_SETS),
            Frame.missing_since.is_(None),
            FrameSet.is_master.is_(False),
            FrameSet.measurement_id.is_(None),
            FrameSet.kind.in_({kind for kind, _ in wanted}),
        )
        .order_by(Frame.id)
    )
    found = []
    for frame_id, root, path, kind, camera, night in session.execute(query):
        of_it = wanted.get((kind, camera))
        if of_it is not None and (night in of_it.nights or _stem(path) in of_it.names):
            found.append((frame_id, Path(root) / path))
    return found


def _of_sets_found_again(library: Library, found: Sequence[int]) -> list[int]:
    """Those of which at least half of their set was found: a master with few frames in common is not that of a set."""
    set_of: dict[int, int] = {}
    with library.db.session() as session:
        for part in in_parts(found):
            rows = session.execute(select(Frame.id, Frame.set_id).where(Frame.id.in_(part)))
            set_of |= {frame_id: set_id for frame_id, set_id in rows if set_id is not None}
        here = Counter(set_of.values())
        sizes: dict[int, int] = {}
        for sets in in_parts(sorted(here)):
            counted = select(FrameSet.id, FrameSet.n_frames).where(FrameSet.id.in_(sets))
            sizes |= dict(session.execute(counted).all())
    return [frame_id for frame_id, set_id in set_of.items() if 2 * here[set_id] >= sizes[set_id]]


def _stem(path: str) -> str:
    return PurePosixPath(path).name.lower().partition(".")[0]


def _link(library: Library, hashes: set[str]) -> list[int]:
    """Let inputs know their frames again; returns the frames' numbers."""
    found = list[int]()
    for part in in_parts(sorted(hashes)):
        with library.db.session() as session:
            first = aliased(Frame)
            same = (
                select(func.min(first.id))
                .where(first.sha256 == MasterInput.sha256, first.state.in_(IN_SETS))
                .scalar_subquery()
            )
            there = select(Frame.sha256).where(Frame.sha256.in_(part), Frame.state.in_(IN_SETS))
            known = list(session.scalars(there.distinct()))
            session.execute(
                update(MasterInput)
                .where(MasterInput.sha256.in_(known), MasterInput.frame_id.is_(None))
                .values(frame_id=same)
                .execution_options(synchronize_session=False)
            )
            found += session.scalars(
                select(MasterInput.frame_id).where(MasterInput.sha256.in_(known)).distinct()
            )
    return [frame_id for frame_id in found if frame_id is not None]
