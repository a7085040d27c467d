"""What twilight flats of a rig's rows work with: the level, the permitted exposures, and how much light to expect."""

from __future__ import annotations

import math
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, GrayShelfError
from grayshelf.core.flats.model import Bound, ExposureWindow, FlatTarget, Pedestal
from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.flats.search.light import UNKNOWN_PEDESTAL
from grayshelf.core.flats.search.window import permitted
from grayshelf.core.flats.settings import FlatWishes, RowKey
from grayshelf.core.flats.sky.light import SkyOptics, off_by
from grayshelf.core.flats.sky.plan import PlannedRow, lay_out
from grayshelf.core.flats.sky.sun import Twilight, sun_day, twilight_at
from grayshelf.core.flats.sky.twilight import SkySeries, SkyShot
from grayshelf.core.matching.rig_events import RigEventKind
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import RowLights, lights_by_row, row_conversion, sheet_rows
from grayshelf.library.library import Library
from grayshelf.library.models import Job, Rig, RunShot, RunStep
from grayshelf.library.records import read
from grayshelf.library.sites import has_place, site_of
from grayshelf.library.step_records import ShotStats, SkyParams, TwilightJob
from grayshelf.work.flats.conditions import RowConditions, camera_traits, is_colour
from grayshelf.work.sky.missed import missed_before

#: What lies between two exposures besides the download, in seconds.
BETWEEN_S = 1.0
#: Download where no camera is connected to say, in seconds (common practice).
USUAL_DOWNLOAD_S = 2.0


@dataclass(frozen=True)
class SkySubject:
    """One row of the sheet, for the sky."""

    key: RowKey
    wish: SkySeries
    """In the words of the sums; its code is the row's name."""
    target: FlatTarget
    pedestal: Pedestal
    window: ExposureWindow
    known_from: str
    """What its light is reckoned from."""
    seen_on: date | None
    """The twilight that showed it; None where it is only reckoned."""
    set_right_by: date | None
    """The twilight whose other filters set right what is reckoned of it; None where none did."""
    focus: float | None
    angle_deg: float | None
    lights_of: date | None
    """The night of the lights that focus and angle are those of."""


def usual_choice(library: Library, session: Session, rig: Rig) -> dict[RowKey, int]:
    """What to shoot where nobody chose: what the last twilight did not bring; else of each filter the row that the
    newest lights used, as often as wished."""
    rows = sheet_rows(library, session, rig)
    there = {row.key for row in rows}
    missed = missed_before(session, rig, library.clock.now())
    if missed := {key: count for key, count in missed.items() if key in there}:
        return missed
    newest = {key: str(of.newest.utc or "") for key, of in lights_by_row(library, rig.id).items()}
    best: dict[str, RowKey] = {}
    for row in rows:
        now = best.get(row.key.filter_code)
        if now is None or newest.get(row.key, "") > newest.get(now, ""):
            best[row.key.filter_code] = row.key
    chosen = set(best.values())
    return {row.key: row.wishes.n_flats for row in rows if row.key in chosen}


def sky_subjects(
    library: Library, session: Session, rig: Rig, devices: RigDevices | None, counts: Mapping[RowKey, int]
) -> tuple[list[SkySubject], dict[RowKey, str]]:
    """All that the sky needs to know of some rows; and of those for which it cannot be said, why."""
    lights = lights_by_row(library, rig.id)
    sky = _seen_sky(library, session, rig, devices, lights)
    subjects: list[SkySubject] = []
    troubles: dict[RowKey, str] = {}
    for key, count in counts.items():
        try:
            subjects.append(_subject(library, session, rig, devices, key, count, lights, sky))
        except GrayShelfError as error:
            troubles[key] = f"{error.message} {error.advice}".strip()
    return subjects, troubles


