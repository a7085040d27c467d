"""What this library gives to another Gray Shelf, and what it takes: frames by their keys, nights' logs, values of the Bench."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.filing.sharing import NightOfKind, Shared, SharedFrame, SharedNotes, in_order, of_kind
from grayshelf.library.camera_values import accepted
from grayshelf.library.files import sha256_of
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import CameraValue, Folder, Frame, FrameSet, NightLog, Rig
from grayshelf.library.night_log import keep_log, log_of
from grayshelf.library.trains import standing_rigs

#: Frames read from the database at once.
AT_ONCE = 2_000
#: What is given: each frame that counts and whose file is where it was.
_GIVEN = (Frame.state.in_(("good", "lacking")), Frame.missing_since.is_(None))


def shared(library: Library, session: Session) -> Shared:
    """All that this library gives."""
    name = str(library.site(session)["name"]) or "Gray Shelf"
    return Shared(name, tuple(shared_frames(session)), _notes(session))


def shared_frames(session: Session) -> Iterator[SharedFrame]:
    """Every frame that counts and whose file is where it was."""
    query = (
        select(
            Frame.id,
            Frame.path,
            Frame.size_bytes,
            Frame.kind,
            Frame.camera,
            Frame.night,
            Frame.utc,
            Frame.sha256,
            FrameSet.is_master,
        )
        .outerjoin(FrameSet, FrameSet.id == Frame.set_id)
        .where(*_GIVEN)
        .order_by(Frame.id)
        .execution_options(yield_per=AT_ONCE)
    )
    for number, path, size, kind, camera, night, utc, sha256, is_master in session.execute(query):
        yield SharedFrame(
            str(number),
            path,
            size,
            kind or "",
            camera or "",
            str(night or ""),
            _iso(utc),
            sha256,
            bool(is_master),
        )


def own_nights(library: Library) -> list[NightOfKind]:
    """The same counted by night and kind (`by_night`); kept until the library changes."""
    return _own_nights(library, library.revision)


@kept(2)
def _own_nights(library: Library, _revision: int) -> list[NightOfKind]:
    is_master = func.coalesce(FrameSet.is_master, False)
    query = (
        select(Frame.night, Frame.kind, is_master, func.count(), func.sum(Frame.size_bytes))
        .outerjoin(FrameSet, FrameSet.id == Frame.set_id)
        .where(*_GIVEN)
        .group_by(Frame.night, Frame.kind, is_master)
    )
    with library.db.own_session() as session:
        return in_order(
            NightOfKind(str(night or ""), of_kind(kind or "", is_master=bool(master)), frames, size)
            for night, kind, master, frames, size in session.execute(query)
        )


def _iso(moment: datetime | None) -> str:
    if moment is None:
        return ""
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC).isoformat()


def known_here(session: Session) -> tuple[set[str], set[tuple[str, str, str, int]]]:
    """Hashes of all frames that are known, and their camera, time, kind and size in bytes; also of those let go."""
    hashes: set[str] = set()
    marks: set[tuple[str, str, str, int]] = set()
    query = select(Frame.camera, Frame.utc, Frame.kind, Frame.size_bytes, Frame.sha256)
    for camera, utc, kind, size, sha256 in session.execute(query.execution_options(yield_per=AT_ONCE)):
        if sha256:
            hashes.add(sha256)
        if utc is not None:
            marks.add((camera or "", _iso(utc), kind or "", size))
    return hashes, marks


def file_of(session: Session, key: str) -> tuple[Path, Frame]:
    """The file of a frame that is given.

    Raises
    ------
    NotFound
        Where there is none any more.
    """
    frame = session.get(Frame, int(key)) if key.isdigit() and len(key) < 12 else None
    if frame is None or frame.state not in ("good", "lacking"):
        raise NotFound("There is no such frame any more.", "Look again at what is new there.")
    folder = session.get_one(Folder, frame.folder_id)
    path = Path(folder.path) / frame.path
    if not path.is_file():
        raise NotFound(f"{path.name} is not where it was.", "Look again at what is new there.")
    return path, frame


def hash_of(library: Library, key: str) -> str:
    """SHA-256 of a frame's file; reckoned once, and kept as long as the file is what it was."""
    with library.db.session() as session:
        path, frame = file_of(session, key)
        if frame.sha256 and path.stat().st_mtime_ns == frame.modified_ns:
            return frame.sha256
        number, was = frame.id, (frame.size_bytes, frame.modified_ns)
    sha256 = sha256_of(path)
    stat = path.stat()
    if (stat.st_size, stat.st_mtime_ns) == was:
        with library.db.session() as session:
            session.get_one(Frame, number).sha256 = sha256
    return sha256


