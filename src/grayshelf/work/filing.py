"""Filing: each file brought to its place and told there before what it came from goes; stopped or killed, it goes on;
and all of it is taken back, also later.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from grayshelf.core.digits import file_size, several
from grayshelf.core.errors import Conflict, DiskOut, GrayShelfError, NotFound
from grayshelf.library.bringing import Left, Put, let_source_go, let_target_go
from grayshelf.library.choosing import Choice
from grayshelf.library.files import sync_folder
from grayshelf.library.filing import (
    FiledBy,
    FiledState,
    FilingPlan,
    FilingWishes,
    InUse,
    begin_filing,
    counts_of,
    filing_wishes,
    keep_filing_wishes,
    no_more_from,
    plan_filing,
)
from grayshelf.library.folder_list import folder_that_holds
from grayshelf.library.library import Library
from grayshelf.library.models import FiledFile, Filing, Folder, Frame, Job, RunShot, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_jobs import WITH_RIG, folder_watched
from grayshelf.library.step_records import JobResult, ScanJob
from grayshelf.work.filing_underway import Underway
from grayshelf.work.job_states import ALIVE
from grayshelf.work.jobs import JobControl, JobRunner
from grayshelf.work.letting_go_underway import underway

log = logging.getLogger(__name__)
#: Held while a filing is begun: two at once are refused. Not the runner's own lock, for which a run at night would wait.
beginning = threading.Lock()
FILE, UNFILE, DELETE = "file", "unfile", "delete"
BUILD = "build"
#: Reasons why single files stayed that are told with the job; the journal has all.
MOST_TOLD = 200


@dataclass(frozen=True)
class FileJob:
    """Files of a filing to be brought to their places, or back."""

    filing_id: int


def start_filing(
    library: Library, runner: JobRunner, choice: Choice, wishes: FilingWishes, words: str
) -> int:
    """Begin to file the frames that are chosen; returns the job.

    Raises
    ------
    GrayShelfError, FolderRefused, Conflict
    """
    with beginning:
        nobody_files(library)
        plan = plan_filing(library, choice, wishes, in_use(library))
        if not plan.going:
            raise GrayShelfError(
                "No frame goes anywhere: each is in its place, or stays for the reason beside it.",
                "Choose other frames, or change the patterns.",
            )
        return _start(library, runner, plan, wishes, words)


def in_use(library: Library) -> InUse:
    """Frames of runs and measurements that go on, and what comes into the folders that they watch."""
    with library.db.session() as session:
        shots = (
            select(RunShot.frame_id, Job.title)
            .join(RunStep, RunStep.id == RunShot.step_id)
            .join(Job, Job.id == RunStep.job_id)
            .where(Job.state.in_(ALIVE), RunShot.frame_id.is_not(None))
        )
        frames = {frame_id: title for frame_id, title in session.execute(shots) if frame_id is not None}
        going = session.scalars(select(Job).where(Job.kind.in_(WITH_RIG), Job.state.in_(ALIVE)))
        watched = {folder_watched(job.kind, job.params): job.title for job in going}
    return InUse(frames, {folder: title for folder, title in watched.items() if folder is not None})


def make_root(folder: Path) -> bool:
    """Make the folder that is filed into, where it is not there; whether it was made.

    Raises
    ------
    GrayShelfError
    """
    new = not folder.exists()
    try:
        folder.mkdir(exist_ok=True)
    except OSError as error:
        raise GrayShelfError(
            f"{folder} could not be made ({error.strerror}).", "Name a folder that you may write into."
        ) from error
    return new


def _start(library: Library, runner: JobRunner, plan: FilingPlan, wishes: FilingWishes, words: str) -> int:
    new = make_root(plan.root)
    _, _, below = folder_that_holds(library, str(plan.root))
    with library.db.session() as session:
        before = filing_wishes(library, session)
        keep_filing_wishes(
            library,
            session,
            FilingWishes(
                str(plan.root), wishes.patterns, wishes.unknown, wishes.way, wishes.along, before.from_now_on
            ),
        )
        filing_id = begin_filing(library, session, plan, wishes.way, words)
        if new and below:
            # One that is on the list itself stays, to be filed into again.
            session.get_one(Filing, filing_id).made_folders = [str(plan.root)]
    verb = "Moving" if wishes.way is FiledBy.MOVE else "Copying"
    return launch(
        library, runner, FILE, filing_id, f"{verb} {several(len(plan.going), 'frame')} into {plan.root.name}"
    )


def file_what_came_in(library: Library, runner: JobRunner, params: dict[str, Any]) -> str:
    """After a scan (`ScanJob`): file what came into a folder from which that is wished from now on; returns what a person has
    to do for it, in a sentence, or nothing."""
    folder_id = read(ScanJob, params).folder_id
    with library.db.session() as session:
        wishes = filing_wishes(library, session)
        folder = session.get(Folder, folder_id)
        words = f"that came into {folder.path}" if folder is not None else ""
    if folder_id not in wishes.from_now_on or not words:
        return ""
    try:
        start_filing(library, runner, Choice(folder_id=folder_id), wishes, words)
    except Conflict:
        runner.file_later.add(folder_id)
    except GrayShelfError as error:
        # Nothing to file, or its disk not in: the next scan looks again.
        log.info("not filed after the scan of folder %s: %s", folder_id, error)
        if isinstance(error, DiskOut):
            return f"{error.message} {error.advice}"
    return ""


def file_what_was_made(library: Library, runner: JobRunner, kind: str) -> None:
    """After a job of a `kind` that shoots or combines frames: file them, where that is wished of the folder that they are in;
    after a filing, what had to wait for it."""
    with library.db.session() as session:
        folder_ids, own = filing_wishes(library, session).from_now_on, library.own_folder_id(session)
    if kind in (FILE, UNFILE, DELETE):
        asked, runner.file_later = runner.file_later, set()
    elif kind == BUILD:
        asked = {own}
    else:
        # What came into a folder that it watched was held back for it.
        asked = set(folder_ids) if kind in WITH_RIG else set()
    for folder_id in folder_ids:
        if folder_id in asked:
            file_what_came_in(library, runner, as_kept(ScanJob(folder_id)))


def start_taking_back(library: Library, runner: JobRunner, filing_id: int) -> int:
    """Begin to bring all files of a filing back; returns the job.

    Raises
    ------
    NotFound, Conflict
    """
    with beginning:
        nobody_files(library)
        with library.db.session() as session:
            filing = session.get(Filing, filing_id)
            if filing is None:
                raise NotFound("Nothing of that number was filed.")
            if filing.taken_back_at is not None:
                raise Conflict("This was taken back already.")
            files = filing.n_files
        return launch(library, runner, UNFILE, filing_id, f"Bringing {several(files, 'file')} back")


def launch(library: Library, runner: JobRunner, kind: str, filing_id: int, title: str) -> int:
    """Start a job that works at an entry of the journal; returns its number."""
    job_id = runner.start(kind, title, as_kept(FileJob(filing_id)))
    with library.db.session() as session:
        session.get_one(Filing, filing_id).job_id = job_id
    return job_id


def nobody_files(library: Library) -> None:
    """Raise `Conflict` where files are being brought somewhere just now."""
    with library.db.session() as session:
        going = select(Job.title).where(Job.kind.in_((FILE, UNFILE, DELETE)), Job.state.in_(ALIVE)).limit(1)
        title = session.scalar(going)
    if title is not None:
        raise Conflict(f"{title} goes on just now.", "Wait for its end, or stop it, in Work.")


def file_away(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that files, packs or puts aside (`FileJob`)."""
    one = underway(library, read(FileJob, params).filing_id)
    if one.taken_back:
        raise Conflict("It was taken back in the meantime.")
    for part in one.parts((FiledState.PLANNED, FiledState.BEGUN, FiledState.THERE), control, one.verb):
        one.check_disk()
        _note(library, [f.id for f in part if f.state == FiledState.PLANNED], FiledState.BEGUN)
        known = _known(library, part)
        put: list[Put] = []
        left: list[tuple[int, str]] = []
        for file in part:
            control.check()
            try:
                put.append(one.bring(file, known.get(file.frame_id or 0), control.check))
            except Left as why:
                left.append((file.id, str(why)))
        one.write_made()
        _tell_there(library, one, known, put, left)
        for folder in {p.target.parent for p in put if p.moved}:
            sync_folder(folder)
        done = [p.file_id for p in put if not p.moved or let_source_go(p)]
        _note(library, done, FiledState.DONE)
    one.end(_done(library, one.filing_id))
    library.touched()
    return _told(library, one, FiledState.DONE, one.done_words, FiledState.LEFT, "stay where they were")


