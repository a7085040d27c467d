"""Jobs, as the tray shows them."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import select

from grayshelf.library.library import Library
from grayshelf.library.models import Job
from grayshelf.library.records import read
from grayshelf.library.step_records import JobResult
from grayshelf.web.common.schemas import JobOut, JobsOut
from grayshelf.work.job_states import JobState
from grayshelf.work.jobs import ALIVE, CAN_PAUSE, RESUMABLE

#: Ended jobs that the tray still shows.
MOST_ENDED = 8


def job_out(job: Job, library: Library) -> JobOut:
    """One job."""
    left = None
    state, message, advice = library.untold.get(job.id, (job.state, job.message, job.advice))
    if state == JobState.RUNNING and job.started_at is not None and 0.02 < job.progress < 1:
        spent = (library.clock.now() - job.started_at).total_seconds()
        left = spent * (1 - job.progress) / job.progress
    return JobOut(
        id=job.id,
        kind=job.kind,
        title=job.title,
        state=JobState(state),
        progress=job.progress,
        message=message,
        advice=advice,
        rig_id=job.rig_id,
        seconds_left=left,
        can_pause=job.kind in CAN_PAUSE and state in (JobState.RUNNING, JobState.PAUSED),
        can_stop=state in ALIVE,
        can_resume=state in RESUMABLE,
        ended=_ended(job.ended_at),
        troubles=[t for t in read(JobResult, job.result).failed if isinstance(t, str)],
    )


def _ended(at: datetime | None) -> str | None:
    return None if at is None else at.astimezone(UTC).isoformat()


def jobs_page(library: Library) -> JobsOut:
    """What goes on, and what ended lately; what was interrupted stays until it is gone on with."""
    with library.db.session() as session:
        alive = session.scalars(
            select(Job).where(Job.state.in_((*ALIVE, JobState.INTERRUPTED))).order_by(Job.id)
        ).all()
        ended = session.scalars(
            select(Job)
            .where(Job.state.in_((JobState.DONE, JobState.STOPPED, JobState.FAILED)))
            .order_by(Job.id.desc())
            .limit(MOST_ENDED)
        ).all()
        return JobsOut(alive=[job_out(j, library) for j in alive], ended=[job_out(j, library) for j in ended])
