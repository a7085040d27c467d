"""A set with the files that a master is to be made of: where they are, and which of them belong together."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy.orm import Session

from grayshelf.core.errors import CannotCombine
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.write import InputRecord
from grayshelf.core.masters.combine import CombineSettings
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.files import sha256_of
from grayshelf.library.folders import FileStamp, stamp_of
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet

#: BITPIX of a master: numbers of 32 bits with fractions (FITS Standard 4.0, table 8).
MASTER_BITS = -32


@dataclass(frozen=True)
class Pedestal:
    """The master that is taken off flats."""

    set_id: int
    path: Path


@dataclass(frozen=True)
class Stack:
    """A set with the files that a master is to be made of, and what is taken off each."""

    row: FrameSet
    frames: Sequence[Frame]
    paths: Sequence[Path]
    """Of the frames, in their order."""
    pedestal: Pedestal | None

    @property
    def facts(self) -> FrameFacts:
        """What its frames have in common."""
        return facts_from_json(self.row.facts)

    def facts_of_master(self, n_used: int) -> FrameFacts:
        """A master was taken when its first frame began; the last one is told beside it.

        Flats are divided by their own level: what was added to their pixels says nothing of those of the master.
        """
        facts = self.facts
        added = None if facts.kind is FrameKind.FLAT else facts.pedestal_adu
        first = self.row.first_utc or facts.utc
        return replace(
            facts, bits=MASTER_BITS, is_master=True, n_combined=n_used, utc=first, pedestal_adu=added
        )


def in_order_taken(frames: Iterable[Frame]) -> list[Frame]:
    """Frames by when they began, whatever their files are called; those that do not tell come last, as they were entered."""
    return sorted(frames, key=lambda f: (f.utc is None, f.utc or datetime.max.replace(tzinfo=UTC), f.id))


def files_of(library: Library, session: Session, frames: Sequence[Frame]) -> list[Path]:
    """The files of frames that are to be read.

    Raises
    ------
    CannotCombine
        Where one is missing: a master of fewer frames than its set has would not be what it says.
    """
    named = library.permitted(session)
    places = [Path(f.folder.path) / f.path for f in frames]
    missing = [p for p in places if not p.is_file()]
    if missing or not places:
        first = f", {missing[0].name} for one" if missing else ""
        raise CannotCombine(
            f"{len(missing)} of {len(places)} files are not where they were{first}, so no master was built of them.",
            "Plug the disk in or mount the share; or scan their folder and let go of what is missing.",
        )
    return [named.permit(p) for p in places]


def refuse_changed(paths: Sequence[Path], stamps: Sequence[FileStamp]) -> None:
    """Refuse what was combined of files that changed meanwhile."""
    changed = [p for p, before in zip(paths, stamps, strict=True) if stamp_of(p) != before]
    if changed:
        raise CannotCombine(
            f"{changed[0].name} changed while it was being combined, so the master was not kept.",
            "Wait until nothing writes to it any more, scan its folder, then build again.",
        )


def digest_of(inputs: Sequence[InputRecord], settings: CombineSettings, pedestal: Pedestal | None) -> str:
    """Names a master by what went into it, and how."""
    parts = [record.sha256 for record in inputs if record.used]
    parts += [repr(settings), sha256_of(pedestal.path) if pedestal is not None else "no pedestal"]
    return hashlib.sha256("\n".join(parts).encode()).hexdigest()