def take_filing_back(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that brings back what was filed (`FileJob`), the last one first."""
    one = underway(library, read(FileJob, params).filing_id)
    _file_no_more(library, one.filing_id)
    for part in one.parts(
        (FiledState.DONE, FiledState.THERE, FiledState.BEGUN), control, "Brought back", newest_first=True
    ):
        left: list[tuple[int, str]] = []
        back: list[Put] = []
        for file in part:
            control.check()
            try:
                back.append(one.bring_back(file, control.check))
            except Left as why:
                left.append((file.id, str(why)))
        with library.db.session() as session:
            rows = _rows(session, [f.id for f in part])
            one.tell_back(session, back)
            for file_id, reason in left:
                rows[file_id].reason = reason
        # Only then is it noted as back: killed in between, it is looked at once more.
        for p in back:
            let_target_go(p)
        _note(library, [p.file_id for p in back], FiledState.BACK)
    one.end_back()
    with library.db.session() as session:
        filing = session.get_one(Filing, one.filing_id)
        if not counts_of(session, one.filing_id).get(FiledState.DONE):
            filing.taken_back_at = library.clock.now()
    library.touched()
    return _told(
        library, one, FiledState.BACK, "where they were", FiledState.DONE, "could not be brought back"
    )


def _file_no_more(library: Library, filing_id: int) -> None:
    """What is brought back stays: what lies where it came from is filed by itself no more."""
    with library.db.session() as session:
        wishes = filing_wishes(library, session)
        for folder_id in wishes.from_now_on:
            folder = session.get(Folder, folder_id)
            below = FiledFile.source.startswith(f"{folder.path}/", autoescape=True) if folder else None
            mine = FiledFile.filing_id == filing_id
            if below is not None and session.scalar(select(FiledFile.id).where(mine, below).limit(1)):
                no_more_from(library, session, folder_id)


def delete_for_good(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that deletes what was thrown away (`FileJob`); the journal keeps its names."""
    one = underway(library, read(FileJob, params).filing_id)
    left: list[str] = []
    freed = 0
    for part in one.parts((FiledState.DONE,), control, "Deleted"):
        gone = []
        for file in part:
            control.check()
            try:
                freed += one.delete(file)
                gone.append(file.id)
            except Left as why:
                left.append(f"{file.source}: {why}")
        # Deleted twice it is deleted once: killed in between, it is found to be gone.
        _note(library, gone, FiledState.DELETED)
    one.end_back()
    library.touched()
    return JobResult(f"{file_size(freed)} are free again", tuple(left[:MOST_TOLD]))


def _known(library: Library, files: Sequence[FiledFile]) -> dict[int, str]:
    """What frames were when the library took them in, where it is known."""
    ids = [f.frame_id for f in files if f.frame_id is not None]
    with library.db.session() as session:
        query = select(Frame.id, Frame.sha256).where(Frame.id.in_(ids), Frame.sha256.is_not(None))
        return {frame_id: sha256 for frame_id, sha256 in session.execute(query) if sha256 is not None}


def _done(library: Library, filing_id: int) -> list[Path]:
    done = (FiledFile.filing_id == filing_id) & (FiledFile.state == FiledState.DONE.value)
    with library.db.session() as session:
        return [Path(s) for s in session.scalars(select(FiledFile.source).where(done))]


def _told(
    library: Library, one: Underway, good: FiledState, well: str, bad: FiledState, badly: str
) -> JobResult:
    with library.db.session() as session:
        counts = counts_of(session, one.filing_id)
        query = select(FiledFile.source, FiledFile.reason).where(
            FiledFile.filing_id == one.filing_id, FiledFile.state == bad, FiledFile.reason != ""
        )
        reasons = [f"{source}: {why}" for source, why in session.execute(query.limit(MOST_TOLD))]
        more = one.what_came_of_it(session) if good is FiledState.DONE else ""
    message = f"{several(counts.get(good, 0), 'file is', 'files are')} {well}{more}"
    if reasons:
        message += f"; {counts.get(bad, 0):,} {badly}"
    return JobResult(message, tuple(reasons))


def _tell_there(
    library: Library,
    one: Underway,
    known: dict[int, str],
    put: Sequence[Put],
    left: Sequence[tuple[int, str]],
) -> None:
    """Tell the frames' rows, and the journal, where files are now."""
    with library.db.session() as session:
        rows = _rows(session, [*(p.file_id for p in put), *(file_id for file_id, _ in left)])
        went = []
        for p in put:
            before = known.get(p.frame_id or 0)
            # What went before it was cut short is told already: its row has the new file by now.
            if None not in (p.was_sha256, before) and before not in (p.was_sha256, p.sha256):
                p.target.unlink()
                wrong = "It is not what it was when it came into the library. Check its disk."
                left = [*left, (p.file_id, wrong)]
                continue
            went.append(p)
            rows[p.file_id].state = FiledState.THERE
            rows[p.file_id].sha256 = p.was_sha256 or rows[p.file_id].sha256
        one.tell_there(session, went)
        for file_id, reason in left:
            rows[file_id].state, rows[file_id].reason = FiledState.LEFT, reason


def _rows(session: Session, ids: Sequence[int]) -> dict[int, FiledFile]:
    return {r.id: r for r in session.scalars(select(FiledFile).where(FiledFile.id.in_(ids)))}


def _note(library: Library, ids: Sequence[int], state: FiledState) -> None:
    if not ids:
        return
    with library.db.session() as session:
        session.execute(update(FiledFile).where(FiledFile.id.in_(ids)).values(state=state.value))
