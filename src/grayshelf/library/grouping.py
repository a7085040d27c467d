"""Sets: frames put into them, their rows renewed, and one of their frames looked at.

What is slow is done between transactions, never inside one that writes: each set is written in one of its own.
"""

from __future__ import annotations

import logging
import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from sqlalchemy import ColumnElement, delete, func, or_, select, update
from sqlalchemy.orm import Session

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import TIMED_BY_HAND_FROM_S, Member, common_facts, group_into_sets
from grayshelf.core.pictures.colours import side_of
from grayshelf.core.sensor.statistics import background_noise, sample_step
from grayshelf.library.catalog import IN_SETS, key_of, settling, written_of
from grayshelf.library.facts_json import facts_if_sound, facts_to_json
from grayshelf.library.file_rows import middle_rows
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, FrameSet, MasterInput, MasterRecord
from grayshelf.library.over_noon import keys_in_one_go
from grayshelf.library.parted_masters import tell_what_left
from grayshelf.library.unreadable import Unreadable, readable

log = logging.getLogger(__name__)

#: Rows about the middle of a frame that are looked at.
LOOKED_AT_ROWS = 32
#: Levels that are no further than this from whole numbers are whole numbers.
_WHOLE_WITHIN = 0.02
#: Frames whose nights are written at once.
_AT_ONCE = 200
#: Under what is kept that nights are being counted anew.
RECOUNT = "nights being counted anew"
#: Under what is kept that all but lights are to be put into sets by other rules than they were; a migration says so.
SETS_ANEW = "put into sets anew"
#: The same of long exposures of cameras without a set point.
LONG_ANEW = "long exposures put into sets anew"


def regroup(
    library: Library, changed_keys: Iterable[str] = (), progress: Callable[[float], None] = lambda share: None
) -> int:
    """Put every frame that has no set into one, keeping the numbers of sets that are there already.

    Parameters
    ----------
    changed_keys
        Group keys of frames that are in sets, and may belong to others now.
    progress
        Told the share done, 0 … 1.

    Returns
    -------
    Number of sets made.
    """
    with library.grouping:
        return _regroup(library, changed_keys, progress)


def _regroup(library: Library, changed_keys: Iterable[str], progress: Callable[[float], None]) -> int:
    loose = Frame.set_id.is_(None) & Frame.state.in_(IN_SETS) & Frame.group_key.is_not(None)
    parted = _part_sets(library, sorted(set(changed_keys)))
    with library.db.session() as session:
        keys = sorted({*session.scalars(select(Frame.group_key).where(loose).distinct()), *parted})
    made, done = 0, set[str]()
    for number, key in enumerate(keys):
        if key not in done:
            # Frames that were shot in one go over noon have several keys, and are put into sets together.
            with_it, sets = _group(library, key)
            done |= with_it
            made += sets
        progress(0.7 * (number + 1) / len(keys))
    _look_at_sets(library, lambda share: progress(0.7 + 0.3 * share))
    drop_empty_sets(library)
    return made


def _part_sets(library: Library, changed_keys: Sequence[str]) -> set[str]:
    """Sets whose frames have several keys by now: most of them keep the set, the others leave it for one of their own.

    Returns the keys to look at: those that changed, and those that lost frames.
    """
    keys = set(changed_keys)
    for start in range(0, len(changed_keys), _AT_ONCE):
        of_them = select(Frame.set_id).where(
            Frame.group_key.in_(changed_keys[start : start + _AT_ONCE]), Frame.set_id.is_not(None)
        )
        query = select(Frame.set_id, Frame.group_key, func.count()).where(Frame.set_id.in_(of_them))
        with library.db.session() as session:
            by_set: dict[int, list[tuple[int, str]]] = {}
            for set_id, key, frames in session.execute(query.group_by(Frame.set_id, Frame.group_key)):
                if set_id is not None and key is not None:
                    by_set.setdefault(set_id, []).append((frames, key))
            for set_id, parts in by_set.items():
                if len(parts) > 1:
                    _, kept = max(parts)
                    keys.add(kept)
                    session.execute(
                        update(Frame)
                        .where(Frame.set_id == set_id, Frame.group_key != kept)
                        .values(set_id=None)
                    )
    return keys


