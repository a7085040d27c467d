"""Frames that a run has counted: none counts twice, whatever becomes of its file."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.planning.sheet import SERIES
from grayshelf.library.models import RunShot, RunStep


def counted_elsewhere(session: Session, job_id: int, frame_id: int, name: str) -> bool:
    """Whether a frame of a job's series counted before its file came to be called `name`: it was moved while nothing ran."""
    query = (
        select(RunShot.id)
        .join(RunStep)
        .where(
            RunStep.job_id == job_id,
            RunStep.kind.in_(SERIES),
            RunShot.frame_id == frame_id,
            RunShot.path != name,
        )
    )
    return session.scalar(query.limit(1)) is not None
