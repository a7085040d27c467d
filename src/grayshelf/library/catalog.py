"""Entering files into the library: one row a file, sets regrouped, rigs made where lights or flats name new ones."""

from __future__ import annotations

import hashlib
import logging
import math
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
from sqlalchemy import delete, func, or_, select, update
from sqlalchemy.orm import Session

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.frames.facts import FrameFacts, lacking
from grayshelf.core.frames.headers import read_facts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import follows_site, site_night, site_zone
from grayshelf.core.frames.sets import Member, common_facts, group_into_sets, set_key
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.sensor.statistics import background_noise, sample_step
from grayshelf.library.facts_json import facts_from_json, facts_to_json
from grayshelf.library.files import FileSource, FileStamp, read_header, read_pixels, sha256_of, stamp_of
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, FrameSet, MasterInput, MasterRecord, Rig

log = logging.getLogger(__name__)
IN_SETS = ("good", "lacking")


@dataclass(frozen=True)
class SiteZones:
    """The time zones by which nights are counted where a header names no place: the site's, and those of rigs."""

    site: ZoneInfo
    rigs: dict[tuple[str | None, str | None], ZoneInfo] = field(default_factory=dict)

    def of(self, facts: FrameFacts) -> ZoneInfo:
        """The zone of the place where a frame was taken."""
        own = self.rigs.get((facts.camera, plain_name(facts.telescope)))
        # Capped frames name no telescope: they follow the rig where all rigs of their camera stand in one zone.
        of_camera = {zone for (camera, _), zone in self.rigs.items() if camera == facts.camera}
        if own is None and facts.telescope is None and len(of_camera) == 1:
            return of_camera.pop()
        return own or self.site

    def settle(self, facts: FrameFacts) -> FrameFacts:
        """The facts with the night by this place's zone, where nothing in the header says otherwise."""
        if facts.utc is None or not follows_site(facts.night_from):
            return facts
        night, night_from = site_night(facts.utc, self.of(facts))
        return replace(facts, night=night, night_from=night_from)


def site_zones(library: Library, session: Session) -> SiteZones:
    """The zones of the site and of rigs that stand elsewhere."""
    rigs = session.scalars(select(Rig).where(Rig.time_zone.is_not(None)))
    return SiteZones(
        library.zone(session),
        {(r.camera, plain_name(r.telescope)): site_zone(r.time_zone or "") for r in rigs},
    )


def recount_nights(library: Library, session: Session) -> int:
    """Give every frame its night anew after a time zone changed; return how many changed theirs.

    Sets keep their numbers and their masters wherever their frames still belong together.
    """
    zones, keys, changed = site_zones(library, session), set[str](), 0
    for frame in session.scalars(select(Frame).where(Frame.utc.is_not(None))):
        facts = facts_from_json(frame.facts)
        settled = zones.settle(facts)
        if settled == facts:
            continue
        frame.facts, frame.night = facts_to_json(settled), settled.night
        changed += settled.night != facts.night
        if frame.group_key is not None and frame.state in IN_SETS:
            frame.group_key = key_of(settled)
            keys.add(frame.group_key)
    session.flush()
    regroup(session, {f.id: Path(f.path) for f in session.scalars(select(Folder))}, keys)
    return changed


def key_of(facts: FrameFacts) -> str:
    """Under what frames are looked at together when sets are made."""
    return hashlib.sha1(repr(set_key(facts)).encode()).hexdigest()


@dataclass(frozen=True)
class ReadFile:
    """What reading one file gave: facts, or the reason why there are none."""

    facts: FrameFacts | None
    reason: str = ""
    advice: str = ""


def read_file(path: Path, zone: ZoneInfo, counters: frozenset[str] = frozenset()) -> ReadFile:
    """Read one file's header; never raises for what is wrong with the file."""
    try:
        return ReadFile(read_facts(read_header(path), path.name, zone, counters))
    except UnreadableFrame as error:
        return ReadFile(None, error.message, error.advice)
    except Exception as error:
        # Whatever a header holds, the scan goes on, and the file is listed with what was in the way.
        log.warning("%s: %s", path, error, exc_info=True)
        return ReadFile(
            None, f"Its header could not be understood ({type(error).__name__}: {error}).", "Leave it out."
        )


def enter_file(session: Session, folder: Folder, relative: str, stamp: FileStamp, read: ReadFile) -> Frame:
    """Insert or renew the row of a file."""
    frame = session.scalar(select(Frame).where(Frame.folder_id == folder.id, Frame.path == relative))
    if frame is None:
        frame = Frame(folder_id=folder.id, path=relative)
        session.add(frame)
    frame.size_bytes, frame.modified_ns = stamp.size_bytes, stamp.modified_ns
    frame.sha256, frame.set_id, frame.group_key = None, None, None
    facts = read.facts
    if facts is None:
        frame.state, frame.reason, frame.advice, frame.facts = "unreadable", read.reason, read.advice, {}
        frame.kind = frame.camera = frame.utc = frame.night = None
        return frame
    frame.facts = facts_to_json(facts)
    frame.kind = facts.kind.value if facts.kind else None
    frame.camera, frame.utc, frame.night, frame.rejected = (
        facts.camera,
        facts.utc,
        facts.night,
        _set_aside(relative),
    )
    missing = lacking(facts)
    said = list(facts.complaints)
    if missing:
        said.insert(0, "lacks " + ", ".join(missing))
    frame.state = "lacking" if missing else "good"
    if facts.from_name:
        said.append(f"from the file’s name: {', '.join(facts.from_name)}")
    text = "; ".join(said)
    frame.reason = text[:1].upper() + text[1:] + "." if said else ""
    frame.advice = "" if not missing else _what_lacking_means(facts, missing)
    if facts.kind is not None and facts.camera is not None:
        frame.group_key = key_of(facts)
    _mark_twin(session, folder, frame)
    return frame