def _notes(session: Session) -> SharedNotes:
    rigs = {rig.id: rig for rig in session.scalars(select(Rig))}
    logs = [
        {
            "camera": rigs[log.rig_id].camera,
            "telescope": rigs[log.rig_id].telescope or "",
            "night": log.night.isoformat(),
            "notes": log.notes,
            "conditions": log.conditions,
        }
        for log in session.scalars(select(NightLog).order_by(NightLog.id))
        if log.rig_id in rigs
    ]
    values = [
        {
            "kind": value.kind,
            "camera": value.camera,
            "gain": value.gain,
            "values": value.values,
            "own_choice": value.own_choice,
            "at": _iso(value.accepted_at),
        }
        for value in session.scalars(select(CameraValue).order_by(CameraValue.id))
    ]
    return SharedNotes(tuple(logs), tuple(values))


def take_notes(library: Library, session: Session, notes: SharedNotes) -> tuple[int, int]:
    """Take nights' logs and values of the Bench that are not here: how many of each. What stands here is never changed.

    What cannot be read is passed over: it was written by another.
    """
    return sum(_take_log(session, log) for log in notes.logs), sum(
        _take_value(session, v) for v in notes.values
    )


def _take_log(session: Session, told: Mapping[str, Any]) -> bool:
    rig = next(
        (
            r
            for r in session.scalars(standing_rigs())
            if r.camera == told.get("camera") and (r.telescope or "") == told.get("telescope")
        ),
        None,
    )
    try:
        night = date.fromisoformat(str(told.get("night")))
        if rig is None or log_of(session, rig.id, night) is not None:
            return False
        conditions = {str(k): float(v) for k, v in dict(told.get("conditions") or {}).items()}
        with session.begin_nested():
            keep_log(session, rig.id, night, str(told.get("notes") or "")[:20_000], conditions)
    except (ValueError, TypeError, GrayShelfError):
        return False
    return True


#: What a value of each kind tells in any case.
_TELLS = {"gain": ("e_per_adu", "read_noise_e"), "offset": ("offset", "lowest", "at_zero", "slope", "depth")}


def _is_sound(kind: str, values: Mapping[str, Any]) -> bool:
    told = [values.get(name) for name in _TELLS.get(kind, ())]
    return bool(told) and all(isinstance(v, int | float) and math.isfinite(v) for v in told)


def _take_value(session: Session, told: Mapping[str, Any]) -> bool:
    """A value counts here where none was accepted for its camera and gain: the one at the telescope was measured there."""
    try:
        kind, camera, gain = str(told["kind"]), str(told["camera"]), float(told["gain"])
        values, at = dict(told["values"]), datetime.fromisoformat(str(told["at"]))
    except (KeyError, ValueError, TypeError):
        return False
    if not camera or not _is_sound(kind, values) or gain in accepted(session, camera, kind):
        return False
    session.add(
        CameraValue(
            kind=kind,
            camera=camera,
            gain=gain,
            values=values,
            own_choice=bool(told.get("own_choice")),
            measurement_id=None,
            accepted_at=at if at.tzinfo else at.replace(tzinfo=UTC),
        )
    )
    return True
