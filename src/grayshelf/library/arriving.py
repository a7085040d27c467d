"""Files that are sent to this machine in pieces: gone on with after a break, checked by hash, never over another file.

What has come so far of a file lies in a hidden folder in the folder that it goes into, under a name made of what it is;
nothing else has to be remembered, so that it is gone on with by the next page, the next start, or next week.
"""

from __future__ import annotations

import hashlib
import os
import threading
import time
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from grayshelf.core.errors import Conflict, DiskFull, GrayShelfError
from grayshelf.core.filing.names import is_reserved
from grayshelf.library.files import give_name, sync_folder
from grayshelf.library.folders import is_text, looks_like_frame
from grayshelf.library.room import KEEP_FREE_BYTES, as_disk_full, free_bytes

#: In the folder that files go into; no scan looks there.
ARRIVING = ".grayshelf-arriving"
#: A piece of a file; kept under what a request may hold.
PIECE_BYTES = 900_000
#: A file of more than this is no frame.
MOST_BYTES = 64_000_000_000
#: What nobody went on with for so long is dropped.
_FORGOTTEN_S = 30 * 86_400
_one_at_a_time = threading.Lock()
_made_or_dropped = threading.Lock()


@dataclass(frozen=True)
class Sent:
    """A file that is sent: by this it is known again after a break."""

    path: str
    """Below the folder that it goes into, with '/'."""
    size_bytes: int
    modified_ms: int


def why_refused(path: str) -> str:
    """Why no file is taken under a path, in a sentence; empty where it may come."""
    parts = path.split("/")
    if not is_text(path) or len(path) > 1000:
        return "Its path is no text, or too long."
    for part in parts:
        if part in ("", ".", "..") or "\\" in part or not part.isprintable():
            return "Its path leads out of the folder, or holds signs that no name may have."
        if part.startswith("."):
            return "It is hidden, or lies in a hidden folder."
        if part != part.rstrip(" .") or set(part) & set('<>:"|?*') or is_reserved(part.partition(".")[0]):
            return "Its name is not legal on every system."
        if len(part.encode()) > 240:
            return "Its name is too long."
    return "" if looks_like_frame(parts[-1]) else "It is no frame by its name."


def received(root: Path, sent: Sent) -> int:
    """How many bytes of a file are here; all of them where it is in its place already.

    Raises
    ------
    GrayShelfError
        Where it is not taken.
    Conflict
        Where another file has its name.
    """
    _refuse(sent)
    target = root / sent.path
    if target.exists():
        if target.is_file() and target.stat().st_size == sent.size_bytes:
            return sent.size_bytes
        raise Conflict(
            f"Another file called {sent.path} is there; it was left as it is.", "Rename one of them."
        )
    part = _part(root, sent)
    return part.stat().st_size if part.exists() else 0


def check_room(root: Path, size_bytes: int) -> None:
    """Raise `DiskFull` where files of this size would not fit."""
    if size_bytes + KEEP_FREE_BYTES > free_bytes(root):
        raise DiskFull(root, size_bytes + KEEP_FREE_BYTES)


def take_piece(root: Path, sent: Sent, offset: int, piece: bytes) -> int:
    """Keep the next piece of a file; returns how many bytes are here.

    A piece that is here already, or that does not follow, is not kept: the answer says from where to go on.

    Raises
    ------
    GrayShelfError, Conflict, DiskFull
    """
    with _one_at_a_time:
        here = received(root, sent)
        if offset != here or offset + len(piece) > sent.size_bytes:
            return here
        part = _part(root, sent)
        try:
            with open_part(part) as stream:
                stream.write(piece)
        except OSError as error:
            full = as_disk_full(error, root)
            if full is not None:
                raise full from error
            raise GrayShelfError(
                f"{root} cannot be written into ({error.strerror}).",
                "Name another folder, or put its disk right.",
            ) from error
        return here + len(piece)


def open_part(part: Path) -> BinaryIO:
    """Open a file that is to come, at its end; its folder is made.

    Raises
    ------
    OSError
        Where nothing can be written there.
    """
    with _made_or_dropped:
        part.parent.mkdir(parents=True, exist_ok=True)
        return part.open("ab")


def drop_empty(folder: Path) -> None:
    """Drop the folder of files that come, once it is empty; never between making it and opening a file in it."""
    with _made_or_dropped, suppress(OSError):
        folder.rmdir()


def digest_of_pieces(path: Path) -> str:
    """SHA-256 over the SHA-256 of each piece of `PIECE_BYTES`: a browser hashes pieces fast, and a whole file not."""
    digest = hashlib.sha256()
    with path.open("rb") as stream:
        while piece := stream.read(PIECE_BYTES):
            digest.update(hashlib.sha256(piece).digest())
    return digest.hexdigest()


def finish(root: Path, sent: Sent, digest: str) -> bool:
    """Give a file its name that is here whole; whether it is new. `digest` is of what was sent (`digest_of_pieces`).

    Raises
    ------
    Conflict
        Where it is not whole, or not what was sent: it is dropped, to be sent again.
    """
    with _one_at_a_time:
        if received(root, sent) != sent.size_bytes:
            raise Conflict(f"{sent.path} has not come whole yet.", "Send the rest of it.")
        target, part = root / sent.path, _part(root, sent)
        if target.exists():
            if digest_of_pieces(target) == digest:
                part.unlink(missing_ok=True)
                return False
            raise Conflict(
                f"Another file called {sent.path} is there; it was left as it is.", "Rename one of them."
            )
        if sent.size_bytes == 0:
            raise GrayShelfError(f"{sent.path} is empty (0 bytes).", "Copy it again from where it was taken.")
        with part.open("rb") as stream:
            os.fsync(stream.fileno())
        # Read back from the disk: what came over the network and what was written are checked at once.
        if digest_of_pieces(part) != digest:
            part.unlink()
            raise Conflict(f"{sent.path} did not come as it was sent; it was dropped.", "Send it again.")
        # Before any folder is made: one could be made on the other side of a link.
        if not target.parent.resolve().is_relative_to(root.resolve()):
            raise Conflict(f"{sent.path} leads out of the folder through a link.", "Name another folder.")
        target.parent.mkdir(parents=True, exist_ok=True)
        give_name(part, target)
        part.unlink(missing_ok=True)
        os.utime(target, (time.time(), sent.modified_ms / 1000.0))
        sync_folder(target.parent)
        _tidy(part.parent)
        return True


def _refuse(sent: Sent) -> None:
    why = why_refused(sent.path)
    if why:
        raise GrayShelfError(f"{sent.path[:200]} is not taken. {why}")
    if not 0 <= sent.size_bytes <= MOST_BYTES:
        raise GrayShelfError(f"{sent.path} is larger than any frame.", "Leave it out.")


def _part(root: Path, sent: Sent) -> Path:
    name = f"{sent.path}\n{sent.size_bytes}\n{sent.modified_ms}"
    return root / ARRIVING / f"{hashlib.sha256(name.encode()).hexdigest()[:32]}.part"


def _tidy(folder: Path) -> None:
    """Drop what nobody went on with for a month, and the folder once it is empty."""
    for part in folder.glob("*.part"):
        try:
            if time.time() - part.stat().st_mtime > _FORGOTTEN_S:
                part.unlink()
        except OSError:
            continue
    drop_empty(folder)
