"""Gates: where work waits for a person's hand. A gate has no default."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import takewhile

from grayshelf.core.errors import Conflict
from grayshelf.core.planning.gates import TROUBLE, Gate
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import GateOutcome, GateParams
from grayshelf.work.by_rig import passes
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.jobs import JobControl, JobRunner, JobState, Stopped

#: How a gate is answered.
DONE, LEAVE_OUT = "done", "leave out"
#: What changes the light before the telescope: what waits behind one gate waits up to the next of these.
_CHANGES_LIGHT = ("panel", "diffuser")


def gate_step(gate: Gate, seconds: float = 0.0) -> RunStep:
    """A step that waits for a hand."""
    return RunStep(kind="gate", title=gate.title, params=as_kept(GateParams.of(gate, seconds)))


def is_gate(step: RunStep, *signs: str) -> bool:
    """Whether a step is a gate, and one about these."""
    return step.kind == "gate" and (not signs or read(GateParams, step.params).gate in signs)


def waiting_behind(gate: RunStep, steps: Sequence[RunStep]) -> list[RunStep]:
    """The open steps that a gate lets go on: those after it, up to the next change before the telescope.

    `steps` are all of the job, in their order.
    """
    after = [s for s in steps if (s.seq, s.id) > (gate.seq, gate.id)]
    behind = takewhile(lambda s: not is_gate(s, *_CHANGES_LIGHT), after)
    return [s for s in behind if s.state in OPEN]


def hanging_stops(steps: Sequence[RunStep]) -> float:
    """Stops of what hangs before the light since it was put in its place; `steps` are all of the job, in order."""
    stops = 0.0
    for step in steps:
        if step.state == StepState.DONE and is_gate(step, *_CHANGES_LIGHT):
            stops = read(GateParams, step.params).total or 0.0
    return stops


def set_by_hand(sign: str, steps: Sequence[RunStep]) -> str | None:
    """What was last set by hand at a gate of this sign: by the clock, since on the sky rows come in no fixed order."""
    done = [s for s in steps if s.state == StepState.DONE and is_gate(s, sign) and s.ended_at is not None]
    last = max(done, key=lambda s: (s.ended_at, s.id), default=None)
    return None if last is None else read(GateParams, last.params).value


def pass_gate(
    library: Library, runner: JobRunner, devices: RigDevices, control: JobControl, step: RunStep
) -> str:
    """Wait until the person answers, and return the answer: `DONE` or `LEAVE_OUT`."""
    gate = read(GateParams, step.params)
    if gate.gate in ("cap", "cover") and devices.panel is not None:
        devices.panel.set_brightness(0)
    with library.db.session() as session:
        row = session.get_one(RunStep, step.id)
        # Whatever was answered before it was cut short: hands may have moved since, so it is asked again.
        row.state, row.outcome = StepState.WAITING, {}
        step.state, step.outcome = row.state, row.outcome
    # The sky needs more of a hand than the pointing, where the gate says so.
    alone = passes(library, gate.gate, devices, control)
    if alone and (gate.gate != "sky" or not gate.needs_person):
        step.outcome = as_kept(GateOutcome(DONE))
        return DONE
    runner.set_state(control.job_id, JobState.WAITING, step.title, gate.advice)
    runner.broker.publish("run", id=control.job_id)
    answer = _wait_for_answer(library, control, step)
    hands = devices.hands
    # A device that is in trouble is not asked for anything here: that would be a trouble without a gate.
    if answer != LEAVE_OUT and hands is not None and gate.gate != TROUBLE:
        if gate.gate == "diffuser":
            hands.hung(gate.stops)
        hands.did(gate.gate)
    return answer


def _wait_for_answer(library: Library, control: JobControl, step: RunStep) -> str:
    while True:
        with library.db.session() as session:
            outcome = read(GateOutcome, session.get_one(RunStep, step.id).outcome)
        if outcome.answer:
            step.outcome = as_kept(outcome)
            return outcome.answer
        control.wake.wait(0.5)
        control.wake.clear()
        if control.cancel.is_set():
            raise Stopped


def answer_gate(library: Library, runner: JobRunner, job_id: int, step_id: int, answer: str) -> None:
    """The person answers a gate.

    Raises
    ------
    Conflict
        Where this gate does not wait.
    """
    with runner.changing:
        # Asked first: an answer to a job that is not going on must not count when it is gone on with.
        control = runner.control(job_id)
        with library.db.session() as session:
            step = session.get(RunStep, step_id)
            if (
                control.cancel.is_set()
                or step is None
                or step.job_id != job_id
                or step.state != StepState.WAITING
            ):
                raise Conflict(
                    "Nothing waits for this answer any more.", "Look at the page again: it has moved on."
                )
            if answer == LEAVE_OUT and not read(GateParams, step.params).may_leave_out:
                raise Conflict("There is nothing to leave out here.", "Stop the work instead.")
            step.outcome = as_kept(replace(read(GateOutcome, step.outcome), answer=answer))
            step.state = StepState.DOING
    control.wake.set()
