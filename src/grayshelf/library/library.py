"""One library: its folder on disk, its database, its clock and its site."""

from __future__ import annotations

import shutil
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.clock import Clock, MachineClock
from grayshelf.core.errors import LibraryUnusable, NotFound
from grayshelf.core.frames.night import site_zone
from grayshelf.library.database import Database
from grayshelf.library.folders import DATABASE, NamedFolders
from grayshelf.library.lock import LibraryLock
from grayshelf.library.log import keep_log, stop_log
from grayshelf.library.machine_zone import machine_zone
from grayshelf.library.models import Folder, Frame, Rig, Setting
from grayshelf.library.room import free_bytes

#: Folders below the library's own that hold frames; a library that lost its database is made anew from them.
SHOT_AND_FETCHED = "frames"
FRAME_FOLDERS = (SHOT_AND_FETCHED, "masters")
DEFAULT_SITE = {"name": "My site", "latitude": None, "longitude": None, "time_zone": "UTC"}


class Library:
    """A library, open.

    Parameters
    ----------
    root
        Its folder: 'grayshelf.db', 'frames/' and 'masters/' lie in it, and nothing of ours anywhere else.
    clock
        What time it is; the demo's library runs on a clock of its own.
    """

    def __init__(self, root: Path, clock: Clock | None = None, *, begin: bool = True) -> None:
        """Open the library in a folder.

        Parameters
        ----------
        begin
            Begin a new library where there is none; otherwise that is refused, since a library that is not where it
            was is more often on a disk that is not mounted than one that was never begun.

        Raises
        ------
        LibraryUnusable
            Where there is none, another process has it open, or its database cannot be used.
        """
        try:
            self.root = root.expanduser().resolve()
            database = self.root / DATABASE
            self.begun = not database.exists()
        except (OSError, RuntimeError) as error:
            raise LibraryUnusable(
                f"The library’s folder {root} cannot be looked into ({error}).",
                "Choose another --library, or put its permissions right.",
            ) from error
        if self.begun and not begin:
            raise _not_there(self.root)
        try:
            self.root.mkdir(parents=True, exist_ok=True)
            self.lock = LibraryLock(self.root)
            self._log = keep_log(self.root)
        except OSError as error:
            raise LibraryUnusable(
                f"The library’s folder {self.root} cannot be written to ({error.strerror or error}).",
                "Choose another --library, or put its permissions or its disk right.",
            ) from error
        self.grouping = threading.RLock()
        """Held while frames are put into sets: whoever does it counts on nobody else changing them meanwhile."""
        self.untold: dict[int, tuple[str, str, str]] = {}
        """State, message and advice of jobs that a full disk had no room to write down."""
        self.left_out: dict[tuple[str, int], str] = {}
        """Sets of which nothing could be made (`left_out.sparing`)."""
        self.room: Callable[[Path], int] = free_bytes
        self.clock: Clock = clock or MachineClock()
        self.db = Database(database)
        try:
            self.copied_to = self.db.upgrade()
            # What a killed build left unpacked.
            shutil.rmtree(self.root / "scratch", ignore_errors=True)
            self._revision = 0
            self._revision_lock = threading.Lock()
            self._own_folder()
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        """Let the library go, so that another process may open it."""
        self.db.close()
        stop_log(self._log)
        self.lock.release()

    @property
    def revision(self) -> int:
        """Counts changes of what is on the shelf, so that answers can be kept until the next one."""
        return self._revision

    def touched(self) -> None:
        """Something on the shelf changed: what is kept of it is worked out anew, also after the change is written."""
        self._count_up()
        self.db.when_written(self._count_up)

    def _count_up(self) -> None:
        with self._revision_lock:
            self._revision += 1

    def _own_folder(self) -> None:
        with self.db.session() as session:
            own = session.scalar(select(Folder).where(Folder.own))
            if own is None:
                session.add(Folder(path=str(self.root), own=True, added_at=self.clock.now()))
                # Kept with it: on another machine the nights stay as they are.
                self.set_setting(
                    session, "site", {"time_zone": machine_zone(), **self.setting(session, "site", {})}
                )
            elif own.path != str(self.root):
                own.path = str(self.root)

    def setting(self, session: Session, key: str, default: dict[str, Any]) -> dict[str, Any]:
        """A setting of the whole library."""
        row = session.get(Setting, key)
        return default if row is None else row.value

    def set_setting(self, session: Session, key: str, value: dict[str, Any]) -> None:
        """Keep a setting."""
        row = session.get(Setting, key)
        if row is None:
            session.add(Setting(key=key, value=value))
        else:
            row.value = value

    def site(self, session: Session) -> dict[str, Any]:
        """The site: name, latitude, longitude, time_zone."""
        return {**DEFAULT_SITE, **self.setting(session, "site", {})}

    def zone(self, session: Session) -> ZoneInfo:
        """The site's time zone, by which nights are counted."""
        return site_zone(self.site(session)["time_zone"])

    def own_folder_id(self, session: Session) -> int:
        """The folder row of the library's own files."""
        found = session.scalar(select(Folder.id).where(Folder.own))
        assert found is not None
        return found

    def permitted(self, session: Session) -> NamedFolders:
        """The folders that may be read."""
        return NamedFolders([Path(path) for path in session.scalars(select(Folder.path))])

    def frame_path(self, session: Session, frame: Frame) -> Path:
        """Where a frame's file is, checked against the folders that may be read."""
        return self.permitted(session).permit(Path(frame.folder.path) / frame.path)

    def rig(self, session: Session, rig_id: int) -> Rig:
        """A rig by its number."""
        rig = session.get(Rig, rig_id)
        if rig is None:
            raise NotFound("There is no such rig.", "Choose one in the rig holder.")
        return rig


def _not_there(root: Path) -> LibraryUnusable:
    if any((root / name).is_dir() for name in FRAME_FOLDERS):
        return LibraryUnusable(
            f"The library in {root} has lost its database; its frames and masters are there.",
            f"Put a copy of {DATABASE} back (see 'backups' in it), or serve it with --new: the frames, the masters and what they "
            "were made of are then found again by their files.",
        )
    what = "is empty" if root.is_dir() and not any(root.iterdir()) else "holds none"
    where = f"The folder {root} {what}" if root.is_dir() else f"There is no folder {root}"
    return LibraryUnusable(
        f"{where}, so there is no library to open. Nothing was begun in its place.",
        "If it lies on another disk, mount that first. To begin a new library there, serve it or scan into it with --new.",
    )
