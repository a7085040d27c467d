"""Reading every file of the library against what it was: what is gone, what changed, and what was never read whole."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path
from typing import Any

from sqlalchemy import func, select

from grayshelf.core.digits import named, several
from grayshelf.core.errors import Conflict, GrayShelfError
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.files import sha256_of
from grayshelf.library.folders import FileStamp, stamp_of
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, Job
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import JobResult
from grayshelf.library.verified import Verified
from grayshelf.work.jobs import ALIVE, JobControl, JobRunner

VERIFY = "verify"
#: Files of which it is told what is wrong; of more they are counted.
MOST_TOLD = 500
#: How far it is gets written down so often, in seconds: cut short, it goes on from there.
WRITTEN_EACH_S = 2.0
_AT_ONCE = 200


def begin_verifying(library: Library, runner: JobRunner) -> int:
    """Begin to read every file; returns the job.

    Raises
    ------
    Conflict
        Where it goes on already.
    """
    with runner.changing:
        with library.db.session() as session:
            if session.scalar(select(Job.id).where(Job.kind == VERIFY, Job.state.in_(ALIVE))) is not None:
                raise Conflict(
                    "Every file is being read already.", "Work, at the right edge, shows how far it is."
                )
        return runner.start(VERIFY, "Reading every file against what it was", as_kept(Verified()))


def verify(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that verifies the library (`Verified`)."""
    told = read(Verified, params)
    there = Frame.state.in_((*IN_SETS, "duplicate")) & Frame.missing_since.is_(None)
    with library.db.session() as session:
        whole = session.scalar(select(func.sum(Frame.size_bytes)).where(there)) or 1
        seen = session.scalar(select(func.sum(Frame.size_bytes)).where(there, Frame.id <= told.after)) or 0
        missing = session.scalar(select(func.count()).where(Frame.missing_since.is_not(None))) or 0
    written = time.monotonic()
    while True:
        with library.db.session() as session:
            query = select(Frame).where(there, Frame.id > told.after).order_by(Frame.id).limit(_AT_ONCE)
            frames = list(session.scalars(query))
            paths = [Path(f.folder.path) / f.path for f in frames]
        if not frames:
            break
        for frame, path in zip(frames, paths, strict=True):
            control.check()
            control.report(seen / whole, f"{several(told.read, 'file')} read: {path.name}")
            told, seen = _one(library, told, frame, path), seen + frame.size_bytes
            if time.monotonic() - written >= WRITTEN_EACH_S:
                _write(library, control.job_id, told)
                written = time.monotonic()
    _write(library, control.job_id, told)
    return JobResult(_in_words(told, missing), told.wrong)


def _one(library: Library, told: Verified, frame: Frame, path: Path) -> Verified:
    """Read one file, and hold it against what it was."""
    told = replace(told, after=frame.id)
    before = FileStamp(frame.size_bytes, frame.modified_ns)
    try:
        with library.db.session() as session:
            real = library.frame_path(session, session.get_one(Frame, frame.id))
        stamp = stamp_of(real)
        digest = sha256_of(real)
    except GrayShelfError:
        return _wrong(told, f"{path}: it is not there. Scan its folder, or put it back.", gone=True)
    except OSError as error:
        return _wrong(
            told, f"{path}: it could not be read to its end ({error.strerror}). Its disk may be failing."
        )
    told = replace(told, read=told.read + 1)
    if stamp != before:
        return _wrong(told, f"{path}: it was changed since its folder was scanned. Scan it again.")
    if frame.sha256 is None:
        with library.db.session() as session:
            session.get_one(Frame, frame.id).sha256 = digest
        return replace(told, first=told.first + 1)
    if frame.sha256 != digest:
        return _wrong(
            told,
            f"{path}: its bytes are others than they were, though nobody wrote it. Put a copy of it back, and check its disk.",
        )
    return replace(told, same=told.same + 1)


def _wrong(told: Verified, sentence: str, *, gone: bool = False) -> Verified:
    wrong = told.wrong if len(told.wrong) >= MOST_TOLD else (*told.wrong, sentence)
    return replace(told, wrong=wrong, gone=told.gone + gone, changed=told.changed + (not gone))


def _write(library: Library, job_id: int, told: Verified) -> None:
    with library.db.session() as session:
        session.get_one(Job, job_id).params = as_kept(told)


def _in_words(told: Verified, missing: int) -> str:
    parts = [several(told.same, "file is what it was", "files are what they were")]
    if told.first:
        was, known = named(told.first, "was", "were"), named(told.first, "is", "are")
        parts.append(f"{told.first:,} {was} read whole for the first time, and {known} known from now on")
    if told.changed:
        parts.append(several(told.changed, "is not what it was", "are not what they were"))
    if told.gone:
        parts.append(several(told.gone, "is not there", "are not there"))
    if missing:
        parts.append(several(missing, "was missing before", "were missing before"))
    return f"{'; '.join(parts)}."
