"""Files that are not where they were: told as missing, found again where they went, let go only by the person.

A frame is more than its file: it is in a set, in a master, on a slip. While its file is missing the row keeps all of
that. Where the same file, byte for byte, lies elsewhere, the row takes that place.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict
from grayshelf.library.catalog import IN_SETS, Twin, call_duplicate, set_aside
from grayshelf.library.copies import copies_of, counted_elsewhere
from grayshelf.library.folders import FileStamp, stamp_of
from grayshelf.library.grouping import drop_empty_sets
from grayshelf.library.kept import in_parts
from grayshelf.library.library import Library
from grayshelf.library.mending import let_go_of_frames
from grayshelf.library.models import Frame, MasterInput, MeasurementShot, RunShot

#: Rows that are written at once.
_AT_ONCE = 200


def take_place(session: Session, frame: Frame, folder_id: int, relative: str, stamp: FileStamp) -> None:
    """Let a frame's row have its file elsewhere. A row that was at that place is left at the frame's former one."""
    former = frame.folder_id, frame.path
    # Out of a folder of rejects it counts again; what was said of it, or found wrong with it, stays.
    frame.rejected = set_aside(relative) or (frame.rejected and not set_aside(frame.path))
    other = session.scalar(select(Frame).where(Frame.folder_id == folder_id, Frame.path == relative))
    if other is not None and other.id != frame.id:
        # No two rows may have one path, not even for a moment.
        other.path = f"{other.path}\n{other.id}"
        session.flush()
    frame.folder_id, frame.path = folder_id, relative
    frame.size_bytes, frame.modified_ns, frame.missing_since = stamp.size_bytes, stamp.modified_ns, None
    session.flush()
    if other is not None and other.id != frame.id:
        other.folder_id, other.path = former
        other.state, other.reason, other.advice = "gone", "The file is no longer there.", ""
        other.set_id, other.missing_since = None, None
        session.flush()


@dataclass(frozen=True)
class NewPlace:
    """Where a frame's file is from now on."""

    frame: Frame
    folder_id: int
    path: str
    """Below its folder."""
    stamp: FileStamp


def take_places(session: Session, places: Sequence[NewPlace]) -> None:
    """Let many frames' rows have their files elsewhere, as `take_place` does for one."""
    wanted: dict[int, list[str]] = {}
    for place in places:
        wanted.setdefault(place.folder_id, []).append(place.path)
    taken = {
        (other.folder_id, other.path)
        for folder_id, paths in wanted.items()
        for part in in_parts(paths)
        for other in session.scalars(select(Frame).where(Frame.folder_id == folder_id, Frame.path.in_(part)))
    }
    for place in places:
        frame = place.frame
        if (place.folder_id, place.path) in taken:
            take_place(session, frame, place.folder_id, place.path, place.stamp)
            continue
        frame.rejected = set_aside(place.path) or (frame.rejected and not set_aside(frame.path))
        frame.folder_id, frame.path = place.folder_id, place.path
        frame.size_bytes, frame.modified_ns = place.stamp
        frame.missing_since = None
    session.flush()


@dataclass(frozen=True)
class Missed:
    """What a look through a folder found to be missing."""

    missing: int
    """Frames of this folder whose files are missing now, those of before included."""
    newly: int
    back: int


NOTHING_MISSED = Missed(0, 0, 0)


def note_missing(
    library: Library, folder_id: int, seen: Collection[str], now: datetime, passed_over: Iterable[str] = ()
) -> Missed:
    """Compare a folder's rows with the files that were seen in it.

    Parameters
    ----------
    passed_over
        Folders below it that were not looked into at all, and say nothing of their rows.
    """
    skipped = tuple(f"{name}/" for name in passed_over)
    with library.db.session() as session:
        every = session.connection().exec_driver_sql(
            "SELECT id, path, state, missing_since IS NOT NULL AS missing, sha256 IS NOT NULL AS hashed "
            "FROM frame WHERE folder_id = ? AND state != 'gone'",
            (folder_id,),
        )
        # Most are where they were: of those nothing is kept.
        rows = [r for r in every.all() if r[1] not in seen or r[3]]
    lost = [r for r in rows if r.path not in seen and not r.path.startswith(skipped)]
    back = [r.id for r in rows if r.path in seen and r.missing]
    newly = [r.id for r in lost if not r.missing]
    # Nothing hangs on what was no frame, or was one that the library has elsewhere.
    of_no_use = {r.id for r in lost if r.state not in IN_SETS}
    _note(library, newly, now, of_no_use)
    _note(library, back, None, of_no_use)
    hashed = {r.id for r in rows if r.hashed}
    found = _find_copies(library, [i for i in newly if i not in of_no_use])
    for frame_id in hashed.intersection(back):
        _call_copies_duplicates(library, frame_id)
    return Missed(
        len(lost) - len(of_no_use) - found, len(newly) - len(of_no_use & set(newly)) - found, len(back)
    )


