"""The page Tonight, before a run and while it goes on."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from statistics import median
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.model import ExposureWindow, FlatTarget
from grayshelf.core.flats.settings import FlatWishes
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching import rulers
from grayshelf.core.matching.age import age_step
from grayshelf.core.matching.model import CommonSettings
from grayshelf.core.planning.runsheet import (
    COOLER_HOLDS_WITHIN_C,
    FlatSeries,
    RigPace,
    StepKind,
    TimedStep,
    series_seconds,
)
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet, Job, RunShot, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.step_records import (
    BuildOutcome,
    GateParams,
    JobResult,
    RunJob,
    SearchOutcome,
    SheetParams,
    ShotStats,
)
from grayshelf.web import schemas as s
from grayshelf.web.views import words as w
from grayshelf.web.views.gates import gate_of, planned_gate
from grayshelf.web.views.jobs import job_out
from grayshelf.web.views.nights import passbands
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.jobs import ALIVE, JobState
from grayshelf.work.run.run import forecast_s
from grayshelf.work.run.tonight import Tonight, hands_free_at


def tonight_page(library: Library, rig_id: int, tonight: Tonight, devices: RigDevices | None) -> s.TonightOut:
    """The sheet, its cost, and whether the rig is ready."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        zone = library.zone(session)
        bands = passbands(rig)
        word = gain_word(library, rig.camera)
        ages = _ages(library, session, [c.holding_id for c in tonight.covered])
    offers = _offers(tonight, bands, word)
    on = [o for o in offers if o.on_sheet]
    hands_free = hands_free_at(tonight.steps)
    end = tonight.steps[-1].end if tonight.steps else None
    needed = tonight.sheet.times_needed
    ready = [
        s.ReadyOut(
            what=line.what,
            text=line.text,
            good=line.good,
            stops=line.stops,
            ruler=w.ruler_out(line.ruler) if line.ruler else None,
        )
        for line in tonight.ready
    ]
    return s.TonightOut(
        rig_id=rig_id,
        clock=w.clock(tonight.now, zone),
        headline=_headline(tonight, hands_free, end, needed, zone),
        start_label=_start_label(tonight),
        can_start=bool(tonight.steps) and not any(r.stops for r in ready),
        steps=[_planned(i, t, zone, bands, tonight) for i, t in enumerate(tonight.steps)],
        offers=offers,
        choices=[
            s.ChoiceOut(
                frames=c.frames,
                cost=None if c.cost_percent is None else round(c.cost_percent, 2),
                done_at=w.clock(c.done_at, zone),
                chosen=c.chosen,
            )
            for c in tonight.choices
        ],
        ready=ready,
        covered=[
            s.CoveredOut(
                holding_id=c.holding_id,
                kind=c.kind.value,
                title=c.title,
                lights=c.lights,
                age_step=ages.get(c.holding_id, 0),
                ruler=w.ruler_out(c.ruler) if c.ruler else None,
            )
            for c in tonight.covered
        ],
        covered_lights=max((c.lights for c in tonight.covered), default=0),
        waiting_lights=sum(o.lights for o in on),
        hands_free=w.clock(hands_free, zone) if hands_free else None,
        end=w.clock(end, zone) if end else None,
        has_devices=devices is not None,
        out_of_reach=[
            s.OutOfReachOut(kind=o.kind.value, title=o.title, lights=o.lights, why=o.why)
            for o in tonight.out_of_reach
        ],
    )


def _ages(library: Library, session: Session, ids: Sequence[int]) -> dict[int, int]:
    today = library.clock.now().date()
    rows = session.scalars(select(FrameSet).where(FrameSet.id.in_(ids)))
    return {r.id: age_step((today - r.night).days) if r.night else 0 for r in rows}


#: Less than this between the last hand and the end is not worth two times.
ONE_END = timedelta(minutes=2)


def _ends(hands_free: datetime | None, end: datetime, zone: ZoneInfo) -> str:
    """'Done at 01:45.', or both times where frames go on after the last hand was needed."""
    if hands_free is None or end - hands_free <= ONE_END:
        return f"Done at {w.clock(end, zone)}."
    return f"Hands free at {w.clock(hands_free, zone)}, done at {w.clock(end, zone)}."


def _headline(
    tonight: Tonight, hands_free: datetime | None, end: datetime | None, needed: int, zone: ZoneInfo
) -> str:
    if end is None:
        return "Nothing is missing that can be shot tonight."
    times = {0: "You are not needed.", 1: "You are needed once.", 2: "You are needed twice."}
    return f"{_ends(hands_free, end, zone)} {times.get(needed, f'You are needed {needed} times.')}"


