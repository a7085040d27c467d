"""A twilight in words and numbers: as it will be, as it goes, as it was."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any, Literal
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.settings import RowKey
from grayshelf.core.flats.sky.plan import MOST_WISHED, PlannedRow, lay_out_again
from grayshelf.core.flats.sky.sun import Twilight
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import sheet_rows
from grayshelf.library.library import Library
from grayshelf.library.models import Job, Rig, RunShot, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.step_records import BuildOutcome, NotBuilt, ShotStats, SkyOutcome, TwilightJob
from grayshelf.web.common import in_words
from grayshelf.web.common.gates import waiting_gate
from grayshelf.web.common.jobs import job_out
from grayshelf.web.common.rigs import passbands
from grayshelf.web.flats.rows import key_in, key_out
from grayshelf.web.twilight.schemas import (
    SkyMark,
    SkyRowOut,
    SkyShotOut,
    SunMark,
    TwilightIn,
    TwilightOut,
    TwilightRow,
)
from grayshelf.work.job_states import OPEN, JobState, StepState
from grayshelf.work.jobs import ALIVE, RESUMABLE, WITH_RIG
from grayshelf.work.sky.rows import (
    Ahead,
    SkySubject,
    between_s,
    has_place,
    key_of_sky,
    look_ahead,
    sky_shot,
    sky_subjects,
    twilight_of,
)
from grayshelf.work.sky.starter import newest_twilight

#: What of the time before the first window and after the last one is shown, in minutes.
MARGIN_MIN = 6.0
#: A twilight that ended is shown for so long before the next one is looked ahead at.
SHOWN_FOR = timedelta(hours=2)


@dataclass(frozen=True)
class _Setting:
    """What the words of a page need to know besides the twilight."""

    zone: ZoneInfo
    bands: dict[str, float | None]
    gain_word: str

    def row(self, key: RowKey, count: int) -> dict[str, Any]:
        """What is said of any row."""
        binned = f", binning {key.binning}" if key.binning > 1 else ""
        return {
            "key": key_out(key),
            "gain_text": f"{self.gain_word} {key.gain:g}{binned}",
            "passband_nm": self.bands.get(key.filter_code),
            "count": count,
        }


def twilight_page(
    library: Library, rig_id: int, devices: RigDevices | None, asked: TwilightIn
) -> TwilightOut:
    """The twilight that goes on; else the one that is asked for; else the one that comes first."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        job = newest_twilight(session, rig_id)
        setting = _Setting(library.zone(session), passbands(rig), gain_word(library, rig.camera))
        site = library.site(session)
        page: dict[str, Any] = {
            "rig": rig.name,
            "at": "dawn" if asked.at == "dawn" else "dusk",
            "shows": "plan",
            "day": asked.day or library.clock.now().date(),
            "title": "Where is the site?",
            "under": "",
            "zero": library.clock.now(),
            "from_x": 0.0,
            "to_x": 1.0,
            "now_x": None,
            "hours": [],
            "sun": [],
            "rows": [],
            "others": [],
            "most": MOST_WISHED,
            "fade_text": "",
            "next_text": "",
            "known_text": "",
            "place": _place(site),
            "can_shoot": False,
            "cannot": "",
            "job": None,
            "gate": None,
            "has_last": job is not None,
            "last_text": "",
            "failed": [],
        }
        if has_place(site):
            if job is not None and _shows_run(library, session, job, asked):
                page |= _run_page(library, session, rig, devices, job, setting)
            else:
                page |= _plan_page(library, session, rig, devices, asked, setting)
                page["last_text"] = _last_text(job, setting.zone)
        return TwilightOut(**page)


def _shows_run(library: Library, session: Session, job: Job, asked: TwilightIn) -> bool:
    """Whether the newest twilight is shown, rather than the next: it goes on, ended lately, or can be gone on with."""
    if job.state in ALIVE or asked.at == "last":
        return True
    if asked.at is not None:
        return False
    now = library.clock.now()
    if job.ended_at is not None and now - job.ended_at < SHOWN_FOR:
        return True
    twilight = twilight_of(library, session, read(TwilightJob, job.params))
    return job.state in RESUMABLE and twilight.seconds(now) < twilight.ends_s


# -- one that is looked ahead at --------------------------------------------------------------------------------


