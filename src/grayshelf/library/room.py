"""Room on the disk: how much there is, how much is needed, and what a full disk looks like from inside."""

from __future__ import annotations

import errno
import shutil
import sqlite3
from pathlib import Path

from grayshelf.core.digits import file_size
from grayshelf.core.errors import DiskFull

#: Kept free beside a file that is to be written, so that the database can always say what was done.
KEEP_FREE_BYTES = 48_000_000
#: SQLite says some failures for want of room as I/O errors; with less than this free, that is what they are.
_AS_GOOD_AS_FULL_BYTES = 8_000_000
_FULL = (errno.ENOSPC, errno.EDQUOT)


def free_bytes(folder: Path) -> int:
    """Free room for this user on the disk of a folder, which need not be there yet."""
    there = next(p for p in (folder, *folder.parents) if p.exists())
    return shutil.disk_usage(there).free


def room_in_words(where: Path, needed_bytes: int, free: int) -> str:
    """'120 MB are needed in /data/library, and 3 MB are free.'"""
    return f"{file_size(needed_bytes)} are needed in {where}, and {file_size(free)} are free."


def as_disk_full(error: BaseException, where: Path) -> DiskFull | None:
    """What an error has to do with a full disk: None where it is another one."""
    if isinstance(error, DiskFull):
        return error
    if isinstance(error, OSError):
        return DiskFull(where, KEEP_FREE_BYTES) if error.errno in _FULL else None
    cause = getattr(error, "orig", None)
    if isinstance(cause, sqlite3.Error):
        code = getattr(cause, "sqlite_errorcode", 0) & 0xFF
        full = code == sqlite3.SQLITE_FULL
        io_for_want_of_room = code == sqlite3.SQLITE_IOERR and free_bytes(where) < _AS_GOOD_AS_FULL_BYTES
        if full or io_for_want_of_room:
            return DiskFull(where, KEEP_FREE_BYTES)
    return None