def _start_label(tonight: Tonight) -> str:
    rows = tonight.sheet.rows
    if rows:
        counts = sorted({r.n_flats for r in rows})
        each = str(counts[0]) if len(counts) == 1 else f"{counts[0]}–{counts[-1]}"
        where = rows[0].filter_code if len(rows) == 1 else f"{len(rows)} filters"
        return f"Shoot {each} flats in {where}"
    by_kind = {k: sum(d.n_frames for d in tonight.sheet.darks if d.kind is k) for k in FrameKind}
    parts = [w.several(n, kind.value) for kind, n in by_kind.items() if n]
    if parts:
        return f"Shoot {w.listed(parts)}"
    return "Nothing to shoot"


def _offers(tonight: Tonight, bands: dict[str, float | None], word: str) -> list[s.OfferOut]:
    found = []
    for o in tonight.offers:
        nights = w.days(x.row.night for x in o.lights)
        found.append(
            s.OfferOut(
                key=o.key,
                kind="flat",
                title="Flats and dark flats",
                filter_code=o.wish.filter_code,
                passband_nm=bands.get(o.wish.filter_code),
                lights=o.wish.lights,
                hole=o.hole,
                on_sheet=o.on_sheet,
                detail=f"{w.several(o.wish.lights, 'light')} of {w.listed(dict.fromkeys(o.wish.targets))}, {nights}",
                note=o.note,
            )
        )
    for d in tonight.darks:
        seconds = series_seconds(d.wish.n_frames, d.wish.exposure_s, RigPace())
        degrees = "" if d.wish.set_temp_c is None else f", {w.degrees_c(d.wish.set_temp_c)}"
        kind = d.wish.kind.value
        takes = f"{d.wish.n_frames} frames take {w.duration(seconds)}, with nobody needed"
        found.append(
            s.OfferOut(
                key=d.key,
                kind=kind,
                filter_code=d.wish.filters[0] if len(d.wish.filters) == 1 else None,
                passband_nm=bands.get(d.wish.filters[0]) if len(d.wish.filters) == 1 else None,
                lights=d.wish.lights,
                hole=d.hole,
                on_sheet=d.on_sheet,
                title=f"{kind.capitalize()} {w.seconds(d.wish.exposure_s)}{degrees}, {word} {d.wish.gain:g}",
                detail=f"{w.several(d.wish.lights, 'light')} of {w.listed(d.wish.targets)}",
                note=takes if d.hole else f"{takes}; what is there: {d.note}",
            )
        )
    return sorted(found, key=lambda o: (o.kind != "flat", not o.hole, -o.lights))


def _planned(
    index: int, timed: TimedStep, zone: ZoneInfo, bands: dict[str, float | None], tonight: Tonight
) -> s.StepOut:
    step = timed.step
    lights, wanted = 0, False
    if step.kind is StepKind.FLATS and step.row is not None:
        row = tonight.sheet.rows[step.row]
        lights, wanted = row.lights, row.hole
    if step.kind is StepKind.DARKS:
        lights = sum(
            d.wish.lights for d in tonight.darks if d.wish.exposure_s == step.exposure_s and d.on_sheet
        )
        wanted = lights > 0
    return s.StepOut(
        id=index,
        kind=step.kind.value,
        title=step.title,
        filter_code=step.filter_code,
        passband_nm=bands.get(step.filter_code or ""),
        count=step.count,
        done=0,
        state=StepState.TO_DO,
        start=timed.start,
        end=timed.end,
        start_clock=w.clock(timed.start, zone),
        end_clock=w.clock(timed.end, zone),
        exposure=w.seconds(step.exposure_s) if step.exposure_s else None,
        exposure_known=step.exposure_known,
        needs_person=step.needs_person,
        row=step.row,
        gate=None if step.gate is None else planned_gate(step.gate),
        lights=lights,
        wanted=wanted,
        outcome="",
    )


# -- a run ------------------------------------------------------------------------------------------------------


def _sensor(devices: RigDevices | None) -> tuple[s.RulerOut | None, str]:
    """How warm the sensor is now, held against its set point where it has one."""
    if devices is None:
        return None, ""
    cooler = devices.camera.cooler()
    text = w.degrees_c(cooler.sensor_c, 1)
    if cooler.set_point_c is None:
        return None, text
    goal = CommonSettings(None, 1, 1, sensor_temp_c=cooler.set_point_c)
    now = CommonSettings(None, 1, 1, sensor_temp_c=cooler.sensor_c)
    return w.ruler_out(rulers.temperature(goal, now, COOLER_HOLDS_WITHIN_C)), text


