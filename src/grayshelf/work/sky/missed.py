"""Flats that the last twilight did not bring: they are offered at the next one."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.settings import RowKey
from grayshelf.library.models import Job
from grayshelf.library.records import read
from grayshelf.library.step_records import SkyParams
from grayshelf.work.job_states import ENDED

#: From one dusk past the dawn after it up to the next dusk; later the train may be another.
NEXT_WITHIN = timedelta(hours=30)


def missed_before(session: Session, rig_id: int, now: datetime) -> dict[RowKey, int]:
    """How many flats of which rows the rig's last twilight did not bring; nothing where it brought all, or is long ago."""
    query = select(Job).where(Job.kind == "twilight", Job.rig_id == rig_id).order_by(Job.id.desc()).limit(1)
    job = session.scalar(query)
    if job is None or job.state not in ENDED or job.ended_at is None or now - job.ended_at > NEXT_WITHIN:
        return {}
    sky = [step for step in job.steps if step.kind == "sky"]
    return {read(SkyParams, s.params).key: s.count - s.done for s in sky if s.done < s.count}
