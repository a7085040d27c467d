"""Entering files into the library: one row a file, told of by the names and nights that hold here."""

from __future__ import annotations

import errno
import hashlib
import json
import logging
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.frames.facts import NAMED, FrameFacts, lacking
from grayshelf.core.frames.folder_names import folders_above
from grayshelf.core.frames.headers import read_facts
from grayshelf.core.frames.night import follows_site, site_zone, told_again
from grayshelf.core.frames.night_moves import NightMove, as_told, moved
from grayshelf.core.frames.said import QUANTITIES, unsaid, with_said
from grayshelf.core.frames.sets import set_key
from grayshelf.core.rigs.trains import Train, train_of
from grayshelf.library.facts_json import facts_if_sound, facts_to_json
from grayshelf.library.files import read_header
from grayshelf.library.folders import FileStamp, stamp_of
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, FrameSet, Rig
from grayshelf.library.nights_moved import night_moves
from grayshelf.library.spellings import Spellings, spellings
from grayshelf.library.trains import trains_in

log = logging.getLogger(__name__)
IN_SETS = ("good", "lacking")
#: Folders into which people put what they will not use (common practice).
FOLDERS_OF_REJECTS = ("rejected", "rejects", "bad")
#: How it begins what is said of a light that a person does not keep.
NOT_KEPT = "Not kept, said on"


@dataclass(frozen=True)
class Settling:
    """How frames that come in are told of here: names by what they stand for, nights by the zone of their place.

    Where a header names no place, nights are counted at the site, or where the frame's rig stands.
    """

    site: ZoneInfo
    names: Spellings = field(default_factory=Spellings)
    trains: tuple[Train, ...] = ()
    rigs: dict[int, ZoneInfo] = field(default_factory=dict)
    """The zones of rigs that stand elsewhere, by the rig's number."""
    moves: tuple[NightMove, ...] = ()
    """Nights that a person parted or joined."""

    def zone_of(self, facts: FrameFacts) -> ZoneInfo:
        """The zone of the place where a frame was taken."""
        if not self.rigs:
            return self.site
        number = train_of(self.trains, facts.camera, facts.telescope, facts.focal_length_mm)
        own = self.rigs.get(number) if number is not None else None
        # Capped frames name no telescope: they follow the rig where all rigs of their camera stand in one zone.
        of_camera = {
            self.rigs[t.number] for t in self.trains if t.camera == facts.camera and t.number in self.rigs
        }
        if own is None and facts.telescope is None and len(of_camera) == 1:
            return of_camera.pop()
        return own or self.site

    def settle(self, facts: FrameFacts) -> FrameFacts:
        """The facts by the names that are kept, and with the night by this place's zone where nothing in the header says
        otherwise."""
        facts = self._at_its_place(self.names.apply(unsaid(as_told(facts))))
        if facts.said:
            facts = self._at_its_place(with_said(facts))
        return moved(facts, self.moves)

    def _at_its_place(self, facts: FrameFacts) -> FrameFacts:
        if facts.utc is None or not follows_site(facts.night_from):
            return facts
        night, night_from = told_again(facts.utc, self.zone_of(facts), facts.night_from)
        if (night, night_from) == (facts.night, facts.night_from):
            return facts
        return replace(facts, night=night, night_from=night_from)


def settling(library: Library, session: Session) -> Settling:
    """As the library has it now: the names, and the zones of the site and of rigs that stand elsewhere."""
    rigs = session.scalars(select(Rig).where(Rig.time_zone.is_not(None)))
    zones = {r.id: site_zone(r.time_zone or "") for r in rigs}
    return Settling(
        library.zone(session), spellings(session), tuple(trains_in(session)), zones, night_moves(session)
    )


def key_of(facts: FrameFacts) -> str:
    """Under what frames are looked at together when sets are made."""
    return hashlib.sha1(repr(set_key(facts)).encode()).hexdigest()


def written_of(facts: FrameFacts) -> str | None:
    """Names that a header has otherwise than they are kept, each with the one that is kept, as JSON; None where none is."""
    kept = {"camera": facts.camera, "telescope": facts.telescope, "filter": facts.filter_code}
    told = {what: [spelled, kept[what]] for what, spelled in sorted(facts.as_written.items()) if what in kept}
    return json.dumps(told) if told else None


@dataclass(frozen=True)
class ReadFile:
    """What reading one file gave: facts, or the reason why there are none."""

    facts: FrameFacts | None
    reason: str = ""
    advice: str = ""
    out_of_reach: bool = False
    """The disk did not hand the file out: that says nothing of the file."""


