"""What a night really had, to set against its plan: lights, flats, minutes of the rig and hands."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.planning.night_plan import NightPlan
from grayshelf.core.planning.sheet import SERIES, StepKind
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import FrameSet, Job, Rig, RunStep
from grayshelf.library.records import read
from grayshelf.library.sites import zone_of
from grayshelf.library.step_records import GateParams
from grayshelf.work.job_states import StepState

#: Steps of a run that make flats: what a plan prices.
_OF_FLATS = (StepKind.GATE, StepKind.FIND, StepKind.FLATS, StepKind.DARK_FLATS)


@dataclass(frozen=True)
class LightsHad:
    """Lights of one target and filter: planned, taken and kept."""

    target: str
    filter_code: str
    planned: int
    taken: int
    kept: int


@dataclass(frozen=True)
class NightHad:
    """What a night had."""

    lights: tuple[LightsHad, ...]
    flats: int
    dark_flats: int
    seconds: float | None
    """Of the runs that shot them; None where another program did, which is not timed."""
    hands: int | None


def night_had(library: Library, session: Session, rig: Rig, night: date, plan: NightPlan) -> NightHad:
    """What a night had beside what was planned for it."""
    return NightHad(
        _lights(library, rig, night, plan),
        _frames(session, rig, night, FrameKind.FLAT),
        _frames(session, rig, night, FrameKind.DARK_FLAT),
        *_of_runs(library, session, rig, night),
    )


def _lights(library: Library, rig: Rig, night: date, plan: NightPlan) -> tuple[LightsHad, ...]:
    planned: dict[tuple[str, str], int] = {}
    for target in plan.targets:
        for one in target.lights:
            key = _place(target.name), one.filter_code
            planned[key] = planned.get(key, 0) + one.count
    names = {_place(t.name): t.name for t in plan.targets}
    had: dict[tuple[str, str], tuple[int, int]] = {}
    for taken_set in light_sets(library, rig):
        if taken_set.row.night == night:
            name = taken_set.facts.target or "no target"
            names.setdefault(_place(name), name)
            key = _place(name), taken_set.nominal.filter_code or "none"
            taken, kept = had.get(key, (0, 0))
            had[key] = taken + taken_set.row.n_frames, kept + taken_set.row.n_kept
    return tuple(
        LightsHad(names[key[0]], key[1], planned.get(key, 0), *had.get(key, (0, 0)))
        for key in dict.fromkeys([*planned, *had])
    )


def _place(name: str) -> str:
    """'NGC 7000' and 'ngc7000' are one target."""
    return "".join(name.lower().split())


def _frames(session: Session, rig: Rig, night: date, kind: FrameKind) -> int:
    rows = session.scalars(
        select(FrameSet).where(
            FrameSet.kind == kind.value,
            FrameSet.night == night,
            FrameSet.camera == rig.camera,
            FrameSet.is_master.is_(False),
        )
    )
    return sum(row.n_kept for row in rows)


def _of_runs(library: Library, session: Session, rig: Rig, night: date) -> tuple[float | None, int | None]:
    """Seconds and hands of the runs of that night, or of the day after it."""
    seconds, hands, any_run = 0.0, 0, False
    for job in runs_of_night(session, rig.id, night, zone_of(library, session, rig)):
        steps = [s for s in job.steps if s.state == StepState.DONE and s.kind in (*_OF_FLATS, "sky")]
        if not any(_shoots(s) for s in steps):
            continue
        any_run = True
        seconds += sum(
            (s.ended_at - s.started_at).total_seconds() for s in steps if s.started_at and s.ended_at
        )
        hands += sum(s.kind == StepKind.GATE and read(GateParams, s.params).needs_person for s in steps)
    return (seconds, hands) if any_run else (None, None)


def runs_of_night(session: Session, rig_id: int, night: date, zone: ZoneInfo) -> list[Job]:
    """Runs and twilights of a rig that were begun in a night, or by day after it."""
    noon = datetime.combine(night, time(12), tzinfo=zone).astimezone(UTC)
    near = Job.created_at.between(noon, noon + timedelta(hours=25))
    query = select(Job).where(Job.kind.in_(("run", "twilight")), Job.rig_id == rig_id, near)
    # Where a clock is set back the day has an hour more.
    return [j for j in session.scalars(query.order_by(Job.id)) if night_of_utc(j.created_at, zone) == night]


def _shoots(step: RunStep) -> bool:
    return step.kind == "sky" or SERIES.get(StepKind(step.kind)) is FrameKind.FLAT
