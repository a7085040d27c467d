"""Frames on their way from another Gray Shelf, two at once: while one comes, the other is hashed and put on the disk."""

from __future__ import annotations

import hashlib
import json
import os
import threading
from collections.abc import Sequence
from concurrent.futures import FIRST_EXCEPTION, ThreadPoolExecutor, wait
from pathlib import Path

from grayshelf.core.errors import Conflict, DiskFull, GrayShelfError
from grayshelf.core.filing.sharing import SharedFrame, place_here
from grayshelf.library.arriving import ARRIVING, drop_empty, open_part
from grayshelf.library.fetched import note_fetched
from grayshelf.library.files import give_name, sha256_of, sync_folder
from grayshelf.library.library import Library
from grayshelf.library.room import KEEP_FREE_BYTES, as_disk_full
from grayshelf.work.giving import Source
from grayshelf.work.jobs import JobControl, Stopped

AT_ONCE = 2
#: Frames of which it is told why they did not come; of more they are counted.
MOST_TOLD = 200


class NotThis(Conflict):
    """One frame does not come; the others may."""


class Incoming:
    """Frames that are fetched."""

    def __init__(
        self, library: Library, control: JobControl, source: Source, name: str, frames: Sequence[SharedFrame]
    ) -> None:
        """`name`: of who gives them."""
        self.library, self.control, self.source, self.name = library, control, source, name
        self.frames, self.came = frames, 0
        self._bytes = sum(f.size_bytes for f in frames) or 1
        self._here: dict[str, int] = {}
        self._came_bytes = 0
        self._lock, self._over = threading.Lock(), threading.Event()
        self._ended_by: BaseException | None = None

    def bring(self, failed: list[str]) -> int:
        """Bring all of them; how many came. Why one did not is added to `failed`.

        Raises
        ------
        GrayShelfError, Stopped
            Where the source is gone, the disk is none any more, or it was stopped. What had come is kept.
        """
        with ThreadPoolExecutor(AT_ONCE, "fetching") as pool:
            going = [pool.submit(self._one, frame, failed) for frame in self.frames]
            wait(going, return_when=FIRST_EXCEPTION)
            self._over.set()
            for late in going:
                late.cancel()
        if self._ended_by is not None:
            raise self._ended_by
        return self.came

    def _one(self, frame: SharedFrame, failed: list[str]) -> None:
        try:
            self._check()
            self._fetch(frame)
            with self._lock:
                self.came += 1
        except NotThis as error:
            if len(failed) < MOST_TOLD:
                failed.append(f"{frame.path}: {error.message}")
        except BaseException as error:
            with self._lock:
                # The others end by this one, and only that it did.
                self._ended_by = self._ended_by or error
            self._over.set()
            raise
        self._so_far(frame, frame.size_bytes)

    def _check(self) -> None:
        self.control.check()
        if self._over.is_set():
            raise Stopped

    def _so_far(self, frame: SharedFrame, here: int) -> None:
        with self._lock:
            self._came_bytes += here - self._here.get(frame.key, 0)
            self._here[frame.key] = here
            share = self._came_bytes / self._bytes
            words = f"{self.came:,} of {len(self.frames):,}: {frame.path.rpartition('/')[2]}"
        self.control.report(share, words)

    def _fetch(self, frame: SharedFrame) -> None:
        """Bring one frame to its place: gone on with where it was cut off, read back and compared before it has its name."""
        part = self._part_of(frame)
        wanted = frame.sha256 or self.source.sha256(frame)
        if len(wanted) != 64:
            raise NotThis("Its hash is not told there.", "Fetch it again later.")
        if self._free_place(frame, wanted) is None:
            part.unlink(missing_ok=True)
            self._note(frame, wanted, "")
            return
        begin = part.stat().st_size if part.exists() else 0
        if begin > frame.size_bytes:
            part.unlink()
            begin = 0
        self._wait_for_room(frame.size_bytes - begin)
        self._receive(frame, part, begin)
        if part.stat().st_size != frame.size_bytes or sha256_of(part) != wanted:
            part.unlink()
            raise NotThis("It did not come as it is there, and was dropped.", "Fetch it again.")
        # Two of one name at once would each find it free.
        with self._lock:
            target = self._free_place(frame, wanted)
            if target is not None:
                target.parent.mkdir(parents=True, exist_ok=True)
                give_name(part, target)
            part.unlink(missing_ok=True)
        drop_empty(part.parent)
        if target is not None:
            sync_folder(target.parent)
            self._note(frame, wanted, target.relative_to(self.library.root).as_posix())

    def _wait_for_room(self, size_bytes: int) -> None:
        needed = size_bytes + KEEP_FREE_BYTES
        while self.library.room(self.library.root) < needed:
            self.control.wait_for_room(DiskFull(self.library.root, needed))

    def _receive(self, frame: SharedFrame, part: Path, begin: int) -> None:
        here = begin
        try:
            with open_part(part) as stream:
                for piece in self.source.pieces(frame, begin) if begin < frame.size_bytes else ():
                    self._check()
                    stream.write(piece)
                    here += len(piece)
                    if here > frame.size_bytes:
                        break
                    self._so_far(frame, here)
                stream.flush()
                os.fsync(stream.fileno())
        except OSError as error:
            full = as_disk_full(error, part.parent)
            raise full or GrayShelfError(
                f"{part.parent} cannot be written into ({error.strerror}).", "Put its disk right, then go on."
            ) from error

    def _note(self, frame: SharedFrame, sha256: str, place: str) -> None:
        with self._lock:
            note_fetched(self.library.root, self.name, frame, sha256, place, self.library.clock.now())

    def _part_of(self, frame: SharedFrame) -> Path:
        """Where a frame comes to be whole: by what it is, so that the next start goes on with it."""
        mark = json.dumps([self.name, frame.path, frame.size_bytes, frame.taken])
        name = f"{hashlib.sha256(mark.encode()).hexdigest()[:32]}.part"
        return self.library.root / "frames" / ARRIVING / name

    def _free_place(self, frame: SharedFrame, wanted: str) -> Path | None:
        """Where it goes; None where it is there already. Another file of its name is left alone."""
        place = self.library.root / place_here(self.name, frame.path)
        for number in range(1, 100):
            there = place if number == 1 else place.with_name(f"{wanted[:8]}-{number}_{place.name}")
            if not there.exists():
                return there
            if there.is_file() and there.stat().st_size == frame.size_bytes and sha256_of(there) == wanted:
                return None
        raise NotThis("Too many other files have its name.", "File them elsewhere first.")