def _set_aside(relative: str) -> bool:
    """Whether the person has put a frame aside, into a folder that says so (common practice)."""
    folders = [part.lower() for part in relative.split("/")[:-1]]
    return any(folder in ("rejected", "rejects", "bad") for folder in folders)


def _what_lacking_means(facts: FrameFacts, missing: tuple[str, ...]) -> str:
    if facts.kind is None or facts.camera is None:
        return "It belongs to no set until its header says so."
    return "It is used with care at best: what is not known counts as unknown, never as equal."


def _mark_twin(session: Session, folder: Folder, frame: Frame) -> None:
    """Mark a file that is, byte for byte, one that the library has already."""
    if frame.utc is None:
        return
    twins = session.scalars(
        select(Frame).where(
            Frame.camera == frame.camera,
            Frame.utc == frame.utc,
            Frame.kind == frame.kind,
            Frame.size_bytes == frame.size_bytes,
            Frame.state.in_(IN_SETS),
            or_(Frame.folder_id != frame.folder_id, Frame.path != frame.path),
        )
    ).all()
    for twin in twins:
        try:
            twin.sha256 = twin.sha256 or sha256_of(Path(twin.folder.path) / twin.path)
            frame.sha256 = frame.sha256 or sha256_of(Path(folder.path) / frame.path)
        except OSError:
            continue
        if twin.sha256 == frame.sha256:
            frame.state, frame.group_key = "duplicate", None
            frame.reason = f"The same, byte for byte, as {twin.path}."
            frame.advice = "It is counted once; this copy is left alone."
            return


def forget_missing(session: Session, folder: Folder, seen: set[str]) -> int:
    """Mark the frames of a folder whose files are gone; their rows and history stay."""
    gone = 0
    for frame in session.scalars(select(Frame).where(Frame.folder_id == folder.id, Frame.state != "gone")):
        if frame.path not in seen:
            frame.state, frame.reason = "gone", "The file is no longer there."
            frame.set_id = None
            gone += 1
    return gone


def regroup(session: Session, zone_folder_paths: dict[int, Path], changed_keys: Iterable[str] = ()) -> int:
    """Put every frame that has no set into one, keeping the numbers of sets that are there already.

    Parameters
    ----------
    zone_folder_paths
        Folder paths by folder id, to look at one frame's pixels for each new set.
    changed_keys
        Group keys of frames that are in sets, and may belong to others now.

    Returns
    -------
    Number of sets made.
    """
    loose = Frame.set_id.is_(None) & Frame.state.in_(IN_SETS) & Frame.group_key.is_not(None)
    keys = sorted({*session.scalars(select(Frame.group_key).where(loose).distinct()), *changed_keys})
    made = 0
    for key in keys:
        frames = session.scalars(
            select(Frame).where(Frame.group_key == key, Frame.state.in_(IN_SETS)).order_by(Frame.id)
        ).all()
        by_id = {f.id: f for f in frames}
        members = [Member(f.id, facts_from_json(f.facts)) for f in frames]
        taken: set[int] = set()
        for group in group_into_sets(members):
            rows = [by_id[m.frame_id] for m in group]
            known = sorted({f.set_id for f in rows if f.set_id is not None} - taken)
            if known:
                frame_set = session.get_one(FrameSet, known[0])
            else:
                frame_set = FrameSet(
                    kind=rows[0].kind or "",
                    is_master=group[0].facts.is_master,
                    n_frames=0,
                    n_kept=0,
                    facts={},
                )
                session.add(frame_set)
                session.flush()
                made += 1
            taken.add(frame_set.id)
            for frame in rows:
                frame.set_id = frame_set.id
            describe_set(frame_set, rows, [m.facts for m in group])
            if frame_set.level_adu is None:
                _look_at(frame_set, rows[0], zone_folder_paths)
            if frame_set.is_master and frame_set.record is None:
                frame_set.record = MasterRecord(set_id=frame_set.id, built_here=False)
        session.flush()
    _look_at_older_sets(session, zone_folder_paths)
    drop_empty_sets(session)
    return made


