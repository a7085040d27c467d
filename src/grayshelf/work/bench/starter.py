"""Starting and resuming what the Bench measures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from sqlalchemy import update
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, DeviceError
from grayshelf.core.sensor.transfer import speaking_channel
from grayshelf.devices.ports import RigDevices
from grayshelf.library.camera_values import accepted
from grayshelf.library.flat_sheet import source_of
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.measurement_records import settings_of
from grayshelf.library.measurements import measurement, transfers
from grayshelf.library.models import CameraValue, FrameSet, Job, Measurement, MeasurementShot, Rig
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_terms import flat_wishes, has_one_gain
from grayshelf.library.step_records import JobResult, MeasurementJob
from grayshelf.work.bench.disk import plan_disk, read_from_disk
from grayshelf.work.bench.gain import GainExercise
from grayshelf.work.bench.gain_job import plan_gain, shortest_for
from grayshelf.work.bench.hands import hand_devices, watched_folder
from grayshelf.work.bench.offset import OffsetExercise, plan_offset
from grayshelf.work.jobs import ALIVE, JobControl, JobRunner, JobState, begins_job
from grayshelf.work.rigs.park import RigPark
from grayshelf.work.shooting import leave_dark
from grayshelf.work.steps import Working

#: Offset to measure a gain at where nobody chose one and no light tells.
USUAL_OFFSET = 30.0


@dataclass(frozen=True)
class ByHand:
    """Another program shoots, into a folder."""

    folder: str
    offset_range: tuple[float, float] | None = None
    """Of the camera, where its offset is looked for."""


def _folder(by_hand: ByHand | None) -> str | None:
    return None if by_hand is None else by_hand.folder


class Bench:
    """Starts the exercises, and goes on with them."""

    def __init__(self, library: Library, runner: JobRunner, rigs: RigPark) -> None:
        self.library, self.runner, self.rigs = library, runner, rigs
        runner.register("offset", self._shoot)
        runner.register("gain", self._shoot)
        runner.register("measure", lambda control, params: read_from_disk(library, control, params))

    def devices(self, rig: Rig) -> RigDevices | None:
        """The devices behind a rig, if there are any."""
        return self.rigs.seen(rig)

    def in_the_wheel(self, rig: Rig) -> tuple[str, ...]:
        """The filters that a wheel brings in, also beside a camera that another program runs."""
        devices = self.devices(rig) or self.rigs.beside_camera(rig)
        wheel = None if devices is None else devices.wheel
        return () if wheel is None else tuple(dict.fromkeys(wheel.filters))

    @begins_job
    def shoot_offset(
        self,
        rig_id: int,
        gains: Sequence[float],
        margin_adu: float | None,
        long_dark_s: float,
        by_hand: ByHand | None = None,
    ) -> int:
        """Start the offset exercise; return its job."""
        if by_hand is not None:
            by_hand = replace(by_hand, folder=watched_folder(self.library, by_hand.folder))
        with self.library.db.session() as session:
            rig, devices = self._ready(session, rig_id, gains, by_hand)
            if devices.camera.facts.offset_range is None:
                raise Conflict(
                    f"{rig.camera} does not let its offset be set, so there is none to find.",
                    "Use its frames on disk to see whether they are clipped.",
                )
            job_id = plan_offset(
                session, self.library, rig, devices, gains, margin_adu, long_dark_s, _folder(by_hand)
            )
        self.runner.launch(job_id)
        return job_id

    @begins_job
    def shoot_gain(
        self, rig_id: int, gains: Sequence[float], filter_code: str | None, by_hand: ByHand | None = None
    ) -> int:
        """Start the gain exercise; return its job."""
        if by_hand is not None:
            by_hand = replace(by_hand, folder=watched_folder(self.library, by_hand.folder))
        with self.library.db.session() as session:
            rig, devices = self._ready(session, rig_id, gains, by_hand)
            if devices.wheel is not None and filter_code not in devices.wheel.filters:
                raise Conflict(f"{filter_code or 'No filter'} is not in the wheel.", "Choose one that is.")
            settable = by_hand is None and devices.camera.facts.offset_range is not None
            offsets = {f"{g:g}": offset_for(self.library, session, rig, g, settable=settable) for g in gains}
            wishes = flat_wishes(self.library, rig)
            timed = source_of(session, rig, wishes, None).timed
            shortest = shortest_for(devices, wishes.shortest_s, timed)
            job_id = plan_gain(
                session, self.library, rig, devices, gains, offsets, filter_code, shortest, _folder(by_hand)
            )
        self.runner.launch(job_id)
        return job_id

    def _ready(
        self, session: Session, rig_id: int, gains: Sequence[float], by_hand: ByHand | None
    ) -> tuple[Rig, RigDevices]:
        rig = self.library.rig(session, rig_id)
        devices = self.devices(rig)
        if by_hand is not None:
            devices = hand_devices(
                session, rig, by_hand.offset_range, self.rigs.beside_camera(rig), Path(by_hand.folder)
            )
        if devices is None:
            raise Conflict(
                "No devices are connected to this rig, so it shoots nothing by itself.",
                "Name the folder that your own program writes into, or use frames on disk.",
            )
        if not gains:
            raise Conflict("No gain is chosen.", "Choose at least one.")
        allowed = devices.camera.facts.gain_range
        for gain in gains:
            if allowed is not None and not allowed[0] <= gain <= allowed[1]:
                raise Conflict(
                    f"{rig.camera} has gains from {allowed[0]:g} to {allowed[1]:g}, not {gain:g}.",
                    "Choose one of those.",
                )
        self.runner.refuse_if_busy(rig.id)
        return rig, devices

    @begins_job
    def use_disk(self, rig_id: int, kind: str, set_ids: Sequence[int]) -> int:
        """Measure from frames that are there; return the job."""
        with self.library.db.session() as session:
            rig = self.library.rig(session, rig_id)
            row = plan_disk(session, self.library, rig.camera, rig.id, kind, set_ids)
            measurement_id, camera = row.id, row.camera
        job_id = self.runner.start(
            "measure",
            f"{kind.capitalize()} of {camera} from disk",
            as_kept(MeasurementJob(measurement_id)),
            rig_id,
        )
        with self.library.db.session() as session:
            session.get_one(Measurement, measurement_id).job_id = job_id
        return job_id

    def forget(self, measurement_id: int) -> None:
        """Drop a measurement whose frames are not kept here; what was accepted from it stays with the camera."""
        with self.library.db.session() as session:
            row = measurement(session, measurement_id)
            job = session.get(Job, row.job_id) if row.job_id else None
            if job is not None and job.state in ALIVE:
                raise Conflict("This measurement still goes on.", "Stop it first.")
            if row.source == "shot" and row.frames != "deleted" and row.shots:
                raise Conflict(
                    "Its frames are still kept.", "Throw them away first; then the measurement can go too."
                )
            session.execute(
                update(FrameSet).where(FrameSet.measurement_id == row.id).values(measurement_id=None)
            )
            session.execute(
                update(CameraValue).where(CameraValue.measurement_id == row.id).values(measurement_id=None)
            )
            session.delete(row)
            if job is not None and job.state != JobState.DONE:
                self.runner.close(job.id, "Its measurement was forgotten.")
        self.library.touched()

    def _shoot(self, control: JobControl, params: dict[str, Any]) -> JobResult:
        with self.library.db.session() as session:
            job = session.get_one(Job, control.job_id)
            rig = self.library.rig(session, job.rig_id or 0)
            kind, record = job.kind, read(MeasurementJob, params)
            row = measurement(session, record.measurement_id)
            kept = row.frames
            devices = self.rigs.of(rig)
            if record.folder is not None:
                beside = self.rigs.beside_camera(rig)
                devices = hand_devices(
                    session, rig, settings_of(row).offset_range, beside, Path(record.folder)
                )
        if kept != "kept":
            raise Conflict(
                f"Its frames were {kept}, so it cannot go on from them.", "Take them back, or measure again."
            )
        if devices is None:
            raise DeviceError(
                "No devices are connected to this rig, so the measurement cannot go on.", "Connect them."
            )
        exercise = OffsetExercise if kind == "offset" else GainExercise
        try:
            working = Working(self.library, self.runner, devices, control)
            result = exercise(working, record).do()
        finally:
            # A panel must not stay on. The cooler is left as it is.
            leave_dark(devices)
        self.library.touched()
        return result


def gains_in_use(library: Library, rig: Rig) -> dict[float, set[float]]:
    """The gains of a rig's lights, each with the offsets they were taken at; 0 for the gain of a camera that has one."""
    found: dict[float, set[float]] = {}
    one = has_one_gain(library, rig.camera)
    for lights in light_sets(library, rig):
        if one or lights.want.gain is not None:
            offsets = found.setdefault(lights.want.gain or 0.0, set())
            if lights.want.offset is not None:
                offsets.add(lights.want.offset)
    return dict(sorted(found.items()))


