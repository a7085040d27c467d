"""One file brought to its place, and back to where it was; done twice it is done once.

A file that is moved on one disk is linked to its new name and later unlinked from the old one, so that it has a name at
every moment and none is overwritten. To another disk it is copied, read back and compared first.
"""

from __future__ import annotations

import errno
import hashlib
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from grayshelf.core.errors import GrayShelfError
from grayshelf.library.files import drop_unfinished, sha256_of, write_new
from grayshelf.library.filing import FiledState
from grayshelf.library.folders import FileStamp, stamp_of
from grayshelf.library.models import FiledFile
from grayshelf.library.packing import NotPacked, pack, unpack, unpacked
from grayshelf.library.room import as_disk_full

_PIECE = 1 << 20
#: What a disk says that knows no hard links.
_NO_LINKS = (errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK, errno.EACCES)


class Left(Exception):
    """A file stays where it is; its text says why, in a sentence."""


@dataclass(frozen=True)
class Put:
    """A file that is in its new place."""

    file_id: int
    frame_id: int | None
    source: Path
    target: Path
    moved: bool
    """As against copied: what it came from is to go."""
    sha256: str | None
    """Of what is in the new place, where that is another file and not another name for it."""
    was_sha256: str | None
    """Of what it came from, where it was read."""
    came_from: FileStamp


def bring(
    file: FiledFile, moved: bool, make_folder: Callable[[Path], None], check: Callable[[], None]
) -> Put:
    """Bring a file to its place, where it keeps its old one beside it; done twice it is done once.

    Parameters
    ----------
    moved
        It is to leave its old place afterwards (`let_source_go`).
    make_folder
        Makes a folder that is not there.

    Raises
    ------
    Left
    """
    source, target = Path(file.source), Path(file.target)
    if file.state == FiledState.BEGUN:
        # What a kill left of it; whatever else has its name is left alone.
        drop_unfinished(target)
    try:
        if target.exists() or target.is_symlink():
            return _put(file, moved, _there_already(file, source, target))
        _is_what_it_was(file, source)
        make_folder(target.parent)
        sha256 = None
        if not (moved and _renamed(source, target)):
            sha256 = _copied(file, source, target, check)
    except (GrayShelfError, OSError) as error:
        if as_disk_full(error, target.parent) is not None:
            raise
        raise Left(_why(error)) from error
    return _put(file, moved, sha256)


def _why(error: Exception) -> str:
    if isinstance(error, GrayShelfError):
        return f"{error.message} {error.advice}".strip()
    if isinstance(error, OSError) and error.errno == errno.ENAMETOOLONG:
        return "Its name would be too long for that disk."
    if isinstance(error, OSError) and error.errno == errno.EFBIG:
        return "That disk takes no file of its size."
    return f"It could not be brought there ({getattr(error, 'strerror', None) or error})."


def _put(file: FiledFile, moved: bool, sha256: str | None, was_sha256: str | None = None) -> Put:
    came_from, was = FileStamp(file.size_bytes, file.modified_ns), was_sha256 or sha256
    return Put(file.id, file.frame_id, Path(file.source), Path(file.target), moved, sha256, was, came_from)


def _there_already(file: FiledFile, source: Path, target: Path) -> str | None:
    """A file of that name is there: ours, where this goes on after it was cut short. Its hash, where it is a copy."""
    if file.state in (FiledState.BEGUN, FiledState.THERE) and not target.is_symlink():
        size = stamp_of(target).size_bytes
        if not source.exists():
            if size == file.size_bytes:
                return file.sha256
        elif source.samefile(target):
            return None
        elif size == file.size_bytes:
            digest = sha256_of(target)
            if digest == sha256_of(source):
                return digest
    raise Left("A file of its new name is there already; both were left as they are.")


def _is_what_it_was(file: FiledFile, source: Path) -> None:
    if source.is_symlink():
        raise Left("It is a link to another file.")
    if not source.is_file():
        raise Left("It is not there any more.")
    stamp = stamp_of(source)
    if (stamp.size_bytes, stamp.modified_ns) != (file.size_bytes, file.modified_ns):
        raise Left("It was changed since this was planned. Scan its folder again.")


def _renamed(source: Path, target: Path) -> bool:
    """Give a file its new name on the same disk, its old one still beside it; whether that disk can.

    Where it knows no links, an empty file of ours holds the name, and the rename takes its place.
    """
    try:
        os.link(source, target, follow_symlinks=False)
        return True
    except FileExistsError as error:
        raise Left("A file of its new name is there already; both were left as they are.") from error
    except OSError as error:
        if error.errno == errno.EXDEV:
            return False
        if error.errno not in _NO_LINKS:
            raise
    if source.stat().st_dev != target.parent.stat().st_dev:
        return False
    os.close(os.open(target, os.O_CREAT | os.O_EXCL | os.O_WRONLY))
    try:
        source.replace(target)
    except OSError:
        target.unlink()
        raise
    return True


