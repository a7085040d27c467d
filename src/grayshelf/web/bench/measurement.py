"""One measurement in words."""

from __future__ import annotations

from typing import cast

from grayshelf.library.bench_frames import kept_frames
from grayshelf.library.camera_values import accepted
from grayshelf.library.library import Library
from grayshelf.library.measurement_records import settings_of
from grayshelf.library.measurements import measurement, measurements_of
from grayshelf.library.models import Job, Measurement, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import word_where_measured
from grayshelf.library.step_records import MeasurementJob, MeasureOutcome, MeasureParams
from grayshelf.web.bench.gain import gains_out
from grayshelf.web.bench.offset import offset_of_gain
from grayshelf.web.bench.page import accepted_out, measurement_item
from grayshelf.web.bench.schemas import FramesOut, HandAskOut, Kind, MeasurementOut, NumberToSetOut
from grayshelf.web.common import in_words
from grayshelf.web.common.gates import waiting_gate
from grayshelf.web.common.jobs import job_out
from grayshelf.web.common.schemas import RefusedOut
from grayshelf.work.job_states import JobState, StepState
from grayshelf.work.jobs import ALIVE


def measurement_page(library: Library, measurement_id: int) -> MeasurementOut:
    """One measurement, with everything it says."""
    with library.db.session() as session:
        row = measurement(session, measurement_id)
        word = word_where_measured(library, row.camera)
        job = session.get(Job, row.job_id) if row.job_id else None
        steps = _steps(job)
        kept = kept_frames(session, row)
        known = accepted(session, row.camera, row.kind)
        others = [m for m in measurements_of(session, row.camera, row.kind) if m.id != row.id]
        return MeasurementOut(
            id=row.id,
            kind=cast(Kind, row.kind),
            camera=row.camera,
            title=measurement_item(row, word).title,
            when=in_words.day(row.made_at.date()),
            source=measurement_item(row, word).source,
            conditions=_conditions(row, kept.count),
            notes=list(row.notes),
            frames=FramesOut(count=kept.count, size=in_words.size(kept.size_bytes), state=kept.state),
            job=job_out(job, library) if job is not None and job.state != JobState.DONE else None,
            gate=waiting_gate(job, [] if job is None else job.steps),
            hand=_asked_of_hands(job),
            offset=[
                offset_of_gain(library, session, row, gain, word, steps.get(gain), job, known.get(gain))
                for gain in (row.gains if row.kind == "offset" else [])
            ],
            gain=gains_out(
                library, session, row, word, steps, job, {g: accepted_out(v, word) for g, v in known.items()}
            )
            if row.kind == "gain"
            else None,
            earlier=[measurement_item(m, word) for m in others],
        )


def _asked_of_hands(job: Job | None) -> HandAskOut | None:
    """What another program is to shoot next; None where the rig shoots, or nothing is waited for."""
    folder = None if job is None else read(MeasurementJob, job.params).folder
    step = None if job is None else next((s for s in job.steps if s.state == StepState.DOING), None)
    if job is None or folder is None or step is None or job.state not in ALIVE:
        return None
    asked = read(MeasureOutcome, step.outcome)
    if not asked.asks:
        return None
    return HandAskOut(
        line=asked.asks,
        before=asked.before,
        dials=[NumberToSetOut(name=name, copied=copied) for name, copied in asked.dials],
        refused=[RefusedOut(name=r.name, why=r.why) for r in asked.refused],
        folder=folder,
    )


def _steps(job: Job | None) -> dict[float, RunStep]:
    """The steps of an exercise by gain."""
    return (
        {} if job is None else {read(MeasureParams, s.params).gain: s for s in job.steps if s.kind != "gate"}
    )


def _conditions(row: Measurement, count: int) -> str:
    parts = [row.camera]
    temp_c = settings_of(row).temp_c
    if temp_c is not None:
        parts.append(in_words.degrees_c(temp_c))
    parts.append(in_words.several(count, "frame"))
    return ", ".join(parts)
