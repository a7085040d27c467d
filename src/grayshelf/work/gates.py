"""Gates: where work waits for a person's hand. A gate has no default."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import takewhile
from typing import Any

from grayshelf.core.errors import Conflict
from grayshelf.core.flats.diffusers import listed
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import RunStep
from grayshelf.work.job_states import StepState
from grayshelf.work.jobs import JobControl, JobRunner, JobState, Stopped
from grayshelf.work.steps import OPEN


def diffuser_gate(light: str, stack: Sequence[str], stops: float, then: str) -> tuple[str, dict[str, Any]]:
    """Title and particulars of the gate at which a stack is hung before a light, or taken off; `then` follows."""
    words = listed(stack)
    params = {
        "gate": "diffuser",
        "stack": list(stack),
        "total": stops,
        "advice": f"Before {light}: {words}, and nothing else.",
        "answer": f"{words[0].upper()}{words[1:]} hangs: {then}" if stack else "They are off: go on",
        "can_leave_out": True,
    }
    return f"Hang {words}" if stack else "Take the diffusers off", params


def waiting_behind(gate: RunStep, steps: Sequence[RunStep]) -> list[RunStep]:
    """The open steps that a gate lets go on: those after it, up to the next change before the telescope.

    `steps` are all of the job, in their order.
    """
    after = [s for s in steps if (s.seq, s.id) > (gate.seq, gate.id)]
    changes = ("panel", "diffuser")
    return [
        s
        for s in takewhile(lambda s: s.kind != "gate" or s.params.get("gate") not in changes, after)
        if s.state in OPEN
    ]


def pass_gate(
    library: Library, runner: JobRunner, devices: RigDevices, control: JobControl, step: RunStep
) -> str:
    """Wait until the person answers, and return the answer: 'done' or 'leave out'."""
    gate = step.params.get("gate", "")
    if gate in ("cap", "cover") and devices.panel is not None:
        devices.panel.set_brightness(0)
    with library.db.session() as session:
        row = session.get_one(RunStep, step.id)
        # Whatever was answered before it was cut short: hands may have moved since, so it is asked again.
        row.state, row.outcome = StepState.WAITING, {k: v for k, v in row.outcome.items() if k != "answer"}
        step.state, step.outcome = row.state, row.outcome
    runner.set_state(control.job_id, JobState.WAITING, step.title, step.params.get("advice", ""))
    runner.broker.publish("run", id=control.job_id)
    answer = _wait_for_answer(library, control, step)
    hands = devices.hands
    if answer != "leave out" and hands is not None:
        if gate == "diffuser":
            hands.hung(float(step.params["stops"]))
        hands.did(gate)
    return answer


def _wait_for_answer(library: Library, control: JobControl, step: RunStep) -> str:
    while True:
        with library.db.session() as session:
            answer = session.get_one(RunStep, step.id).outcome.get("answer")
        if answer:
            step.outcome = {"answer": answer}
            return str(answer)
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
                    "This gate does not wait for an answer.", "Look at the sheet: it has moved on."
                )
            step.outcome = {**step.outcome, "answer": answer}
            step.state = StepState.DOING
    control.wake.set()
