"""Starting and resuming runs of Tonight."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any, Literal

from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, DeviceError, NotFound
from grayshelf.core.planning.sensor_then import SensorThen
from grayshelf.core.planning.sheet import SERIES, RunSheet, SheetStep, StepKind
from grayshelf.devices.ports import RigDevices
from grayshelf.library.folder_list import folder_that_holds
from grayshelf.library.library import Library
from grayshelf.library.models import Job, Rig, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import JobResult, RunJob, SheetParams, ShotStats
from grayshelf.work.by_rig import note_weather
from grayshelf.work.flats.finding import started_now
from grayshelf.work.gates import gate_step
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.jobs import JobControl, JobRunner, JobState, begins_job
from grayshelf.work.masters_after import group_new_frames
from grayshelf.work.rigs.park import RigPark
from grayshelf.work.run.after_a_break import go_on_after_a_break
from grayshelf.work.run.hand import HandRun
from grayshelf.work.run.run import Run
from grayshelf.work.shooting import leave_dark
from grayshelf.work.steps import Working, numbered


class RunStarter:
    """Starts and resumes runs: one at a time for each rig."""

    def __init__(self, library: Library, runner: JobRunner, rigs: RigPark) -> None:
        self.library, self.runner, self.rigs = library, runner, rigs
        runner.register("run", self._work)

    def devices(self, rig: Rig) -> RigDevices | None:
        """The devices behind a rig, if there are any."""
        return self.rigs.seen(rig)

    @begins_job
    def start(
        self,
        rig_id: int,
        sheet: RunSheet,
        by_hand: ByHand | None = None,
        until: datetime | None = None,
        *,
        sensor_then: SensorThen = SensorThen.KEPT_COLD,
    ) -> int:
        """Start a run of this sheet, with the rig's devices or by hand; to be over by a time, where one is given."""
        with self.library.db.session() as session:
            rig = self.library.rig(session, rig_id)
            self.runner.refuse_if_busy(rig.id)
            if by_hand is None and self.devices(rig) is None:
                raise Conflict(
                    "No devices are connected to this rig.", "Work the sheet with your own hands instead."
                )
            if not sheet.steps:
                raise Conflict("There is nothing on the sheet.", "Put something on it first.")
        begun = RunJob(sheet.rows, until=until, sensor_then=sensor_then)
        if by_hand is not None:
            begun = replace(begun, by_hand=True, since=started_now())
            if by_hand.folder is not None:
                _, real, _ = folder_that_holds(self.library, by_hand.folder)
                begun = replace(begun, folder=str(real))
        with self.library.db.session() as session:
            job_id = make_run(session, self.library, self.library.rig(session, rig_id), sheet, begun).id
        self.runner.launch(job_id)
        return job_id

    def tick(self, job_id: int, step_id: int, *, done: bool) -> None:
        """The person ticks a step of a run by hand off, or takes that back.

        Raises
        ------
        Conflict, NotFound
            Where the run is not by hand or does not go on, or has no such step to be ticked.
        """
        with self.runner.changing:
            control = self.runner.control(job_id)
            with self.library.db.session() as session:
                step = session.get(RunStep, step_id)
                if step is None or step.job_id != job_id or step.kind not in TICKED:
                    raise NotFound("There is no such step to be ticked off.", "Look at the page again.")
                if not read(RunJob, session.get_one(Job, job_id).params).by_hand:
                    raise Conflict("The rig shoots this run; its steps tick themselves off.")
                if may_tick(step) != ("off" if done else "open"):
                    raise Conflict("This step is as it should be already.", "Look at the page again.")
                if done:
                    step.state = StepState.SKIPPED if step.kind == StepKind.FIND else StepState.DONE
                    step.ended_at = self.library.clock.now()
                else:
                    _open_again(session, step)
        control.wake.set()

    def _work(self, control: JobControl, params: Mapping[str, Any]) -> JobResult:
        with self.library.db.session() as session:
            job = session.get_one(Job, control.job_id)
            rig = self.library.rig(session, job.rig_id or 0)
            by_hand = read(RunJob, params).by_hand
            devices = self.rigs.beside_camera(rig) if by_hand else self.rigs.of(rig)
            if control.tries == 1:
                # Not where it only waited for room on the disk.
                go_on_after_a_break(job, self.library.clock.now())
        begun = read(RunJob, params)
        if begun.by_hand:
            run = HandRun(Working(self.library, self.runner, None, control, devices), begun)
            if devices is not None:
                note_weather(self.library, rig.id, devices, begins=True)
            try:
                return run.do()
            finally:
                group_new_frames(self.library)
                if devices is not None:
                    # No panel stays on, however it ended.
                    leave_dark(devices)
                    note_weather(self.library, rig.id, devices, begins=False)
        if devices is None:
            raise DeviceError(
                "No devices are connected to this rig, so the run cannot go on.", "Connect them."
            )
        note_weather(self.library, rig.id, devices, begins=True)
        try:
            result = Run(Working(self.library, self.runner, devices, control)).do()
            note_weather(self.library, rig.id, devices, begins=False)
            return result
        finally:
            # A series that was cut short has frames too: they stand on the shelf, and ask for what they lack.
            group_new_frames(self.library)
            if control.cancel.is_set():
                # Stopped by hand: the panel must not stay on. The cooler is left as it is.
                leave_dark(devices)


