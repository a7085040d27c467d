"""Fetching frames from another Gray Shelf, or from a stick, and putting them on one: each verified by its hash, none twice."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from grayshelf.core.errors import Conflict, DiskFull
from grayshelf.core.filing.sharing import LISTING, Shared, SharedFrame, not_here, place_here
from grayshelf.library.fetched import fetched_before
from grayshelf.library.files import drop_unfinished, sha256_of, sync_folder, write_new
from grayshelf.library.folders import named_folder
from grayshelf.library.givers import giver
from grayshelf.library.library import Library
from grayshelf.library.models import Job
from grayshelf.library.records import as_kept, read
from grayshelf.library.room import KEEP_FREE_BYTES
from grayshelf.library.sharing import file_of, hash_of, known_here, shared, take_notes
from grayshelf.library.step_records import JobResult, ScanJob
from grayshelf.work.giving import OtherShelf, Source, Stick
from grayshelf.work.incoming import Incoming
from grayshelf.work.job_states import ALIVE
from grayshelf.work.jobs import JobControl, JobRunner

FETCH, PUT = "fetch", "put on a stick"
#: How often it is looked whether what came was entered.
LOOKED_AT_S = 0.2


@dataclass(frozen=True)
class FetchJob:
    """What is fetched: from a Gray Shelf on the list, or from a folder; nights, or all that is new."""

    giver: int | None = None
    folder: str | None = None
    nights: tuple[str, ...] | None = None
    """'2026-10-18'; '' stands for what has no night, as masters."""


def source_of(library: Library, job: FetchJob) -> Source:
    """Where it is fetched from."""
    if job.giver is not None:
        return OtherShelf(giver(library.root, job.giver))
    return Stick(named_folder(job.folder or ""))


def new_there(
    library: Library, source: Source, nights: Sequence[str] | None = None
) -> tuple[Shared, list[SharedFrame]]:
    """What a source gives, and which of its frames are not here."""
    told = source.listing()
    with library.db.session() as session:
        hashes, marks = known_here(session)
    before = fetched_before(library.root)
    new = [f for f in not_here(told.frames, hashes, marks) if not before.knows(told.name, f)]
    return told, [f for f in new if nights is None or f.night in nights]


def fetch(library: Library, runner: JobRunner, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that fetches (`FetchJob`); gone on with, it asks anew what is not here yet."""
    job = read(FetchJob, params)
    source = source_of(library, job)
    control.report(0.0, "Asking what is new")
    told, new = new_there(library, source, job.nights)
    failed: list[str] = []
    incoming, count = Incoming(library, control, source, told.name, new), 0
    try:
        count = incoming.bring(failed)
    finally:
        # Also where it was stopped, or the source is gone: what came is entered.
        scan = _enter(library, runner, incoming.came)
    _wait_for(library, control, scan)
    # Only now there are rigs that the nights' logs belong to.
    with library.db.session() as session:
        logs, values = take_notes(library, session, told.notes)
    if logs or values:
        library.touched()
    more = "".join(
        f", {n} {word}{'s' if n != 1 else ''}"
        for n, word in ((logs, "night’s log"), (values, "value")) if n
    )  # fmt: skip
    return JobResult(
        f"{count:,} frame{'s' if count != 1 else ''} fetched from {told.name}{more}", tuple(failed)
    )


def _enter(library: Library, runner: JobRunner, count: int) -> int | None:
    """Look through the library's own folder, which enters what came; the job that does it, where anything came."""
    if not count:
        return None
    with library.db.session() as session:
        folder_id = library.own_folder_id(session)
    return runner.start("scan", "Entering what was fetched", as_kept(ScanJob(folder_id)))


def _wait_for(library: Library, control: JobControl, job_id: int | None) -> None:
    while job_id is not None:
        with library.db.session() as session:
            if session.get_one(Job, job_id).state not in ALIVE:
                return
        control.report(1.0, "Entering what was fetched")
        if control.cancel.wait(LOOKED_AT_S):
            return


# -- onto a stick ---------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class PutJob:
    """What is put on a stick."""

    folder: str
    nights: tuple[str, ...]


def put_on_stick(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that puts nights on a stick (`PutJob`): copies, each read back; the list of them comes last."""
    job = read(PutJob, params)
    folder = named_folder(job.folder)
    with library.db.session() as session:
        told = shared(library, session)
    wanted = [f for f in told.frames if f.night in job.nights]
    there = _on_stick(folder)
    whole, come = sum(f.size_bytes for f in wanted) or 1, 0
    put: dict[str, SharedFrame] = {f.key: f for f in there.frames} if there else {}
    new = 0
    for number, frame in enumerate(wanted):
        control.check()
        control.report(come / whole, f"{number + 1:,} of {len(wanted):,}: {frame.path.rpartition('/')[2]}")
        on_it, is_new = _put_one(library, control, folder, told.name, frame)
        put[on_it.key] = on_it
        new += is_new
        come += frame.size_bytes
    _write_listing(folder, replace(told, frames=tuple(put.values())))
    return JobResult(f"{new:,} frame{'s' if new != 1 else ''} put on {folder}")


def _on_stick(folder: Path) -> Shared | None:
    return Stick(folder).listing() if (folder / LISTING).exists() else None


def _put_one(
    library: Library, control: JobControl, folder: Path, name: str, frame: SharedFrame
) -> tuple[SharedFrame, bool]:
    sha256 = hash_of(library, frame.key)
    with library.db.session() as session:
        path, _ = file_of(session, frame.key)
    place = place_here(
        name, f"{frame.night or 'no-night'}/{sha256[:8]}_{Path(frame.path).name}"
    ).removeprefix("frames/fetched/")
    target = folder / place
    on_it = replace(frame, key=place, sha256=sha256)
    if target.exists():
        if target.stat().st_size == frame.size_bytes and sha256_of(target) == sha256:
            return on_it, False
        raise Conflict(
            f"{target} is there and is another file; it was left as it is.", "Move it away, then go on."
        )
    drop_unfinished(target)
    target.parent.mkdir(parents=True, exist_ok=True)
    while library.room(folder) < frame.size_bytes + KEEP_FREE_BYTES:
        control.wait_for_room(DiskFull(folder, frame.size_bytes + KEEP_FREE_BYTES))
    with path.open("rb") as source:

        def copy(stream: Any) -> None:
            while piece := source.read(1 << 20):
                control.check()
                stream.write(piece)

        written = write_new(target, copy)
    if written != sha256:
        target.unlink()
        raise Conflict(
            f"{path} changed while it was copied; the copy was taken off the stick.", "Put it there again."
        )
    return on_it, True


def _write_listing(folder: Path, told: Shared) -> None:
    part = folder / f"{LISTING}.part"
    with part.open("w") as stream:
        json.dump(asdict(told), stream)
        stream.flush()
        os.fsync(stream.fileno())
    part.replace(folder / LISTING)
    sync_folder(folder)
