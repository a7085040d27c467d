"""What the two exercises of the Bench share: their job with its steps, taking a frame and keeping what it said."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import DeviceError
from grayshelf.core.filing.names import safe_name
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.by_hand import capped_line, lit_line
from grayshelf.core.sensor.statistics import sample_step
from grayshelf.devices.ports import RigDevices
from grayshelf.library.bench_frames import bench_folder, enter_measured_frame
from grayshelf.library.library import Library
from grayshelf.library.measurement_records import MeasurementSettings, keep_settings, settings_of
from grayshelf.library.models import Job, Measurement, MeasurementShot, Rig, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_terms import gain_word, says_of
from grayshelf.library.step_records import JobResult, MeasurementJob, MeasureOutcome, MeasureParams, Refused
from grayshelf.work.bench.hands import FolderShooter, Watching, now_s
from grayshelf.work.beside_camera import BesideCamera, set_by_rig
from grayshelf.work.job_states import OPEN, JobState
from grayshelf.work.shooting import ShotSettings, Taken
from grayshelf.work.steps import Handler, Stepwise, Working, numbered

#: So many files that are not what was asked for are told of.
REFUSED_TOLD = 6


def settings_at_start(devices: RigDevices) -> MeasurementSettings:
    """The camera as it is now."""
    camera, temp_c = devices.camera.facts, devices.camera.cooler().sensor_c
    return MeasurementSettings(
        camera.white_adu,
        camera.width,
        camera.height,
        camera.bayer_pattern,
        offset_range=camera.offset_range,
        temp_c=temp_c,
    )


def make_measurement(
    session: Session,
    library: Library,
    rig: Rig,
    devices: RigDevices,
    kind: str,
    gains: Sequence[float],
    settings: MeasurementSettings,
) -> Measurement:
    """Write a measurement down that is about to be shot."""
    row = Measurement(
        kind=kind,
        camera=devices.camera.facts.name,
        rig_id=rig.id,
        source="shot",
        gains=sorted(gains),
        settings=as_kept(settings),
        made_at=library.clock.now(),
    )
    session.add(row)
    session.flush()
    return row


def make_job(
    session: Session,
    library: Library,
    rig: Rig,
    row: Measurement,
    title: str,
    steps: Sequence[RunStep],
    folder: str | None = None,
) -> int:
    """Write the job of a measurement down with its steps; it is not started yet.

    Parameters
    ----------
    folder
        Where another program writes the frames; None where the rig shoots them.
    """
    job = Job(
        kind=row.kind,
        title=title,
        state=JobState.QUEUED,
        params=as_kept(MeasurementJob(row.id, folder, now_s() if folder is not None else 0.0)),
        rig_id=rig.id,
        created_at=library.clock.now(),
    )
    job.steps = numbered(list(steps))
    session.add(job)
    session.flush()
    row.job_id = job.id
    return job.id


class Exercise(Stepwise):
    """One measurement being shot: gates first, then one step for each gain."""

    topic = "bench"

    def __init__(self, working: Working, job: MeasurementJob) -> None:
        super().__init__(working)
        self.id = job.measurement_id
        with self.library.db.session() as session:
            self.row = session.get_one(Measurement, self.id)
        self.taking = self.shooter() if job.folder is None else self._from_folder(job.folder, job.since)
        self.folder = bench_folder(safe_name(self.row.camera), self.id)
        #: What is attached beside a camera that another program runs sets itself.
        self.beside = None if job.folder is None else BesideCamera(self.library, self.control, self.devices)
        self.still = 1
        """Frames like the one that is taken next that are still to come, with it."""
        #: Of the panel, where one is attached.
        self.brightness: int | None = None
        self._said = ""
        self._step: RunStep | None = None

    # -- another program shoots -----------------------------------------------------------------------------------

    def _from_folder(self, folder: str, since: float) -> FolderShooter:
        self._word, self._says = gain_word(self.library, self.row.camera), says_of(self.library, self.rig)
        watching = Watching(
            Path(folder),
            since,
            frozenset(self.settings.came_in),
            self._used,
            self._came_in,
            self._refuse,
            self._ask,
            self._word,
            self._says,
        )
        return FolderShooter(self.library, self.devices, self.control, self.rig, self.zone, watching)

    def _came_in(self, name: str) -> None:
        self.keep(replace(self.settings, came_in=(*self.settings.came_in, name)))

    def _used(self, name: str) -> None:
        self._came_in(name)
        # Until it is looked at, nobody is asked for the next: that may be another.
        self._told(replace(self._outcome(), asks=""))

    def _outcome(self) -> MeasureOutcome:
        assert self._step is not None
        return read(MeasureOutcome, self._step.outcome)

    def _told(self, outcome: MeasureOutcome) -> None:
        assert self._step is not None
        self.change(self._step, outcome=outcome)
        self.publish()

    def _refuse(self, name: str, why: str) -> None:
        self._came_in(name)
        told = (*self._outcome().refused, Refused(name, why))[-REFUSED_TOLD:]
        self._told(replace(self._outcome(), refused=told))

    def _ask(self, wanted: ShotSettings) -> None:
        gain, offset, by_rig = wanted.gain, wanted.offset, set_by_rig(self.devices)
        if wanted.kind is FrameKind.FLAT:
            line = lit_line(
                gain,
                offset,
                wanted.exposure_s,
                wanted.filter_code,
                self.brightness,
                gain_word=self._word,
                lit=wanted.lit,
                by_rig=by_rig,
                says=self._says,
            )
        else:
            exposure_s = None if wanted.kind is FrameKind.BIAS else wanted.exposure_s
            line = capped_line(
                wanted.kind,
                self.still,
                gain,
                offset,
                1,
                exposure_s,
                gain_word=self._word,
                by_rig=by_rig,
                says=self._says,
            )
        # What was wrong before is told until the next kind of frame is asked for.
        last = self._outcome()
        same = {d.name: d.copied for d in line.dials} == dict(last.dials)
        refused = last.refused if same else ()
        dials = tuple((d.name, d.copied) for d in line.dials)
        before = " ".join(filter(None, (line.before, line.by_rig)))
        self._told(MeasureOutcome(asks=line.what, before=before, dials=dials, refused=refused))

    def handlers(self) -> Mapping[str, Handler]:
        """Every step but the gate measures one gain. What was shot before it was cut short is not shot again."""
        return dict.fromkeys(("ladder", "transfer"), self._measure)

    def _measure(self, step: RunStep) -> None:
        self._step = step
        self.measure(step, read(MeasureParams, step.params).gain)
        self._said = ""

    def measure(self, step: RunStep, gain: float) -> None:
        """Measure one gain."""
        raise NotImplementedError

    def ended(self) -> JobResult:
        """What came of it, in a sentence for each gain."""
        with self.library.db.session() as session:
            steps = [s for s in self.steps(session) if s.kind != "gate"]
        message = " ".join(read(MeasureOutcome, s.outcome).message for s in steps)
        return JobResult(message)

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
        taken = self.taking.take(path, settings)
        if taken.pixels.dtype != "uint16":
            raise DeviceError(
                f"{self.row.camera} gave frames that are not 16-bit whole numbers, so they cannot be measured.",
                "Set its driver to raw 16-bit frames.",
            )
        unknown = self.settings.sample_step is None
        step = sample_step(taken.pixels) if unknown else None
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
                keep_settings(row, replace(settings_of(row), sample_step=step))
                self.row.settings = row.settings
            session.flush()
        return taken, shot

    def read(self, shot: MeasurementShot, reading: dict[str, Any]) -> None:
        """Keep what a frame said."""
        with self.library.db.session() as session:
            session.get_one(MeasurementShot, shot.id).reading = reading
        self.publish()

    @property
    def settings(self) -> MeasurementSettings:
        """What the measurement keeps."""
        return settings_of(self.row)

    def keep(self, settings: MeasurementSettings) -> None:
        """Keep something with the measurement."""
        with self.library.db.session() as session:
            row = session.get_one(Measurement, self.id)
            keep_settings(row, settings)
            self.row.settings = row.settings

    def frames(self, gain: float, role: str) -> list[MeasurementShot]:
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

    def frames_by_id(self, ids: Sequence[int]) -> list[MeasurementShot]:
        """Frames by their numbers."""
        with self.library.db.session() as session:
            return list(session.scalars(select(MeasurementShot).where(MeasurementShot.id.in_(ids))))

    def progress(self, step: RunStep, done: int, count: int, message: str) -> None:
        """Tell how far a step is."""
        self.change(step, done=done, count=max(count, done))
        self._said = message
        self.tell()

    def progress_of(self, steps: list[RunStep]) -> tuple[float, str]:
        """Share of the gains, and what is being measured."""
        steps = [s for s in steps if s.kind != "gate"]
        done = sum(
            1.0 if s.state not in OPEN else min(s.done / s.count, 0.99) if s.count else 0.0 for s in steps
        )
        return done / max(len(steps), 1), self._said

    def publish(self) -> None:
        """Let pages of this measurement look again."""
        self.runner.broker.publish(self.topic, id=self.id)