def _subject(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    key: RowKey,
    count: int,
    lights: Mapping[RowKey, RowLights],
    sky: _SeenSky,
) -> SkySubject:
    row = RowConditions(library, session, rig, devices, key)
    target, pedestal = row.target, row.pedestal or UNKNOWN_PEDESTAL
    if target.level_adu - target.tolerance_adu <= pedestal.adu:
        raise GrayShelfError(
            f"The target of {target.level_adu:,.0f} ADU hardly lies above the pedestal, {pedestal.adu:,.0f} ADU.",
            "Raise it on the whole sheet.",
        )
    window = permitted(_shortest(row.wishes), row.wishes.longest, camera_traits(rig, devices))
    last = lights[key].newest if key in lights else None
    seen = sky.scales.get(key)
    if seen is not None:
        scale, known_from = seen[0], f"the twilight of {seen[1]:%-d %b %Y}"
    else:
        scale, known_from = _reckoned(library, rig, devices, row, lights)
        if sky.newest is not None:
            scale *= sky.off_by
            known_from += f", set right by the twilight of {sky.newest:%-d %b %Y}"
    wish = SkySeries(
        str(key),
        count,
        target.level_adu - pedestal.adu,
        target.tolerance_adu,
        target.white_adu - pedestal.adu,
        window.shortest.exposure_s,
        window.longest.exposure_s,
        scale,
        limit_adu=target.brightest_limit_adu - pedestal.adu,
    )
    return SkySubject(
        key,
        wish,
        target,
        pedestal,
        window,
        known_from,
        seen[1] if seen is not None else None,
        sky.newest if seen is None else None,
        last.focus if last else None,
        last.angle.deg if last and last.angle and last.angle.of == "mechanical" else None,
        last.night if last else None,
    )


def _shortest(wishes: FlatWishes) -> Bound:
    """The person's bound; what is said of the panel is no reason for the sky."""
    usual = FlatWishes()
    reason = wishes.shortest_reason if wishes.shortest_reason != usual.shortest_reason else "your limit"
    return replace(wishes.shortest, reason=reason)


def _reckoned(
    library: Library,
    rig: Rig,
    devices: RigDevices | None,
    row: RowConditions,
    lights: Mapping[RowKey, RowLights],
) -> tuple[float, str]:
    """ADU a second with the sun at the anchor, from the optics and the filter, and the words for it."""
    camera = devices.camera.facts if devices is not None else None
    known = [of.newest for of in lights.values()]
    conversion = row_conversion(library, rig, row.key)
    optics = SkyOptics(
        row.key.filter_code,
        row.width_nm,
        camera.pixel_um if camera else next((f.pixel_um for f in known if f.pixel_um), None),
        rig.focal_length_mm / rig.aperture_mm if rig.aperture_mm and rig.focal_length_mm else None,
        conversion.e_per_adu if conversion else None,
        row.key.binning,
        is_colour(library, rig, devices),
    )
    guessed = f"; {listed(optics.guessed)} taken as usual" if optics.guessed else ""
    return optics.scale_adu_s(), f"focal ratio, pixel and filter{guessed}"


@dataclass(frozen=True)
class _SeenSky:
    """What twilights showed of a rig's light."""

    scales: dict[RowKey, tuple[float, date]]
    """ADU a second with the sun at the anchor, and when that was seen."""
    newest: date | None
    off_by: float
    """How many times brighter than reckoned the newest was."""


def _seen_sky(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    lights: Mapping[RowKey, RowLights],
) -> _SeenSky:
    scales = _seen_scales(library, session, rig)
    newest = max((day for _, day in scales.values()), default=None)
    pairs: list[tuple[float, float]] = []
    for key, (scale, day) in scales.items():
        # A row of which nothing can be said any more does not count.
        with suppress(GrayShelfError):
            if day == newest:
                row = RowConditions(library, session, rig, devices, key)
                pairs.append((scale, _reckoned(library, rig, devices, row, lights)[0]))
    return _SeenSky(scales, newest, off_by(pairs))