def run_page(
    library: Library,
    job_id: int,
    wishes: FlatWishes,
    devices: RigDevices | None,
    bands: dict[str, float | None],
) -> s.RunOut:
    """A run, as far as it has come, with a forecast of the rest."""
    with library.db.session() as session:
        job = session.get_one(Job, job_id)
        steps = list(session.scalars(select(RunStep).where(RunStep.job_id == job_id).order_by(RunStep.seq)))
        zone = library.zone(session)
        current = next((x for x in steps if x.state in OPEN), None)
        shown = [x for x in steps if x.kind == "find" and (x.state != StepState.TO_DO)]
        flats = {x.row: x for x in steps if x.kind == "flats" and x.done}
        shots = {
            x.id: list(session.scalars(select(RunShot).where(RunShot.step_id == x.id).order_by(RunShot.seq)))
            for x in (*shown, *flats.values())
        }
        last = None
        if current is not None and current.kind in ("flats", "dark flats", "darks"):
            last = session.scalar(
                select(RunShot).where(RunShot.step_id == current.id).order_by(RunShot.seq.desc()).limit(1)
            )
    now = library.clock.now()
    white = devices.camera.facts.white_adu if devices else 65535
    colour = devices is not None and devices.camera.facts.bayer_pattern is not None
    rows = read(RunJob, job.params).rows
    outs = _forecast(steps, now, zone, bands, rows)
    searches = []
    for x in shown:
        out = _search(x, shots[x.id], wishes, white, rows, bands)
        shot_with_it = shots[flats[x.row].id] if x.row in flats else []
        searches.append(out.model_copy(update={"came_out": _came_out(x, shots[x.id], shot_with_it, out)}))
    alive = job.state in ALIVE
    hands = sum(x.needs_person for x in outs if x.state in OPEN)
    end = next(
        (o.end_clock for o in reversed(outs) if o.state not in (StepState.SKIPPED, StepState.NO_ANSWER)), None
    )
    sensor, sensor_text = _sensor(devices)
    live = [o for o in outs if o.state not in (StepState.SKIPPED, StepState.NO_ANSWER)]
    handed = [o.end for o in live if o.needs_person or o.kind in ("flats", "dark flats")]
    ends = _ends(handed[-1] if handed else None, live[-1].end, zone) if live else ""
    told = job_out(job, library)
    headline, subline = _run_words(job, current, outs, ends, hands)
    if told.state == JobState.WAITING and (current is None or current.state != StepState.WAITING):
        # No hand is waited for, but room on the disk.
        headline, subline = "The run waits for room.", f"{told.message} {told.advice}"
    return s.RunOut(
        job=told,
        headline=headline,
        subline=subline,
        clock=w.clock(now, zone),
        rig_id=job.rig_id or 0,
        steps=outs,
        current=current.id if current and alive else None,
        search=next((x for x in searches if current and x.step_id == current.id), None),
        series=_series(current, last, wishes, white, colour) if current else None,
        searches=searches,
        afterwards=list(read(JobResult, job.result).afterwards),
        end_clock=end,
        hands=hands,
        sensor=sensor,
        sensor_text=sensor_text,
    )


def _run_words(
    job: Job, current: RunStep | None, outs: Sequence[s.StepOut], ends: str, hands: int
) -> tuple[str, str]:
    lost = [x for x in outs if x.state == StepState.NO_ANSWER]
    if job.state == JobState.DONE:
        tail = (
            f"; no exposure was found for {w.listed(x.filter_code or '' for x in lost)}"
            if lost
            and not any(
                x.kind == "find"
                and x.filter_code in {y.filter_code for y in lost}
                and x.state == StepState.DONE
                for x in outs
            )
            else ""
        )
        return "The run is done.", f"{job.message}{tail}."
    if job.state == JobState.INTERRUPTED:
        where = f"during ‘{current.title}’" if current else "at its end"
        return (
            "This run was interrupted.",
            f"The application stopped {where}. No frame is lost; go on from there.",
        )
    if job.state == JobState.FAILED:
        return "The run had to stop.", f"{job.message} {job.advice}".strip()
    if job.state == JobState.STOPPED:
        return "The run was stopped.", "What was shot is kept. Go on from there, or leave it."
    if current is not None and current.state == StepState.WAITING:
        return current.title, read(GateParams, current.params).advice
    if job.state == JobState.PAUSED:
        return "Paused.", f"Next: {current.title if current else 'nothing'}."
    again = {
        0: "You are not needed any more.",
        1: "You are needed once more.",
        2: "You are needed twice more.",
    }
    return ends or "Starting.", again.get(hands, f"You are needed {hands} more times.")


