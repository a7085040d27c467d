"""Scanning a folder: in place, read only, and only what is new or changed since the last time."""

from __future__ import annotations

import logging
import os
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol

from sqlalchemy import func, not_, or_, select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.frames.facts import FILE_NAME, FrameFacts
from grayshelf.core.frames.file_names import counters_among
from grayshelf.library.broken_dates import read_anew
from grayshelf.library.catalog import IN_SETS, ReadFile, Settling, note_scan, read_file, rows_at, settling
from grayshelf.library.copies import DUPLICATE, without_a_frame
from grayshelf.library.entering import enter, insert_rows, look_up
from grayshelf.library.folders import NOT_ON_A_SHELF, FileStamp, Passed, is_text, printable, walk_frames
from grayshelf.library.grouping import regroup, tell_again
from grayshelf.library.inputs_found import find_inputs
from grayshelf.library.known_again import look_ahead
from grayshelf.library.library import FRAME_FOLDERS, Library
from grayshelf.library.masters_found import recall_masters
from grayshelf.library.mending import found_again, said_of_folder, tell_mended
from grayshelf.library.missing import NOTHING_MISSED, Missed, note_missing
from grayshelf.library.models import Folder, Frame, FrameSet
from grayshelf.library.names_seen import carrying, join_what_is_sure
from grayshelf.library.reading_rules import not_understood, rules_in_force
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import JobResult, ScanJob
from grayshelf.library.trains import make_rigs
from grayshelf.library.unreadable import readable
from grayshelf.work.ahead import ahead
from grayshelf.work.jobs import JobControl, JobRunner

log = logging.getLogger(__name__)

#: Files after which what was read is written down for good.
BATCH = 200
#: Under what is kept by which rules the frames of each folder were read.
RULES_OF = "bounds that frames were read by"


class HasRunner(Protocol):
    """What has a library and works off its jobs."""

    library: Library
    runner: JobRunner


