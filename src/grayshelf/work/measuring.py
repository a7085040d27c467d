"""What the two exercises of the Bench share: their job with its steps, taking a frame and keeping what it said."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import DeviceError
from grayshelf.core.filing.names import safe_name
from grayshelf.core.sensor.statistics import sample_step
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.measurements import bench_folder, enter_measured_frame
from grayshelf.library.models import Job, Measurement, MeasurementShot, Rig, RunStep
from grayshelf.work.gates import pass_gate
from grayshelf.work.jobs import JobControl, JobRunner, JobState
from grayshelf.work.shooting import Shooter, ShotSettings, Taken
from grayshelf.work.steps import OPEN, Stepwise


def make_measurement(
    session: Session,
    library: Library,
    rig: Rig,
    devices: RigDevices,
    kind: str,
    gains: Sequence[float],
    settings: dict[str, Any],
) -> Measurement:
    """Write a measurement down that is about to be shot."""
    camera = devices.camera.facts
    row = Measurement(
        kind=kind,
        camera=camera.name,
        rig_id=rig.id,
        source="shot",
        gains=sorted(gains),
        settings={
            "white_adu": camera.white_adu,
            "width": camera.width,
            "height": camera.height,
            "bayer_pattern": camera.bayer_pattern,
            "offset_range": list(camera.offset_range) if camera.offset_range else None,
            "temp_c": devices.camera.cooler().sensor_c,
            **settings,
        },
        made_at=library.clock.now(),
    )
    session.add(row)
    session.flush()
    return row


def make_job(
    session: Session, library: Library, rig: Rig, row: Measurement, title: str, steps: Sequence[RunStep]
) -> int:
    """Write the job of a measurement down with its steps; it is not started yet."""
    job = Job(
        kind=row.kind,
        title=title,
        state=JobState.QUEUED,
        params={"measurement_id": row.id},
        rig_id=rig.id,
        created_at=library.clock.now(),
    )
    for number, step in enumerate(steps, start=1):
        step.seq = number
        job.steps.append(step)
    session.add(job)
    session.flush()
    row.job_id = job.id
    return job.id


class Exercise(Stepwise):
    """One measurement being shot: gates first, then one step for each gain."""

    def __init__(
        self,
        library: Library,
        runner: JobRunner,
        devices: RigDevices,
        control: JobControl,
        measurement_id: int,
    ) -> None:
        self.library, self.runner, self.devices, self.control = library, runner, devices, control
        self.id = measurement_id
        with library.db.session() as session:
            self.row = session.get_one(Measurement, measurement_id)
            rig = library.rig(session, self.row.rig_id or 0)
            self.shooter = Shooter(library, devices, control, rig, library.zone(session))
        self.folder = bench_folder(safe_name(self.row.camera), measurement_id)

    def do(self) -> dict[str, Any]:
        """Work through the steps that are open. What was shot before it was cut short is not shot again."""
        while (step := self.next_step()) is not None:
            self.control.check()
            self.begin(step)
            if step.kind == "gate":
                answer = pass_gate(self.library, self.runner, self.devices, self.control, step)
                self.end(step, answer=answer)
                self.runner.set_state(self.control.job_id, JobState.RUNNING, "", "")
            else:
                self.measure(step, float(step.params["gain"]))
            self._tell("")
        return {"message": self.message(), "measurement_id": self.id}

    def measure(self, step: RunStep, gain: float) -> None:
        """Measure one gain."""
        raise NotImplementedError

    def message(self) -> str:
        """What came of it, in a sentence."""
        with self.library.db.session() as session:
            steps = session.scalars(
                select(RunStep).where(RunStep.job_id == self.control.job_id, RunStep.kind != "gate")
            ).all()
            return " ".join(str(s.outcome.get("message", "")) for s in steps)

    def take(
        self,
        gain: float,
        offset: float,
        role: str,
        settings: ShotSettings,
        *,
        name: str,
        why: str,
        pair: int | None = None,
        brightness: int | None = None,
        source: str = "",
    ) -> tuple[Taken, MeasurementShot]:
        """Take one frame and enter it; its reading is added by `read`."""
        self.control.check()
        path = f"{self.folder}/g{gain:g}_{name}_{self.control.token}.fits"
        taken = self.shooter.take(path, settings)
        if taken.pixels.dtype != "uint16":
            raise DeviceError(
                f"{self.row.camera} gave frames that are not 16-bit whole numbers, so they cannot be measured.",
                "Set its driver to raw 16-bit frames.",
            )
        step = sample_step(taken.pixels) if self.row.settings.get("sample_step") is None else None
        with self.library.db.session() as session:
            row = session.get_one(Measurement, self.id)
            shot = session.scalar(
                select(MeasurementShot).where(
                    MeasurementShot.measurement_id == self.id, MeasurementShot.path == path
                )
            )
            if shot is None:
                frame = enter_measured_frame(session, self.library, row, path, taken.facts, taken.sha256)
                shot = MeasurementShot(
                    measurement_id=self.id,
                    gain=gain,
                    offset=offset,
                    role=role,
                    exposure_s=settings.exposure_s,
                    brightness=brightness,
                    source=source,
                    pair=pair,
                    why=why,
                    taken_at=taken.began,
                    frame_id=frame.id,
                    path=path,
                )
                session.add(shot)
            if step is not None:
                row.settings = {**row.settings, "sample_step": step}
                self.row.settings = row.settings
            session.flush()
        return taken, shot

    def read(self, shot: MeasurementShot, reading: dict[str, Any]) -> None:
        """Keep what a frame said."""
        with self.library.db.session() as session:
            session.get_one(MeasurementShot, shot.id).reading = reading
        self.runner.broker.publish("bench", id=self.id)

    def keep(self, **settings: Any) -> None:
        """Keep something with the measurement."""
        with self.library.db.session() as session:
            row = session.get_one(Measurement, self.id)
            row.settings = {**row.settings, **settings}
            self.row.settings = row.settings

    def shots(self, gain: float, role: str) -> list[MeasurementShot]:
        """The frames so far."""
        with self.library.db.session() as session:
            return list(
                session.scalars(
                    select(MeasurementShot)
                    .where(
                        MeasurementShot.measurement_id == self.id,
                        MeasurementShot.gain == gain,
                        MeasurementShot.role == role,
                    )
                    .order_by(MeasurementShot.id)
                )
            )

    def shots_by_id(self, ids: Sequence[int]) -> list[MeasurementShot]:
        """Frames by their numbers."""
        with self.library.db.session() as session:
            return list(session.scalars(select(MeasurementShot).where(MeasurementShot.id.in_(ids))))

    def progress(self, step: RunStep, done: int, count: int, message: str) -> None:
        """Tell how far a step is."""
        self.change(step, done=done, count=max(count, done))
        self._tell(message)

    def _tell(self, message: str) -> None:
        with self.library.db.session() as session:
            steps = session.scalars(select(RunStep).where(RunStep.job_id == self.control.job_id)).all()
            share = sum(
                1.0 if s.state not in OPEN else min(s.done / s.count, 0.99) if s.count else 0.0
                for s in steps
                if s.kind != "gate"
            ) / max(sum(1 for s in steps if s.kind != "gate"), 1)
        self.runner.set_progress(self.control.job_id, share, message)
        self.runner.broker.publish("bench", id=self.id)
