"""What one Gray Shelf gives to another: frames by night and kind, and which of them are not here yet."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import Any

from grayshelf.core.filing.names import safe_name

#: What a stick holds beside its frames.
LISTING = "gray-shelf-nights.json"


@dataclass(frozen=True)
class SharedFrame:
    """A frame that another Gray Shelf has."""

    key: str
    """By which it is asked for there."""
    path: str
    """Below the folder that it lies in there, with '/'."""
    size_bytes: int
    kind: str
    camera: str
    night: str
    """'2026-10-18'; empty where none is known, as of masters."""
    taken: str
    """When it was exposed, in UTC, as ISO 8601; empty where that is not known."""
    sha256: str | None = None
    is_master: bool = False


@dataclass(frozen=True)
class SharedNotes:
    """What is known beside the frames: nights' logs, and what was accepted on the Bench."""

    logs: tuple[dict[str, Any], ...] = ()
    values: tuple[dict[str, Any], ...] = ()


@dataclass(frozen=True)
class Shared:
    """All that a Gray Shelf, or a stick, gives."""

    name: str
    frames: tuple[SharedFrame, ...] = ()
    notes: SharedNotes = field(default_factory=SharedNotes)


@dataclass(frozen=True)
class NightOfKind:
    """Frames of one night and kind."""

    night: str
    kind: str
    frames: int
    bytes: int


def mark_of(frame: SharedFrame) -> tuple[str, str, str, int] | None:
    """By what a frame is known again whose bytes nobody has hashed: camera, time, kind and size in bytes; None where it has
    no time."""
    return (frame.camera, frame.taken, frame.kind, frame.size_bytes) if frame.taken else None


def not_here(
    there: Iterable[SharedFrame], hashes: Collection[str], marks: Collection[tuple[str, str, str, int]]
) -> list[SharedFrame]:
    """Frames that are not here: by their bytes (SHA-256) where both are known, else by camera, time, kind and size in bytes."""
    new = []
    for frame in there:
        known = frame.sha256 in hashes if frame.sha256 else False
        if not known and mark_of(frame) not in marks:
            new.append(frame)
    return new


def by_night(frames: Sequence[SharedFrame]) -> list[NightOfKind]:
    """How many frames, and how many bytes, of each night and kind; the newest night first, what has none last."""
    found: dict[tuple[str, str], list[int]] = {}
    for frame in frames:
        kind = of_kind(frame.kind, is_master=frame.is_master)
        found.setdefault((frame.night, kind), []).append(frame.size_bytes)
    return in_order(NightOfKind(*pair, len(sizes), sum(sizes)) for pair, sizes in found.items())


def of_kind(kind: str, *, is_master: bool) -> str:
    """What frames are counted as: masters are told apart."""
    return f"master {kind}" if is_master else kind


def in_order(nights: Iterable[NightOfKind]) -> list[NightOfKind]:
    """The newest night first, what has none last; the kinds of a night by their names."""
    by_kind = sorted(nights, key=lambda one: one.kind)
    return sorted(by_kind, key=lambda one: one.night, reverse=True)


def place_here(giver: str, path: str) -> str:
    """Where a fetched frame goes, below the library's folder: under the giver's name, by the names that it has there made legal
    on every system; no part of it leads elsewhere."""
    parts = [part for part in path.split("/") if part not in ("", ".", "..")]
    name = PurePosixPath(parts.pop() if parts else "frame")
    ending = "".join(s for s in name.suffixes[-2:] if len(s) <= 6)
    stem = safe_name(name.name[: len(name.name) - len(ending)] if ending else name.name)
    whole = f"{stem}{safe_ending(ending)}"
    return "/".join(["frames", "fetched", safe_name(giver), *map(safe_name, parts), whole])


def safe_ending(ending: str) -> str:
    """A file's ending in plain letters, digits and dots: '.fits', '.fits.fz'; any shape of it, at most 12 letters."""
    return re.sub(r"[^A-Za-z0-9.]", "", ending)[:12]
