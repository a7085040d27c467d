"""Folders that are watched: what any program writes into them is taken in as soon as it is whole."""

from __future__ import annotations

import logging
import threading
import time
from hashlib import blake2b
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.library.folders import walk_frames
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Job
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import ScanJob
from grayshelf.work.jobs import ALIVE, JobRunner, JobState

log = logging.getLogger(__name__)
_PLACE = "watched folders"
#: How often a folder is looked at, seconds: a file that has not changed from one look to the next is whole.
LOOK_EACH_S = 0.8
#: A folder of a library of years takes long to look through: no more than this share of the time goes into it.
MOST_OF_THE_TIME = 0.1


def watched_folders(library: Library, session: Session) -> list[int]:
    """Numbers of the folders that are watched."""
    kept = library.setting(session, _PLACE, {}).get("ids", [])
    return [i for i in kept if isinstance(i, int)]


def watch(library: Library, folder_id: int, watched: bool) -> str:
    """Watch a folder, or do so no more; returns what to say of it.

    Raises
    ------
    NotFound
    """
    with library.db.session() as session:
        folder = session.get(Folder, folder_id)
        if folder is None or folder.own:
            raise NotFound("This folder is not on the list.")
        ids = [i for i in watched_folders(library, session) if i != folder_id]
        library.set_setting(session, _PLACE, {"ids": [*ids, folder_id] if watched else ids})
        path = folder.path
    if watched:
        return f"What comes into {path} is taken in as soon as it is whole."
    return f"{path} is watched no more."


def stop_watching(library: Library, session: Session, folder_id: int) -> None:
    """A folder is taken off the list."""
    left = [i for i in watched_folders(library, session) if i != folder_id]
    library.set_setting(session, _PLACE, {"ids": left})


class FolderWatch:
    """Looks into watched folders until it is told to end."""

    def __init__(self, library: Library, runner: JobRunner) -> None:
        self._library, self._runner = library, runner
        self._seen: dict[int, bytes] = {}
        self._taken_in: dict[int, bytes] = {}
        self._not_before: dict[int, float] = {}
        self._scans: dict[int, int] = {}
        self._end = threading.Event()
        self._thread = threading.Thread(target=self._look, name="watched folders", daemon=True)
        self._thread.start()

    def end(self) -> None:
        """No more looks."""
        self._end.set()
        self._thread.join()

    def _look(self) -> None:
        while not self._end.wait(LOOK_EACH_S):
            try:
                self._tidy()
                with self._library.db.session() as session:
                    ids = watched_folders(self._library, session)
                    rows = session.execute(select(Folder.id, Folder.path).where(Folder.id.in_(ids))).all()
                for folder_id, path in rows:
                    self._look_into(folder_id, Path(path))
            except (SQLAlchemyError, GrayShelfError) as error:
                # A full disk, a scan that was begun by hand in this moment: the next look does it.
                log.warning("watched folders: %s", error)

    def _look_into(self, folder_id: int, path: Path) -> None:
        begun = time.monotonic()
        if begun < self._not_before.get(folder_id, 0.0):
            return
        try:
            now = self._fingerprint(path)
        except (OSError, InterruptedError):
            # Its disk is out: what is on it is missing only once somebody scans.
            return
        took = time.monotonic() - begun
        self._not_before[folder_id] = begun + took / MOST_OF_THE_TIME
        before = self._seen.get(folder_id)
        self._seen[folder_id] = now
        if now != before or now == self._taken_in.get(folder_id) or folder_id in self._scans.values():
            return
        with self._runner.changing:
            with self._library.db.session() as session:
                going = session.scalars(select(Job).where(Job.kind == "scan", Job.state.in_(ALIVE)))
                if any(read(ScanJob, job.params).folder_id == folder_id for job in going):
                    return
            job_id = self._runner.start("scan", f"What came into {path.name}", as_kept(ScanJob(folder_id)))
        self._scans[job_id] = folder_id
        self._taken_in[folder_id] = now

    def _fingerprint(self, path: Path) -> bytes:
        """The same while the same files, of the same sizes and times, lie in a folder; not the list itself, which is long."""
        digest = blake2b(digest_size=16)
        for name, stamp in walk_frames(path, self._stop_early):
            digest.update(
                f"{name}\0{stamp.size_bytes}\0{stamp.modified_ns}\n".encode("utf-8", "surrogateescape")
            )
        return digest.digest()

    def _stop_early(self) -> None:
        if self._end.is_set():
            raise InterruptedError

    def _tidy(self) -> None:
        """A scan for each frame of a night would push everything else out of what ended lately."""
        for job_id in list(self._scans):
            with self._library.db.session() as session:
                job = session.get(Job, job_id)
                if job is not None and job.state in ALIVE:
                    continue
                if job is not None and job.state == JobState.DONE:
                    session.delete(job)
            del self._scans[job_id]
