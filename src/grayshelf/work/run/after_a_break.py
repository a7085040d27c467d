"""A run that is gone on with after hours or days: what hands had put in place may stand there no more."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta

from grayshelf.core.planning.sheet import StepKind
from grayshelf.library.models import Job, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import RunJob, ShotStats
from grayshelf.work.gates import is_gate
from grayshelf.work.job_states import OPEN, StepState

#: After so long hands have been at the telescope, or the night is another one.
A_BREAK = timedelta(hours=2)
#: Gates that put something in the place of what was before the telescope.
PLACES = ("panel", "cap", "cover")


def go_on_after_a_break(job: Job, now: datetime) -> None:
    """Before a run goes on: an end by the clock that is past holds no more; and after a break what hands put in place is
    asked for again, and an exposure that was found and not used is looked for again."""
    begun = read(RunJob, job.params)
    if begun.until is not None and begun.until <= now:
        job.params = as_kept(replace(begun, until=None))
    steps = sorted(job.steps, key=lambda s: (s.seq, s.id))
    last = max((at for s in steps for at in _times_of(s)), default=None)
    current = next((n for n, s in enumerate(steps) if s.state in OPEN), None)
    if last is None or current is None or now - last < A_BREAK:
        return
    for gate in _in_force(steps[:current]):
        _open_again(gate)
    for find in _unused(steps):
        _open_again(find)
        for shot in find.shots:
            shot.stats = as_kept(replace(read(ShotStats, shot.stats), counts=False))


def _open_again(step: RunStep) -> None:
    step.state, step.outcome, step.ended_at = StepState.TO_DO, {}, None


def _unused(steps: Sequence[RunStep]) -> list[RunStep]:
    """Searches that found something which no flat was shot with yet."""
    flats = {s.row for s in steps if s.kind == StepKind.FLATS and s.state in OPEN and not s.done}
    return [s for s in steps if s.kind == StepKind.FIND and s.state == StepState.DONE and s.row in flats]


def _times_of(step: RunStep) -> list[datetime]:
    return [
        at for at in (step.started_at, step.ended_at, *(s.taken_at for s in step.shots)) if at is not None
    ]


def _in_force(before: Sequence[RunStep]) -> list[RunStep]:
    """Gates whose work has to stand still: the last one that changed what is before the telescope, and those after it."""
    gates = [s for s in before if s.kind == StepKind.GATE and s.state == StepState.DONE]
    places = [n for n, gate in enumerate(gates) if is_gate(gate, *PLACES)]
    return gates[places[-1] :] if places else gates