def _plan_page(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    asked: TwilightIn,
    setting: _Setting,
) -> dict[str, Any]:
    counts = None if asked.rows is None else {key_in(r.key): r.count for r in asked.rows}

    def ahead_at(at: str, day: date | None) -> Ahead:
        return look_ahead(library, session, rig, devices, dawn=at == "dawn", counts=counts, day=day)

    at = asked.at or "dusk"
    ahead = ahead_at(at, asked.day)
    if asked.at is None:
        dawn = ahead_at("dawn", asked.day)
        if dawn.begins is not None and (ahead.begins is None or dawn.begins < ahead.begins):
            at, ahead = "dawn", dawn
    coming = ahead if asked.day is None else ahead_at(at, None)
    twilight, zone = ahead.twilight, setting.zone
    by_code = {s.wish.code: s for s in ahead.subjects}
    rows = [_row(by_code[p.code], p, twilight, setting) for p in ahead.planned]
    rows += [_troubled(setting.row(key, ahead.counts[key]), why) for key, why in ahead.troubles.items()]
    known = {s.key for s in ahead.subjects} | set(ahead.troubles)
    cannot = _cannot(session, rig, devices, ahead, is_next=coming.twilight.day == twilight.day)
    return {
        "at": at,
        "day": twilight.day,
        "title": _plan_title(ahead, zone),
        "under": _plan_under(ahead),
        "rows": rows,
        "others": [
            SkyRowOut(**setting.row(r.key, r.wishes.n_flats))
            for r in sheet_rows(library, session, rig)
            if r.key not in known
        ],
        "fade_text": _fade_text(_course_fade(twilight, ahead.planned), seen=False),
        "known_text": _known_text(ahead.subjects),
        "can_shoot": not cannot,
        "cannot": cannot,
    } | _scale(library, twilight, ahead.planned, [], zone)


def _cannot(session: Session, rig: Rig, devices: RigDevices | None, ahead: Ahead, *, is_next: bool) -> str:
    """Why a twilight that is looked ahead at cannot be shot; empty where it can."""
    busy = session.scalar(
        select(Job).where(Job.rig_id == rig.id, Job.state.in_(ALIVE), Job.kind.in_(WITH_RIG))
    )
    if devices is None:
        return "No devices are connected to this rig: shoot by these times and exposures."
    if busy is not None:
        return f"The rig is busy: {busy.title}."
    if not is_next:
        return "Only the next dusk and the next dawn can be shot."
    if ahead.troubles:
        return "Leave out what nothing can be said of, or mend it."
    if not ahead.planned:
        return "Choose at least one filter."
    return "" if ahead.flats else "The sky suits none of these filters."


def _day_of(twilight: Twilight, zone: ZoneInfo) -> str:
    middle = twilight.time(twilight.ends_s / 2.0).astimezone(zone)
    return f"{'Dawn' if twilight.dawn else 'Dusk'} of {in_words.short_day(middle.date())}"


def _plan_title(ahead: Ahead, zone: ZoneInfo) -> str:
    day, twilight = _day_of(ahead.twilight, zone), ahead.twilight
    ends = [p.ends_s for p in ahead.planned if p.ends_s is not None]
    if ahead.begins is None or not ends:
        return f"{day}: no flats"
    return f"{day}: {in_words.clock(ahead.begins, zone)} to {in_words.clock(twilight.time(max(ends)), zone)}"


def _plan_under(ahead: Ahead) -> str:
    if not ahead.subjects:
        return "Nothing is chosen." if not ahead.troubles else ""
    wanted, filters = sum(s.wish.count for s in ahead.subjects), {s.key.filter_code for s in ahead.subjects}
    what = f"All {wanted}" if ahead.flats >= wanted else f"{ahead.flats} of {wanted}"
    where = f" in {len(filters)} filters fit, one after the other." if len(filters) > 1 else " fit."
    return f"{what} flats{where}"


def _row(subject: SkySubject, planned: PlannedRow, twilight: Twilight, setting: _Setting) -> TwilightRow:
    def minutes(at_s: float | None) -> float | None:
        return None if at_s is None else at_s / 60.0

    def time(at_s: float) -> str:
        return in_words.clock(twilight.time(at_s), setting.zone)

    window = plan = "the sky never suits it"
    if planned.opens_s is not None and planned.shuts_s is not None:
        window = f"open {time(planned.opens_s)}–{time(planned.shuts_s)}, {planned.fit} fit"
        plan = "no time left after the filters before it" if planned.fit else "its sky is past"
    if planned.begins_s is not None and planned.ends_s is not None:
        plan = f"{time(planned.begins_s)} to {time(planned.ends_s)}"
    low, high = subject.window.shortest, subject.window.longest
    return TwilightRow(
        **setting.row(subject.key, subject.wish.count),
        done=0,
        set_aside=0,
        fit=planned.fit,
        planned=planned.planned,
        opens=minutes(planned.opens_s),
        shuts=minutes(planned.shuts_s),
        begins=minutes(planned.begins_s),
        ends=minutes(planned.ends_s),
        first_exposure_s=planned.first_exposure_s,
        last_exposure_s=planned.last_exposure_s,
        window_text=window,
        plan_text=plan,
        exposures_text=_exposures(planned.first_exposure_s, planned.last_exposure_s),
        light_text=f"Its light by {subject.known_from}; permitted {in_words.plain(low.exposure_s)} ({low.reason}) "
        f"to {in_words.seconds(high.exposure_s)}",
        trouble="",
        state="plan",
        shots=[],
    )