@dataclass(frozen=True)
class ByHand:
    """A run that the person's own program shoots."""

    folder: str | None
    """Where its frames are waited for; None where steps are only ticked off."""


#: Steps that a hand can tick off.
TICKED = (StepKind.FIND, *SERIES)


def may_tick(step: RunStep) -> Literal["off", "open", ""]:
    """What a hand can do with a step of a run by hand: tick it off, open it again, or nothing where all of it is in."""
    if step.kind not in TICKED:
        return ""
    if step.state in OPEN:
        return "off"
    return "" if step.kind != StepKind.FIND and step.done >= step.count else "open"


def _open_again(session: Session, step: RunStep) -> None:
    """A step is done once more; a search from nothing, since the light is likely another one by now."""
    step.state, step.ended_at = StepState.TO_DO, None
    if step.kind != StepKind.FIND:
        return
    for shot in step.shots:
        shot.stats = as_kept(replace(read(ShotStats, shot.stats), counts=False))
    step.outcome = {}
    for other in session.get_one(Job, step.job_id).steps:
        if other.row == step.row and other.state == StepState.SKIPPED:
            other.state, other.ended_at = StepState.TO_DO, None


def make_run(
    session: Session, library: Library, rig: Rig, sheet: RunSheet, begun: RunJob | None = None
) -> Job:
    """Write a sheet down as a job with its steps; it is not started yet."""
    shot = sum(1 for s in sheet.steps if s.kind is StepKind.FLATS)
    darks = sum(1 for s in sheet.steps if s.kind is StepKind.DARKS)
    bias = any(s.kind is StepKind.BIAS for s in sheet.steps)
    parts = [f"flats in {shot} filter{'s' if shot != 1 else ''}"] if shot else []
    parts += [f"{darks} dark{'s' if darks != 1 else ''}"] if darks else []
    parts += ["bias"] if bias else []
    job = Job(
        kind="run",
        title=f"{rig.name}: {' and '.join(parts)}",
        state=JobState.QUEUED,
        params=as_kept(begun or RunJob(sheet.rows)),
        rig_id=rig.id,
        created_at=library.clock.now(),
        steps=numbered([run_step_of(step) for step in sheet.steps]),
    )
    session.add(job)
    session.flush()
    return job


def run_step_of(step: SheetStep) -> RunStep:
    """A step of a sheet as a run keeps it."""
    if step.gate is not None:
        made = gate_step(step.gate, step.seconds)
    else:
        dark = step.dark
        params = SheetParams(
            step.seconds, step.needs_person, step.exposure_s, step.exposure_known, served_by=step.served_by
        )
        if dark is not None:
            params = SheetParams(
                step.seconds,
                step.needs_person,
                dark.exposure_s,
                step.exposure_known,
                dark.gain,
                dark.offset,
                dark.binning,
                dark.set_temp_c,
                dark.lights,
                read_mode=dark.read_mode,
            )
        made = RunStep(kind=step.kind.value, title=step.title, params=as_kept(params))
    made.filter_code, made.row, made.count = step.filter_code, step.row, step.count
    if step.served_by is not None:
        made.state = StepState.SKIPPED
    return made
