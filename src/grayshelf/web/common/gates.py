"""Gates in words for the page: the same on every place that waits for a hand."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from grayshelf.core.planning.gates import Gate
from grayshelf.library.models import Job, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import GateParams
from grayshelf.web.common import in_words
from grayshelf.web.common.schemas import GateOut
from grayshelf.work.gates import waiting_behind
from grayshelf.work.job_states import JobState, StepState


def planned_gate(gate: Gate) -> GateOut:
    """A gate of a sheet that was not begun."""
    return _out(GateParams.of(gate), gate.title, (), None)


def gate_of(step: RunStep, steps: Sequence[RunStep]) -> GateOut:
    """A gate of a job, and for which filters; `steps` are all of the job, in their order."""
    gate = read(GateParams, step.params)
    if step.filter_code is not None:
        return _out(gate, step.title, (step.filter_code,), step)
    codes: tuple[str, ...] = ()
    if gate.may_leave_out:
        behind = (other.filter_code for other in waiting_behind(step, steps) if other.filter_code)
        codes = tuple(code for code in dict.fromkeys(behind) if code != "none")
    title = f"{step.title} for {in_words.listed(codes)}" if codes else step.title
    return _out(gate, title, codes, step)


def waiting_gate(job: Job | None, steps: Sequence[RunStep]) -> GateOut | None:
    """What waits for a hand, if anything does."""
    if job is None or job.state != JobState.WAITING:
        return None
    waiting = (step for step in steps if step.kind == "gate" and step.state == StepState.WAITING)
    step = next(waiting, None)
    return None if step is None else gate_of(step, steps)


def _out(gate: GateParams, title: str, codes: Iterable[str], step: RunStep | None) -> GateOut:
    return GateOut(
        job_id=0 if step is None else step.job_id,
        step_id=0 if step is None else step.id,
        sign=gate.gate,
        title=title,
        advice=gate.advice,
        brief=gate.brief,
        answer=gate.answer,
        leave_out=f"Leave {in_words.listed(codes) or 'it'} out" if gate.may_leave_out else "",
    )
