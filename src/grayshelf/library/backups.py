"""Copies of the database by SQLite's own online backup: while it is in use, read back and checked before they count."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from grayshelf.core.errors import Conflict, DiskFull, GrayShelfError
from grayshelf.core.filing.backups import to_drop
from grayshelf.library.files import give_name
from grayshelf.library.room import as_disk_full
from grayshelf.library.up_to_date import BACKUPS, plain

_STEM = "grayshelf-"
_WHEN = "%Y%m%dT%H%M%SZ"


@dataclass(frozen=True)
class Backup:
    """A copy of the database, and when it was made (UTC)."""

    path: Path
    made_at: datetime


def backups(root: Path) -> list[Backup]:
    """The copies that a library made by itself, the newest first; those from before an upgrade are apart."""
    found = []
    for path in (root / BACKUPS).glob(f"{_STEM}*.db"):
        try:
            at = datetime.strptime(path.stem.removeprefix(_STEM), _WHEN).replace(tzinfo=UTC)
        except ValueError:
            continue
        found.append(Backup(path, at))
    return sorted(found, key=lambda b: b.made_at, reverse=True)


def back_up(database: Path, now: datetime, target: Path | None = None) -> Path:
    """Copy the database, into the library's own folder of copies where no target is named; old ones make room there.

    Raises
    ------
    Conflict
        Where the target is there already.
    GrayShelfError, DiskFull
        Where it could not be copied, or the copy is not whole. Nothing was changed.
    """
    root = database.parent
    own = target is None
    target = target or root / BACKUPS / f"{_STEM}{now:{_WHEN}}.db"
    if target.exists():
        raise Conflict(f"{target} is there already, and was left as it is.", "Name another file.")
    part = target.with_name(target.name + ".part")
    if not own and part.exists():
        raise Conflict(f"{part} is there already, and was left as it is.", "Name another file.")
    if not own and not target.parent.is_dir():
        # Made here, it would be on this disk, while the other one that was meant is not in.
        raise GrayShelfError(
            f"There is no folder {target.parent}, so the database was not copied.",
            "If it lies on another disk, mount that first; else make the folder.",
        )
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        part.unlink(missing_ok=True)
        with plain(database) as source, closing(sqlite3.connect(part)) as copy:
            source.backup(copy)
            copy.execute("PRAGMA journal_mode=DELETE")
            checked = str(copy.execute("PRAGMA integrity_check(1)").fetchone()[0])
        if checked != "ok":
            raise GrayShelfError(
                f"The copy of {database} is not whole ({checked}), and was thrown away.", "Check the disk."
            )
        with part.open("rb") as stream:
            os.fsync(stream.fileno())
        give_name(part, target)
    except (OSError, sqlite3.Error) as error:
        full = as_disk_full(error, target.parent)
        if full is not None:
            raise DiskFull(target.parent, database.stat().st_size) from error
        raise GrayShelfError(
            f"The database could not be copied to {target} ({error}). Nothing was changed.",
            "Look whether its disk is full, or may not be written to.",
        ) from error
    finally:
        part.unlink(missing_ok=True)
    if own:
        made = {b.made_at: b for b in backups(root)}
        for at in to_drop(list(made), now):
            made[at].path.unlink(missing_ok=True)
    return target
