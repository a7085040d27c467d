"""Folders that a person named: which may be read, and what lies in them."""

from __future__ import annotations

import errno
import hashlib
import os
from collections import Counter
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from dataclasses import dataclass, field
from operator import attrgetter
from pathlib import Path
from typing import NamedTuple

from grayshelf.core.errors import GrayShelfError, NotFound, NotPermitted
from grayshelf.library.foreign_formats import FOREIGN_SUFFIXES

FITS_SUFFIXES = (".fits", ".fit", ".fts")
#: Also packed, and packed once more.
_FRAME_ENDINGS = (
    *(suffix + packing for suffix in FITS_SUFFIXES for packing in ("", ".gz", ".fz", ".fz.gz")),
    *FOREIGN_SUFFIXES,
)
#: The database of a library, in its folder.
DATABASE = "grayshelf.db"
BY_NAME = attrgetter("name")
#: Locked by the process that has a library open; it stays where a database was lost.
LOCK = "grayshelf.lock"
#: Folders of a library whose frames stand on no shelf: they measured a camera, were test shots, or were thrown away.
NOT_ON_A_SHELF = ("bench", "tests", "thrown-away", "scratch", "backups", "logs")


def looks_like_frame(name: str) -> bool:
    """Whether a file's name says that it is a frame: FITS, packed or not, a camera's raw file, or TIFF."""
    return name.lower().endswith(_FRAME_ENDINGS)


#: Whether whoever asks may name folders of this machine; from another one it may not be permitted.
naming_folders: ContextVar[bool] = ContextVar("naming_folders", default=True)


def may_name_folders() -> None:
    """Raise `NotPermitted` where folders of this machine are named from another one, and that is not permitted."""
    if not naming_folders.get():
        raise NotPermitted(
            "Folders are named at the machine that they are on.",
            "Name it there, or start Gray Shelf with --allow-folders.",
        )


def is_there(path: Path) -> bool:
    """Whether there is anything at a path that a person typed.

    Raises
    ------
    GrayShelfError
        Where nothing can be: no disk has names as long as that.
    """
    try:
        return path.exists()
    except (OSError, ValueError) as error:
        raise GrayShelfError(
            f"No folder can be called ‘{path.name[:80]}…’.", "Name it in fewer letters."
        ) from error


def named_folder(text: str) -> Path:
    """The folder that a person names: whole, there, and to be read.

    Raises
    ------
    GrayShelfError
        With what is wrong with it.
    """
    may_name_folders()
    text = text.strip()
    path = Path(os.path.expandvars(text))
    # Only one's own home: nobody else's frames are meant by '~'.
    if path.parts[:1] == ("~",):
        path = Path.home().joinpath(*path.parts[1:])
    if not path.is_absolute():
        raise GrayShelfError(
            f"‘{text[:200]}’ is not a whole path.", "Write it from the root: /home/… or /media/…"
        )
    try:
        real = path.resolve(strict=True)
        is_folder = real.is_dir()
    except (OSError, RuntimeError, ValueError) as error:
        raise GrayShelfError(
            f"There is no folder {str(path)[:200]}.", "Check how it is spelled, and that the disk is in."
        ) from error
    if not is_folder:
        raise GrayShelfError(f"{path} is not a folder.", "Name the folder that the frames are in.")
    if not os.access(real, os.R_OK | os.X_OK):
        raise GrayShelfError(
            f"{path} may not be read by this user.", "Change its permissions, or name another."
        )
    return real


class NamedFolders:
    """The only folders that may be read: those that the user named, and the library's own."""

    def __init__(self, roots: list[Path]) -> None:
        self.roots = [root.resolve() for root in roots]

    def permit(self, path: Path) -> Path:
        """The path, resolved, where it lies in one of the folders.

        Raises
        ------
        NotPermitted, NotFound
        """
        real = path.resolve()
        if not any(real.is_relative_to(root) for root in self.roots):
            raise NotPermitted(
                "That file is not in a folder that you named.", "Name its folder in Intake first."
            )
        if not real.is_file():
            raise NotFound("The file is no longer where it was.", "Scan its folder again.")
        return real


