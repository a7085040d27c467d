"""Changes of a run that goes on: counts of what has not begun, what is left out or taken in again, and an early end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.planning.sensor_then import SensorThen
from grayshelf.core.planning.sheet import SERIES, StepKind
from grayshelf.library.models import Job, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import RunJob, SheetParams
from grayshelf.work.gates import is_gate
from grayshelf.work.job_states import ALIVE, OPEN, StepState
from grayshelf.work.jobs import JobRunner
from grayshelf.work.run.unattended import AT_SET_POINT

#: A series has at most so many frames.
MOST_FRAMES = 1000


def going(session: Session, job_id: int) -> tuple[Job, list[RunStep]]:
    """A run that goes on, with its steps.

    Raises
    ------
    Conflict, NotFound
    """
    job = session.get(Job, job_id)
    if job is None or job.kind != "run":
        raise NotFound("There is no such run.")
    if job.state not in ALIVE:
        raise Conflict(f"This run is {job.state}: nothing of it can be changed.", "Go on with it first.")
    query = select(RunStep).where(RunStep.job_id == job_id).order_by(RunStep.seq, RunStep.id)
    return job, list(session.scalars(query))


def change_series(
    runner: JobRunner, job_id: int, step_id: int, count: int | None = None, left_out: bool | None = None
) -> None:
    """Give a series that has not begun another number of frames, leave it out, or take it in again.

    Raises
    ------
    Conflict
        Where it has begun, or the run does not go on.
    NotFound
    """
    with runner.changing, runner.library.db.session() as session:
        _, steps = going(session, job_id)
        step = next((s for s in steps if s.id == step_id and s.kind in SERIES), None)
        if step is None:
            raise NotFound("There is no such series in this run.", "Look at the page again.")
        back = left_out is False and step.state == StepState.SKIPPED and not step.done
        if step.state != StepState.TO_DO and not back:
            raise Conflict("This series has begun, or is over already.", "Stop the run to end it here.")
        if count is not None:
            if not 1 <= count <= MOST_FRAMES:
                raise Conflict(f"A series has 1 to {MOST_FRAMES:,} frames.")
            params = read(SheetParams, step.params)
            step.params = as_kept(replace(params, seconds=params.seconds * count / max(step.count, 1)))
            step.count = count
            step.title = _retitled(step.title, count)
        if left_out is not None:
            step.state, step.ended_at = (StepState.SKIPPED if left_out else StepState.TO_DO), None
            step.params = as_kept(replace(read(SheetParams, step.params), served_by=None))
            _cool_for(steps, step)


def _retitled(title: str, count: int) -> str:
    """'30 darks of 60 s' with another number before it."""
    number, _, rest = title.partition(" ")
    return f"{count} {rest}" if number.isdigit() else title


def _cool_for(steps: Sequence[RunStep], changed: RunStep) -> None:
    """A set point is reached where something is shot at it."""
    if changed.kind not in AT_SET_POINT:
        return
    goal = read(SheetParams, changed.params).set_temp_c
    there = [s for s in steps if s.kind in AT_SET_POINT and read(SheetParams, s.params).set_temp_c == goal]
    wanted = any(s.kind == StepKind.DARKS and s.state in OPEN for s in there)
    for s in there:
        if s.kind == StepKind.COOL and s.state in (StepState.TO_DO, StepState.SKIPPED):
            s.state = StepState.TO_DO if wanted else StepState.SKIPPED


def finish_early(runner: JobRunner, job_id: int) -> None:
    """Shoot what is being shot to its end, with the dark flats of all flats that are there, build, and stop.

    Raises
    ------
    Conflict, NotFound
    """
    with runner.changing, runner.library.db.session() as session:
        _, steps = going(session, job_id)
        now = next((s for s in steps if s.state in OPEN), None)
        if now is None:
            return
        shot = {s.row for s in steps if s.kind == StepKind.FLATS and (s.done or s.row == now.row)} - {None}
        for step in steps:
            if step.state == StepState.TO_DO and not _still_needed(step, now, shot):
                step.state = StepState.SKIPPED


def _still_needed(step: RunStep, now: RunStep, shot: set[int | None]) -> bool:
    if step.kind == StepKind.BUILD:
        return True
    if step.kind == StepKind.DARK_FLATS:
        return step.row in shot
    if step.kind == StepKind.GATE and (is_gate(step, "cap") or is_gate(step, "cover")):
        return bool(shot)
    return step.row is not None and step.row == now.row


def end_by(runner: JobRunner, job_id: int, until: datetime | None, sensor_then: SensorThen) -> None:
    """Let a run that goes on be over by a time, or by none, and its sensor be warmed or kept cold."""
    with runner.changing, runner.library.db.session() as session:
        job, _ = going(session, job_id)
        job.params = as_kept(replace(read(RunJob, job.params), until=until, sensor_then=sensor_then))