def _group(library: Library, key: str) -> tuple[set[str], int]:
    """The frames under one key; returns the keys of all that were put into sets with them, and how many sets were made."""
    with library.db.session() as session:
        # Plain rows: a set may have thousands of frames, of which nothing is written but the set that they are in.
        told = select(Frame.id, Frame.facts, Frame.set_id, Frame.kind, Frame.rejected, Frame.utc)
        keys = keys_in_one_go(session, key)
        frames = session.execute(
            told.where(Frame.group_key.in_(keys), Frame.state.in_(IN_SETS)).order_by(Frame.id)
        ).all()
        by_id = {f.id: f for f in frames}
        members = [
            Member(f.id, facts) for f in frames if (facts := _told_or_set_apart(session, f)) is not None
        ]
        groups = group_into_sets(members)
        # From here on it is written.
        made, taken = 0, set[int]()
        for group in groups:
            rows = [by_id[m.frame_id] for m in group]
            known = sorted({f.set_id for f in rows if f.set_id is not None} - taken)
            if known:
                frame_set = session.get_one(FrameSet, known[0])
                # Other rules of reading, or a person, may see a master where a frame was seen.
                frame_set.is_master = group[0].facts.is_master
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
            _join(session, frame_set.id, [f.id for f in rows if f.set_id != frame_set.id])
            describe_set(frame_set, rows, [m.facts for m in group])
            if frame_set.is_master and frame_set.record is None:
                frame_set.record = MasterRecord(set_id=frame_set.id, built_here=False)
        session.flush()
        tell_what_left(session, taken)
        return set(keys), made


def _join(session: Session, set_id: int, frame_ids: Sequence[int]) -> None:
    """Let frames belong to a set."""
    for start in range(0, len(frame_ids), _AT_ONCE):
        some = Frame.id.in_(frame_ids[start : start + _AT_ONCE])
        session.execute(update(Frame).where(some).values(set_id=set_id))


def _told_or_set_apart(session: Session, row: Any) -> FrameFacts | None:
    """The same as `_facts_or_set_apart`, of a row with number and facts."""
    facts = facts_if_sound(row.facts)
    return facts if facts is not None else _facts_or_set_apart(session.get_one(Frame, row.id))


def _facts_or_set_apart(frame: Frame) -> FrameFacts | None:
    """What is known of a frame; where that makes no sense any more, it leaves its set until it is read anew."""
    facts = facts_if_sound(frame.facts)
    if facts is not None:
        return facts
    log.error("frame %s: %s makes no sense in the database", frame.id, frame.path)
    frame.state, frame.set_id = "unreadable", None
    frame.reason, frame.advice = "What was known of it makes no sense any more.", "Scan the folder again."
    return None


def _look_at_sets(library: Library, progress: Callable[[float], None]) -> None:
    """Sets that nobody has looked at: their level, and for lights the noise that decides what a mismatch costs."""
    with library.db.session() as session:
        plain = session.execute(
            select(FrameSet.id, Folder.path, Frame.path, readable(Frame.facts)["bayer_pattern"].as_string())
            .join(Frame, Frame.set_id == FrameSet.id)
            .join(Folder, Frame.folder_id == Folder.id)
            .where(
                FrameSet.level_adu.is_(None),
                FrameSet.measurement_id.is_(None),
                Frame.state.in_(IN_SETS),
                Frame.missing_since.is_(None),
                # Masters of other programs are looked at where they are shown: their level may be no frame's.
                or_(readable(Frame.facts)["bits"].as_integer() == 16, FrameSet.is_master.is_(False)),
                # Masters that were built here have the steps of their frames, and are read where they are built.
                FrameSet.id.not_in(select(MasterRecord.set_id).where(MasterRecord.built_here)),
            )
            .order_by(FrameSet.id, Frame.id.desc())
        )
        # The first frame of each set: the last that is put in stays.
        todo = list({set_id: (Path(root) / path, pattern) for set_id, root, path, pattern in plain}.items())
    for number, (set_id, (path, pattern)) in enumerate(todo):
        look = _look(path, side_of(pattern))
        if look is not None:
            with library.db.session() as session:
                row = session.get(FrameSet, set_id)
                if row is not None:
                    row.sample_step, row.level_adu, row.noise_adu = (
                        look.sample_step,
                        look.level_adu,
                        look.noise_adu,
                    )
        progress((number + 1) / len(todo))


