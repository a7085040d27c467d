"""The journal of what was fetched: a line for each frame, by which none is fetched twice wherever it was filed to since."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from grayshelf.core.filing.sharing import SharedFrame

#: In the library's folder.
JOURNAL = "fetched.jsonl"


@dataclass(frozen=True)
class FetchedBefore:
    """What the journal knows."""

    hashes: frozenset[str]
    files: frozenset[tuple[str, str, int]]
    """Giver, path there and size, of frames whose hash is not told in a list."""

    def knows(self, giver: str, frame: SharedFrame) -> bool:
        """Whether a frame was fetched before."""
        if frame.sha256:
            return frame.sha256 in self.hashes
        return (giver, frame.path, frame.size_bytes) in self.files


def fetched_before(root: Path) -> FetchedBefore:
    """Read the journal; a line that was cut off by a kill is passed over."""
    hashes: set[str] = set()
    files: set[tuple[str, str, int]] = set()
    try:
        with (root / JOURNAL).open() as stream:
            for line in stream:
                try:
                    told: Any = json.loads(line)
                    hashes.add(str(told["sha256"]))
                    files.add((str(told["from"]), str(told["was"]), int(told["bytes"])))
                except (ValueError, KeyError, TypeError):
                    continue
    except FileNotFoundError:
        pass
    return FetchedBefore(frozenset(hashes), frozenset(files))


def note_fetched(root: Path, giver: str, frame: SharedFrame, sha256: str, place: str, at: datetime) -> None:
    """Write a frame into the journal, once it has its name here."""
    told = {
        "at": at.isoformat(),
        "from": giver,
        "was": frame.path,
        "bytes": frame.size_bytes,
        "sha256": sha256,
        "path": place,
    }
    with (root / JOURNAL).open("a") as stream:
        stream.write(json.dumps(told) + "\n")
        stream.flush()
        os.fsync(stream.fileno())
