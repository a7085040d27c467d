"""A twilight in words and numbers: as it will be, as it goes, as it was."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.sky.plan import MOST_WISHED
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import sheet_rows
from grayshelf.library.library import Library
from grayshelf.library.models import Job, Rig
from grayshelf.library.place_told import told_of_rig
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word, says_of
from grayshelf.library.sites import has_place, site_of, zone_of
from grayshelf.library.step_records import TwilightJob
from grayshelf.web.common import in_words
from grayshelf.web.common.places import told_out
from grayshelf.web.common.rigs import passbands
from grayshelf.web.flats.rows import key_in
from grayshelf.web.twilight.rows import (
    Setting,
    day_in_words,
    known_in_words,
    last_in_words,
    missed_in_words,
    place_in_words,
    row_out,
    troubled_row,
)
from grayshelf.web.twilight.run import run_values
from grayshelf.web.twilight.scale import course_fade, fade_in_words, scale_of
from grayshelf.web.twilight.schemas import SkyRowOut, TwilightIn, TwilightOut
from grayshelf.work.jobs import ALIVE, RESUMABLE, WITH_RIG
from grayshelf.work.sky.missed import missed_before
from grayshelf.work.sky.rows import Ahead, look_ahead, twilight_of
from grayshelf.work.sky.starter import newest_twilight

#: A twilight that ended is shown for so long before the next one is looked ahead at.
SHOWN_FOR = timedelta(hours=2)


def twilight_page(
    library: Library,
    rig_id: int,
    devices: RigDevices | None,
    asked: TwilightIn,
    by_rig: frozenset[str] = frozenset(),
) -> TwilightOut:
    """The twilight that goes on; else the one that is asked for; else the one that comes first.

    `by_rig`: what devices set where another program runs the camera.
    """
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        job = newest_twilight(session, rig_id)
        setting = Setting(
            zone_of(library, session, rig),
            passbands(rig),
            gain_word(library, rig.camera),
            says_of(library, rig),
        )
        site = site_of(library, session, rig)
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
            "place": place_in_words(site),
            "place_told": None,
            "can_shoot": False,
            "by_folder": False,
            "cannot": "",
            "job": None,
            "gate": None,
            "has_last": job is not None,
            "last_text": "",
            "missed_text": "",
            "failed": [],
        }
        if has_place(site):
            if job is not None and _shows_run(library, session, rig, job, asked):
                page |= run_values(library, session, rig, devices, job, setting, by_rig)
            else:
                page |= _plan_page(library, session, rig, devices, asked, setting)
                page["last_text"] = last_in_words(job, setting.zone)
                page["missed_text"] = missed_in_words(missed_before(session, rig, library.clock.now()))
        else:
            page["place_told"] = told_out(told_of_rig(library, rig), setting.zone, library.clock.now())
        return TwilightOut(**page)


def _shows_run(library: Library, session: Session, rig: Rig, job: Job, asked: TwilightIn) -> bool:
    """Whether the newest twilight is shown, rather than the next: it goes on, ended lately, or can be gone on with."""
    if job.state in ALIVE or asked.at == "last":
        return True
    if asked.at is not None:
        return False
    now = library.clock.now()
    if job.ended_at is not None and now - job.ended_at < SHOWN_FOR:
        return True
    twilight = twilight_of(library, session, rig, read(TwilightJob, job.params))
    return job.state in RESUMABLE and twilight.seconds(now) < twilight.ends_s


def _plan_page(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    asked: TwilightIn,
    setting: Setting,
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
    rows = [row_out(by_code[p.code], p, twilight, setting) for p in ahead.planned]
    rows += [troubled_row(setting.row(key, ahead.counts[key]), why) for key, why in ahead.troubles.items()]
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
        "fade_text": fade_in_words(course_fade(twilight, ahead.planned), seen=False),
        "known_text": known_in_words(ahead.subjects),
        "can_shoot": not cannot and devices is not None,
        "by_folder": not cannot and devices is None,
        "cannot": cannot or (BY_HAND if devices is None else ""),
    } | scale_of(library, twilight, ahead.planned, [], zone)


def _cannot(session: Session, rig: Rig, devices: RigDevices | None, ahead: Ahead, *, is_next: bool) -> str:
    """Why a twilight that is looked ahead at cannot be shot; empty where it can."""
    busy = session.scalar(
        select(Job).where(Job.rig_id == rig.id, Job.state.in_(ALIVE), Job.kind.in_(WITH_RIG))
    )
    if busy is not None:
        return f"The rig is busy: {busy.title}."
    if not is_next:
        return "Only the next dusk and the next dawn can be shot."
    if ahead.troubles:
        return "Leave out what nothing can be said of, or mend it."
    if not ahead.planned:
        return "Choose at least one filter."
    return "" if ahead.flats else "The sky suits none of these filters."


#: Where no rig does it.
BY_HAND = (
    "No camera is connected to this rig: your own program shoots, and each frame tells the next exposure."
)


def _plan_title(ahead: Ahead, zone: ZoneInfo) -> str:
    day, twilight = day_in_words(ahead.twilight, zone), ahead.twilight
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