def _seen_scales(library: Library, session: Session, rig: Rig) -> dict[RowKey, tuple[float, date]]:
    """What the newest twilights showed of each row, since the train was last taken apart."""
    apart = max((e.at for e in rig.events if RigEventKind(e.kind).ends_flats), default=None)
    query = (
        select(RunStep, Job)
        .join(Job, Job.id == RunStep.job_id)
        .where(Job.kind == "twilight", Job.rig_id == rig.id, RunStep.kind == "sky", RunStep.done > 0)
        .order_by(RunStep.id.desc())
        .limit(60)
    )
    found: dict[RowKey, tuple[float, date]] = {}
    for step, job in session.execute(query):
        key = key_of_sky(step)
        told = [
            s for s in step.shots if read(ShotStats, s.stats).read and (apart is None or s.taken_at > apart)
        ]
        if key not in found and told:
            twilight = twilight_of(library, session, rig, read(TwilightJob, job.params))
            scale = twilight.course.scale([sky_shot(s, twilight) for s in told[-10:]])
            found[key] = scale, told[-1].taken_at.date()
    return found


def sky_shot(shot: RunShot, twilight: Twilight) -> SkyShot:
    """A kept shot in the words of the sums."""
    stats = read(ShotStats, shot.stats)
    assert stats.signal is not None and stats.brightest_signal is not None
    return SkyShot(
        twilight.seconds(shot.taken_at), shot.exposure_s, stats.signal, stats.counts, stats.brightest_signal
    )


def key_of_sky(step: RunStep) -> RowKey:
    """The row of a step on the sky."""
    return read(SkyParams, step.params).key


def twilight_of(library: Library, session: Session, rig: Rig, job: TwilightJob) -> Twilight:
    """The dusk or dawn that a job is for, where its rig stands."""
    return twilight_at(*place_of(site_of(library, session, rig)), job.day, dawn=job.dawn)


@dataclass(frozen=True)
class Ahead:
    """A twilight looked ahead at: what is to be shot, how it lies in time, and what cannot be said."""

    twilight: Twilight
    subjects: tuple[SkySubject, ...]
    planned: tuple[PlannedRow, ...]
    """In the order to shoot them."""
    troubles: dict[RowKey, str]
    counts: dict[RowKey, int]
    """How many flats of each were asked for."""

    @property
    def flats(self) -> int:
        """How many flats fit."""
        return sum(p.planned for p in self.planned)

    @property
    def begins(self) -> datetime | None:
        """When the first flat is due."""
        first = min((p.begins_s for p in self.planned if p.begins_s is not None), default=None)
        return None if first is None else self.twilight.time(first)


def between_s(devices: RigDevices | None) -> float:
    """What lies between two exposures."""
    return BETWEEN_S + (devices.camera.facts.download_s if devices is not None else USUAL_DOWNLOAD_S)


def place_of(site: dict[str, Any]) -> tuple[float, float]:
    """Latitude and longitude of the site.

    Raises
    ------
    Conflict
        Where they are not entered.
    """
    if not has_place(site):
        raise Conflict("Nobody has said where the site is.", "Enter its latitude and longitude.")
    return float(site["latitude"]), float(site["longitude"])


def look_ahead(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    *,
    dawn: bool,
    counts: Mapping[RowKey, int] | None = None,
    day: date | None = None,
) -> Ahead:
    """Lay out the next dusk or dawn in which there is something to shoot, or that of a day.

    Parameters
    ----------
    counts
        How many flats of each row; None takes `usual_choice`.
    """
    chosen = usual_choice(library, session, rig) if counts is None else counts
    subjects, troubles = sky_subjects(library, session, rig, devices, chosen)
    where, now = place_of(site_of(library, session, rig)), library.clock.now()

    def on(when: date) -> Ahead:
        twilight = twilight_at(*where, when, dawn=dawn)
        at = twilight.seconds(now)
        planned = lay_out(
            [s.wish for s in subjects],
            twilight.course,
            dawn=dawn,
            between_s=between_s(devices),
            # Of one that is going on only the rest; another day's as a whole.
            from_s=at if 0.0 <= at <= twilight.ends_s else -math.inf,
        )
        return Ahead(twilight, tuple(subjects), tuple(planned), troubles, dict(chosen))

    if day is not None:
        return on(day)
    today = sun_day(now, where[1])
    coming = [today + timedelta(days=n) for n in range(3)]
    coming = [d for d in coming if (t := twilight_at(*where, d, dawn=dawn)).seconds(now) < t.ends_s]
    for when in coming:
        ahead = on(when)
        if ahead.flats:
            return ahead
    return on(coming[0])