def read_file(path: Path, zone: ZoneInfo, counters: frozenset[str] = frozenset()) -> ReadFile:
    """Read one file's header; never raises for what is wrong with the file."""
    try:
        return ReadFile(read_facts(read_header(path), path.name, zone, counters, folders_above(path)))
    except UnreadableFrame as error:
        cause = error.__cause__
        out_of_reach = isinstance(cause, OSError) and cause.errno not in (None, errno.ELOOP)
        return ReadFile(None, error.message, error.advice, out_of_reach)
    except Exception as error:
        # Whatever a header holds, the scan goes on, and the file is listed with what was in the way.
        log.warning("%s: %s", path, error, exc_info=True)
        return ReadFile(
            None, f"Its header could not be understood ({type(error).__name__}: {error}).", "Leave it out."
        )


def rows_at(session: Session, folder_id: int, paths: Sequence[str]) -> dict[str, Frame]:
    """The rows that files have already, by path."""
    found = session.scalars(select(Frame).where(Frame.folder_id == folder_id, Frame.path.in_(paths)))
    return {frame.path: frame for frame in found}


#: What a row says of a file of which nothing is known.
_UNTOLD = dict.fromkeys(
    ("kind", "camera", "utc", "night", "written", "set_id", "group_key", "sha256", "missing_since")
)


def new_row(
    folder_id: int, relative: str, stamp: FileStamp, read: ReadFile, twin: Twin | None = None
) -> dict[str, Any]:
    """The columns of a file that has no row yet: many are inserted at once.

    Parameters
    ----------
    twin
        The frame in the library that this file is byte for byte.
    """
    told = _untold(read) if read.facts is None else _told(read.facts)
    return {
        **_UNTOLD,
        "folder_id": folder_id,
        "path": relative,
        "size_bytes": stamp.size_bytes,
        "modified_ns": stamp.modified_ns,
        "rejected": read.facts is not None and set_aside(relative),
        **told,
        **({} if twin is None or read.facts is None else _told_of_duplicate(twin)),
    }


def _untold(read: ReadFile) -> dict[str, Any]:
    """What a row says of a file that could not be read."""
    return {"state": "unreadable", "reason": read.reason, "advice": read.advice, "facts": {}}


def enter_file(
    session: Session,
    frame: Frame | None,
    folder_id: int,
    relative: str,
    stamp: FileStamp,
    read: ReadFile,
    twin: Twin | None = None,
    stays: Stays | None = None,
) -> Frame:
    """Insert or renew the row of a file.

    Parameters
    ----------
    frame
        The row that it has already (`rows_at`).
    twin
        The frame in the library that this file is byte for byte.
    stays
        That it is still the frame that its row tells of: where its settings are still those of its set, it stays in
        it, and the set keeps its number, its master and what was said of it.
    """
    if frame is None:
        frame = Frame(**new_row(folder_id, relative, stamp, read, twin))
        session.add(frame)
        return frame
    frame.missing_since = None
    frame.size_bytes, frame.modified_ns = stamp.size_bytes, stamp.modified_ns
    set_before, key_before = frame.set_id, frame.group_key
    frame.sha256, frame.set_id, frame.group_key = stays.sha256 if stays else None, None, None
    facts = read.facts
    if facts is None:
        for name, value in _untold(read).items():
            setattr(frame, name, value)
        frame.kind = frame.camera = frame.utc = frame.night = frame.written = None
        return frame
    before = facts_if_sound(frame.facts)
    facts = facts if before is None else facts.read_again(before)
    still_wrong = _still_wrong(frame, facts, stays)
    frame.rejected = set_aside(relative) or bool(still_wrong)
    tell_of(frame, facts, still_wrong)
    if stays is not None and frame.group_key == key_before and set_before is not None:
        frame.set_id = set_before
        _note_what_changed(session, set_before, stays)
    if twin is not None:
        call_duplicate(frame, twin)
    return frame


def tell_of(frame: Frame, facts: FrameFacts, wrong: str = "") -> None:
    """Let a frame's row say what these facts say of it, and under what it is put into sets.

    Parameters
    ----------
    wrong
        Why it does not count, in a sentence; empty where it does.
    """
    for name, value in _told(facts, wrong).items():
        setattr(frame, name, value)


def _told(facts: FrameFacts, wrong: str = "") -> dict[str, Any]:
    """What a row says of a frame by its facts, by the names of its columns."""
    missing = lacking(facts)
    return {
        "facts": facts_to_json(facts),
        "kind": facts.kind.value if facts.kind else None,
        "camera": facts.camera,
        "utc": facts.utc,
        "night": facts.night,
        "written": written_of(facts),
        "state": "lacking" if missing else "good",
        "reason": wrong or what_is_said(facts, missing),
        "advice": "" if not missing else _what_lacking_means(facts, missing),
        "group_key": key_of(facts) if facts.kind is not None and facts.camera is not None else None,
    }