class FileStamp(NamedTuple):
    """By what a file is known to be the same as before; a tuple, since a library of years has very many."""

    size_bytes: int
    modified_ns: int


def stamp_of(path: Path) -> FileStamp:
    """Size and time of a file; zeros where it cannot be asked (a link in a circle, a file just gone)."""
    try:
        stat = path.stat()
    except (OSError, RuntimeError):
        return FileStamp(0, 0)
    return FileStamp(stat.st_size, stat.st_mtime_ns)


@dataclass
class Passed:
    """What was passed over while a folder was looked through."""

    endings: Counter[str] = field(default_factory=Counter)
    """Files that are no frames, by their ending, so that a folder full of them is not called empty."""
    closed: list[str] = field(default_factory=list)
    """Folders below it that may not be looked into, by their paths below it."""


def walk_frames(
    root: Path, stopped: Callable[[], None] = lambda: None, passed: Passed | None = None
) -> Iterator[tuple[str, FileStamp]]:
    """Every frame file below a folder, as path below it with '/', in a fixed order.

    Links to files inside the folder are read as files; links to folders are not followed, so a loop of
    links ends, and nothing outside the folder comes in. Our own folder of another library is passed over where its
    frames are no part of a shelf (`NOT_ON_A_SHELF`).

    Raises
    ------
    OSError
        Where the folder itself cannot be looked into, or its disk goes away meanwhile.
    """
    real_root = root.resolve()
    passed = passed if passed is not None else Passed()

    def closed(error: OSError) -> None:
        where = Path(error.filename)
        if error.errno == errno.ENOENT and where != real_root:
            # Taken away while it was looked through: what was in it is told as missing.
            return
        if where == real_root or error.errno not in (errno.EACCES, errno.EPERM):
            raise error
        passed.closed.append(where.relative_to(real_root).as_posix())

    # Entries are asked for what the folder says of them: a library of years has more files than there is time to ask.
    waiting = [(os.fspath(real_root), "")]
    while waiting:
        stopped()
        base, below = waiting.pop()
        try:
            with os.scandir(base) as scanned:
                entries = sorted(scanned, key=BY_NAME)
        except OSError as error:
            closed(error)
            continue
        ours = any(entry.name in (DATABASE, LOCK) for entry in entries)
        folders = []
        for entry in entries:
            if entry.name.startswith("."):
                continue
            if _is_folder(entry):
                if not entry.is_symlink() and not (ours and entry.name in NOT_ON_A_SHELF):
                    folders.append((entry.path, f"{below}{entry.name}/"))
            elif not looks_like_frame(entry.name):
                passed.endings[printable(Path(entry.name).suffix.lower())] += 1
            elif not entry.is_symlink() or not _leads_out(Path(entry.path), real_root):
                yield below + entry.name, _stamp_of_entry(entry)
        waiting += reversed(folders)


def _is_folder(entry: os.DirEntry[str]) -> bool:
    try:
        return entry.is_dir()
    except OSError:
        # A link in a circle, or into what may not be looked at.
        return False


def _stamp_of_entry(entry: os.DirEntry[str]) -> FileStamp:
    try:
        stat = entry.stat()
    except OSError:
        return FileStamp(0, 0)
    return FileStamp(stat.st_size, stat.st_mtime_ns)


def is_text(name: str) -> bool:
    """Whether a name is text; on some disks names are bytes of an old alphabet, which no database keeps."""
    if name.isascii():
        return True
    try:
        name.encode()
    except UnicodeEncodeError:
        return False
    return True


def printable(name: str) -> str:
    """A name that can be shown and kept, and is another one for every other name."""
    if is_text(name):
        return name
    raw = os.fsencode(name)
    shown = raw.decode("utf-8", "replace").replace("\ufffd", "?")
    return f"{shown} ({hashlib.sha256(raw).hexdigest()[:8]})"


def _leads_out(link: Path, root: Path) -> bool:
    try:
        return not link.resolve(strict=True).is_relative_to(root)
    except (OSError, RuntimeError):
        return False
