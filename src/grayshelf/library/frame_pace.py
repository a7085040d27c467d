"""The pace of a rig's own series, as its runs left it in the database."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.planning.frame_pace import Begun, beside_exposure_s
from grayshelf.core.planning.sheet import SERIES
from grayshelf.library.models import Job, Rig, RunShot, RunStep
from grayshelf.library.rig_terms import camera_of

#: So many of the newest frames are looked at: another cable, or program, has another pace.
NEWEST = 60


def pace_seen(session: Session, rig: Rig) -> float | None:
    """Seconds that a frame of this rig takes beside its exposure and the pause; None where no run tells."""
    query = (
        select(RunShot.step_id, RunShot.taken_at, RunShot.exposure_s)
        .join(RunStep, RunStep.id == RunShot.step_id)
        .join(Job, Job.id == RunStep.job_id)
        .where(Job.rig_id == rig.id, RunStep.kind.in_(SERIES))
        .order_by(RunShot.id.desc())
        .limit(NEWEST)
    )
    frames = [Begun(*row) for row in reversed(session.execute(query).all())]
    return beside_exposure_s(frames, camera_of(rig).pause_s or 0.0)
