"""The folder that a job watches, on the list of folders, with what it has read of it already."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from zoneinfo import ZoneInfo

from sqlalchemy import select

from grayshelf.library.folder_list import folder_that_holds
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, RunShot, RunStep
from grayshelf.work.jobs import JobControl
from grayshelf.work.watched import WatchedFolder


@dataclass(frozen=True)
class JobWatch:
    """The folder that is watched, and the one on the list in which it lies."""

    files: WatchedFolder
    folder_id: int
    root: Path
    below: str


def watch_for(library: Library, control: JobControl, zone: ZoneInfo, folder: str, since: float) -> JobWatch:
    """Begin to watch a folder for a job; what the job has read of it before is left alone."""
    folder_id, real, below = folder_that_holds(library, folder)
    with library.db.session() as session:
        root = Path(session.get_one(Folder, folder_id).path)
        own = select(RunShot.path).join(RunStep).where(RunStep.job_id == control.job_id)
        aside = select(Frame.path).where(Frame.folder_id == folder_id, Frame.rejected)
        handled = {*session.scalars(own), *(p.removeprefix(below) for p in session.scalars(aside))}
    return JobWatch(WatchedFolder(real, since, zone, control, handled), folder_id, root, below)
