"""Fetching frames from another Gray Shelf, or from a stick, and putting them on one: each verified by its hash, none twice."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from grayshelf.core.errors import Conflict, DiskFull, GrayShelfError
from grayshelf.core.filing.sharing import LISTING, Shared, SharedFrame, not_here, place_here
from grayshelf.library.arriving import ARRIVING
from grayshelf.library.fetched import fetched_before, note_fetched
from grayshelf.library.files import drop_unfinished, give_name, sha256_of, sync_folder, write_new
from grayshelf.library.folders import named_folder
from grayshelf.library.givers import giver
from grayshelf.library.library import Library
from grayshelf.library.models import Job
from grayshelf.library.records import as_kept, read
from grayshelf.library.room import KEEP_FREE_BYTES, as_disk_full
from grayshelf.library.sharing import file_of, hash_of, known_here, shared, take_notes
from grayshelf.library.step_records import JobResult, ScanJob
from grayshelf.work.giving import OtherShelf, Source, Stick
from grayshelf.work.job_states import ALIVE
from grayshelf.work.jobs import JobControl, JobRunner

FETCH, PUT = "fetch", "put on a stick"
#: How often it is looked whether what came was entered.
LOOKED_AT_S = 0.2
#: Frames of which it is told why they did not come; of more they are counted.
MOST_TOLD = 200


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
    whole, come = sum(f.size_bytes for f in new) or 1, 0
    count = 0
    for number, frame in enumerate(new):
        control.check()
        words = f"{number + 1:,} of {len(new):,}: {frame.path.rpartition('/')[2]}"

        def so_far(part: int, come: int = come, words: str = words) -> None:
            control.report((come + part) / whole, words)

        try:
            _fetch_one(library, control, source, told.name, frame, so_far)
            count += 1
        except Conflict as error:
            # One frame that does not come is told; a source that is gone ends it.
            if isinstance(error, _NotThis) and len(failed) < MOST_TOLD:
                failed.append(f"{frame.path}: {error.message}")
            elif not isinstance(error, _NotThis):
                _enter(library, runner, count)
                raise
        come += frame.size_bytes
    scan = _enter(library, runner, count)
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


class _NotThis(Conflict):
    """One frame does not come; the others may."""


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


def _fetch_one(
    library: Library,
    control: JobControl,
    source: Source,
    name: str,
    frame: SharedFrame,
    so_far: Callable[[int], None],
) -> None:
    """Bring one frame to its place: gone on with where it was cut off, read back and compared before it has its name."""
    part = _part_of(library, name, frame)
    wanted = frame.sha256 or source.sha256(frame)
    if len(wanted) != 64:
        raise _NotThis("Its hash is not told there.", "Fetch it again later.")
    target = _free_place(library, name, frame, wanted)
    if target is None:
        part.unlink(missing_ok=True)
        note_fetched(library.root, name, frame, wanted, "", library.clock.now())
        return
    begin = part.stat().st_size if part.exists() else 0
    if begin > frame.size_bytes:
        part.unlink()
        begin = 0
    while library.room(library.root) < frame.size_bytes - begin + KEEP_FREE_BYTES:
        control.wait_for_room(DiskFull(library.root, frame.size_bytes - begin + KEEP_FREE_BYTES))
    part.parent.mkdir(parents=True, exist_ok=True)
    _bring(control, source, frame, part, begin, so_far)
    if part.stat().st_size != frame.size_bytes or sha256_of(part) != wanted:
        part.unlink()
        raise _NotThis("It did not come as it is there, and was dropped.", "Fetch it again.")
    target.parent.mkdir(parents=True, exist_ok=True)
    give_name(part, target)
    part.unlink(missing_ok=True)
    with suppress(OSError):
        part.parent.rmdir()
    sync_folder(target.parent)
    place = target.relative_to(library.root).as_posix()
    note_fetched(library.root, name, frame, wanted, place, library.clock.now())


def _bring(
    control: JobControl,
    source: Source,
    frame: SharedFrame,
    part: Path,
    begin: int,
    so_far: Callable[[int], None],
) -> None:
    here = begin
    try:
        with part.open("ab") as stream:
            for piece in source.pieces(frame, begin) if begin < frame.size_bytes else ():
                control.check()
                stream.write(piece)
                here += len(piece)
                if here > frame.size_bytes:
                    break
                so_far(here)
            stream.flush()
            os.fsync(stream.fileno())
    except OSError as error:
        full = as_disk_full(error, part.parent)
        raise full or GrayShelfError(
            f"{part.parent} cannot be written into ({error.strerror}).", "Put its disk right, then go on."
        ) from error


def _part_of(library: Library, name: str, frame: SharedFrame) -> Path:
    """Where a frame comes to be whole: by what it is, so that the next start goes on with it."""
    mark = json.dumps([name, frame.path, frame.size_bytes])
    return library.root / "frames" / ARRIVING / f"{hashlib.sha256(mark.encode()).hexdigest()[:32]}.part"


def _free_place(library: Library, name: str, frame: SharedFrame, wanted: str) -> Path | None:
    """Where it goes; None where it is there already. Another file of its name is left alone."""
    place = library.root / place_here(name, frame.path)
    for number in range(1, 100):
        there = place if number == 1 else place.with_name(f"{wanted[:8]}-{number}_{place.name}")
        if not there.exists():
            return there
        if there.is_file() and there.stat().st_size == frame.size_bytes and sha256_of(there) == wanted:
            return None
    raise _NotThis("Too many other files have its name.", "File them elsewhere first.")


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