def _still_wrong(frame: Frame, facts: FrameFacts, stays: Stays | None) -> str:
    """Why a frame that did not count still does not, when its header is read again; empty where it does."""
    if not frame.rejected:
        return ""
    # What a person said of an exposure holds as long as it is that exposure, whatever was written into its header.
    said = frame.reason.startswith(NOT_KEPT) and frame.utc == facts.utc
    found = stays is not None and not stays.written_anew
    return frame.reason if said or found else ""


def what_is_said(facts: FrameFacts, missing: tuple[str, ...]) -> str:
    """What a header lacks, what of it could not be used, and what is from the file's name, in a sentence."""
    said = list(facts.complaints)
    if missing:
        said.insert(0, _lacks(missing))
    if facts.from_name:
        of_folder = {NAMED["kind"], NAMED["target"]} & set(facts.from_name)
        whose = "the name of the file or its folder" if of_folder else "the file’s name"
        said.append(f"from {whose}: {', '.join(facts.from_name)}")
    by_hand = [QUANTITIES[name] for name in facts.by_hand if name in QUANTITIES]
    if by_hand:
        said.append(f"said by hand: {', '.join(by_hand)}")
    return _sentence(said)


def lacks_in_words(missing: Sequence[str]) -> str:
    """The same of a header that lacks something, and of which there is nothing else to say."""
    return _sentence([_lacks(missing)])


def _lacks(missing: Sequence[str]) -> str:
    return "lacks " + ", ".join(missing)


def _sentence(said: Sequence[str]) -> str:
    text = "; ".join(said)
    return text[:1].upper() + text[1:] + "." if said else ""


def _note_what_changed(session: Session, set_id: int, stays: Stays) -> None:
    frame_set = session.get_one(FrameSet, set_id)
    if stays.written_anew:
        frame_set.sample_step = frame_set.level_adu = frame_set.noise_adu = None
    if stays.other_than_combined:
        frame_set.master_set_id = None


@dataclass(frozen=True)
class Twin:
    """A frame in the library that a file is once more."""

    frame_id: int
    path: str
    sha256: str | None
    """Of both; None where only their pixels are the same, number for number."""


@dataclass(frozen=True)
class Stays:
    """A file is still the frame that its row tells of, at its place."""

    sha256: str | None
    """Of its content, where that is known."""
    written_anew: bool = False
    """Its content may be another than it was: what was measured on it holds no more."""
    other_than_combined: bool = False
    """Its content is not what went into a master."""


def call_duplicate(frame: Frame, twin: Twin) -> None:
    """A file that the library has already counts once."""
    for name, value in _told_of_duplicate(twin).items():
        setattr(frame, name, value)


def _told_of_duplicate(twin: Twin) -> dict[str, Any]:
    told = {"state": "duplicate", "group_key": None, "set_id": None, "sha256": twin.sha256}
    if twin.sha256 is not None:
        said = f"The same, byte for byte, as {twin.path}."
        return {**told, "reason": said, "advice": "It is counted once; this copy is left alone."}
    said = f"The same exposure as {twin.path}, saved twice: the same pixels, in another file."
    return {**told, "reason": said, "advice": "The one that was here first counts; this one is left alone."}


def set_aside(relative: str) -> bool:
    """Whether the person has put a frame aside, into a folder that says so (common practice)."""
    folders = [part.lower() for part in relative.split("/")[:-1]]
    return any(folder in FOLDERS_OF_REJECTS for folder in folders)


def _what_lacking_means(facts: FrameFacts, missing: tuple[str, ...]) -> str:
    if facts.kind is None or facts.camera is None:
        return "It belongs to no set until its header says it, or you do (Intake, ‘Say what is lacking or wrong’)."
    return "It is used with care at best: what is not known counts as unknown, never as equal."


def enter_own_file(session: Session, folder: Folder, relative: str, facts: FrameFacts, sha256: str) -> Frame:
    """Enter a file that the application has just written itself."""
    stamp, facts = stamp_of(Path(folder.path) / relative), spellings(session).apply(facts)
    there = rows_at(session, folder.id, [relative]).get(relative)
    frame = enter_file(session, there, folder.id, relative, stamp, ReadFile(facts))
    frame.sha256 = sha256
    session.flush()
    return frame


def note_scan(folder: Folder, at: datetime, trouble: str = "") -> None:
    """Note when a folder was last looked at, and what was wrong with it."""
    folder.scanned_at, folder.trouble = at, trouble