def _troubled(row: dict[str, Any], trouble: str) -> TwilightRow:
    """A row of which nothing can be said, with the reason."""
    nothing: dict[str, Any] = dict.fromkeys(
        ("opens", "shuts", "begins", "ends", "first_exposure_s", "last_exposure_s")
    )
    return TwilightRow(
        **row,
        **nothing,
        done=0,
        set_aside=0,
        fit=0,
        planned=0,
        window_text="",
        plan_text=trouble,
        exposures_text="",
        light_text="",
        trouble=trouble,
        state="plan",
        shots=[],
    )


# -- one that goes on, or has been ------------------------------------------------------------------------------


def _run_page(
    library: Library, session: Session, rig: Rig, devices: RigDevices | None, job: Job, setting: _Setting
) -> dict[str, Any]:
    twilight, zone = twilight_of(library, session, read(TwilightJob, job.params)), setting.zone
    alive = job.state in ALIVE
    steps = list(session.scalars(select(RunStep).where(RunStep.job_id == job.id).order_by(RunStep.seq)))
    sky = {str(key_of_sky(s)): s for s in steps if s.kind == "sky"}
    counts = {key_of_sky(s): s.count for s in sky.values()}
    subjects, troubles = sky_subjects(library, session, rig, devices, counts)
    planned, fade = lay_out_again(
        [s.wish for s in subjects],
        {code: [sky_shot(s, twilight) for s in step.shots] for code, step in sky.items()},
        twilight.course,
        dawn=twilight.dawn,
        between_s=between_s(devices),
        from_s=twilight.seconds(library.clock.now()) if alive else math.inf,
    )
    by_code, plans = {s.wish.code: s for s in subjects}, {p.code: p for p in planned}
    rows = [
        _run_row(job, step, _row(by_code[code], plans[code], twilight, setting), twilight, zone)
        for code, step in sky.items()
        if code in by_code
    ]
    rows += [_troubled(setting.row(key, counts[key]), why) for key, why in troubles.items()]
    done, wanted = (sum(getattr(s, what) for s in sky.values()) for what in ("done", "count"))
    current = (
        next((s for s in steps if s.state in (StepState.DOING, StepState.WAITING)), None) if alive else None
    )
    failed = [f for s in steps if s.kind == "build" for f in read(BuildOutcome, s.outcome).failed]
    fades = _course_fade(twilight, planned) if fade is None else fade
    return {
        "at": "dawn" if twilight.dawn else "dusk",
        "shows": "run",
        "day": twilight.day,
        "title": f"{_day_of(twilight, zone)}: {done} of {wanted} flats",
        "under": job.message if job.state == JobState.DONE else "",
        "rows": rows,
        "fade_text": _fade_text(fades, seen=fade is not None),
        "next_text": _next_text(current, zone),
        "known_text": "Each frame has an exposure of its own; a bias is taken off. Nothing of it is kept as a setting.",
        "job": job_out(job, library) if job.state != JobState.DONE else None,
        "gate": waiting_gate(job, steps),
        "failed": _failed(failed),
    } | _scale(
        library,
        twilight,
        planned,
        [x for s in sky.values() for x in s.shots],
        zone,
        over=job.state == JobState.DONE,
    )


def _failed(masters: Sequence[NotBuilt]) -> list[str]:
    """Masters that could not be built, those with one reason together."""
    reasons = dict.fromkeys(f"{x.message} {x.advice}" for x in masters)
    said = []
    for reason in reasons:
        titles = in_words.listed(x.title for x in masters if f"{x.message} {x.advice}" == reason)
        said.append(f"{titles[:1].upper()}{titles[1:]}: {reason}")
    return said


