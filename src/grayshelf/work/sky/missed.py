"""Flats that the last twilight did not bring: they are offered at the next one, less what was shot of them since."""

from __future__ import annotations

from collections import Counter
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.settings import RowKey
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.rigs.trains import train_of
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.models import Frame, Job, Rig
from grayshelf.library.records import read
from grayshelf.library.step_records import SkyParams
from grayshelf.library.trains import trains_in
from grayshelf.work.job_states import ENDED

#: From one dusk past the dawn after it up to the next dusk; later the train may be another.
NEXT_WITHIN = timedelta(hours=30)


def missed_before(session: Session, rig: Rig, now: datetime) -> dict[RowKey, int]:
    """How many flats of which rows the rig's last twilight did not bring, and nobody shot since; nothing where none are
    left, or it is long ago."""
    query = select(Job).where(Job.kind == "twilight", Job.rig_id == rig.id).order_by(Job.id.desc()).limit(1)
    job = session.scalar(query)
    if job is None or job.state not in ENDED or job.ended_at is None or now - job.ended_at > NEXT_WITHIN:
        return {}
    sky = [step for step in job.steps if step.kind == "sky"]
    left = {read(SkyParams, s.params).key: s.count - s.done for s in sky if s.done < s.count}
    if left:
        left = dict(Counter(left) - _flats_since(session, rig, job.ended_at))
    return left


def _flats_since(session: Session, rig: Rig, since: datetime) -> Counter[RowKey]:
    """Flats of a rig that were taken since a time, of any light, by row."""
    trains, found = trains_in(session), Counter[RowKey]()
    query = select(Frame.facts).where(
        Frame.camera == rig.camera,
        Frame.utc > since,
        Frame.kind == FrameKind.FLAT.value,
        Frame.state.in_(IN_SETS),
        ~Frame.rejected,
    )
    for kept in session.scalars(query):
        facts = facts_if_sound(kept)
        if facts is None or facts.is_master:
            continue
        whose = train_of(trains, facts.camera, facts.telescope, facts.focal_length_mm)
        if facts.telescope is None or not rig.telescope or whose == rig.id:
            code = facts.filter_code or "none"
            found[RowKey(code, facts.gain or 0.0, facts.offset or 0.0, facts.binning_x or 1)] += 1
    return found
