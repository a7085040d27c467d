"""Frames that measured a camera: entered, thrown away and taken back, deleted for good."""

from __future__ import annotations

import threading
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.library.catalog import enter_own_file
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.grouping import describe_set
from grayshelf.library.library import Library
from grayshelf.library.measurements import measurement
from grayshelf.library.models import Folder, Frame, FrameSet, Measurement, MeasurementShot

#: Where frames go that were thrown away, below the library's folder, until they are deleted for good.
THROWN_AWAY = "thrown-away"
BEING_DELETED = "being deleted"
#: State and reason of the frames of a measurement, by what became of them.
_KEPT_STATE = {"kept": ("good", ""), "thrown away": ("gone", "Thrown away on the Bench.")}
_moving = threading.Lock()


def enter_measured_frame(
    session: Session, library: Library, row: Measurement, name: str, facts: FrameFacts, sha256: str
) -> Frame:
    """Enter a frame that was shot for a measurement: into a set with that purpose, not onto the shelf."""
    folder = session.get_one(Folder, library.own_folder_id(session))
    frame = enter_own_file(session, folder, name, facts, sha256)
    frame.group_key = None
    kind = facts.kind.value if facts.kind else ""
    held = session.scalar(
        select(FrameSet).where(
            FrameSet.measurement_id == row.id, FrameSet.kind == kind, FrameSet.is_master.is_(False)
        )
    )
    if held is None:
        held = FrameSet(kind=kind, is_master=False, n_frames=0, n_kept=0, facts={}, measurement_id=row.id)
        session.add(held)
        session.flush()
    frame.set_id = held.id
    session.flush()
    # Described by its newest frame and the common facts so far, so that each frame costs the same.
    described = [facts] if not held.facts else [facts_from_json(held.facts), facts]
    count = held.n_frames + 1
    first, before = held.first_utc, dict(held.facts)
    describe_set(held, [frame], described)
    # What varies within the set is not said of it.
    varying = [k for k in ("gain", "offset", "exposure_s") if before and before.get(k) != frame.facts.get(k)]
    held.facts = {k: v for k, v in held.facts.items() if k not in varying}
    held.n_frames = held.n_kept = count
    held.first_utc = first or held.first_utc
    return frame


@dataclass(frozen=True)
class KeptFrames:
    """The frames that were shot for a measurement."""

    count: int
    size_bytes: int
    state: str
    """'kept', 'thrown away', 'deleted', or 'on the shelf' where they were there before."""


def kept_frames(session: Session, row: Measurement) -> KeptFrames:
    """How many frames a measurement holds, and how much room they take."""
    count, size = session.execute(
        select(func.count(Frame.id), func.coalesce(func.sum(Frame.size_bytes), 0)).where(
            Frame.id.in_(select(MeasurementShot.frame_id).where(MeasurementShot.measurement_id == row.id))
        )
    ).one()
    return KeptFrames(count, size, row.frames if row.source == "shot" else "on the shelf")


def throw_away(library: Library, measurement_id: int) -> None:
    """Put the frames shot for a measurement aside, all at once. What they said stays, and there is a way back."""
    _move(library, measurement_id, "kept", "thrown away")


def take_back(library: Library, measurement_id: int) -> None:
    """Bring frames back that were thrown away."""
    _move(library, measurement_id, "thrown away", "kept")


def _move(library: Library, measurement_id: int, before: str, after: str) -> None:
    with _moving, library.db.session() as session:
        row = _shot_here(session, measurement_id, before)
        for folder in _folders(session, row):
            here, there = library.root / folder, library.root / THROWN_AWAY / folder
            if after == "kept":
                here, there = there, here
            if not here.exists():
                continue
            if there.exists():
                raise Conflict(f"{there} is there already, so nothing was moved.", "Move it away first.")
            there.parent.mkdir(parents=True, exist_ok=True)
            # One rename on one disk: all of it is moved, or nothing.
            here.rename(there)
        row.frames = after
        _mark(session, row, *_KEPT_STATE[after])
    library.touched()


