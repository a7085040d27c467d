"""The database copied by itself once a night, and when a person asks for it."""

from __future__ import annotations

import logging
import threading
from datetime import UTC
from pathlib import Path
from typing import Any

from grayshelf.clock import MachineClock
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.backups import is_due
from grayshelf.library.backups import back_up, backups
from grayshelf.library.library import Library
from grayshelf.library.step_records import JobResult
from grayshelf.work.jobs import JobControl

log = logging.getLogger(__name__)
BACKUP = "backup"
#: How often it is looked whether a copy is due, seconds; the first time a while after a start, which has enough to do.
LOOK_EACH_S, FIRST_AFTER_S = 600.0, 90.0


def back_up_by_job(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that copies the database; `to` names a file of one's own."""
    control.report(0.1, "Copying the database")
    now = MachineClock().now().astimezone(UTC)
    target = Path(params["to"]) if params.get("to") else None
    if target is not None and not target.is_absolute():
        raise GrayShelfError(
            f"‘{target}’ is not a whole path.", "Write it from the root: /home/… or /media/…"
        )
    path = back_up(library.db.path, now, target)
    return JobResult(f"The database is copied to {path}")


def back_up_if_due(library: Library) -> Path | None:
    """Copy the database where the last copy is not of this night; the copy, where one was made."""
    now = MachineClock().now().astimezone(UTC)
    there = backups(library.root)
    if not is_due(there[0].made_at if there else None, now):
        return None
    try:
        return back_up(library.db.path, now)
    except GrayShelfError as error:
        # It is tried again at the next look; Intake shows how old the last one is.
        log.warning("no copy of the database: %s", error)
        return None


class NightlyBackup:
    """Looks now and then whether a copy is due, until it is told to end."""

    def __init__(self, library: Library) -> None:
        self._library = library
        self._end = threading.Event()
        self._thread = threading.Thread(target=self._look, name="backups", daemon=True)
        self._thread.start()

    def _look(self) -> None:
        wait = FIRST_AFTER_S
        while not self._end.wait(wait):
            back_up_if_due(self._library)
            wait = LOOK_EACH_S

    def end(self) -> None:
        """No more copies; one that is being made is waited for."""
        self._end.set()
        self._thread.join()
