"""A folder that any program writes frames into while it is watched. Nothing in it is ever changed."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import GrayShelfError, UnreadableFrame
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.library.catalog import read_file
from grayshelf.library.files import read_pixels
from grayshelf.library.folders import FileStamp, stamp_of, walk_frames
from grayshelf.work.jobs import JobControl

#: A file that has not changed for so long is looked at; for so long, it is judged even if it cannot be read.
FRESH_S, SETTLED_S = 0.35, 2.5
POLL_S, MOST_POLL_S = 0.4, 2.0


@dataclass(frozen=True)
class Arrival:
    """A file that came in whole: a frame, or why it cannot be read."""

    name: str
    """Below the watched folder, with '/'."""
    path: Path
    stamp: FileStamp
    facts: FrameFacts | None
    trouble: str = ""
    read: NDArray[Any] | None = None
    exposure: tuple[datetime, bytes] | None = None
    """What no two exposures share: when it began, and a hash of its pixels; None where that is not known."""
    again: str = ""
    """Under which name the same exposure counted before (`WatchedFolder.counted`)."""
    same_file: bool = False
    """And whether it is that very file, moved, renamed or written into once more, and no copy."""

    @property
    def once_more(self) -> str:
        """What to say of an exposure that is there already; empty of one that is not."""
        return f"It is {self.again} once more: an exposure counts once." if self.again else ""

    def pixels(self) -> NDArray[Any]:
        """Its pixels as they were read from the sensor.

        Raises
        ------
        UnreadableFrame
            Also where they are no raw frame's.
        """
        pixels = read_pixels(self.path) if self.read is None else self.read
        if pixels.dtype != np.uint16:
            raise UnreadableFrame(
                "Its pixels are not 16-bit whole numbers: let the program write raw frames.", ""
            )
        return pixels


class WatchedFolder:
    """What comes into a folder from now on, each file once, as soon as it is whole."""

    def __init__(
        self, folder: Path, since: float, zone: ZoneInfo, control: JobControl, handled: set[str]
    ) -> None:
        """Begin to watch.

        Parameters
        ----------
        since
            From when on files count, in seconds since 1970.
        handled
            Names of files that were read before, by a watch that was cut short.
        """
        self.folder, self.zone, self.control = folder, zone, control
        self._since = since
        # A file is new if it came since the start by its own clock or by ours: that of another machine may be wrong.
        # One that was read is left alone until it is another: some programs write every test shot to one name.
        self._done_with = {
            name: stamp for name, stamp in self._files() if name in handled or not self._came_since(stamp)
        }
        self._seen: dict[str, tuple[FileStamp, float]] = {}
        self._counted: dict[tuple[datetime, bytes], str] = {}
        self._listed_s = 0.0

    def whole(self) -> Iterator[Arrival]:
        """The files that have come to rest since the last look, the oldest first."""
        for name, stamp, resting_s in self._new_files():
            arrival = self._read(name, stamp, resting_s)
            if arrival is not None:
                yield arrival

    def counted(self, arrival: Arrival) -> None:
        """Note that a frame counts: a copy of it does not, nor it itself once more. (One that was refused may come again, with
        another header.)"""
        if arrival.exposure is not None:
            self._counted[arrival.exposure] = arrival.name

    def pause(self) -> None:
        """Wait before the next look: a tree of many thousand files is not looked through without a pause."""
        self.control.wake.wait(min(max(POLL_S, 3.0 * self._listed_s), MOST_POLL_S))
        self.control.wake.clear()
        if self.control.cancel.is_set():
            self.control.check()

    def _files(self) -> Iterator[tuple[str, FileStamp]]:
        if not self.folder.is_dir():
            raise GrayShelfError(
                f"{self.folder} is gone, so no frame can be seen to come in.",
                "Bring the folder or its disk back, then go on.",
            )
        return walk_frames(self.folder)

    def _came_since(self, stamp: FileStamp) -> bool:
        """By the file's own clock; what lies ahead of ours was there before, and tells nothing."""
        return self._since * 1e9 <= stamp.modified_ns <= (time.time() + FRESH_S) * 1e9

    def _new_files(self) -> list[tuple[str, FileStamp, float]]:
        """Files that came since, the oldest first, and for how long each has not changed, in seconds."""
        found, began = [], time.monotonic()
        for name, stamp in self._files():
            if self._done_with.get(name) == stamp:
                continue
            known = self._seen.get(name)
            if known is None or known[0] != stamp:
                known = self._seen[name] = (stamp, time.monotonic())
            found.append((name, stamp, time.monotonic() - known[1]))
        self._listed_s = time.monotonic() - began
        return sorted(found, key=lambda f: (f[1].modified_ns, f[0]))

    def _read(self, name: str, stamp: FileStamp, resting_s: float) -> Arrival | None:
        """The frame in a file; None where it is not written to its end yet."""
        if resting_s < FRESH_S:
            return None
        path, trouble, pixels = self.folder / name, "", None
        read = read_file(path, self.zone)
        facts = read.facts
        try:
            if facts is None:
                raise UnreadableFrame(read.reason, "")
            # Read to the end: a header alone does not tell that the rest has come.
            pixels = read_pixels(path)
        except (UnreadableFrame, OSError) as error:
            # While it is being written a file is no frame yet: wait, and judge it when it has come to rest. One that
            # has gone was but a name on the way to another.
            if resting_s < SETTLED_S or not path.exists():
                return None
            trouble, facts = f"It cannot be read: {error}", None
        if stamp_of(path) != stamp:
            return None
        self._done_with[name] = stamp
        exposure = _exposure_of(facts, pixels)
        arrival = Arrival(name, path, stamp, facts, trouble, pixels, exposure)
        again = self._counted.get(exposure, "") if exposure else ""
        if not again or not exposure:
            return arrival
        same_file = again == name or not (self.folder / again).exists()
        if same_file:
            self._counted[exposure] = name
        return replace(arrival, again=again, same_file=same_file)


def _exposure_of(facts: FrameFacts | None, pixels: NDArray[Any] | None) -> tuple[datetime, bytes] | None:
    """See `Arrival.exposure`."""
    # Frames that are black or white all over are alike.
    if facts is None or facts.utc is None or pixels is None or pixels.min() == pixels.max():
        return None
    return facts.utc, hashlib.blake2b(np.ascontiguousarray(pixels).data, digest_size=16).digest()