def _note(library: Library, ids: list[int], since: datetime | None, of_no_use: set[int]) -> None:
    """Note since when frames are missing, or that they are back; what is of no use is let go."""
    for part in in_parts(ids, _AT_ONCE):
        with library.db.session() as session:
            for frame in session.scalars(select(Frame).where(Frame.id.in_(part))):
                if frame.id in of_no_use:
                    frame.state, frame.reason, frame.advice = "gone", "The file is no longer there.", ""
                else:
                    frame.missing_since = since


def _find_copies(library: Library, missing_ids: list[int]) -> int:
    """Let frames whose files are missing have those of their copies; returns for how many there was one."""
    found = 0
    with library.db.session() as session:
        if session.scalar(select(Frame.id).where(Frame.state == "duplicate").limit(1)) is None:
            return 0
    for frame_id in missing_ids:
        with library.db.session() as session:
            frame = session.get_one(Frame, frame_id)
            for copy in copies_of(session, frame):
                path = Path(copy.folder.path) / copy.path
                if path.is_file():
                    _step_in(session, frame, copy, stamp_of(path))
                    found += 1
                    break
    return found


def _step_in(session: Session, frame: Frame, copy: Frame, stamp: FileStamp) -> None:
    """Let a frame have the file of its copy."""
    same_bytes = copy.sha256 is not None
    take_place(session, frame, copy.folder_id, copy.path, stamp)
    if same_bytes:
        _tell_other_copies(session, frame)
    else:
        frame.sha256 = None


def _tell_other_copies(session: Session, frame: Frame) -> None:
    assert frame.sha256 is not None
    twin = Twin(frame.id, frame.path, frame.sha256)
    for other in session.scalars(
        select(Frame).where(Frame.sha256 == frame.sha256, Frame.state == "duplicate")
    ):
        call_duplicate(other, twin)


def _call_copies_duplicates(library: Library, frame_id: int) -> None:
    """A frame that is back counts; whatever was entered in the meantime and is the same does not count beside it."""
    with library.db.session() as session:
        frame = session.get_one(Frame, frame_id)
        if frame.sha256 is None or frame.state not in IN_SETS:
            return
        twin = Twin(frame.id, frame.path, frame.sha256)
        for other in session.scalars(
            select(Frame).where(Frame.sha256 == frame.sha256, Frame.state.in_(IN_SETS), Frame.id != frame.id)
        ):
            call_duplicate(other, twin)


def missing_in(session: Session, folder_id: int) -> int:
    """How many frames of a folder are missing."""
    count = session.scalar(
        select(func.count())
        .select_from(Frame)
        .where(Frame.folder_id == folder_id, Frame.missing_since.is_not(None), Frame.state != "gone")
    )
    return count or 0


def let_go(library: Library, folder_id: int) -> int:
    """Let go of a folder's missing frames: they leave their sets. Where their files come back, they are entered anew.

    Raises
    ------
    Conflict
        Where none is missing.
    """
    with library.db.session() as session:
        ids = list(
            session.scalars(
                select(Frame.id).where(
                    Frame.folder_id == folder_id, Frame.missing_since.is_not(None), Frame.state != "gone"
                )
            )
        )
    if not ids:
        raise Conflict("No frame of this folder is missing.", "Scan it again to be sure.")
    for start in range(0, len(ids), _AT_ONCE):
        with library.db.session() as session:
            for frame in session.scalars(select(Frame).where(Frame.id.in_(ids[start : start + _AT_ONCE]))):
                frame.state, frame.reason, frame.advice = "gone", "Missing, and let go.", ""
                frame.set_id, frame.missing_since = None, None
    drop_empty_sets(library)
    library.touched()
    return len(ids)


def forget_frames(library: Library, folder_id: int) -> None:
    """Take a folder's frames out of the library. What was measured from them, or made of them, stays as it is. Of what has
    copies in other folders one counts from now on."""
    with library.db.session() as session:
        elsewhere = counted_elsewhere(session, folder_id)
    for part in in_parts(elsewhere, _AT_ONCE):
        with library.db.session() as session:
            for frame in session.scalars(select(Frame).where(Frame.id.in_(part))):
                copy = next((c for c in copies_of(session, frame) if c.folder_id != folder_id), None)
                if copy is not None:
                    _step_in(session, frame, copy, FileStamp(copy.size_bytes, copy.modified_ns))
    with library.db.session() as session:
        ids = list(session.scalars(select(Frame.id).where(Frame.folder_id == folder_id)))
    for start in range(0, len(ids), _AT_ONCE):
        part = ids[start : start + _AT_ONCE]
        with library.db.session() as session:
            for table in (MasterInput, RunShot, MeasurementShot):
                session.execute(update(table).where(table.frame_id.in_(part)).values(frame_id=None))
            let_go_of_frames(session, part)
            session.execute(delete(Frame).where(Frame.id.in_(part)))
    drop_empty_sets(library)
