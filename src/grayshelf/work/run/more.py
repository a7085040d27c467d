"""Darks and bias that are put on the end of a run that goes on: the cap is on by then, and nobody is needed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.capped import with_nobody
from grayshelf.core.planning.sheet import SERIES, DarkSeries, RigPace, StepKind
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import Rig, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import SheetParams
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.jobs import JobRunner
from grayshelf.work.run.changes import MOST_FRAMES, going
from grayshelf.work.run.fill_offers import FillOffer, fill_offers
from grayshelf.work.run.filling import camera_for_darks
from grayshelf.work.run.starter import run_step_of
from grayshelf.work.run.tonight import pace_of
from grayshelf.work.steps import SEQ


def more_offers(library: Library, rig: Rig, devices: RigDevices | None) -> tuple[list[FillOffer], RigPace]:
    """What could be put on the end, what helps most first, and how fast the rig is."""
    pace = pace_of(rig, devices)
    camera = camera_for_darks(rig, devices, light_sets(library, rig))
    offers = fill_offers(library, rig, pace, (), camera.shortest_s, camera.cools)
    return sorted(
        offers, key=lambda o: (-max((c.worth for c in o.fillable.counts), default=0.0), o.fillable.key)
    ), pace


def not_on_it(offers: Sequence[FillOffer], steps: Sequence[RunStep]) -> list[FillOffer]:
    """Those that the run does not shoot anyway."""

    def place(kind: FrameKind, params: SheetParams | DarkSeries) -> tuple[object, ...]:
        exposure_s = 0.0 if kind is FrameKind.BIAS else params.exposure_s
        return kind, exposure_s, params.set_temp_c, params.gain, params.offset, params.binning

    shot = {
        place(SERIES[StepKind(s.kind)], read(SheetParams, s.params))
        for s in steps
        if s.kind in SERIES and s.row is None and s.state != StepState.SKIPPED
    }
    return [o for o in offers if place(o.series.kind, o.series) not in shot]


def put_on_end(
    library: Library, runner: JobRunner, job_id: int, devices: RigDevices | None, key: str, frames: int
) -> str:
    """Put a series on the end of a run that goes on; returns its title.

    Raises
    ------
    Conflict
        Where the run does not go on, or is ending.
    NotFound
        Where nothing of this name can be shot.
    """
    if not 1 <= frames <= MOST_FRAMES:
        raise Conflict(f"A series has 1 to {MOST_FRAMES:,} frames.")
    with runner.changing, library.db.session() as session:
        job, steps = going(session, job_id)
        if not any(s.state in OPEN for s in steps):
            raise Conflict("This run is ending.", "Start another one when it is over.")
        offers, pace = more_offers(library, library.rig(session, job.rig_id or 0), devices)
        offer = next((o for o in offers if o.fillable.key == key), None)
        if offer is None:
            raise NotFound("Nothing of this name can be shot now.", "Look at the list again.")
        new = with_nobody([replace(offer.series, n_frames=frames)], _sensor_then(steps, devices), pace)
        _append(session, job_id, steps, [run_step_of(step) for step in new])
    return next(step.title for step in new if step.count)


def _sensor_then(steps: Sequence[RunStep], devices: RigDevices | None) -> float | None:
    """Where the sensor stands at the end of what is on the run now."""
    goals = [
        g for s in steps if s.kind != "gate" and (g := read(SheetParams, s.params).set_temp_c) is not None
    ]
    if goals:
        return goals[-1]
    return devices.camera.cooler().sensor_c if devices is not None else None


def _append(session: Session, job_id: int, steps: Sequence[RunStep], new: Sequence[RunStep]) -> None:
    last = max(s.seq for s in steps)
    for number, step in enumerate(new, start=1):
        step.job_id, step.seq = job_id, last + number * SEQ
        session.add(step)
