"""Scanning a folder: in place, read only, and only what is new or changed since the last time."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from sqlalchemy import func, select

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.library.catalog import (
    IN_SETS,
    enter_file,
    forget_missing,
    make_rigs,
    note_scan,
    read_file,
    regroup,
)
from grayshelf.library.files import walk_frames
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame
from grayshelf.work.jobs import JobControl

#: Files after which what was read is written down for good.
BATCH = 100


def scan_folder(library: Library, control: JobControl, params: dict[str, Any]) -> dict[str, Any]:
    """Work of a scan job: `params['folder_id']` says which folder."""
    folder_id = int(params["folder_id"])
    with library.db.session() as session:
        folder = session.get(Folder, folder_id)
        if folder is None:
            raise NotFound("This folder is no longer on the list.")
        root, zone = Path(folder.path), library.zone(session)
        if not root.is_dir():
            note_scan(folder, library.clock.now(), "The folder is not there.")
            session.commit()
            raise GrayShelfError(
                f"The folder {root} is not there. Its frames stay in the library as they were.",
                "Plug the disk in or mount the share, then scan again.",
            )
        known = {
            path: (size, modified)
            for path, size, modified in session.execute(
                select(Frame.path, Frame.size_bytes, Frame.modified_ns).where(
                    Frame.folder_id == folder_id, Frame.state != "gone"
                )
            )
        }
    control.report(0.0, f"Looking through {root.name}")
    listed = list(walk_frames(root, control.check))
    if not root.is_dir():
        raise GrayShelfError(
            f"The folder {root} vanished while it was looked through. Nothing was changed.",
            "Plug the disk in or mount the share, then scan again.",
        )
    fresh = [
        (path, stamp) for path, stamp in listed if known.get(path) != (stamp.size_bytes, stamp.modified_ns)
    ]
    for start in range(0, len(fresh), BATCH):
        batch = [(path, stamp, read_file(root / path, zone)) for path, stamp in fresh[start : start + BATCH]]
        control.check()
        with library.db.session() as session:
            folder = session.get_one(Folder, folder_id)
            for path, stamp, read in batch:
                enter_file(session, folder, path, stamp, read)
                session.flush()
        done = start + len(batch)
        control.report(0.9 * done / max(len(fresh), 1), f"{done:,} of {len(fresh):,} new files read")
    if not root.is_dir():
        # A disk pulled out half way must not make every frame on it look deleted.
        raise GrayShelfError(
            f"The folder {root} vanished during the scan.", "Mount it again, then scan again."
        )
    return _finish(library, control, folder_id, len(fresh), {path for path, _ in listed})


def _finish(
    library: Library, control: JobControl, folder_id: int, fresh: int, seen: set[str]
) -> dict[str, Any]:
    control.report(0.92, "Putting frames into sets")
    with library.db.session() as session:
        folder = session.get_one(Folder, folder_id)
        gone = forget_missing(session, folder, seen)
        session.flush()
        paths = {f.id: Path(f.path) for f in session.scalars(select(Folder))}
        sets = regroup(session, paths)
        session.flush()
        rigs = make_rigs(session)
        note_scan(folder, library.clock.now())
        states = dict(
            session.execute(
                select(Frame.state, func.count()).where(Frame.folder_id == folder_id).group_by(Frame.state)
            ).all()
        )
    library.touched()
    trouble = sum(n for state, n in states.items() if state not in (*IN_SETS, "gone")) + states.get(
        "lacking", 0
    )
    message = f"{fresh:,} new or changed, {sets:,} new sets"
    if trouble:
        message += f", {trouble:,} to look at"
    return {"message": message, "fresh": fresh, "gone": gone, "sets": sets, "rigs": rigs, "states": states}
