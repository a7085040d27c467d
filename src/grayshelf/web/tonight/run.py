"""A run in words, as far as it has come, with a forecast of the rest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from statistics import median
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.model import ExposureWindow, FlatTarget, Found
from grayshelf.core.flats.settings import FlatWishes
from grayshelf.core.matching import rulers
from grayshelf.core.matching.model import CommonSettings
from grayshelf.core.planning.sheet import COOLER_HOLDS_WITHIN_C, SERIES, FlatSeries, StepKind
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import Job, RunShot, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import (
    BuildOutcome,
    GateParams,
    JobResult,
    RunJob,
    SearchOutcome,
    SheetParams,
    ShotStats,
)
from grayshelf.web.common import in_words
from grayshelf.web.common.gates import gate_of
from grayshelf.web.common.jobs import job_out
from grayshelf.web.common.schemas import RulerOut
from grayshelf.web.tonight.hand import hand_lines, hand_out
from grayshelf.web.tonight.headline import end_words, head_of
from grayshelf.web.tonight.schemas import RunOut, SearchOut, SeriesOut, StepOut, TestShotOut
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.jobs import ALIVE
from grayshelf.work.run.series import forecast_s
from grayshelf.work.run.starter import may_tick


def _sensor(devices: RigDevices | None) -> tuple[RulerOut | None, str]:
    """How warm the sensor is now, held against its set point where it has one."""
    if devices is None:
        return None, ""
    cooler = devices.camera.cooler()
    if cooler.sensor_c is None:
        return None, ""
    text = in_words.degrees_c(cooler.sensor_c, 1)
    if cooler.set_point_c is None:
        return None, text
    goal = CommonSettings(None, 1, 1, sensor_temp_c=cooler.set_point_c)
    now = CommonSettings(None, 1, 1, sensor_temp_c=cooler.sensor_c)
    return in_words.ruler_out(rulers.temperature(goal, now, COOLER_HOLDS_WITHIN_C)), text


#: Steps of which nothing comes any more.
_OUT = (StepState.SKIPPED, StepState.NO_ANSWER)
#: Where the line of a search is drawn from before its pedestal is known (common practice).
USUAL_PEDESTAL_ADU = 500.0


@dataclass(frozen=True)
class _Rows:
    """A run as it stands in the database."""

    job: Job
    steps: list[RunStep]
    shots: dict[int, list[RunShot]]
    """Of searches that were begun, and of flats, by step."""
    last: RunShot | None
    """Of the series that is being shot."""
    zone: ZoneInfo

    @property
    def current(self) -> RunStep | None:
        """The step that is open."""
        return next((x for x in self.steps if x.state in OPEN), None)


def _rows_of(library: Library, job_id: int) -> _Rows:
    def shots_of(session: Session, step: RunStep) -> list[RunShot]:
        return list(session.scalars(select(RunShot).where(RunShot.step_id == step.id).order_by(RunShot.seq)))

    with library.db.session() as session:
        job = session.get_one(Job, job_id)
        steps = list(session.scalars(select(RunStep).where(RunStep.job_id == job_id).order_by(RunStep.seq)))
        begun = [x for x in steps if x.kind == StepKind.FIND and x.state != StepState.TO_DO]
        begun += [x for x in steps if x.kind == StepKind.FLATS and x.done]
        rows = _Rows(job, steps, {x.id: shots_of(session, x) for x in begun}, None, library.zone(session))
        current = rows.current
        if current is None or current.kind not in SERIES:
            return rows
        newest = select(RunShot).where(RunShot.step_id == current.id).order_by(RunShot.seq.desc()).limit(1)
        return replace(rows, last=session.scalar(newest))


def run_page(
    library: Library,
    job_id: int,
    wishes: FlatWishes,
    devices: RigDevices | None,
    bands: dict[str, float | None],
    by_rig: frozenset[str] = frozenset(),
) -> RunOut:
    """A run, as far as it has come, with a forecast of the rest.

    `by_rig`: what devices set where another program runs the camera.
    """
    rows, now = _rows_of(library, job_id), library.clock.now()
    job, current = rows.job, rows.current
    camera = devices.camera.facts if devices is not None else None
    white = camera.white_adu if camera is not None else 65535
    colour = camera is not None and camera.bayer_pattern is not None
    begun = read(RunJob, job.params)
    wished = begun.rows
    lines = hand_lines(library, job, rows.steps, by_rig)
    outs = [
        out.model_copy(update={"line": lines.get(out.id, "")})
        for out in _forecast(rows.steps, now, rows.zone, bands, wished)
    ]
    searches = _searches(rows, wishes, white, wished, bands)
    live = [o for o in outs if o.state not in _OUT]
    told = job_out(job, library)
    hands = sum(x.needs_person for x in outs if x.state in OPEN)
    headline, subline = head_of(job, told, rows.steps, outs, end_words(live, rows.zone), hands)
    sensor, sensor_text = _sensor(devices)
    return RunOut(
        job=told,
        headline=headline,
        subline=subline,
        clock=in_words.clock(now, rows.zone),
        rig_id=job.rig_id or 0,
        steps=outs,
        current=current.id if current and job.state in ALIVE else None,
        search=next((x for x in searches if current and x.step_id == current.id), None),
        series=_series(current, rows.last, wishes, white, colour) if current else None,
        searches=searches,
        afterwards=list(read(JobResult, job.result).afterwards),
        end_clock=live[-1].end_clock if live else None,
        hands=hands,
        sensor=sensor,
        sensor_text=sensor_text,
        hand=hand_out(library, job, current, by_rig) if job.state in ALIVE else None,
        by_hand=begun.by_hand,
        sensor_then=begun.sensor_then,
        cools=devices is not None and devices.camera.facts.cooled,
        until="" if begun.until is None else in_words.clock(begun.until, rows.zone),
    )


def _searches(
    rows: _Rows, wishes: FlatWishes, white: int, wished: Sequence[FlatSeries], bands: dict[str, float | None]
) -> list[SearchOut]:
    """Every search that was begun, with how its flats came out."""
    flats = {x.row: rows.shots[x.id] for x in rows.steps if x.kind == StepKind.FLATS and x.id in rows.shots}
    outs = []
    for step in (x for x in rows.steps if x.kind == StepKind.FIND and x.id in rows.shots):
        tests = rows.shots[step.id]
        out = _search(step, tests, wishes, white, wished, bands)
        came_out = _came_out(step, tests, flats.get(step.row, []), out)
        outs.append(out.model_copy(update={"came_out": came_out}))
    return outs


def _forecast(
    steps: Sequence[RunStep],
    now: datetime,
    zone: ZoneInfo,
    bands: dict[str, float | None],
    rows: Sequence[FlatSeries],
) -> list[StepOut]:
    """Steps with the times they took, and a forecast for those to come."""
    at = now
    outs = []
    for step in steps:
        start = step.started_at or at
        if step.state in OPEN:
            share = step.done / step.count if step.count and step.kind != StepKind.FIND else 0.0
            at = end = at + timedelta(seconds=forecast_s(step) * (1 - min(share, 1.0)))
        else:
            end = step.ended_at or start
        row = rows[step.row] if step.row is not None and step.row < len(rows) else None
        told = StepOut(
            id=step.id,
            kind=step.kind,
            title=step.title,
            filter_code=step.filter_code,
            passband_nm=bands.get(step.filter_code or ""),
            count=step.count,
            done=step.done,
            state=StepState(step.state),
            start=start,
            end=end,
            start_clock=in_words.clock(start, zone),
            end_clock=in_words.clock(end, zone),
            exposure=None,
            exposure_known=SheetParams().exposure_known,
            needs_person=False,
            row=step.row,
            gate=None,
            lights=0,
            wanted=_fills_a_hole(step, row),
            outcome=_outcome(step),
            tick=may_tick(step),
        )
        outs.append(told.model_copy(update=_of_its_kind(step, steps, row)))
    return outs


def _fills_a_hole(step: RunStep, row: FlatSeries | None) -> bool:
    """Whether nothing that is there would do in place of what the step brings."""
    if step.kind == StepKind.DARKS:
        return read(SheetParams, step.params).lights > 0
    return step.kind in (StepKind.FIND, StepKind.FLATS) and row is not None and row.hole


def _of_its_kind(step: RunStep, steps: Sequence[RunStep], row: FlatSeries | None) -> dict[str, Any]:
    """What is told of a gate, or of what is shot."""
    if step.kind == StepKind.GATE:
        needs = read(GateParams, step.params).needs_person
        return {"needs_person": needs, "gate": gate_of(step, steps), "lights": SheetParams().lights}
    params = read(SheetParams, step.params)
    return {
        "exposure": in_words.seconds(params.exposure_s) if params.exposure_s else None,
        "exposure_known": params.exposure_known,
        "needs_person": params.needs_person,
        "lights": row.lights if row is not None and step.kind == StepKind.FLATS else params.lights,
    }


def _outcome(step: RunStep) -> str:
    if step.kind == StepKind.BUILD:
        return "; ".join(f"{f.title}: {f.message}" for f in read(BuildOutcome, step.outcome).failed)
    if step.kind == StepKind.DARK_FLATS and read(SheetParams, step.params).served_by is not None:
        return "those of another filter at the same exposure serve"
    if step.kind != StepKind.FIND:
        return ""
    outcome = read(SearchOutcome, step.outcome)
    if outcome.found is not None:
        return f"{_found_text(step, outcome.found)} in {in_words.several(outcome.found.shots, 'shot')}"
    return "" if outcome.no_answer is None else f"{outcome.no_answer.message} {outcome.no_answer.advice}"


def _found_text(step: RunStep, found: Found) -> str:
    """'3.6 s', or '3.6 s of light' where it is lit within a longer exposure."""
    of_light = " of light" if read(SheetParams, step.params).lit is not None else ""
    return f"{in_words.seconds(found.exposure_s)}{of_light}"


def _shot(shot: RunShot, target: float, tolerance: float, number: int) -> TestShotOut:
    stats = read(ShotStats, shot.stats)
    level = stats.median
    ruler = rulers.band("level", target, level, tolerance, "ADU")
    return TestShotOut(
        number=number,
        exposure_s=shot.exposure_s,
        exposure=in_words.seconds(shot.exposure_s),
        level=level,
        level_text=f"{in_words.number(level)}{in_words.THIN}ADU",
        ruler=in_words.ruler_out(ruler),
        why=shot.why,
        probe=stats.probe,
        picture=f"/api/shots/{shot.id}/picture.png?size=320",
    )


def _aim(step: RunStep, wishes: FlatWishes, white: int) -> tuple[FlatTarget, ExposureWindow]:
    """What was wished when this was searched; before that, what the rig wishes."""
    params = read(SheetParams, step.params)
    return params.target or wishes.target(white), params.window or wishes.window()


def _search(
    step: RunStep,
    shots: Sequence[RunShot],
    wishes: FlatWishes,
    white: int,
    rows: Sequence[FlatSeries],
    bands: dict[str, float | None],
) -> SearchOut:
    target, window = _aim(step, wishes, white)
    row = rows[step.row] if step.row is not None else None
    outcome = read(SearchOutcome, step.outcome)
    found, none, coming = outcome.found, outcome.no_answer, outcome.next
    following = ""
    if coming and not found and not none:
        following = f"Next {in_words.seconds(coming.exposure_s)}: {coming.why}."
    pedestal, rate = (found.pedestal_adu, found.rate_adu_s) if found else (USUAL_PEDESTAL_ADU, None)
    return SearchOut(
        step_id=step.id,
        filter_code=step.filter_code or "",
        passband_nm=bands.get(step.filter_code or ""),
        gain=row.gain if row else 0.0,
        brightness=row.brightness if row else None,
        target=target.level_adu,
        tolerance=target.tolerance_adu,
        white=target.white_adu,
        shortest=window.shortest.exposure_s,
        longest=window.longest.exposure_s,
        shortest_reason=window.shortest.reason,
        longest_reason=window.longest.reason,
        pedestal=pedestal,
        rate=_rate_so_far(shots, pedestal, white) if rate is None else rate,
        shots=[_shot(x, target.level_adu, target.tolerance_adu, i + 1) for i, x in enumerate(shots)],
        next=following,
        found=_found_text(step, found) if found else None,
        found_s=found.exposure_s if found else None,
        no_answer=none.message if none else None,
        advice=none.advice if none else None,
        came_out=None,
    )


def _rate_so_far(shots: Sequence[RunShot], pedestal: float, white: int) -> float | None:
    """ADU each second by the newest shot that is neither dark nor full."""
    for shot in reversed(shots):
        level = read(ShotStats, shot.stats).median
        if pedestal + 200 < level < 0.97 * white:
            return (level - pedestal) / shot.exposure_s
    return None


def _came_out(
    step: RunStep, tests: Sequence[RunShot], flats: Sequence[RunShot], search: SearchOut
) -> RulerOut | None:
    """How far what the search led to lies from its target: its flats, else the level that it foretold, else how near it
    came."""
    found = read(SearchOutcome, step.outcome).found
    if flats:
        level = median(read(ShotStats, x.stats).median for x in flats)
    elif found:
        level = found.expected_adu
    elif tests:
        level = read(ShotStats, tests[-1].stats).median
    else:
        return None
    return in_words.ruler_out(rulers.band("level", search.target, level, search.tolerance, "ADU"))


def _series(
    step: RunStep, last: RunShot | None, wishes: FlatWishes, white: int, colour: bool
) -> SeriesOut | None:
    if step.kind not in SERIES:
        return None
    target = _aim(step, wishes, white)[0]
    shot = None
    if last is not None:
        if step.kind == "flats":
            shot = _shot(last, target.level_adu, target.tolerance_adu, last.seq)
        else:
            shot = _shot(last, read(ShotStats, last.stats).median, 60.0, last.seq)
    statistic = "median of the brightest channel" if colour and step.kind == "flats" else "median"
    return SeriesOut(
        step_id=step.id, title=step.title, done=step.done, count=step.count, statistic=statistic, last=shot
    )