def scan_folder(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a scan job (`ScanJob`)."""
    folder_id = read(ScanJob, params).folder_id
    with library.db.session() as session:
        folder = session.get(Folder, folder_id)
        if folder is None:
            raise NotFound("This folder is no longer on the list.")
        root, here = Path(folder.path), settling(library, session)
        moved = read_anew(session, folder_id)
        known = _known(session, folder_id)
    disk = _Disk(library, folder_id, root)
    control.report(0.0, f"Looking through {root.name}")
    passed = Passed()
    try:
        listed = list(walk_frames(root, control.check, passed))
    except OSError as error:
        raise disk.gone() from error
    disk.check()
    if not moved and _is_unchanged(library, folder_id, known, listed):
        return _told(library, folder_id, passed, bool(listed))
    counters = _counters([path for path, _ in listed])
    again = _to_read_again(library, folder_id, counters)
    fresh = [(path, stamp) for path, stamp in listed if known.stamps.get(path) != stamp or path in again]
    if fresh:
        _note_unsettled(library, folder_id)
    told = _said_before(library, folder_id, root)
    batch = list[tuple[str, FileStamp, ReadFile]]()
    alike = set[object]()
    out_of_reach = set[str]()

    def enter_batch() -> None:
        disk.check()
        facts = [(printable(path), entry.facts) for path, _, entry in batch if entry.facts is not None]
        of_library = look_ahead(library, folder_id, facts)
        found = [look_up(library, folder_id, root, path, entry, of_library) for path, _, entry in batch]
        with library.db.session() as session:
            # All is read before anything is written, so that the rows go in with one statement.
            there = rows_at(session, folder_id, [printable(path) for path, _, _ in batch])
            new = list[dict[str, Any]]()
            for (path, stamp, _), one in zip(batch, found, strict=True):
                moved.update(enter(session, there, folder_id, path, stamp, one, new))
            insert_rows(session, new)
        batch.clear()
        alike.clear()

    def entry_of(path: str) -> ReadFile:
        return _read(root, path, here, counters.get(path, frozenset()), told)

    with closing(ahead(entry_of, [path for path, _ in fresh])) as entries:
        for number, ((path, stamp), entry) in enumerate(zip(fresh, entries, strict=True)):
            control.check()
            # A pulled disk hands out nothing: that is one event, and says nothing of any file on it.
            if entry.out_of_reach:
                disk.check()
                out_of_reach.add(path)
            kin = _kin(entry.facts)
            if len(batch) >= BATCH or kin in alike:
                # A copy of a file is known only once the file is entered.
                enter_batch()
            alike |= {kin} - {None}
            batch.append((path, stamp, entry))
            control.report(0.8 * number / len(fresh), f"{number:,} of {len(fresh):,} new files read")
    enter_batch()
    for mending_id in found_again(library, folder_id, str(root)):
        moved |= tell_mended(library, mending_id, control.check)
    # What was read before and is out of reach now is missing, like what is not there.
    seen = {path for path, _ in listed} - (out_of_reach & known.stamps.keys())
    return _finish(library, control, folder_id, len(fresh), seen, passed, moved)


@dataclass(frozen=True)
class _OfBefore:
    """What the library has of a folder's files."""

    stamps: dict[str, tuple[int, int]]
    """Size and time by which files are known to be the same as before, by path; without those that could not be read."""
    unsound: bool
    """Some could not be read, or are missing: they are looked at anew each time."""


def _known(session: Session, folder_id: int) -> _OfBefore:
    driver = session.connection().connection.driver_connection
    assert driver is not None
    # Plain tuples: a library of years has more frames than there is time to wrap.
    stamps: dict[str, tuple[int, int]] = {}
    unsound = False
    for path, size, modified, unreadable, missing in driver.execute(
        "SELECT path, size_bytes, modified_ns, state = 'unreadable', missing_since IS NOT NULL FROM frame "
        "WHERE folder_id = ? AND state != 'gone'",
        (folder_id,),
    ):
        unsound = unsound or unreadable or missing
        if not unreadable:
            stamps[path] = (size, modified)
    return _OfBefore(stamps, bool(unsound))


def _is_unchanged(
    library: Library, folder_id: int, known: _OfBefore, listed: Sequence[tuple[str, FileStamp]]
) -> bool:
    """Whether a folder is as the last scan left it, so that nothing has to be read, put into sets or looked up."""
    if known.unsound or library.left_out or len(known.stamps) != len(listed):
        return False
    if any(known.stamps.get(path) != stamp for path, stamp in listed):
        return False
    loose = Frame.set_id.is_(None) & Frame.state.in_(IN_SETS) & Frame.group_key.is_not(None)
    with library.db.session() as session:
        settled = library.setting(session, RULES_OF, {}).get(str(folder_id)) == rules_in_force()
        settled = settled and not without_a_frame(session, folder_id)
        # A library from before levels were noted has sets that nobody has looked at.
        unseen = FrameSet.level_adu.is_(None) & ~FrameSet.is_master & FrameSet.measurement_id.is_(None)
        left = [select(Frame.id).where(loose).limit(1), select(FrameSet.id).where(unseen).limit(1)]
        return settled and all(session.scalar(query) is None for query in left)


def _note_unsettled(library: Library, folder_id: int) -> None:
    """Until the end of this scan the folder is not as a scan leaves it: should this one be cut short, the next one
    goes through all of it."""
    with library.db.session() as session:
        kept = library.setting(session, RULES_OF, {})
        library.set_setting(session, RULES_OF, {k: v for k, v in kept.items() if k != str(folder_id)})


class _Disk:
    """The folder as it was when the scan began, so that another disk's mount point is not taken for it."""

    def __init__(self, library: Library, folder_id: int, root: Path) -> None:
        self._library, self._folder_id, self._root = library, folder_id, root
        self._begun_with = self._now()
        if self._begun_with is None:
            raise self.gone()

    def _now(self) -> tuple[int, int] | None:
        try:
            with os.scandir(self._root) as entries:
                next(entries, None)
            stat = self._root.stat()
        except OSError:
            return None
        return stat.st_dev, stat.st_ino

    def check(self) -> None:
        """Raise where the folder is not there any more."""
        if self._now() != self._begun_with:
            raise self.gone()

    def gone(self) -> GrayShelfError:
        """One event for all of its frames."""
        with self._library.db.session() as session:
            folder = session.get(Folder, self._folder_id)
            if folder is not None:
                note_scan(folder, self._library.clock.now(), "The folder is not there, or may not be read.")
        return GrayShelfError(
            f"The folder {self._root} is not there, or may not be read. Its frames stay in the library as they were.",
            "Plug the disk in, mount the share or put its permissions right, then scan again.",
        )


def _said_before(library: Library, folder_id: int, root: Path) -> Callable[[str, FrameFacts], FrameFacts]:
    """Gives facts that were read anew what a person said of the same exposure."""
    with library.db.session() as session:
        said = said_of_folder(session, folder_id)

    def told(path: str, facts: FrameFacts) -> FrameFacts:
        of_it, read_utc = said.get(path, ({}, None))
        same = read_utc == (facts.utc.isoformat() if facts.utc else None)
        return replace(facts, said=of_it) if same and of_it != facts.said else facts

    return told


def _read(
    root: Path,
    path: str,
    here: Settling,
    counters: frozenset[str],
    told: Callable[[str, FrameFacts], FrameFacts],
) -> ReadFile:
    if not is_text(path):
        return ReadFile(
            None,
            "Its name, or that of its folder, is not text: it was written in an old alphabet.",
            "Rename it, then scan again.",
        )
    entry = read_file(root / path, here.site, counters)
    return entry if entry.facts is None else replace(entry, facts=here.settle(told(path, entry.facts)))


def _kin(facts: FrameFacts | None) -> object:
    """What a file has in common with a copy of it; None where it says no time, and so is told to be a copy of nothing."""
    if facts is None or facts.utc is None or facts.kind is None:
        return None
    return facts.camera, facts.utc, facts.kind


def _counters(paths: Sequence[str]) -> dict[str, frozenset[str]]:
    """Which numbers in the files' names only count frames, by path; names are compared within their folder."""
    by_folder: dict[str, list[str]] = {}
    for path in paths:
        by_folder.setdefault(path.rpartition("/")[0], []).append(path)
    return {
        f"{folder}/{name}" if folder else name: counted
        for folder, members in by_folder.items()
        for name, counted in counters_among(p.rpartition("/")[2] for p in members).items()
    }


def _to_read_again(library: Library, folder_id: int, counters: Mapping[str, frozenset[str]]) -> set[str]:
    """Files of which something makes no sense (their sets are left out), or that were read by other rules: their names
    were believed before the next ones showed that their numbers only count, or something of them was not understood."""
    with library.db.session() as session:
        again = without_a_frame(session, folder_id)
        if library.left_out:
            of_them = Frame.set_id.in_({set_id for _, set_id in library.left_out})
            makes_no_sense = not_(func.json_valid(Frame.facts))
            found = select(Frame.path).where(Frame.folder_id == folder_id, or_(of_them, makes_no_sense))
            again |= set(session.scalars(found))
        if library.setting(session, RULES_OF, {}).get(str(folder_id)) != rules_in_force():
            found = select(Frame.path).where(Frame.folder_id == folder_id, not_understood())
            again |= set(session.scalars(found))
        if counters:
            rows = session.execute(
                select(Frame.path, Frame.facts).where(
                    Frame.folder_id == folder_id,
                    readable(Frame.facts)["origins"].as_string().contains(FILE_NAME),
                )
            )
            again |= {
                path
                for path, kept in rows
                if any(kept["origins"].get(what) == FILE_NAME for what in counters.get(path, ()))
            }
    return again


def _finish(
    library: Library,
    control: JobControl,
    folder_id: int,
    fresh: int,
    seen: set[str],
    passed: Passed,
    moved: set[str],
) -> JobResult:
    with library.db.session() as session:
        folder = session.get_one(Folder, folder_id)
        skipped = NOT_ON_A_SHELF if folder.own else ()
    missed = note_missing(library, folder_id, {printable(p) for p in seen}, library.clock.now(), skipped)
    sure = join_what_is_sure(library)
    if sure:
        moved |= tell_again(library, carrying(sure))[0]
    sets = regroup(
        library, moved, progress=lambda share: control.report(0.8 + 0.15 * share, "Putting frames into sets")
    )
    recall_masters(
        library, lambda share: control.report(0.95 + 0.02 * share, "Looking up what masters were made of")
    )
    find_inputs(
        library,
        control.check,
        lambda share: control.report(0.97 + 0.03 * share, "Looking for the frames that masters were made of"),
    )
    with library.db.session() as session:
        rigs = make_rigs(session)
        kept = library.setting(session, RULES_OF, {})
        library.set_setting(session, RULES_OF, {**kept, str(folder_id): rules_in_force()})
    told = _told(library, folder_id, passed, bool(seen), fresh, sets, missed, len(rigs))
    library.touched()
    return told


def _told(
    library: Library,
    folder_id: int,
    passed: Passed,
    any_seen: bool,
    fresh: int = 0,
    sets: int = 0,
    missed: Missed = NOTHING_MISSED,
    rigs: int = 0,
) -> JobResult:
    """Note what a scan came to with its folder, and say it."""
    with library.db.session() as session:
        folder = session.get_one(Folder, folder_id)
        note_scan(folder, library.clock.now(), _trouble(passed, missed.missing, any_seen))
        folder.passed_over = dict(passed.endings)
        states = dict(
            session.execute(
                select(Frame.state, func.count()).where(Frame.folder_id == folder_id).group_by(Frame.state)
            ).all()
        )
    trouble = states.get("unreadable", 0) + states.get("lacking", 0)
    message = f"{fresh:,} new or changed, {sets:,} new sets"
    if rigs:
        message += f", {rigs:,} rig{'s' if rigs != 1 else ''} proposed"
    if missed.back:
        message += f", {missed.back:,} back"
    if missed.missing:
        message += f", {missed.missing:,} missing"
    if copies := states.get(DUPLICATE, 0):
        message += (
            ", 1 copy of a frame that counts" if copies == 1 else f", {copies:,} copies of frames that count"
        )
    if trouble:
        message += f", {trouble:,} to look at"
    return JobResult(message)


def _trouble(passed: Passed, missing: int, any_seen: bool) -> str:
    """What a folder says of itself until the next scan."""
    said = []
    if passed.closed:
        names = ", ".join(f"‘{printable(n)}’" for n in passed.closed[:3])
        more = f" and {len(passed.closed) - 3} more" if len(passed.closed) > 3 else ""
        said.append(f"{names}{more} may not be looked into by this user.")
    if missing and not any_seen:
        said.append("No frame is in it any more: is its disk in, its share mounted?")
    return " ".join(said)


def find_own_files(context: HasRunner) -> int | None:
    """Look through the library's own folder where it holds files that the database does not know.

    So it is after the database was lost, or an older copy of it was put in its place.
    """
    library = context.library
    with library.db.session() as session:
        folder_id = library.own_folder_id(session)
        known = set(session.scalars(select(Frame.path).where(Frame.folder_id == folder_id)))
    if not any((library.root / name).is_dir() for name in FRAME_FOLDERS):
        return None
    if all(printable(path) in known for path, _ in walk_frames(library.root)):
        return None
    return context.runner.start("scan", "Finding the library’s own files again", as_kept(ScanJob(folder_id)))
