"""One library: its folder on disk, its database, its clock and its site."""

from __future__ import annotations

import shutil
import threading
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.clock import Clock, MachineClock
from grayshelf.core.errors import NotFound
from grayshelf.core.frames.night import site_zone
from grayshelf.library.database import Database
from grayshelf.library.files import NamedFolders
from grayshelf.library.models import Folder, Frame, Rig, Setting

DEFAULT_SITE = {"name": "My site", "latitude": None, "longitude": None, "time_zone": "UTC"}


class Library:
    """A library, open.

    Parameters
    ----------
    root
        Its folder: 'grayshelf.db', 'frames/' and 'masters/' lie in it.
    clock
        What time it is; the demo's library runs on a clock of its own.
    """

    def __init__(self, root: Path, clock: Clock | None = None) -> None:
        self.root = root.resolve()
        self.root.mkdir(parents=True, exist_ok=True)
        self.clock: Clock = clock or MachineClock()
        self.db = Database(self.root / "grayshelf.db")
        self.db.upgrade()
        # What a killed build left unpacked.
        shutil.rmtree(self.root / "scratch", ignore_errors=True)
        self._revision = 0
        self._revision_lock = threading.Lock()
        self._own_folder()

    @property
    def revision(self) -> int:
        """Counts changes of what is on the shelf, so that answers can be kept until the next one."""
        return self._revision

    def touched(self) -> None:
        """Something on the shelf changed."""
        with self._revision_lock:
            self._revision += 1

    def _own_folder(self) -> None:
        with self.db.session() as session:
            own = session.scalar(select(Folder).where(Folder.own))
            if own is None:
                session.add(Folder(path=str(self.root), own=True, added_at=self.clock.now()))
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