def delete_for_good(library: Library, measurement_id: int) -> int:
    """Delete frames that were thrown away; return the bytes that this freed.

    That it is being done is written down first: cut short, it is finished, never taken back half done.
    """
    with _moving:
        with library.db.session() as session:
            row = measurement(session, measurement_id)
            if row.frames != BEING_DELETED:
                _shot_here(session, measurement_id, "thrown away").frames = BEING_DELETED
        freed = _delete_files(library, measurement_id)
    library.touched()
    return freed


def _delete_files(library: Library, measurement_id: int) -> int:
    with library.db.session() as session:
        row = measurement(session, measurement_id)
        paths = [library.root / THROWN_AWAY / shot.path for shot in row.shots]
        folders = [library.root / THROWN_AWAY / folder for folder in _folders(session, row)]
    freed = 0
    for path in paths:
        # Only what the measurement wrote itself; anything else in there is left.
        if path.is_file() and any(path.is_relative_to(folder) for folder in folders):
            freed += path.stat().st_size
            path.unlink()
    for folder in folders:
        _drop_empty(folder)
    with library.db.session() as session:
        row = measurement(session, measurement_id)
        row.frames = "deleted"
        _mark(session, row, "gone", "Deleted on the Bench.")
        session.execute(
            update(Frame)
            .where(Frame.set_id.in_(select(FrameSet.id).where(FrameSet.measurement_id == row.id)))
            .values(set_id=None)
        )
        session.execute(delete(FrameSet).where(FrameSet.measurement_id == row.id))
    return freed


def settle_measurements(library: Library) -> None:
    """At start: what a kill left half done with measurements' frames is finished, or told as the disk has it."""
    with _moving, library.db.session() as session:
        half = list(session.scalars(select(Measurement.id).where(Measurement.frames == BEING_DELETED)))
        moved = session.scalars(
            select(Measurement).where(
                Measurement.source == "shot", Measurement.frames.in_(("kept", "thrown away"))
            )
        ).all()
        for row in moved:
            folders = _folders(session, row)
            kept = all((library.root / f).is_dir() for f in folders)
            away = all((library.root / THROWN_AWAY / f).is_dir() for f in folders)
            if not folders or kept == away:
                continue
            now = "kept" if kept else "thrown away"
            if row.frames != now:
                row.frames = now
                _mark(session, row, *_KEPT_STATE[now])
    for measurement_id in half:
        _delete_files(library, measurement_id)


def _drop_empty(folder: Path) -> None:
    for path in sorted(folder.rglob("*"), reverse=True):
        if path.is_dir() and not any(path.iterdir()):
            path.rmdir()
    if folder.is_dir() and not any(folder.iterdir()):
        folder.rmdir()


def _shot_here(session: Session, measurement_id: int, state: str) -> Measurement:
    row = measurement(session, measurement_id)
    if row.source != "shot":
        raise Conflict(
            "These frames were on the disk before the measurement and belong to you; they are left alone.",
            "Take them off the shelf in their card if they are not wanted.",
        )
    if row.frames != state:
        raise Conflict(f"The frames of this measurement are {row.frames}.", "Look again: something changed.")
    return row


def _folders(session: Session, row: Measurement) -> list[str]:
    """The folders of a measurement's frames, below the library's."""
    return sorted({str(Path(shot.path).parent) for shot in row.shots if shot.frame_id is not None})


def _mark(session: Session, row: Measurement, state: str, reason: str) -> None:
    ids = [shot.frame_id for shot in row.shots if shot.frame_id is not None]
    for frame in session.scalars(select(Frame).where(Frame.id.in_(ids))):
        frame.state, frame.reason = state, reason


def bench_folder(camera_folder: str, measurement_id: int) -> str:
    """Where the frames of a measurement go, below the library's folder."""
    return f"bench/{camera_folder}/measurement_{measurement_id:04d}"