def _look_at_older_sets(session: Session, folder_paths: dict[int, Path]) -> None:
    """Sets of a library from before levels were noted: their lights' noise decides what a mismatch costs."""
    older = session.scalars(
        select(FrameSet).where(FrameSet.level_adu.is_(None), FrameSet.is_master.is_(False))
    ).all()
    for frame_set in older:
        first = next((f for f in frame_set.frames if f.state in IN_SETS), None)
        if first is not None:
            _look_at(frame_set, first, folder_paths)


def drop_empty_sets(session: Session) -> None:
    """Recount sets that lost frames; a set without any is dropped unless something refers to it."""
    counts = dict(session.execute(select(Frame.set_id, func.count()).group_by(Frame.set_id)).all())
    for frame_set in session.scalars(select(FrameSet)):
        here = counts.get(frame_set.id, 0)
        if here == frame_set.n_frames or (frame_set.is_master and here):
            continue
        if here == 0:
            session.execute(
                update(FrameSet).where(FrameSet.master_set_id == frame_set.id).values(master_set_id=None)
            )
            session.execute(
                update(MasterRecord)
                .where(MasterRecord.pedestal_set_id == frame_set.id)
                .values(pedestal_set_id=None)
            )
            session.execute(delete(MasterInput).where(MasterInput.master_id == frame_set.id))
            session.delete(frame_set)
        else:
            rows = list(frame_set.frames)
            describe_set(frame_set, rows, [facts_from_json(f.facts) for f in rows])


def describe_set(frame_set: FrameSet, rows: Iterable[Frame], facts: list[FrameFacts]) -> None:
    """Renew what a set's row says from its frames."""
    rows = list(rows)
    common = common_facts(facts)
    frame_set.facts = facts_to_json(common)
    frame_set.kind = (common.kind or FrameKind.LIGHT).value
    frame_set.camera, frame_set.night = common.camera, common.night
    frame_set.n_frames = (common.n_combined or 1) if frame_set.is_master else len(rows)
    frame_set.n_kept = sum(not f.rejected for f in rows)
    times = [f.utc for f in rows if f.utc is not None]
    frame_set.first_utc = min(times, default=None)
    frame_set.last_utc = max(times, default=None)


#: Rows about the middle of a frame that are looked at.
LOOKED_AT_ROWS = 32


def _look_at(frame_set: FrameSet, frame: Frame, folder_paths: dict[int, Path]) -> None:
    """Note level, noise and sample step of a set from the middle of one of its frames, where it is a plain one."""
    if frame.facts.get("bits") != 16:
        return
    path = folder_paths[frame.folder_id] / frame.path
    try:
        if path.name.lower().endswith((".gz", ".fz")):
            whole = read_pixels(path)
            rows = whole[max(whole.shape[0] // 2 - LOOKED_AT_ROWS // 2, 0) :][:LOOKED_AT_ROWS].astype("f4")
        else:
            source = FileSource(path, path.name, path.parent)
            first = max(source.height // 2 - LOOKED_AT_ROWS // 2, 0)
            rows = source.rows(first, min(first + LOOKED_AT_ROWS, source.height))
    except (UnreadableFrame, OSError, ValueError):
        return
    if rows.size == 0 or rows.min() < 0 or rows.max() > 65535:
        return
    frame_set.sample_step = sample_step(rows.astype("u2"))
    frame_set.level_adu = float(np.median(rows))
    noise = background_noise(rows)
    frame_set.noise_adu = noise if math.isfinite(noise) else None


def make_rigs(session: Session) -> list[str]:
    """Make a rig for every camera and telescope that lights or flats name and none has yet."""
    made: list[str] = []
    known = {(r.camera, plain_name(r.telescope)) for r in session.scalars(select(Rig))}
    for frame_set in session.scalars(select(FrameSet).order_by(FrameSet.kind.desc(), FrameSet.id)):
        facts = frame_set.facts
        telescope = facts.get("telescope")
        if frame_set.camera is None:
            continue
        if frame_set.kind not in ("light", "flat"):
            if any(camera == frame_set.camera for camera, _ in known):
                continue
            telescope = None
        if (frame_set.camera, plain_name(telescope)) in known:
            continue
        known.add((frame_set.camera, plain_name(telescope)))
        name = telescope or frame_set.camera
        taken = set(session.scalars(select(Rig.name)))
        if name in taken:
            name = f"{name} with {frame_set.camera}"
        session.add(
            Rig(
                name=name,
                camera=frame_set.camera,
                telescope=telescope,
                aperture_mm=facts.get("aperture_mm"),
                focal_length_mm=facts.get("focal_length_mm"),
            )
        )
        session.flush()
        made.append(name)
    return made


def enter_own_file(session: Session, folder: Folder, relative: str, facts: FrameFacts, sha256: str) -> Frame:
    """Enter a file that the application has just written itself."""
    stamp = stamp_of(Path(folder.path) / relative)
    frame = enter_file(session, folder, relative, stamp, ReadFile(facts))
    frame.sha256 = sha256
    session.flush()
    return frame


def note_scan(folder: Folder, at: datetime, trouble: str = "") -> None:
    """Note when a folder was last looked at, and what was wrong with it."""
    folder.scanned_at, folder.trouble = at, trouble
