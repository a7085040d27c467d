"""What all work in steps has in common: which step comes next, gates, frames found and taken, masters, telling.

Each change is on disk before the next thing is done, so that work which was cut short goes on from there.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, is_dataclass, replace
from typing import Any, ClassVar

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from grayshelf.core.errors import DeviceError
from grayshelf.core.filing.names import frame_place
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.planning.gates import TROUBLE, Gate, device_trouble
from grayshelf.devices.ports import RigDevices
from grayshelf.library.catalog import enter_own_file
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, Job, RunShot, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import GateOutcome, GateParams, JobResult
from grayshelf.work.beside_camera import BesideCamera
from grayshelf.work.gates import LEAVE_OUT, gate_step, hanging_stops, pass_gate, set_by_hand
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.jobs import JobControl, JobRunner, JobState
from grayshelf.work.masters_after import build_masters_of_job
from grayshelf.work.shooting import Shooter, Taken

Handler = Callable[[RunStep], None]

#: Room between the numbers of steps, so that a gate can be put in between.
SEQ = 100


def numbered(steps: list[RunStep]) -> list[RunStep]:
    """Steps with the numbers by which they follow one another."""
    for number, step in enumerate(steps, start=1):
        step.seq = number * SEQ
    return steps


@dataclass(frozen=True)
class Working:
    """What work in steps works with."""

    library: Library
    runner: JobRunner
    devices: RigDevices | None
    """None where another program, or the person's own hands, run the camera."""
    control: JobControl
    beside: RigDevices | None = None
    """Then what is attached beside that camera, where anything is; its camera stands for none."""


