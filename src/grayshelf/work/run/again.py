"""The last run of a rig once more: the same filters, darks and bias, at the settings that were found then."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.sheet import SERIES, DarkSeries, FlatSeries, RunSheet, StepKind
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import Job, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import RunJob, SearchOutcome, SheetParams
from grayshelf.work.job_states import ENDED
from grayshelf.work.run.tonight import pace_of, plan_for

#: Runs of which nothing was shot are passed over, so many at most.
LOOKED_BACK = 10


@dataclass(frozen=True)
class LastRun:
    """What a rig shot last."""

    rows: tuple[FlatSeries, ...]
    darks: tuple[DarkSeries, ...]

    @property
    def words(self) -> str:
        """'flats in 5 filters, 3 darks and bias'."""
        parts = [f"flats in {len(self.rows)} filter{'s' if len(self.rows) != 1 else ''}"] if self.rows else []
        n = sum(d.kind is FrameKind.DARK for d in self.darks)
        parts += [f"{n} dark{'s' if n != 1 else ''}"] if n else []
        parts += ["dark flats"] if any(d.kind is FrameKind.DARK_FLAT for d in self.darks) else []
        parts += ["bias"] if any(d.kind is FrameKind.BIAS for d in self.darks) else []
        return " and ".join(filter(None, [", ".join(parts[:-1]), parts[-1] if parts else ""]))


def last_run_of(session: Session, rig_id: int) -> LastRun | None:
    """What the rig's last run that has ended was to shoot; None where there was none, or nothing of it was shot."""
    query = select(Job).where(Job.kind == "run", Job.rig_id == rig_id, Job.state.in_(ENDED))
    jobs = session.scalars(query.order_by(Job.id.desc()).limit(LOOKED_BACK))
    return next((found for job in jobs if (found := _shot_by(session, job)) is not None), None)


def _shot_by(session: Session, job: Job) -> LastRun | None:
    query = select(RunStep).where(RunStep.job_id == job.id).order_by(RunStep.seq, RunStep.id)
    steps = list(session.scalars(query))
    rows = [_row(row, index, steps) for index, row in enumerate(read(RunJob, job.params).rows)]
    darks = [_dark(s) for s in steps if s.kind in SERIES and s.row is None and s.done]
    found = LastRun(tuple(r for r in rows if r is not None), tuple(darks))
    return found if found.rows or found.darks else None


def _row(row: FlatSeries, index: int, steps: list[RunStep]) -> FlatSeries | None:
    """A row as its flats were shot; None where they were left out."""
    mine = [s for s in steps if s.row == index]
    flats = [s for s in mine if s.kind == StepKind.FLATS]
    if not any(s.done for s in flats):
        return None
    found = [f for s in mine if s.kind == StepKind.FIND and (f := read(SearchOutcome, s.outcome).found)]
    prior = found[-1].exposure_s if found else row.prior_exposure_s
    return replace(row, prior_exposure_s=prior, begin_s=None, hole=False)


def _dark(step: RunStep) -> DarkSeries:
    params = read(SheetParams, step.params)
    return DarkSeries(
        params.exposure_s or 0.0,
        params.set_temp_c,
        params.gain or 0.0,
        params.offset or 0.0,
        params.binning or 1,
        step.count,
        params.lights,
        kind=SERIES[StepKind(step.kind)],
        filters=(step.filter_code,) if step.filter_code else (),
        read_mode=params.read_mode,
    )


def sheet_again(library: Library, rig_id: int, devices: RigDevices | None) -> RunSheet:
    """The sheet of the last run, for tonight.

    Raises
    ------
    NotFound
        Where there was none.
    """
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        last = last_run_of(session, rig_id)
        if last is None:
            raise NotFound("This rig has no run that could be shot again.", "Shoot tonight’s sheet first.")
        return plan_for(session, rig, last.rows, last.darks, pace_of(rig, devices), devices)
