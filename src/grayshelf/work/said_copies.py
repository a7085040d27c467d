"""Copies of frames whose headers say what was said of them by hand: into a folder of its own, as a job."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import select

from grayshelf.core.digits import several
from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.files import drop_unfinished
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, MendedFrame, Mending
from grayshelf.library.records import as_kept, read
from grayshelf.library.room import as_disk_full
from grayshelf.library.said_copies import copy_with_said
from grayshelf.library.step_records import JobResult
from grayshelf.work.handing_over import empty_target
from grayshelf.work.jobs import JobControl, JobRunner

SAID_COPIES = "said copies"
MOST_TOLD = 200


@dataclass(frozen=True)
class SaidCopiesJob:
    """Frames of one act of mending, to be copied with what was said of them."""

    mending_id: int
    folder: str


def start_said_copies(library: Library, runner: JobRunner, mending_id: int, folder: str) -> int:
    """Begin to copy the frames of which something was said, into a folder that is empty or not there yet; the job.

    Raises
    ------
    NotFound, GrayShelfError, FolderRefused
    """
    with library.db.session() as session:
        mending = session.get(Mending, mending_id)
        if mending is None or mending.taken_back_at is not None:
            raise NotFound("This is not said any more.", "Look at what is said again.")
        words = mending.words
    target = empty_target(library, folder)
    target.mkdir(exist_ok=True)
    params = as_kept(SaidCopiesJob(mending_id, str(target)))
    return runner.start(SAID_COPIES, f"Writing into copies: {words}"[:200], params)


def write_said_copies(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that writes copies (`SaidCopiesJob`); gone on with, what is there already stays."""
    job = read(SaidCopiesJob, params)
    folder = Path(job.folder)
    with library.db.session() as session:
        ids = list(
            session.scalars(
                select(MendedFrame.frame_id)
                .where(MendedFrame.mending_id == job.mending_id, MendedFrame.frame_id.is_not(None))
                .distinct()
            )
        )
    done, failed = 0, list[str]()
    for number, frame_id in enumerate(ids):
        control.check()
        control.report(number / len(ids), f"{done:,} of {several(len(ids), 'copy', 'copies')} written")
        with library.db.session() as session:
            frame = session.get(Frame, frame_id)
            facts = facts_if_sound(frame.facts) if frame is not None else None
            if frame is None or facts is None or frame.missing_since is not None:
                continue
            target = folder / frame.path
            try:
                source = library.frame_path(session, frame)
            except GrayShelfError as error:
                failed.append(f"{frame.path}: {error.message}")
                continue
        try:
            drop_unfinished(target)
            if not target.exists():
                copy_with_said(source, target, facts, control.check)
            done += 1
        except (GrayShelfError, OSError) as error:
            if as_disk_full(error, folder) is not None:
                raise
            told = f"{error.message} {error.advice}" if isinstance(error, GrayShelfError) else str(error)
            failed.append(f"{target.name}: {told}".strip())
    message = f"{several(done, 'copy is', 'copies are')} in {folder}"
    return JobResult(
        message + (f"; {len(failed):,} were not made" if failed else ""), tuple(failed[:MOST_TOLD])
    )
