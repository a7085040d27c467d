"""The log of nights in words: months at a glance, what was shot, the weather, the lights one by one."""

from __future__ import annotations

import calendar
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any

from sqlalchemy import select

from grayshelf.core.frames.weather import QUANTITIES
from grayshelf.core.matching.model import PullSlip, Verdict
from grayshelf.core.planning.sheet import SERIES
from grayshelf.library.catalog import set_aside
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.kept import in_parts
from grayshelf.library.kept_lights import light_ids, lights_of
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_sets
from grayshelf.library.models import Frame, RunStep
from grayshelf.library.night_log import logs_of
from grayshelf.library.records import read
from grayshelf.library.sites import zone_of
from grayshelf.library.step_records import SheetParams
from grayshelf.web.common import in_words
from grayshelf.web.common.rigs import passbands
from grayshelf.web.nights.schemas import (
    MonthNightOut,
    MonthOut,
    NightFrameOut,
    NightFramesOut,
    ShotLineOut,
    WeatherOut,
)
from grayshelf.work.job_states import JobState, StepState
from grayshelf.work.run.night_had import runs_of_night

#: Of a rig that was used for years, the months that are drawn.
MOST_MONTHS = 240


def months_of(
    by_night: Mapping[date, Sequence[tuple[LightSet, PullSlip]]], noted: set[date]
) -> list[MonthOut]:
    """Each month that had a night, the newest first."""
    months: dict[tuple[int, int], list[MonthNightOut]] = defaultdict(list)
    for night in sorted(by_night.keys() | noted):
        months[night.year, night.month].append(_month_night(night, by_night.get(night, ())))
    told = []
    for (year, month), nights in sorted(months.items(), reverse=True)[:MOST_MONTHS]:
        hours = sum(n.hours for n in nights)
        told.append(
            MonthOut(
                name=f"{calendar.month_name[month]} {year}",
                days=calendar.monthrange(year, month)[1],
                nights=nights,
                count=sum(n.taken > 0 for n in nights),
                hours=hours,
                hours_text=_hours_text(hours),
                kept=sum(n.kept for n in nights),
                taken=sum(n.taken for n in nights),
                gaps=sum(n.gaps for n in nights),
            )
        )
    return told


def _month_night(night: date, sets: Sequence[tuple[LightSet, PullSlip]]) -> MonthNightOut:
    hours = sum(s.row.n_kept * (s.want.exposure_s or 0.0) for s, _ in sets) / 3600.0
    kept, taken = sum(s.row.n_kept for s, _ in sets), sum(s.row.n_frames for s, _ in sets)
    gaps = sum(slip.verdict is Verdict.NOTHING for _, slip in sets)
    parts = [in_words.short_day(night)]
    unknown = not hours and any(s.row.n_kept and s.want.exposure_s is None for s, _ in sets)
    shown = in_words.exposure(None) if unknown else _hours_text(hours)
    parts.append(f"{kept} of {in_words.several(taken, 'light')}, {shown}" if taken else "no lights")
    if gaps:
        parts.append(f"{in_words.several(gaps, 'set')} {'lacks' if gaps == 1 else 'lack'} something")
    return MonthNightOut(
        night=night, day=night.day, hours=hours, kept=kept, taken=taken, gaps=gaps, text=", ".join(parts)
    )


def _hours_text(hours: float) -> str:
    return in_words.duration(hours * 3600.0) if hours else f"0{in_words.THIN}h"


def weather_out(conditions: Mapping[str, Any]) -> list[WeatherOut]:
    """Every quantity, with what is noted of it."""
    return [
        WeatherOut(name=q.name, says=q.says, unit=q.unit, value=_number(conditions.get(q.name)))
        for q in QUANTITIES
    ]


def _number(value: Any) -> float | None:
    return float(value) if isinstance(value, (int, float)) else None


def shot_lines(library: Library, rig_id: int, night: date) -> list[ShotLineOut]:
    """What runs and twilights shot in a night, in its order, and what failed."""
    told: list[tuple[Any, ShotLineOut]] = []
    with library.db.session() as session:
        zone = zone_of(library, session, library.rig(session, rig_id))
        for job in runs_of_night(session, rig_id, night, zone):
            for step in job.steps:
                line = _shot_line(step)
                if line is not None and step.started_at is not None:
                    clock = in_words.clock(step.started_at, zone)
                    told.append((step.started_at, line.model_copy(update={"clock": clock})))
            if job.state == JobState.FAILED and job.ended_at is not None:
                end = ShotLineOut(
                    clock=in_words.clock(job.ended_at, zone), what=job.message, how=job.advice, failed=True
                )
                told.append((job.ended_at, end))
    return [line for _, line in sorted(told, key=lambda item: item[0])]


