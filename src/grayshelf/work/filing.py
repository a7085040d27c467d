"""Filing: each file brought to its place and told there before what it came from goes; stopped or killed, it goes on;
and all of it is taken back, also later.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, GrayShelfError, NotFound
from grayshelf.library.bringing import Left, Put, bring, bring_back, let_source_go
from grayshelf.library.catalog import NOT_KEPT, set_aside
from grayshelf.library.choosing import Choice
from grayshelf.library.filing import (
    FiledBy,
    FiledState,
    FilingPlan,
    FilingWishes,
    begin_filing,
    counts_of,
    filing_wishes,
    keep_filing_wishes,
    plan_filing,
)
from grayshelf.library.folder_list import folder_that_holds
from grayshelf.library.folders import stamp_of
from grayshelf.library.library import Library
from grayshelf.library.missing import take_place
from grayshelf.library.models import FiledFile, Filing, Folder, Frame, Job, MendedFrame
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import JobResult
from grayshelf.work.job_states import ALIVE
from grayshelf.work.jobs import JobControl, JobRunner

FILE, UNFILE = "file", "unfile"
#: Files that are brought to their places between two entries of the journal.
AT_ONCE = 50
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
    with runner.changing:
        _nobody_files(library)
        plan = plan_filing(library, choice, wishes)
        if not plan.going:
            raise GrayShelfError(
                "No frame goes anywhere: each is in its place, or stays for the reason beside it.",
                "Choose other frames, or change the patterns.",
            )
        return _start(library, runner, plan, wishes, words)


def _start(library: Library, runner: JobRunner, plan: FilingPlan, wishes: FilingWishes, words: str) -> int:
    new = not plan.root.exists()
    try:
        plan.root.mkdir(exist_ok=True)
    except OSError as error:
        raise GrayShelfError(
            f"{plan.root} could not be made ({error.strerror}).", "Name a folder that you may write into."
        ) from error
    folder_id, _, below = folder_that_holds(library, str(plan.root))
    with library.db.session() as session:
        before = filing_wishes(library, session)
        keep_filing_wishes(
            library,
            session,
            FilingWishes(
                str(plan.root), wishes.patterns, wishes.unknown, wishes.way, wishes.along, before.from_now_on
            ),
        )
        filing_id = begin_filing(library, session, plan, wishes.way, words, folder_id)
        if new and below:
            # One that is on the list itself stays, to be filed into again.
            session.get_one(Filing, filing_id).made_folders = [str(plan.root)]
    verb = "Moving" if wishes.way is FiledBy.MOVE else "Copying"
    return _launch(
        library, runner, FILE, filing_id, f"{verb} {len(plan.going):,} frames into {plan.root.name}"
    )


def start_taking_back(library: Library, runner: JobRunner, filing_id: int) -> int:
    """Begin to bring all files of a filing back; returns the job.

    Raises
    ------
    NotFound, Conflict
    """
    with runner.changing:
        _nobody_files(library)
        with library.db.session() as session:
            filing = session.get(Filing, filing_id)
            if filing is None:
                raise NotFound("Nothing of that number was filed.")
            if filing.taken_back_at is not None:
                raise Conflict("This was taken back already.")
            files = filing.n_files
        return _launch(library, runner, UNFILE, filing_id, f"Bringing {files:,} files back")


def _launch(library: Library, runner: JobRunner, kind: str, filing_id: int, title: str) -> int:
    job_id = runner.start(kind, title, as_kept(FileJob(filing_id)))
    with library.db.session() as session:
        session.get_one(Filing, filing_id).job_id = job_id
    return job_id


def _nobody_files(library: Library) -> None:
    with library.db.session() as session:
        going = select(Job.title).where(Job.kind.in_((FILE, UNFILE)), Job.state.in_(ALIVE)).limit(1)
        title = session.scalar(going)
    if title is not None:
        raise Conflict(f"{title} goes on just now.", "Wait for its end, or stop it, in Work.")


def file_away(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that files (`FileJob`)."""
    one = _Filing(library, read(FileJob, params).filing_id)
    if one.taken_back:
        raise Conflict("It was taken back in the meantime.")
    for part in one.parts((FiledState.PLANNED, FiledState.BEGUN, FiledState.THERE), control, "Brought"):
        one.check_disk()
        _note(library, [f.id for f in part if f.state == FiledState.PLANNED], FiledState.BEGUN)
        put: list[Put] = []
        left: list[tuple[int, str]] = []
        for file in part:
            control.check()
            try:
                put.append(bring(file, one.moved(file), one.make_folder, control.check))
            except Left as why:
                left.append((file.id, str(why)))
        one.write_made()
        _tell_there(library, one, put, left)
        done = [p.file_id for p in put if not p.moved or let_source_go(p)]
        _note(library, done, FiledState.DONE)
    if one.moves:
        _drop_emptied(library, one.filing_id)
    library.touched()
    return _told(
        library, one.filing_id, FiledState.DONE, "in their places", FiledState.LEFT, "stay where they were"
    )


