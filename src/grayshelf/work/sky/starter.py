"""Starting a twilight."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict
from grayshelf.core.flats.filter_words import through
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.planning.gates import Gate, zenith
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import lights_by_row
from grayshelf.library.folder_list import folder_that_holds
from grayshelf.library.library import Library
from grayshelf.library.models import Job, Rig, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.sites import site_of
from grayshelf.library.step_records import JobResult, SkyParams, TwilightJob
from grayshelf.work.flats.finding import started_now
from grayshelf.work.flats.starter import refuse_what_the_rig_lacks
from grayshelf.work.flats.test_flats import need_devices
from grayshelf.work.gates import gate_step
from grayshelf.work.job_states import JobState
from grayshelf.work.jobs import JobControl, JobRunner, begins_job
from grayshelf.work.rigs.park import RigPark
from grayshelf.work.sky.hand import HandTwilight
from grayshelf.work.sky.rows import Ahead, look_ahead, place_of
from grayshelf.work.sky.run import TwilightRun
from grayshelf.work.steps import Working, numbered


class TwilightBench:
    """Starts twilights, and goes on with them."""

    def __init__(self, library: Library, runner: JobRunner, rigs: RigPark) -> None:
        self.library, self.runner, self.rigs = library, runner, rigs
        runner.register("twilight", self._work)

    def devices(self, rig: Rig) -> RigDevices | None:
        """The devices behind a rig, if there are any."""
        return self.rigs.seen(rig)

    @begins_job
    def start(
        self, rig_id: int, counts: Mapping[RowKey, int], *, dawn: bool, folder: str | None = None
    ) -> int:
        """Start the next dusk or dawn; return its job.

        Parameters
        ----------
        folder
            Where another program writes its frames; None where the rig shoots them.

        Raises
        ------
        Conflict
            Where nothing is chosen, the rig is busy or lacks what is asked for, or the sky suits none of it.
        """
        counts = {key: n for key, n in counts.items() if n > 0}
        if not counts:
            raise Conflict("No filter is chosen.", "Tick at least one, and say how many flats.")
        with self.library.db.session() as session:
            rig = self.library.rig(session, rig_id)
            self.runner.refuse_if_busy(rig.id)
            devices, watched, since = self.devices(rig), None, 0.0
            if folder is None:
                devices = need_devices(devices)
                refuse_what_the_rig_lacks(devices, list(counts), lights_by_row(self.library, rig.id))
            else:
                _, real, _ = folder_that_holds(self.library, folder)
                devices, watched, since = None, str(real), started_now()
            place_of(site_of(self.library, session, rig))
            ahead = look_ahead(self.library, session, rig, devices, dawn=dawn, counts=counts)
            for trouble in ahead.troubles.values():
                raise Conflict(trouble)
            if not ahead.flats:
                raise Conflict(
                    "In the next days the sky never suits any of these filters within the permitted exposures.",
                    "Permit longer or shorter exposures on the whole sheet, or choose another target level.",
                )
            twilight = ahead.twilight
            what = "dawn" if dawn else "dusk"
            job = Job(
                kind="twilight",
                title=f"{rig.name}: flats on the sky at {what}",
                state=JobState.QUEUED,
                params=as_kept(TwilightJob(dawn, twilight.day, watched, since)),
                rig_id=rig.id,
                created_at=self.library.clock.now(),
            )
            job.steps = _steps(ahead, devices)
            session.add(job)
            session.flush()
            job_id = job.id
        self.runner.launch(job_id)
        return job_id

    def _work(self, control: JobControl, params: Mapping[str, Any]) -> JobResult:
        with self.library.db.session() as session:
            job = session.get_one(Job, control.job_id)
            rig = self.library.rig(session, job.rig_id or 0)
        begun = read(TwilightJob, params)
        if begun.folder is not None:
            beside = self.rigs.beside_camera(rig)
            return HandTwilight(Working(self.library, self.runner, None, control, beside), begun).do()
        working = Working(self.library, self.runner, need_devices(self.rigs.of(rig)), control)
        return TwilightRun(working, begun).do()


def _steps(ahead: Ahead, devices: RigDevices | None) -> list[RunStep]:
    """The gate, the rows in the order to shoot them, and the masters."""
    steps = [gate_step(_gate(ahead, devices))]
    by_code = {s.wish.code: s for s in ahead.subjects}
    for planned in ahead.planned:
        subject = by_code[planned.code]
        steps.append(
            RunStep(
                kind="sky",
                title=f"Flats{through(subject.key.filter_code)}",
                filter_code=subject.key.filter_code,
                count=subject.wish.count,
                params=as_kept(SkyParams(subject.key)),
            )
        )
    steps.append(RunStep(kind="build", title="Masters of tonight’s flats", params={}))
    return numbered(steps)


def _gate(ahead: Ahead, devices: RigDevices | None) -> Gate:
    first = ahead.subjects[0]
    by_hand = []
    if (devices is None or devices.focuser is None) and first.focus is not None:
        by_hand.append(f"focus at {first.focus:,.0f}")
    if (devices is None or devices.rotator is None) and first.angle_deg is not None:
        by_hand.append(f"camera at {first.angle_deg:.1f}°")
    asked = zenith(by_hand, f"{first.lights_of:%-d %b}" if first.lights_of else "")
    alone = devices is not None and devices.mount is not None and not by_hand
    return replace(asked, needs_person=not alone)


def newest_twilight(session: Session, rig_id: int) -> Job | None:
    """The newest twilight of a rig, going on or ended."""
    query = select(Job).where(Job.kind == "twilight", Job.rig_id == rig_id).order_by(Job.id.desc()).limit(1)
    return session.scalar(query)