def _shot_line(step: RunStep) -> ShotLineOut | None:
    series = step.kind == "sky" or step.kind in SERIES
    if step.state == StepState.NO_ANSWER:
        return ShotLineOut(clock="", what=step.title, how="no exposure was found", failed=True)
    if not series or not (step.done or step.state == StepState.DOING):
        return None
    params = read(SheetParams, step.params) if step.kind != "sky" else None
    parts = [f"{step.done} of {step.count}"]
    # Of frames of no row their title tells it.
    if params is not None and params.exposure_s and step.row is not None:
        parts.append(in_words.seconds(params.exposure_s))
    short = step.done < step.count and step.state not in (StepState.DOING, StepState.TO_DO)
    return ShotLineOut(clock="", what=step.title, how=", ".join(parts), failed=short)


def night_frames(library: Library, rig_id: int, night: date) -> NightFramesOut:
    """The lights of a night, one by one."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        zone, bands = zone_of(library, session, rig), passbands(rig)
        frames = []
        for frame in lights_of(library, session, rig, night):
            facts = facts_if_sound(frame.facts)
            if facts is None:
                continue
            aside = set_aside(frame.path)
            frames.append(
                NightFrameOut(
                    id=frame.id,
                    name=Path(frame.path).name,
                    target=facts.target or "no target",
                    filter_code=facts.filter_code,
                    stamp=in_words.stamp(facts),
                    passband_nm=bands.get(facts.filter_code or ""),
                    clock=in_words.clock(frame.utc, zone) if frame.utc else "",
                    exposure=in_words.seconds(facts.exposure_s) if facts.exposure_s else "",
                    kept=not frame.rejected,
                    in_rejects=aside,
                    why="in a folder of rejects" if aside else frame.reason if frame.rejected else "",
                )
            )
        return NightFramesOut(frames=frames)


def totals_csv_rows(library: Library, rig_id: int) -> list[list[object]]:
    """A line for each night: its hours, lights, and what is noted of it."""
    head = ["night", "targets", "hours_kept", "taken", "kept", "first_utc", "last_utc"]
    rows: list[list[object]] = [[*head, "notes"]]
    with library.db.session() as session:
        sets: dict[date, list[LightSet]] = defaultdict(list)
        for one in light_sets(library, library.rig(session, rig_id)):
            if one.row.night is not None:
                sets[one.row.night].append(one)
        notes = {log.night: log.notes for log in logs_of(session, rig_id)}
    for night in sorted(sets.keys() | notes.keys()):
        of_night = sets.get(night, [])
        targets = "; ".join(dict.fromkeys(s.facts.target or "no target" for s in of_night))
        hours = sum(s.row.n_kept * (s.want.exposure_s or 0.0) for s in of_night) / 3600.0
        firsts = [s.row.first_utc for s in of_night if s.row.first_utc]
        lasts = [s.row.last_utc for s in of_night if s.row.last_utc]
        taken, kept = sum(s.row.n_frames for s in of_night), sum(s.row.n_kept for s in of_night)
        span = [min(firsts, default=None), max(lasts, default=None)]
        rows.append([night, targets, round(hours, 3), taken, kept, *span, notes.get(night, "")])
    return rows


def weather_csv_rows(library: Library, rig_id: int) -> list[list[object]]:
    """A line for each night of which something of the weather is noted."""
    rows: list[list[object]] = [["night", *(q.name for q in QUANTITIES)]]
    with library.db.session() as session:
        for log in logs_of(session, rig_id):
            if any(q.name in log.conditions for q in QUANTITIES):
                rows.append([log.night, *(log.conditions.get(q.name) for q in QUANTITIES)])
    return rows


def frames_csv_rows(library: Library, rig_id: int) -> Iterator[list[object]]:
    """A line for each light, each made when it is asked for: a rig of years has hundreds of thousands."""
    with library.db.session() as session:
        ids = light_ids(library, session, library.rig(session, rig_id))
    return _frame_lines(library, ids)


def _frame_lines(library: Library, ids: Sequence[int]) -> Iterator[list[object]]:
    head = ["night", "utc", "target", "filter", "exposure_s", "gain", "offset", "sensor_c", "focus"]
    yield [*head, "kept", "why_not", "file"]
    columns = (Frame.id, Frame.night, Frame.utc, Frame.facts, Frame.rejected, Frame.reason, Frame.path)
    for part in in_parts(ids):
        with library.db.session() as session:
            found = {row.id: row for row in session.execute(select(*columns).where(Frame.id.in_(part)))}
        for row in (found[i] for i in part if i in found):
            facts = facts_if_sound(row.facts)
            if facts is not None:
                settings = [facts.exposure_s, facts.gain, facts.offset, facts.sensor_temp_c, facts.focus]
                kept = [int(not row.rejected), row.reason if row.rejected else "", row.path]
                yield [row.night, row.utc, facts.target, facts.filter_code, *settings, *kept]