def _forecast(
    steps: Sequence[RunStep],
    now: datetime,
    zone: ZoneInfo,
    bands: dict[str, float | None],
    rows: Sequence[FlatSeries],
) -> list[s.StepOut]:
    """Steps with the times they took, and a forecast for those to come."""
    at = now
    outs = []
    for step in steps:
        gate = read(GateParams, step.params) if step.kind == StepKind.GATE else None
        params = SheetParams() if gate is not None else read(SheetParams, step.params)
        seconds = forecast_s(step)
        if step.state in OPEN:
            start = step.started_at or at
            share = step.done / step.count if step.count and step.kind != "find" else 0.0
            end = at + timedelta(seconds=seconds * (1 - min(share, 1.0)))
            at = end
        else:
            start = step.started_at or at
            end = step.ended_at or start
        row = rows[step.row] if step.row is not None and step.row < len(rows) else None
        outs.append(
            s.StepOut(
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
                start_clock=w.clock(start, zone),
                end_clock=w.clock(end, zone),
                exposure=w.seconds(params.exposure_s) if params.exposure_s else None,
                exposure_known=params.exposure_known,
                needs_person=params.needs_person if gate is None else gate.needs_person,
                row=step.row,
                gate=None if gate is None else gate_of(step, steps),
                lights=row.lights if row and step.kind == StepKind.FLATS else params.lights,
                wanted=step.kind == StepKind.DARKS
                or (step.kind in (StepKind.FIND, StepKind.FLATS) and bool(row and row.hole)),
                outcome=_outcome(step),
            )
        )
    return outs


def _outcome(step: RunStep) -> str:
    if step.kind == StepKind.BUILD:
        return "; ".join(f"{f.title}: {f.message}" for f in read(BuildOutcome, step.outcome).failed)
    if step.kind != StepKind.FIND:
        return ""
    outcome = read(SearchOutcome, step.outcome)
    if outcome.found is not None:
        return f"{w.seconds(outcome.found.exposure_s)} in {w.several(outcome.found.shots, 'shot')}"
    return "" if outcome.no_answer is None else f"{outcome.no_answer.message} {outcome.no_answer.advice}"


def _shot(shot: RunShot, target: float, tolerance: float, number: int) -> s.TestShotOut:
    stats = read(ShotStats, shot.stats)
    level = stats.median
    ruler = rulers.band("level", target, level, tolerance, "ADU")
    return s.TestShotOut(
        number=number,
        exposure_s=shot.exposure_s,
        exposure=w.seconds(shot.exposure_s),
        level=level,
        level_text=f"{w.number(level)}{w.THIN}ADU",
        ruler=w.ruler_out(ruler),
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
) -> s.SearchOut:
    target, window = _aim(step, wishes, white)
    row = rows[step.row] if step.row is not None else None
    levels = [(x.exposure_s, read(ShotStats, x.stats).median) for x in shots]
    outcome = read(SearchOutcome, step.outcome)
    found, none, coming = outcome.found, outcome.no_answer, outcome.next
    following = ""
    if coming and not found and not none:
        following = f"Next {w.seconds(coming.exposure_s)}: {coming.why}."
    rate = found.rate_adu_s if found else None
    pedestal = found.pedestal_adu if found else 500.0
    usable = [(t, level) for t, level in levels if pedestal + 200 < level < 0.97 * white]
    if rate is None and usable:
        rate = (usable[-1][1] - pedestal) / usable[-1][0]
    return s.SearchOut(
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
        rate=rate,
        shots=[_shot(x, target.level_adu, target.tolerance_adu, i + 1) for i, x in enumerate(shots)],
        next=following,
        found=w.seconds(found.exposure_s) if found else None,
        found_s=found.exposure_s if found else None,
        no_answer=none.message if none else None,
        advice=none.advice if none else None,
        came_out=None,
    )


def _came_out(
    step: RunStep, tests: Sequence[RunShot], flats: Sequence[RunShot], search: s.SearchOut
) -> s.RulerOut | None:
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
    return w.ruler_out(rulers.band("level", search.target, level, search.tolerance, "ADU"))


def _series(
    step: RunStep, last: RunShot | None, wishes: FlatWishes, white: int, colour: bool
) -> s.SeriesOut | None:
    if step.kind not in ("flats", "dark flats", "darks"):
        return None
    target = _aim(step, wishes, white)[0]
    shot = None
    if last is not None:
        if step.kind == "flats":
            shot = _shot(last, target.level_adu, target.tolerance_adu, last.seq)
        else:
            shot = _shot(last, read(ShotStats, last.stats).median, 60.0, last.seq)
    statistic = "median of the brightest channel" if colour and step.kind == "flats" else "median"
    return s.SeriesOut(
        step_id=step.id, title=step.title, done=step.done, count=step.count, statistic=statistic, last=shot
    )
