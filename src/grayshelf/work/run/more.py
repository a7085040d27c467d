"""Series that are put on the end of a run that goes on: darks and bias, and flats for whoever is there for them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.planning.capped import with_nobody
from grayshelf.core.planning.sensor_then import SensorThen
from grayshelf.core.planning.sheet import (
    SERIES,
    DarkSeries,
    FlatSeries,
    RigPace,
    RunSheet,
    SheetStep,
    StepKind,
)
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import Job, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.sites import zone_of
from grayshelf.library.step_records import RunJob, SheetParams
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.jobs import JobRunner
from grayshelf.work.run.changes import MOST_FRAMES, going
from grayshelf.work.run.choice import AS_USUAL
from grayshelf.work.run.dark_offers import Cooler
from grayshelf.work.run.fill_offers import FillOffer, fill_offers
from grayshelf.work.run.filling import camera_for_darks
from grayshelf.work.run.flat_offers import RowOffer, flat_offers
from grayshelf.work.run.starter import run_step_of
from grayshelf.work.run.tonight import pace_of, plan_for
from grayshelf.work.run.unattended import AT_SET_POINT
from grayshelf.work.steps import SEQ


@dataclass(frozen=True)
class More:
    """What could be put on the end of a run."""

    capped: tuple[FillOffer, ...]
    """Darks and bias, what helps most first."""
    flats: tuple[tuple[RowOffer, RunSheet], ...]
    """Each with the steps that it would take."""
    pace: RigPace


def more_for(
    library: Library, session: Session, job: Job, steps: Sequence[RunStep], devices: RigDevices | None
) -> More:
    """What could be put on the end of a run, less what it shoots anyway."""
    rig, run = library.rig(session, job.rig_id or 0), read(RunJob, job.params)
    devices = None if run.by_hand else devices
    pace = pace_of(rig, devices)
    camera = camera_for_darks(library, rig, devices)
    tonight = night_of_utc(library.clock.now(), zone_of(library, session, rig))
    offers = fill_offers(library, rig, pace, (), camera.shortest_s, Cooler(camera.cools, tonight))
    capped = sorted(
        _not_on_it(offers, steps),
        key=lambda o: (-max((c.worth for c in o.fillable.counts), default=0.0), o.fillable.key),
    )
    out = {s.row for s in steps if s.kind == StepKind.FLATS and s.state == StepState.SKIPPED and not s.done}
    shot = [row for index, row in enumerate(run.rows) if index not in out]
    rows, _ = flat_offers(library, session, rig, library.clock.now(), AS_USUAL)
    flats = [
        (offer, plan_for(session, rig, [offer.wish], (), pace, devices))
        for offer in rows
        if not any(_same_row(offer.wish, row) for row in shot)
    ]
    return More(tuple(capped), tuple(flats), pace)


def _same_row(one: FlatSeries, other: FlatSeries) -> bool:
    def set_so(row: FlatSeries) -> tuple[object, ...]:
        return row.filter_code, row.gain, row.offset, row.binning, row.read_mode, row.angle_deg

    return set_so(one) == set_so(other)


def _not_on_it(offers: Sequence[FillOffer], steps: Sequence[RunStep]) -> list[FillOffer]:
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
        more = more_for(library, session, job, steps, devices)
        capped = next((o for o in more.capped if o.fillable.key == key), None)
        flats = next((offer for offer, _ in more.flats if offer.key == key), None)
        new: Sequence[SheetStep]
        if capped is not None:
            series = [replace(capped.series, n_frames=frames)]
            new = with_nobody(series, _sensor_by_then(job, steps, devices), more.pace)
        elif flats is not None:
            new = _row_on_end(library, session, job, flats.wish, frames, more.pace, devices)
        else:
            raise NotFound("Nothing of this name can be shot now.", "Look at the list again.")
        _append(session, job_id, steps, [run_step_of(step) for step in new])
    return next(step.title for step in new if step.count)


def _row_on_end(
    library: Library,
    session: Session,
    job: Job,
    wish: FlatSeries,
    frames: int,
    pace: RigPace,
    devices: RigDevices | None,
) -> list[SheetStep]:
    """The steps of one more row, which is written down with the run."""
    rig, run = library.rig(session, job.rig_id or 0), read(RunJob, job.params)
    row = replace(wish, n_flats=frames, n_dark_flats=frames if wish.n_dark_flats else 0)
    sheet = plan_for(session, rig, [row], (), pace, None if run.by_hand else devices)
    job.params = as_kept(replace(run, rows=(*run.rows, row)))
    return [s if s.row is None else replace(s, row=len(run.rows) + s.row) for s in sheet.steps]


def _sensor_by_then(job: Job, steps: Sequence[RunStep], devices: RigDevices | None) -> float | None:
    """Where the sensor stands at the end of what is on the run now."""
    cold = any(s.kind in AT_SET_POINT and s.state in OPEN for s in steps)
    if read(RunJob, job.params).sensor_then is SensorThen.AFTER_DARKS and not cold:
        # It was warmed, or is just being warmed.
        return None
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
