"""Whether a file is one that the library has already, or had elsewhere: a copy, the same exposure saved twice, or moved."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import Select, select, tuple_

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.library.catalog import IN_SETS, Stays, Twin
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.files import read_pixels, sha256_of
from grayshelf.library.folders import FileStamp, stamp_of
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, MasterInput


@dataclass(frozen=True)
class Known:
    """What the library has of a file before it is entered."""

    twin: Twin | None = None
    """A frame whose file is there, and is the same byte for byte."""
    moved_id: int | None = None
    """A frame whose file is not there any more, and which this one is."""
    stays: Stays | None = None
    """That it is still the frame which its row tells of."""


#: Camera, time of exposure and kind: a file that has them in common with a frame may be it.
_Kin = tuple[str | None, datetime, str]


@dataclass(frozen=True)
class Ahead:
    """What the library has of many files, asked at once."""

    alike: dict[_Kin, list[Any]]
    """Frames that a file may be: number, folder, path, its folder's number, size, hash, what is known of it."""
    in_sets: frozenset[str]
    """Paths at which frames are that belong to sets."""


def look_ahead(library: Library, folder_id: int, files: Sequence[tuple[str, FrameFacts]]) -> Ahead:
    """Ask for many files at once what `known_as` asks for each: `files` by their paths below the folder."""
    named = [
        (f.camera, f.utc, f.kind.value)
        for _, f in files
        if f.camera and f.utc is not None and f.kind is not None
    ]
    alike: dict[_Kin, list[Any]] = {}
    with library.db.session() as session:
        paths = select(Frame.path).where(
            Frame.folder_id == folder_id, Frame.path.in_([p for p, _ in files]), Frame.set_id.is_not(None)
        )
        in_sets = frozenset(session.scalars(paths))
        found = _alike_query(Frame.camera, Frame.utc, Frame.kind).where(
            tuple_(Frame.camera, Frame.utc, Frame.kind).in_(named)
        )
        for camera, utc, kind, *row in session.execute(found) if named else ():
            alike.setdefault((camera, utc, kind), []).append(row)
    return Ahead(alike, in_sets)


def _alike_query(*more: Any) -> Select[Any]:
    return (
        select(
            *more,
            Frame.id,
            Folder.path,
            Frame.path,
            Frame.folder_id,
            Frame.size_bytes,
            Frame.sha256,
            Frame.facts,
        )
        .join(Folder, Folder.id == Frame.folder_id)
        .where(Frame.state.in_(IN_SETS))
        .order_by(Frame.id)
    )


def known_as(
    library: Library, path: Path, relative: str, folder_id: int, facts: FrameFacts, ahead: Ahead | None = None
) -> Known:
    """Whether a file is one that the library has already, or had elsewhere. Reads files; writes nothing but hashes.

    Parameters
    ----------
    ahead
        What was asked for many files at once (`look_ahead`).
    """

    def stays() -> Stays | None:
        if ahead is not None and relative not in ahead.in_sets:
            return None
        return _stays(library, path, relative, folder_id, stamp_of(path))

    if facts.utc is None or facts.kind is None:
        return Known(stays=stays())
    others = [
        _Other.of(row) for row in _alike(library, facts, ahead) if (row[3], row[2]) != (folder_id, relative)
    ]
    # Most files are like none that is here: the disk is asked nothing more of them.
    return (others and _among(library, path, stamp_of(path), facts, others)) or Known(stays=stays())


@dataclass
class _Other:
    """A frame that a file may be."""

    frame_id: int
    file: Path
    path: str
    size_bytes: int
    sha256: str | None
    facts: FrameFacts | None

    @classmethod
    def of(cls, row: Any) -> _Other:
        """From a row of `_alike_query`."""
        frame_id, root, where, _, size_bytes, sha256, facts = row
        return cls(frame_id, Path(root) / where, where, size_bytes, sha256, facts_if_sound(facts))

    def hashed(self, library: Library) -> str | None:
        """Its hash, which is kept where its file is read for it; None where that is away and was never hashed."""
        if self.sha256 is None and self.file.is_file():
            self.sha256 = sha256_of(self.file)
            with library.db.session() as session:
                session.get_one(Frame, self.frame_id).sha256 = self.sha256
        return self.sha256