class _Told(Protocol):
    """What of a frame's row tells of its set."""

    @property
    def rejected(self) -> bool:
        """Whether it does not count."""

    @property
    def utc(self) -> datetime | None:
        """When it was begun."""


@dataclass(frozen=True)
class _Look:
    sample_step: int | None
    level_adu: float
    noise_adu: float | None


def _look(path: Path, apart: int) -> _Look | None:
    """Level, noise and sample step from the middle of a frame, where it is a plain one.

    Parameters
    ----------
    apart
        After how many pixels the colours of its sensor repeat.
    """
    try:
        rows = middle_rows(path, LOOKED_AT_ROWS)
    except (UnreadableFrame, OSError):
        # Intake tells of the file; the set is looked at again with the next scan.
        return None
    if rows.size == 0 or not np.isfinite(rows).all() or rows.min() < 0 or rows.max() > 65535:
        return None
    noise, whole = background_noise(rows, apart), np.rint(rows)
    # Where a program keeps fractions they tell nothing of the converter's steps; shares of full scale are off by digits.
    step = sample_step(whole.astype("u2")) if np.abs(rows - whole).max() < _WHOLE_WITHIN else None
    return _Look(step, float(np.median(rows)), noise if math.isfinite(noise) else None)


def drop_empty_sets(library: Library) -> None:
    """Recount sets that lost frames; a set without any is dropped."""
    with library.grouping:
        _drop_empty_sets(library)


def _drop_empty_sets(library: Library) -> None:
    with library.db.session() as session:
        counts = dict(session.execute(select(Frame.set_id, func.count()).group_by(Frame.set_id)).all())
        changed = [
            (row.id, counts.get(row.id, 0))
            for row in session.execute(select(FrameSet.id, FrameSet.n_frames, FrameSet.is_master))
            if counts.get(row.id, 0) != row.n_frames and not (row.is_master and counts.get(row.id, 0))
        ]
    for set_id, here in changed:
        with library.db.session() as session:
            if here:
                frame_set = session.get_one(FrameSet, set_id)
                rows = list(frame_set.frames)
                told = [facts for f in rows if (facts := _facts_or_set_apart(f)) is not None]
                if told:
                    describe_set(frame_set, rows, told)
            else:
                drop_set(session, set_id)


def drop_set(session: Session, set_id: int) -> None:
    """Drop a set that has no frames, with what refers to it."""
    session.execute(update(FrameSet).where(FrameSet.master_set_id == set_id).values(master_set_id=None))
    session.execute(
        update(MasterRecord).where(MasterRecord.pedestal_set_id == set_id).values(pedestal_set_id=None)
    )
    session.execute(delete(MasterInput).where(MasterInput.master_id == set_id))
    session.delete(session.get_one(FrameSet, set_id))
    session.flush()