def _run_row(job: Job, step: RunStep, row: TwilightRow, twilight: Twilight, zone: ZoneInfo) -> TwilightRow:
    shots = [_shot(s, twilight, zone) for s in step.shots]
    flats = [s for s in step.shots if kind_of(s) == "flat"]
    state: Literal["waits", "now", "done", "short"] = "waits"
    if step.done >= step.count:
        state = "done"
    elif step.state not in OPEN or job.state not in ALIVE:
        state = "short"
    elif step.state == StepState.DOING:
        state = "now"
    said = row.plan_text
    if state == "short":
        said = read(SkyOutcome, step.outcome).why or _shot_from_to(flats, zone) or "not shot"
    elif state == "done":
        said = _shot_from_to(flats, zone)
    exposures = _exposures(flats[0].exposure_s, flats[-1].exposure_s) if flats else row.exposures_text
    return row.model_copy(
        update={
            "count": step.count,
            "done": step.done,
            "set_aside": sum(s.what == "set aside" for s in shots),
            "exposures_text": exposures,
            "plan_text": said,
            "state": state,
            "shots": shots,
        }
    )


def kind_of(shot: RunShot) -> Literal["flat", "set aside", "look"]:
    """What a frame of the sky is."""
    stats = read(ShotStats, shot.stats)
    if stats.counts:
        return "flat"
    return "look" if stats.test else "set aside"


def _shot(shot: RunShot, twilight: Twilight, zone: ZoneInfo) -> SkyShotOut:
    level = in_words.number(read(ShotStats, shot.stats).median)
    return SkyShotOut(
        x=twilight.seconds(shot.taken_at) / 60.0,
        what=kind_of(shot),
        text=f"{in_words.clock(shot.taken_at, zone)}, {in_words.seconds(shot.exposure_s)}, {level} ADU",
        why=shot.why,
    )


def _shot_from_to(flats: Sequence[RunShot], zone: ZoneInfo) -> str:
    """When the flats of a row were shot."""
    if not flats:
        return ""
    ends = flats[-1].taken_at + timedelta(seconds=flats[-1].exposure_s)
    return f"{in_words.clock(flats[0].taken_at, zone)} to {in_words.clock(ends, zone)}"


def _next_text(step: RunStep | None, zone: ZoneInfo) -> str:
    coming = read(SkyOutcome, step.outcome).next if step is not None and step.kind == "sky" else None
    if step is None or coming is None:
        return ""
    if coming.until is not None:
        return f"Waiting for {step.filter_code} until {in_words.clock(coming.until, zone)}: {coming.why}"
    what = "A look at the sky" if coming.test else f"Flat {step.done + 1} of {step.count}"
    return f"{what} in {step.filter_code}, {in_words.seconds(coming.exposure_s or 0.0)}"


# -- the scale of time ------------------------------------------------------------------------------------------


def _scale(
    library: Library,
    twilight: Twilight,
    planned: Sequence[PlannedRow],
    shots: Sequence[RunShot],
    zone: ZoneInfo,
    *,
    over: bool = False,
) -> dict[str, Any]:
    """First and last minute of the chart, its hours, where the sun passes whole degrees, and now."""
    times = [x for p in planned for x in (p.opens_s, p.shuts_s, p.ends_s) if x is not None]
    times += [twilight.seconds(s.taken_at) for s in shots]
    if not times:
        # Nothing to show: half an hour on both sides of sunset or sunrise, or of the middle where there is none.
        horizon = twilight.passes(0.0)
        middle = twilight.ends_s / 2.0 if horizon is None else horizon
        times = [middle - 1800.0, middle + 1800.0]
    first, last = min(times) / 60.0 - MARGIN_MIN, max(times) / 60.0 + MARGIN_MIN
    now = twilight.seconds(library.clock.now()) / 60.0
    shown = first <= now <= last and not over
    at_zero = "sun rises" if twilight.dawn else "sun sets"
    return {
        "zero": twilight.zero,
        "from_x": first,
        "to_x": last,
        "now_x": now if shown else None,
        "hours": [
            SkyMark(x=twilight.seconds(at) / 60.0, text=in_words.clock(at, zone))
            for at in _round_times(twilight.time(first * 60.0), twilight.time(last * 60.0), zone)
        ],
        "sun": [
            SunMark(x=at / 60.0, degree=degree, text=f"{in_words.number(degree)}°" if degree else at_zero)
            for degree, at in twilight.whole_degrees(first * 60.0, last * 60.0)
        ],
    }


def _round_times(first: datetime, last: datetime, zone: ZoneInfo) -> list[datetime]:
    """Times of the clock on the wall to write at an axis: every ten minutes, or every half hour."""
    step = timedelta(minutes=10 if last - first < timedelta(minutes=110) else 30)
    midnight = first.astimezone(zone).replace(hour=0, minute=0, second=0, microsecond=0)
    at = midnight + math.ceil((first - midnight) / step) * step
    times = []
    while at <= last:
        times.append(at)
        at += step
    return times