def _alike(library: Library, facts: FrameFacts, ahead: Ahead | None) -> Sequence[Any]:
    assert facts.utc is not None
    assert facts.kind is not None
    if ahead is not None and facts.camera:
        return ahead.alike.get((facts.camera, facts.utc, facts.kind.value), ())
    same = (Frame.camera == facts.camera, Frame.utc == facts.utc, Frame.kind == facts.kind.value)
    with library.db.session() as session:
        return session.execute(_alike_query().where(*same)).all()


def _among(
    library: Library, path: Path, stamp: FileStamp, facts: FrameFacts, others: Sequence[_Other]
) -> Known | None:
    """Which of these frames a file is; None where it is none of them."""
    same_size = [o for o in others if o.size_bytes == stamp.size_bytes]
    unhashed: list[_Other] = []
    own_hash: str | None = None
    for other in same_size:
        sha256 = other.hashed(library)
        if sha256 is None:
            unhashed.append(other)
        elif sha256 == (own_hash := own_hash or sha256_of(path)):
            return (
                Known(Twin(other.frame_id, other.path, sha256))
                if other.file.is_file()
                else Known(moved_id=other.frame_id)
            )
    for other in others:
        if other not in unhashed and _is_same_exposure(other, facts, path):
            return Known(Twin(other.frame_id, other.path, None))
    away = [
        o
        for o in unhashed
        if o.facts is not None and _times_tell_apart(facts, o.file, path) and _tell_the_same(o.facts, facts)
    ]
    # Nobody hashed the one that is away: it is this one where nothing else could be.
    return Known(moved_id=away[0].frame_id) if len(away) == 1 else None


def _times_tell_apart(facts: FrameFacts, other: Path, path: Path) -> bool:
    """Where a clock counts whole seconds, two short frames may bear one time: then the name has to be the same, too."""
    assert facts.utc is not None
    one_a_second = facts.utc.microsecond != 0 or (facts.exposure_s or 0.0) >= 1.0
    return one_a_second or _stem(other) == _stem(path)


def _stem(path: Path) -> str:
    return path.name.lower().partition(".")[0]


#: Two that say these otherwise are two frames, whatever their pixels; one may not know it.
_SAYS_APART = ("filter_code", "gain", "offset", "binning_x", "target", "sensor_temp_c")


def _is_same_exposure(other: _Other, facts: FrameFacts, path: Path) -> bool:
    """Whether a file holds an exposure that was saved once more: packed, by another program, with another header."""
    alike = ("exposure_s", "width", "height", "is_master")
    if other.facts is None or any(getattr(other.facts, name) != getattr(facts, name) for name in alike):
        return False
    said = [(getattr(other.facts, name), getattr(facts, name)) for name in _SAYS_APART]
    if any(None not in pair and pair[0] != pair[1] for pair in said):
        return False
    if not _times_tell_apart(facts, other.file, path) or not other.file.is_file():
        return False
    return _same_pixels(other.file, path)


def _same_pixels(one: Path, other: Path) -> bool:
    """Whether the pixels of two files are the same, number for number."""
    try:
        return np.array_equal(read_pixels(one), read_pixels(other), equal_nan=True)
    except (GrayShelfError, OSError):
        return False


def _stays(library: Library, path: Path, relative: str, folder_id: int, stamp: FileStamp) -> Stays | None:
    """Whether a file that is read again is still what it was: a copy back from another disk has another time."""
    with library.db.session() as session:
        here = (Frame.folder_id == folder_id) & (Frame.path == relative) & Frame.set_id.is_not(None)
        row = session.execute(
            select(Frame.id, Frame.size_bytes, Frame.modified_ns, Frame.sha256).where(here)
        ).first()
        if row is None:
            return None
        combined = session.scalar(select(MasterInput.sha256).where(MasterInput.frame_id == row.id).limit(1))
    if (row.size_bytes, row.modified_ns) == (stamp.size_bytes, stamp.modified_ns):
        return Stays(row.sha256)
    before = row.sha256 or combined
    if before is None:
        return Stays(None, written_anew=True)
    now = sha256_of(path)
    return Stays(now, now != before, combined is not None and now != combined)


def _tell_the_same(one: FrameFacts, other: FrameFacts) -> bool:
    """Whether two headers say the same; the night may have been counted by another zone."""
    alike = (
        "camera",
        "kind",
        "utc",
        "exposure_s",
        "gain",
        "offset",
        "width",
        "height",
        "sensor_temp_c",
        "filter_code",
    )
    return all(getattr(one, name) == getattr(other, name) for name in alike)