def _copied(file: FiledFile, source: Path, target: Path, check: Callable[[], None]) -> str:
    """Copy a file, read it back, compare; its hash."""
    part = target.with_name(target.name + ".part")
    if part.exists() and file.state != FiledState.BEGUN:
        raise Left(f"{part.name} is there already, and is not ours.")
    digest = _copy(source, target, check)
    if stamp_of(source) != FileStamp(file.size_bytes, file.modified_ns):
        target.unlink()
        raise Left("It changed while it was copied. Scan its folder again.")
    return digest


def _copy(source: Path, target: Path, check: Callable[[], None]) -> str:
    """Copy a file with its time of change; its hash, after it was read back."""

    def pieces(stream: BinaryIO) -> None:
        with source.open("rb") as reading:
            while piece := reading.read(_PIECE):
                check()
                stream.write(piece)

    before = stamp_of(source)
    digest = write_new(target, pieces)
    os.utime(target, ns=(before.modified_ns, before.modified_ns))
    return digest


def bring_packed(file: FiledFile, known_sha256: str | None) -> Put:
    """Pack a frame beside itself, proved by unpacking it; done twice it is done once.

    Parameters
    ----------
    known_sha256
        What the file was when the library took it in, where that is known.

    Raises
    ------
    Left, DiskFull
    """
    source, target = Path(file.source), Path(file.target)
    if file.state == FiledState.BEGUN:
        drop_unfinished(target)
    try:
        if target.exists() or target.is_symlink():
            return _packed_already(file, source, target)
        _is_what_it_was(file, source)
        was, now = pack(source, target, known_sha256)
        if stamp_of(source) != FileStamp(file.size_bytes, file.modified_ns):
            target.unlink()
            raise Left("It changed while it was packed. Scan its folder again.")
    except NotPacked as why:
        raise Left(str(why)) from why
    except (GrayShelfError, OSError) as error:
        if as_disk_full(error, target.parent) is not None:
            raise
        raise Left(_why(error)) from error
    return _put(file, True, now, was)


def _packed_already(file: FiledFile, source: Path, target: Path) -> Put:
    """A packed file is there: ours, where this goes on after it was cut short."""
    if file.state in (FiledState.BEGUN, FiledState.THERE) and not target.is_symlink():
        was = sha256_of(source) if source.is_file() else file.sha256
        if was is not None and hashlib.sha256(unpacked(target)).hexdigest() == was:
            return _put(file, True, sha256_of(target), was)
    raise Left("A file of its new name is there already; both were left as they are.")


def bring_unpacked(file: FiledFile) -> Put:
    """Unpack a frame to what it was, byte for byte; the packed file stays beside it for now.

    Raises
    ------
    Left, DiskFull
    """
    source, target = Path(file.source), Path(file.target)
    was = file.sha256
    try:
        if source.exists():
            was = sha256_of(source)
            if target.exists() and hashlib.sha256(unpacked(target)).hexdigest() != was:
                raise Left(f"A file of its former name is there: {source}. It stays at {target}.")
        elif not target.exists():
            raise Left(f"Neither {target} nor {source} is there.")
        else:
            drop_unfinished(source)
            unpack(target, source, file.sha256)
            os.utime(source, ns=(file.modified_ns, file.modified_ns))
    except NotPacked as why:
        raise Left(str(why)) from why
    except (GrayShelfError, OSError) as error:
        if as_disk_full(error, source.parent) is not None:
            raise
        raise Left(_why(error)) from error
    return _put(file, True, was, was)


def let_source_go(p: Put) -> bool:
    """Remove what a moved file came from, once it is in its place (and its name on the disk, `sync_folder`); whether it
    is gone."""
    if not p.source.exists():
        return True
    if not p.target.exists():
        return False
    same = p.source.samefile(p.target) if p.sha256 is None else stamp_of(p.source) == p.came_from
    if not same:
        return False
    p.source.unlink()
    return True


def bring_back(file: FiledFile, moved: bool, check: Callable[[], None]) -> Put:
    """Bring a file back to where it was; what was moved may keep its new name beside it.

    Raises
    ------
    Left
    """
    source, target = Path(file.source), Path(file.target)
    try:
        if not target.exists():
            if not source.exists():
                raise Left(f"Neither {target} nor {source} is there.")
        elif moved:
            _moved_back(source, target, check)
        else:
            _copy_let_go(source, target)
    except (GrayShelfError, OSError) as error:
        if as_disk_full(error, source.parent) is not None:
            raise
        raise Left(_why(error)) from error
    return _put(file, moved, None)


def let_target_go(p: Put) -> None:
    """Remove the new name of a file that was moved and is back where it was."""
    if p.moved and p.source.exists() and p.target.exists():
        p.target.unlink()


def _moved_back(source: Path, target: Path, check: Callable[[], None]) -> None:
    if source.exists():
        if not source.samefile(target) and sha256_of(source) != sha256_of(target):
            raise Left(f"A file of its former name is there: {source}. It stays at {target}.")
        return
    source.parent.mkdir(parents=True, exist_ok=True)
    if not _renamed(target, source):
        drop_unfinished(source)
        _copy(target, source, check)


def _copy_let_go(source: Path, target: Path) -> None:
    """Remove a copy, where the original is there and is the same."""
    if not source.exists():
        raise Left(f"{source} is not there any more: the copy stays.")
    if sha256_of(source) != sha256_of(target):
        raise Left("The copy was changed since: it stays.")
    target.unlink()