def describe_set(frame_set: FrameSet, rows: Iterable[_Told], facts: Sequence[FrameFacts]) -> None:
    """Renew what a set's row says from its frames."""
    rows = list(rows)
    common = common_facts(facts)
    frame_set.facts = facts_to_json(common)
    if isinstance(frame_set.said, Unreadable):
        frame_set.said = {}
    record = frame_set.record
    if record is not None and (isinstance(record.care, Unreadable) or isinstance(record.figures, Unreadable)):
        # Its file tells it again (`recall_masters`).
        record.care, record.figures, record.method = [], {}, ""
    frame_set.kind = (common.kind or FrameKind.LIGHT).value
    frame_set.camera, frame_set.night = common.camera, common.night
    frame_set.n_frames = (common.n_combined or 1) if frame_set.is_master else len(rows)
    frame_set.n_kept = sum(not f.rejected for f in rows)
    times = [f.utc for f in rows if f.utc is not None]
    frame_set.first_utc = min(times, default=None)
    frame_set.last_utc = max(times, default=None)


def recount_nights(library: Library) -> int:
    """Give every frame its night anew after a time zone changed; return how many changed theirs.

    Sets keep their numbers and their masters wherever their frames still belong together. Cut short, it is done again
    when the library is opened: until then it is noted as due (`RECOUNT`).
    """
    with library.grouping:
        return _recount_nights(library, cut_short=False)


def _recount_nights(library: Library, *, cut_short: bool) -> int:
    every = or_(Frame.utc.is_not(None), Frame.camera.is_not(None))
    keys, changed = tell_again(library, every, cut_short=cut_short)
    regroup(library, keys)
    with library.db.session() as session:
        library.set_setting(session, RECOUNT, {})
    return changed


def tell_again(
    library: Library,
    which: ColumnElement[bool],
    progress: Callable[[float], None] = lambda share: None,
    *,
    cut_short: bool = False,
) -> tuple[set[str], int]:
    """Tell frames anew by the names and zones that hold now.

    Parameters
    ----------
    cut_short
        It was begun before: frames that were told then are put into sets now, though nothing of them changes any more.

    Returns
    -------
    keys, changed
        Under what frames are to be put into sets again (`regroup`), and how many have another night or name.
    """
    with library.db.session() as session:
        settled_here = settling(library, session)
        ids = list(session.scalars(select(Frame.id).where(which).order_by(Frame.id)))
    keys, changed = set[str](), 0
    for start in range(0, len(ids), _AT_ONCE):
        progress(start / len(ids))
        with library.db.session() as session:
            settled = []
            for frame in session.scalars(select(Frame).where(Frame.id.in_(ids[start : start + _AT_ONCE]))):
                facts = facts_if_sound(frame.facts)
                if facts is None:
                    continue
                anew = settled_here.settle(facts)
                key = key_of(anew) if frame.group_key is not None and frame.state in IN_SETS else None
                if cut_short and key is not None:
                    keys.add(key)
                if anew != facts or (key is not None and key != frame.group_key):
                    settled.append((frame, anew, key))
                    changed += anew.night != facts.night or anew.as_written != facts.as_written
            for frame, anew, key in settled:
                frame.facts, frame.night, frame.camera = facts_to_json(anew), anew.night, anew.camera
                frame.written = written_of(anew)
                if key is not None:
                    frame.group_key = key
                    keys.add(key)
    return keys, changed


def finish_recount(library: Library, *, cut_short: bool = True) -> None:
    """Count nights, tell names and make sets anew where that is due: at start, because it was cut short."""
    facts = readable(Frame.facts)
    no_set_point = facts["set_temp_c"].as_float().is_(None)
    long = no_set_point & (facts["exposure_s"].as_float() >= TIMED_BY_HAND_FROM_S)
    anew = {SETS_ANEW: Frame.kind != FrameKind.LIGHT, LONG_ANEW: long}
    with library.db.session() as session:
        due = {what for what in (RECOUNT, *anew) if library.setting(session, what, {}).get("due", False)}
    with library.grouping:
        for what, which in anew.items():
            if what in due:
                keys, _ = tell_again(library, which, cut_short=True)
                regroup(library, keys)
                with library.db.session() as session:
                    library.set_setting(session, what, {})
        if RECOUNT in due:
            _recount_nights(library, cut_short=cut_short)