def offset_for(library: Library, session: Session, rig: Rig, gain: float, *, settable: bool) -> float:
    """The offset to use at a gain: what was accepted, else what the lights have, else what they have elsewhere.

    Where no frame tells one, a usual one, of a camera that can be set to it; else 0, which stands for none to set.
    """
    known = accepted(session, rig.camera, "offset").get(gain)
    if known is not None:
        return float(known.values["offset"])
    in_use = gains_in_use(library, rig)
    here = in_use.get(gain) or set().union(*in_use.values()) if in_use else set()
    return max(here, default=USUAL_OFFSET if settable else 0.0)


def measured_values(session: Session, row: Measurement, gain: float) -> dict[str, Any] | None:
    """What to keep with the camera from a gain measurement; None where it tells no gain."""
    found = transfers(session, row, gain)
    chosen = found.get(speaking_channel(found) or "")
    if chosen is None or chosen.e_per_adu is None or chosen.read_noise_e is None:
        return None
    limits = [t.linear_limit_adu for t in found.values() if t.linear_limit_adu is not None]
    return {
        "e_per_adu": chosen.e_per_adu.value,
        "e_per_adu_pm": chosen.e_per_adu.plus_minus,
        "read_noise_e": chosen.read_noise_e.value,
        "read_noise_e_pm": chosen.read_noise_e.plus_minus,
        "capacity_e": chosen.capacity_e.value if chosen.capacity_e else None,
        "full_well_e": chosen.full_well_e.value if chosen.full_well_e else None,
        # The lowest of the channels: none may leave the straight part.
        "linear_limit_adu": min((v.value for v in limits), default=None),
        "quick": chosen.quick,
        "frames": session.query(MeasurementShot)
        .filter(MeasurementShot.measurement_id == row.id, MeasurementShot.gain == gain)
        .count(),
    }
