"""A twilight that goes on, or has been, in words."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from datetime import timedelta
from typing import Any, Literal
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.filter_words import NO_FILTER, through
from grayshelf.core.flats.sky.plan import lay_out_again
from grayshelf.core.flats.sky.sun import Twilight
from grayshelf.core.planning.by_hand import set_by_rig_itself
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import Job, Rig, RunShot, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import BuildOutcome, ShotStats, SkyOutcome, TwilightJob
from grayshelf.web.common import in_words
from grayshelf.web.common.gates import waiting_gate
from grayshelf.web.common.jobs import job_out
from grayshelf.web.twilight.rows import Setting, day_in_words, exposures_in_words, row_out, troubled_row
from grayshelf.web.twilight.scale import course_fade, fade_in_words, scale_of
from grayshelf.web.twilight.schemas import SkyShotOut, TwilightRow
from grayshelf.work.job_states import OPEN, JobState, StepState
from grayshelf.work.jobs import ALIVE
from grayshelf.work.sky.rows import SkySubject, between_s, key_of_sky, sky_shot, sky_subjects, twilight_of


def run_values(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    job: Job,
    setting: Setting,
    by_rig: frozenset[str] = frozenset(),
) -> dict[str, Any]:
    """The values of the page for a twilight that goes on, or has been.

    `by_rig`: what devices set where another program runs the camera.
    """
    twilight, zone = twilight_of(library, session, rig, read(TwilightJob, job.params)), setting.zone
    alive, over = job.state in ALIVE, job.state == JobState.DONE
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
        _run_row(job, step, row_out(by_code[code], plans[code], twilight, setting), twilight, zone)
        for code, step in sky.items()
        if code in by_code
    ]
    rows += [troubled_row(setting.row(key, counts[key]), why) for key, why in troubles.items()]
    fades = course_fade(twilight, planned) if fade is None else fade
    shots = [x for s in sky.values() for x in s.shots]
    current = _current(steps) if alive else None
    return {
        "at": "dawn" if twilight.dawn else "dusk",
        "shows": "run",
        "day": twilight.day,
        "title": _title(twilight, list(sky.values()), zone),
        "under": job.message if over else "",
        "rows": rows,
        "fade_text": fade_in_words(fades, seen=fade is not None),
        "next_text": _next_text(current, zone) + _set_itself(current, by_code, by_rig),
        "known_text": "Each frame has an exposure of its own; a bias is taken off. Nothing of it is kept as a setting.",
        "job": None if over else job_out(job, library),
        "gate": waiting_gate(job, steps),
        "failed": _failed(steps),
    } | scale_of(library, twilight, planned, shots, zone, over=over)


def _title(twilight: Twilight, sky: Sequence[RunStep], zone: ZoneInfo) -> str:
    done, wanted = sum(s.done for s in sky), sum(s.count for s in sky)
    return f"{day_in_words(twilight, zone)}: {done} of {wanted} flats"


def _current(steps: Sequence[RunStep]) -> RunStep | None:
    return next((s for s in steps if s.state in (StepState.DOING, StepState.WAITING)), None)


def _failed(steps: Sequence[RunStep]) -> list[str]:
    """Masters that could not be built, those with one reason together."""
    masters = [x for s in steps if s.kind == "build" for x in read(BuildOutcome, s.outcome).failed]
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
    exposures = exposures_in_words(flats[0].exposure_s, flats[-1].exposure_s) if flats else row.exposures_text
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


def _set_itself(step: RunStep | None, by_code: Mapping[str, SkySubject], by_rig: frozenset[str]) -> str:
    """What devices set beside the camera of another program; empty where there are none."""
    subject = None if step is None or step.kind != "sky" else by_code.get(str(key_of_sky(step)))
    if subject is None:
        return ""
    dials = {
        "filter": subject.key.filter_code,
        "focus": None if subject.focus is None else f"focus {subject.focus:,.0f}",
        "angle": None if subject.angle_deg is None else f"angle {subject.angle_deg:.1f}°",
    }
    own = [words for name, words in dials.items() if words is not None and name in by_rig]
    return f"; {set_by_rig_itself(own)}" if own else ""


def _next_text(step: RunStep | None, zone: ZoneInfo) -> str:
    coming = read(SkyOutcome, step.outcome).next if step is not None and step.kind == "sky" else None
    if step is None or coming is None:
        return ""
    if coming.until is not None:
        code = step.filter_code or NO_FILTER
        waited = "" if code == NO_FILTER else f" for {code}"
        return f"Waiting{waited} until {in_words.clock(coming.until, zone)}: {coming.why}"
    what = "A look at the sky" if coming.test else f"Flat {step.done + 1} of {step.count}"
    return f"{what}{through(step.filter_code or NO_FILTER)}, {in_words.seconds(coming.exposure_s or 0.0)}"