def take_filing_back(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that brings back what was filed (`FileJob`), the last one first."""
    one = _Filing(library, read(FileJob, params).filing_id)
    for part in one.parts(
        (FiledState.DONE, FiledState.THERE, FiledState.BEGUN), control, "Brought back", newest_first=True
    ):
        left: list[tuple[int, str]] = []
        back: list[Put] = []
        for file in part:
            control.check()
            try:
                back.append(bring_back(file, one.moved(file), control.check))
            except Left as why:
                left.append((file.id, str(why)))
        with library.db.session() as session:
            for p in back:
                one.tell_place(session, p.frame_id, p.target, p.source)
                session.get_one(FiledFile, p.file_id).state = FiledState.BACK
            for file_id, reason in left:
                session.get_one(FiledFile, file_id).reason = reason
        for p in back:
            if p.moved and p.source.exists() and p.target.exists():
                p.target.unlink()
    one.drop_made()
    with library.db.session() as session:
        filing = session.get_one(Filing, one.filing_id)
        if not counts_of(session, one.filing_id).get(FiledState.DONE):
            filing.taken_back_at = library.clock.now()
    library.touched()
    return _told(
        library,
        one.filing_id,
        FiledState.BACK,
        "where they were",
        FiledState.DONE,
        "could not be brought back",
    )


def _told(
    library: Library, filing_id: int, good: FiledState, well: str, bad: FiledState, badly: str
) -> JobResult:
    with library.db.session() as session:
        counts = counts_of(session, filing_id)
        query = select(FiledFile.source, FiledFile.reason).where(
            FiledFile.filing_id == filing_id, FiledFile.state == bad, FiledFile.reason != ""
        )
        reasons = [f"{source}: {why}" for source, why in session.execute(query.limit(MOST_TOLD))]
    message = f"{counts.get(good, 0):,} files are {well}"
    if reasons:
        message += f"; {counts.get(bad, 0):,} {badly}"
    return JobResult(message, tuple(reasons))


class _Filing:
    """A filing while it is worked at."""

    def __init__(self, library: Library, filing_id: int) -> None:
        self.library, self.filing_id = library, filing_id
        with library.db.session() as session:
            filing = session.get(Filing, filing_id)
            if filing is None:
                raise NotFound("What was to be filed is not in the journal any more.")
            self.root, self.moves = Path(filing.root), filing.way == FiledBy.MOVE
            self.taken_back, self.made = filing.taken_back_at is not None, list(filing.made_folders)
            self.n_files = filing.n_files
            self.folders = {f.id: Path(f.path) for f in session.scalars(select(Folder))}
            self.today = library.clock.now().astimezone(library.zone(session)).date()
        self.disk = self._disk()
        self._unwritten = False

    def _disk(self) -> tuple[int, int] | None:
        try:
            stat = self.root.stat()
        except OSError:
            return None
        return stat.st_dev, stat.st_ino

    def check_disk(self) -> None:
        """Raise where the folder that is filed into is not there any more: its disk was pulled."""
        if self.disk is None or self._disk() != self.disk:
            raise GrayShelfError(
                f"{self.root} is not there any more. Every file is where it was, or in its new place.",
                "Plug its disk in, then go on.",
            )

    def parts(
        self, states: Sequence[FiledState], control: JobControl, verb: str, *, newest_first: bool = False
    ) -> Iterator[list[FiledFile]]:
        """Files of these states, some at once."""
        after: int | None = None
        seen = 0
        with self.library.db.session() as session:
            whole = sum(counts_of(session, self.filing_id).get(s, 0) for s in states) or 1
        while True:
            with self.library.db.session() as session:
                query = select(FiledFile).where(
                    FiledFile.filing_id == self.filing_id, FiledFile.state.in_([s.value for s in states])
                )
                if after is not None:
                    query = query.where(FiledFile.id < after if newest_first else FiledFile.id > after)
                order = FiledFile.id.desc() if newest_first else FiledFile.id
                part = list(session.scalars(query.order_by(order).limit(AT_ONCE)))
                session.expunge_all()
            if not part:
                return
            after = part[-1].id
            control.check()
            control.report(seen / whole, f"{verb}: {seen:,} of {whole:,} files")
            yield part
            seen += len(part)

    def make_folder(self, folder: Path) -> None:
        """Make a folder below the root, noting what was not there before.

        Raises
        ------
        Left
            Where it leads elsewhere.
        """
        missing = []
        here = folder
        while not here.exists() and here != self.root:
            missing.append(here)
            here = here.parent
        if not here.resolve().is_relative_to(self.root.resolve()):
            raise Left(f"{here} leads out of the folder that is filed into.")
        for one in reversed(missing):
            one.mkdir(exist_ok=True)
            self.made.append(str(one))
            self._unwritten = True

    def write_made(self) -> None:
        """Keep which folders were made."""
        if self._unwritten:
            with self.library.db.session() as session:
                session.get_one(Filing, self.filing_id).made_folders = list(self.made)
            self._unwritten = False

    def drop_made(self) -> None:
        """Remove the folders that were made, where nothing lies in them."""
        for folder in sorted(self.made, key=len, reverse=True):
            _remove_empty(Path(folder))

    def moved(self, file: FiledFile) -> bool:
        """Whether a file is moved; what lies in the library's own folder is copied and keeps its place."""
        return self.moves and not Path(file.source).is_relative_to(self.library.root)

    def tell_place(self, session: Session, frame_id: int | None, was: Path, now: Path) -> None:
        """Let a frame's row have its file at its new place."""
        frame = session.get(Frame, frame_id) if frame_id is not None else None
        if frame is None or self.folders.get(frame.folder_id) is None:
            return
        of_library = was.is_relative_to(self.library.root) or now.is_relative_to(self.library.root)
        if of_library or self.folders[frame.folder_id] / frame.path != was:
            return
        holding = [i for i, path in self.folders.items() if now.is_relative_to(path)]
        if not holding:
            return
        folder_id = holding[0]
        out_of_rejects = frame.rejected and set_aside(frame.path)
        take_place(
            session, frame, folder_id, now.relative_to(self.folders[folder_id]).as_posix(), stamp_of(now)
        )
        if out_of_rejects and not frame.rejected:
            frame.rejected = True
            frame.reason = f"{NOT_KEPT} {self.today:%-d %b %Y}: it lay in a folder of rejects."
        session.execute(update(MendedFrame).where(MendedFrame.frame_id == frame.id).values(file=str(now)))


def _tell_there(library: Library, one: _Filing, put: Sequence[Put], left: Sequence[tuple[int, str]]) -> None:
    """Tell the frames' rows, and the journal, where files are now."""
    with library.db.session() as session:
        for p in put:
            known = session.get(Frame, p.frame_id) if p.frame_id is not None else None
            if p.sha256 is not None and known is not None and known.sha256 not in (None, p.sha256):
                p.target.unlink()
                left = [
                    *left,
                    (p.file_id, "It is not what it was when it came into the library. Check its disk."),
                ]
                continue
            one.tell_place(session, p.frame_id, p.source, p.target)
            row = session.get_one(FiledFile, p.file_id)
            row.state, row.sha256 = FiledState.THERE, p.sha256 or row.sha256
        for file_id, reason in left:
            row = session.get_one(FiledFile, file_id)
            row.state, row.reason = FiledState.LEFT, reason


def _note(library: Library, ids: Sequence[int], state: FiledState) -> None:
    if not ids:
        return
    with library.db.session() as session:
        session.execute(update(FiledFile).where(FiledFile.id.in_(ids)).values(state=state.value))


def _drop_emptied(library: Library, filing_id: int) -> None:
    """Remove folders that frames left and in which nothing lies any more."""
    with library.db.session() as session:
        roots = {Path(p) for p in session.scalars(select(Folder.path))}
        sources = session.scalars(
            select(FiledFile.source).where(
                FiledFile.filing_id == filing_id, FiledFile.state == FiledState.DONE.value
            )
        )
        folders = {Path(s).parent for s in sources}
    for folder in sorted(folders, key=lambda f: len(f.parts), reverse=True):
        here = folder
        while here not in roots and any(here.is_relative_to(r) for r in roots) and _remove_empty(here):
            here = here.parent


def _remove_empty(folder: Path) -> bool:
    try:
        folder.rmdir()
    except OSError:
        return False
    return True
