"""Folders in words: what was read of them, what is in the way, and taking them off the list."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Container
from pathlib import Path
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.library import missing
from grayshelf.library.filing import no_more_from
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, Job
from grayshelf.library.not_lacking import lacks_nothing_asked_for
from grayshelf.library.records import read
from grayshelf.library.step_records import RunJob, ScanJob
from grayshelf.web.common import in_words
from grayshelf.web.common.schemas import JobOut
from grayshelf.web.intake.problems import COPIES, TO_LOOK_AT
from grayshelf.web.intake.schemas import CountOut, FolderOut
from grayshelf.web.intake.sets import KIND_ORDER
from grayshelf.work.folder_watch import stop_watching
from grayshelf.work.jobs import ALIVE

#: Endings of files that may hold frames which cannot be read yet, by what they are.
_CANNOT_READ = {
    "camera raw": (".raw", ".crw", ".x3f", ".3fr", ".iiq", ".mrw", ".kdc"),
    "packed": (".z", ".zip", ".bz2", ".xz", ".7z", ".rar", ".tar", ".tgz", ".lz4", ".zst"),
}
#: Endings of pictures that are no frames: beside frames nobody asks what they are.
_PICTURES = (".jpg", ".jpeg", ".png")


@kept(2)
def counts_by_folder(
    library: Library, revision: int, newest_frame: int
) -> dict[int, dict[tuple[str, str | None], int]]:
    """Frames by folder, by state and kind; counted anew where the shelf changed or frames came."""
    counts: dict[int, dict[tuple[str, str | None], int]] = defaultdict(lambda: defaultdict(int))
    # In the order of `ix_frame_counts`, so that no frame is read.
    columns = Frame.folder_id, Frame.state, Frame.kind
    query = select(*columns, func.count(), func.count(Frame.missing_since)).group_by(*columns)
    with library.db.own_session() as session:
        for folder_id, state, kind, count, missing in session.execute(query):
            told_missing = 0 if state == "gone" else missing
            for told, number in ((state, count - told_missing), ("missing", told_missing)):
                if number:
                    counts[folder_id][(told, kind)] += number
        by_kind = select(Frame.folder_id, Frame.kind, func.count()).group_by(Frame.folder_id, Frame.kind)
        for folder_id, kind, count in session.execute(by_kind.where(lacks_nothing_asked_for(session))):
            counts[folder_id][("lacking", kind)] -= count
            counts[folder_id][("good", kind)] += count
    return counts


def folder_out(
    folder: Folder,
    counts: dict[tuple[str, str | None], int],
    job: JobOut | None,
    zone: ZoneInfo,
    watched: bool = False,
    ahead: int = 0,
) -> FolderOut:
    """A folder: its frames by kind, what is in the way, and the scan that goes on; `ahead` are dated so."""

    def of(states: Container[str]) -> int:
        return sum(n for (state, _), n in counts.items() if state in states)

    total = sum(n for (state, _), n in counts.items() if state != "gone")
    return FolderOut(
        id=folder.id,
        path=folder.path,
        scanned=f"{folder.scanned_at.astimezone(zone):%-d %b, %H:%M}" if folder.scanned_at else None,
        trouble=folder.trouble,
        passed_over=passed_over_in_words(folder.passed_over, any_frames=total > 0),
        total=total,
        kinds=_kinds(counts),
        to_look_at=of(TO_LOOK_AT) + ahead,
        copies=of((COPIES,)),
        missing=of(("missing",)),
        job=job,
        watched=watched,
    )


def passed_over_in_words(endings: dict[str, int], *, any_frames: bool) -> str:
    """What else was seen in a folder: '38 camera raw files (.x3f) were seen; they cannot be read yet.'"""
    told = {what: _of(endings, known) for what, known in _CANNOT_READ.items()}
    parts = [
        f"{in_words.several(sum(here.values()), f'{what} file')} ({', '.join(here)})"
        for what, here in told.items()
        if here
    ]
    said = []
    if parts:
        one = sum(n for here in told.values() for n in here.values()) == 1
        verb, they = ("was", "it") if one else ("were", "they")
        said.append(f"{in_words.listed(parts)} {verb} seen; {they} cannot be read yet.")
    pictures = _of(endings, _PICTURES)
    if pictures and not any_frames:
        count = sum(pictures.values())
        is_none = "is no frame" if count == 1 else "are no frames"
        said.append(
            f"{in_words.several(count, 'picture')} ({', '.join(pictures)}) {is_none} as a sensor gives them."
        )
    return " ".join(said)


def _of(endings: dict[str, int], known: Container[str]) -> dict[str, int]:
    return {ending: count for ending, count in sorted(endings.items()) if ending in known}


def _kinds(counts: dict[tuple[str, str | None], int]) -> list[CountOut]:
    totals: dict[str, int] = defaultdict(int)
    for (state, kind), count in counts.items():
        if kind is not None and state in ("good", "lacking"):
            totals[kind] += count
    return [
        CountOut(name=in_words.named(totals[k], k), count=totals[k])
        for k in sorted(totals, key=lambda k: KIND_ORDER[k])
    ]


def forget_folder(library: Library, folder_id: int) -> str:
    """Take a folder off the list: its frames leave the library, its files are not touched."""
    with library.db.session() as session:
        folder = _folder(session, folder_id)
        going = session.scalars(select(Job).where(Job.kind == "scan", Job.state.in_(ALIVE)))
        if any(read(ScanJob, job.params).folder_id == folder_id for job in going):
            raise Conflict(f"{folder.path} is being scanned.", "Stop the scan first.")
        waiting = session.scalars(select(Job).where(Job.kind == "run", Job.state.in_(ALIVE)))
        watched = [read(RunJob, job.params).folder for job in waiting]
        if any(w is not None and Path(w).is_relative_to(folder.path) for w in watched):
            raise Conflict(f"A run waits for frames in {folder.path}.", "Stop the run first.")
        path = folder.path
    missing.forget_frames(library, folder_id)
    with library.db.session() as session:
        # The next folder on the list may have its number: it is not to be watched, or moved from, for that.
        no_more_from(library, session, folder_id)
        stop_watching(library, session, folder_id)
        session.delete(_folder(session, folder_id))
    library.touched()
    return path


def _folder(session: Session, folder_id: int) -> Folder:
    folder = session.get(Folder, folder_id)
    if folder is None or folder.own:
        raise NotFound("This folder is not on the list.")
    return folder


def let_go(library: Library, folder_id: int) -> int:
    """Let go of what is missing in a folder, the library's own included."""
    with library.db.session() as session:
        if session.get(Folder, folder_id) is None:
            raise NotFound("This folder is not on the list.")
    count = missing.let_go(library, folder_id)
    library.touched()
    return count