class Stepwise:
    """Work that goes through the steps of its job."""

    topic: ClassVar[str] = "run"
    """What pages listen to."""
    by_another_program: ClassVar[bool] = False
    """Whether a line says what has to be so, in place of gates: whoever shoots sees to it."""

    def __init__(self, working: Working) -> None:
        self.working = working
        self.library, self.runner, self.control = working.library, working.runner, working.control
        with self.library.db.session() as session:
            job = session.get_one(Job, self.control.job_id)
            self.rig = self.library.rig(session, job.rig_id or 0)
            self.zone = self.library.zone(session)
        found = working.beside
        #: What the rig does by itself beside another program's camera; None where hands, or that program, do all.
        self.beside = None if found is None else BesideCamera(self.library, self.control, found)

    @property
    def devices(self) -> RigDevices:
        """The rig's devices: whoever started this has seen to it that they are there."""
        assert self.working.devices is not None
        return self.working.devices

    def shooter(self) -> Shooter:
        """What takes frames for this job."""
        return Shooter(self.library, self.devices, self.control, self.rig, self.zone)

    # -- steps --------------------------------------------------------------------------------------------------

    def handlers(self) -> Mapping[str, Handler]:
        """What is done with each kind of step, beside gates."""
        raise NotImplementedError

    def ended(self) -> JobResult:
        """What is told at the end."""
        raise NotImplementedError

    def do(self) -> JobResult:
        """Work through the steps that are open."""
        while (step := self.next_step()) is not None:
            self.control.check()
            try:
                self.do_step(step)
            except DeviceError as error:
                # The step stays open: it goes on where it was, with the frames that it has.
                self.ask(step, device_trouble(error.message, error.advice))
            self.tell()
        return self._ended()

    def _ended(self) -> JobResult:
        """The end, where the rig may have something to do as well: all steps are done, and that is not lost by it."""
        while True:
            try:
                return self.ended()
            except DeviceError as error:
                with self.library.db.session() as session:
                    last = self.steps(session)[-1]
                self.ask(last, device_trouble(error.message, error.advice))

    def do_step(self, step: RunStep) -> None:
        """Do one step to its end."""
        if not self.begin(step):
            return
        if step.kind == "gate":
            self.gate(step)
        else:
            self.handlers()[step.kind](step)

    def next_step(self) -> RunStep | None:
        """The first step that is still open."""
        with self.library.db.session() as session:
            return session.scalar(
                select(RunStep)
                .where(RunStep.job_id == self.control.job_id, RunStep.state.in_(OPEN))
                .order_by(RunStep.seq, RunStep.id)
                .limit(1)
            )

    def steps(self, session: Session) -> list[RunStep]:
        """All steps of the job, in their order."""
        query = select(RunStep).where(RunStep.job_id == self.control.job_id).order_by(RunStep.seq, RunStep.id)
        return list(session.scalars(query))

    def change(self, step: RunStep, **values: Any) -> None:
        """Write values of a step down; records as the database keeps them."""
        with self.library.db.session() as session:
            row = session.get_one(RunStep, step.id)
            for name, value in values.items():
                kept = as_kept(value) if is_dataclass(value) else value
                setattr(row, name, kept)
                setattr(step, name, kept)

    def begin(self, step: RunStep) -> bool:
        """A step is being done; not where a person ticked it off between its choice and now."""
        started_at = step.started_at or self.library.clock.now()
        still_open = update(RunStep).where(RunStep.id == step.id, RunStep.state.in_(OPEN))
        with self.library.db.session() as session:
            found = session.execute(still_open.values(state=StepState.DOING, started_at=started_at))
            begun = bool(found.rowcount)  # type: ignore[attr-defined]
        if begun:
            step.state, step.started_at = StepState.DOING, started_at
        return begun

    def end(self, step: RunStep, state: StepState = StepState.DONE, outcome: object = None) -> None:
        """A step has ended, with what came of it; None leaves what was written of it."""
        told = {} if outcome is None else {"outcome": outcome}
        self.change(step, state=state, ended_at=self.library.clock.now(), **told)

    # -- gates --------------------------------------------------------------------------------------------------

    def gate(self, step: RunStep) -> None:
        """Wait for the person; with another program nothing is waited for, but for a device in trouble."""
        params = read(GateParams, step.params)
        if self.by_another_program and params.gate != TROUBLE:
            if self.beside is not None:
                self.beside.passes(params.gate)
            self.end(step)
            return
        if params.total is not None:
            # What hangs now is known only when the gate is reached: others may have come before it.
            with self.library.db.session() as session:
                more = params.total - hanging_stops(self.steps(session))
            self.change(step, params=replace(params, stops=more))
        devices = self.working.beside or self.devices
        answer = pass_gate(self.library, self.runner, devices, self.control, step)
        if answer == LEAVE_OUT:
            self.leave_out(step)
        state = StepState.SKIPPED if answer == LEAVE_OUT else StepState.DONE
        self.end(step, state, GateOutcome(answer))
        self.runner.set_state(self.control.job_id, JobState.RUNNING, "", "")

    def leave_out(self, gate: RunStep) -> None:
        """What waited behind a gate that is not passed is left out."""
        raise NotImplementedError

    def ask(self, step: RunStep, gate: Gate) -> None:
        """A gate in the middle of a step, for something that the rig cannot set."""
        asked = gate_step(gate)
        asked.job_id, asked.seq, asked.state = step.job_id, step.seq, StepState.DOING
        with self.library.db.session() as session:
            # It comes before its step in the order of the rows, also after the process was killed.
            session.get_one(RunStep, step.id).seq = step.seq + 1
            session.add(asked)
        step.seq += 1
        self.gate(asked)

    def by_hand(self, sign: str) -> str | None:
        """What was last set by hand at a gate of this sign."""
        with self.library.db.session() as session:
            return set_by_hand(sign, self.steps(session))

    # -- frames -------------------------------------------------------------------------------------------------

    def shots(self, step: RunStep) -> list[RunShot]:
        """The shots of a step, in order."""
        with self.library.db.session() as session:
            return list(
                session.scalars(select(RunShot).where(RunShot.step_id == step.id).order_by(RunShot.seq))
            )

    def place_of_series(self, facts: FrameFacts) -> str:
        """Folder and first part of the name of frames that are taken from now on."""
        return frame_place(facts, night_of_utc(self.library.clock.now(), self.zone))

    def frame_name(self, place: str, step: RunStep, number: int) -> str:
        """The path of a frame below the library's folder: it follows from job, step and number alone."""
        return f"{place}_run{self.control.tag}_{step.id:05d}_{number:03d}.fits"

    def enter(self, session: Session, name: str, taken: Taken, trouble: str) -> Frame:
        """Enter a frame that is on the disk; one with a trouble is set aside."""
        folder = session.get_one(Folder, self.library.own_folder_id(session))
        frame = enter_own_file(session, folder, name, taken.facts, taken.sha256)
        if trouble:
            frame.rejected, frame.reason = True, trouble
        return frame

    def build(self, step: RunStep) -> None:
        """Build the masters of everything this job has shot so far."""

        def tell(done: int, count: int, title: str) -> None:
            if title:
                with self.library.db.session() as session:
                    share, _ = self.progress_of(self.steps(session))
                self.control.report(share, f"Building {title}")
            self.change(step, count=count, done=done)
            self.publish()

        self.end(step, outcome=build_masters_of_job(self.library, self.control, tell))

    # -- telling ------------------------------------------------------------------------------------------------

    def tell(self) -> None:
        """Tell how far all is."""
        with self.library.db.session() as session:
            share, message = self.progress_of(self.steps(session))
        self.runner.set_progress(self.control.job_id, share, message)
        self.publish()

    def progress_of(self, steps: list[RunStep]) -> tuple[float, str]:
        """Share done, and what is being done."""
        raise NotImplementedError

    def publish(self) -> None:
        """Let pages look again."""
        self.runner.broker.publish(self.topic, id=self.control.job_id)
