"""One process for one library: a lock of the operating system, which dies with the process that holds it."""

from __future__ import annotations

import json
import logging
import os
import socket
from datetime import UTC, datetime
from pathlib import Path

from filelock import FileLock, Timeout

from grayshelf.core.errors import LibraryUnusable
from grayshelf.library.folders import LOCK

log = logging.getLogger(__name__)

HOLDER = "grayshelf.holder.json"


def address_of(root: Path) -> str | None:
    """Where a library is served just now; None where no process has it open, or it does not say where.

    Its holder's note may be left by a process that was killed: the lock tells.
    """
    if not (root / LOCK).exists():
        return None
    lock = FileLock(root / LOCK, timeout=0, is_singleton=False, fallback_to_soft=False)
    try:
        lock.acquire()
    except Timeout:
        try:
            address = json.loads((root / HOLDER).read_text()).get("address")
        except (OSError, ValueError, AttributeError):
            return None
        return str(address) if address else None
    except (OSError, NotImplementedError):
        # What is in the way is said where the library is opened.
        return None
    lock.release()
    return None


class LibraryLock:
    """Held from before anything in a library is touched until it is closed."""

    def __init__(self, root: Path) -> None:
        """Take the lock.

        Raises
        ------
        LibraryUnusable
            Where another process holds it: with who that is, as far as it has said.
        """
        self._holder = root / HOLDER
        # Where the file system knows no locks, a file that merely exists would outlive a killed process.
        self._lock = FileLock(root / LOCK, timeout=0, is_singleton=False, fallback_to_soft=False)
        try:
            self._lock.acquire()
        except Timeout as error:
            raise LibraryUnusable(
                f"The library {root} is open already{self._by_whom()}. Two at once would damage it, so nothing was "
                "touched.",
                "Use that one, or end it first.",
            ) from error
        except (OSError, NotImplementedError) as error:
            raise LibraryUnusable(
                f"The library {root} cannot be locked for this process ({error}), so it was not opened.",
                "Look whether its disk is full or may only be read, and whether it knows file locks.",
            ) from error
        self.says(None)

    def says(self, address: str | None) -> None:
        """Note who holds the library, and where it is served."""
        said = {
            "process": os.getpid(),
            "machine": socket.gethostname(),
            "since": datetime.now(UTC).isoformat(timespec="seconds"),
            "address": address,
        }
        try:
            self._holder.write_text(json.dumps(said))
        except OSError as error:
            # A library on a full disk is opened all the same: its frames are wanted, and room can be made.
            log.warning("who holds the library could not be noted: %s", error)

    def release(self) -> None:
        """Let the library go."""
        self._holder.unlink(missing_ok=True)
        self._lock.release()

    def _by_whom(self) -> str:
        try:
            said = json.loads(self._holder.read_text())
            where = f", at {said['address']}" if said.get("address") else ""
            return f": process {said['process']} on {said['machine']} since {said['since']}{where}"
        except (OSError, ValueError, KeyError, TypeError):
            # It has not said so yet, or had no room to.
            return " in another process"