# -- words ------------------------------------------------------------------------------------------------------


def _exposures(first: float | None, last: float | None) -> str:
    if first is None or last is None:
        return ""
    one, other = (f"{x:.2g}" if x < 10 else f"{x:.0f}" for x in (first, last))
    return f"{one}{in_words.THIN}s" if one == other else f"{one} to {other}{in_words.THIN}s"


def _course_fade(twilight: Twilight, planned: Sequence[PlannedRow]) -> float:
    """The fade by the sun's course, when the windows open."""
    opens = sorted(p.opens_s for p in planned if p.opens_s is not None)
    return twilight.course.fade(opens[len(opens) // 2] if opens else twilight.ends_s / 2.0).per_s


def _fade_text(per_s: float, *, seen: bool) -> str:
    factor = math.exp(-60.0 * per_s)
    known = "as the frames show it" if seen else "by the sun’s course; the frames will tell"
    return f"The sky’s light changes ×{factor:.2f} a minute, {known}."


def _place(site: dict[str, Any]) -> str:
    if not has_place(site):
        return ""
    latitude, longitude = float(site["latitude"]), float(site["longitude"])
    north, east = "N" if latitude >= 0 else "S", "E" if longitude >= 0 else "W"
    return f"{site['name']}, {abs(latitude):g}° {north}, {abs(longitude):g}° {east}"


def _known_text(subjects: Sequence[SkySubject]) -> str:
    """What the light of the rows is reckoned from, said once for all."""
    seen = in_words.listed(
        f"the twilight of {in_words.day(d)}" for d in sorted({s.seen_on for s in subjects if s.seen_on})
    )
    if seen and all(s.seen_on for s in subjects):
        return f"The light is as {seen} showed it."
    reckoned = "reckoned from focal ratio, pixel and filter, set right by as much"
    if seen:
        return f"The light is as {seen} showed it; of the others it is {reckoned}."
    newest = max((s.set_right_by for s in subjects if s.set_right_by), default=None)
    if newest is not None:
        return f"The light is {reckoned} as the twilight of {in_words.day(newest)} was off."
    return (
        "The light is reckoned from focal ratio, pixel, the filters’ widths and the sun: it may be off by a factor "
        "of two, five minutes or so."
    )


def _last_text(job: Job | None, zone: ZoneInfo) -> str:
    if job is None:
        return ""
    when = (job.ended_at or job.created_at).astimezone(zone).date()
    return f"{in_words.short_day(when)}: {job.message}" if job.message else in_words.short_day(when)


# -- tables -----------------------------------------------------------------------------------------------------


def plan_table(page: TwilightOut) -> tuple[list[list[object]], str]:
    """The layout as a table, times in UTC."""

    def utc(minutes: float | None) -> datetime | None:
        return None if minutes is None else page.zero + timedelta(minutes=minutes)

    rows: list[list[object]] = [
        [
            *("filter", "gain", "offset", "binning", "flats_wished", "flats_that_fit", "flats_planned"),
            *("opens_utc", "shuts_utc", "begins_utc", "ends_utc", "first_exposure_s", "last_exposure_s"),
            "light",
        ]
    ]
    for r in page.rows:
        k = r.key
        rows.append(
            [
                *(k.filter_code, k.gain, k.offset, k.binning, r.count, r.fit, r.planned),
                *(utc(x) for x in (r.opens, r.shuts, r.begins, r.ends)),
                *(r.first_exposure_s, r.last_exposure_s, r.trouble or r.light_text),
            ]
        )
    return rows, f"twilight-{page.at}-{page.day}"


def shots_table(library: Library, rig_id: int) -> tuple[list[list[object]], str]:
    """Every frame of the newest twilight as a table."""
    rows: list[list[object]] = [
        ["filter", "gain", "offset", "binning", "began_utc", "exposure_s", "level_adu", "what", "why", "file"]
    ]
    with library.db.session() as session:
        job = newest_twilight(session, rig_id)
        for step in [] if job is None else job.steps:
            if step.kind != "sky":
                continue
            k = key_of_sky(step)
            for s in step.shots:
                level = round(read(ShotStats, s.stats).median, 1)
                row = [k.filter_code, k.gain, k.offset, k.binning, s.taken_at, s.exposure_s, level]
                rows.append([*row, kind_of(s), s.why, s.path])
    return rows, "twilight-frames"
