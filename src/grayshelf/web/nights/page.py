"""Nights in words: the list, one night with its sets, its notes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

from sqlalchemy import select

from grayshelf.core.errors import NotFound
from grayshelf.core.frames.angle import angles_told
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.matching.age import age_step
from grayshelf.core.matching.model import PullSlip, SlipLine, Verdict
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet
from grayshelf.library.models import NightLog
from grayshelf.library.night_log import logs_of
from grayshelf.library.parting import moves_of
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.slips import slips
from grayshelf.web.common import in_words
from grayshelf.web.common.rigs import passbands
from grayshelf.web.nights.log_page import months_of, shot_lines, weather_out
from grayshelf.web.nights.schemas import (
    ConditionOut,
    LightSetOut,
    NightBrief,
    NightOut,
    NightsOut,
    VerdictMark,
)

#: So many angles of a camera are told of a night.
MOST_ANGLES = 3


def nights_page(library: Library, rig_id: int) -> NightsOut:
    """The nights of a rig, newest first; those without lights of which something is noted among them."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        noted = {log.night for log in logs_of(session, rig_id)}
        can_take_back = bool(moves_of(session, rig))
    by_night: dict[date, list[tuple[LightSet, PullSlip]]] = defaultdict(list)
    for lights, slip in slips(library, rig_id):
        if lights.row.night is not None:
            by_night[lights.row.night].append((lights, slip))
    nights = [
        NightBrief(
            night=night,
            day=in_words.short_day(night),
            weekday=f"{night:%a}",
            targets=list(dict.fromkeys(lights.facts.target or "no target" for lights, _ in sets)),
            kept=sum(lights.row.n_kept for lights, _ in sets),
            taken=sum(lights.row.n_frames for lights, _ in sets),
            marks=[slip.verdict.value for _, slip in sets],
        )
        for night, sets in sorted(((n, by_night[n]) for n in noted | by_night.keys()), reverse=True)
    ]
    return NightsOut(rig=rig.name, nights=nights, months=months_of(by_night, noted), moved=can_take_back)


def night_page(library: Library, rig_id: int, night: date) -> NightOut:
    """One night of a rig."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        zone = library.zone(session)
        bands = passbands(rig)
        log = session.scalar(select(NightLog).where(NightLog.rig_id == rig_id, NightLog.night == night))
        today = night_of_utc(library.clock.now(), zone)
        word = gain_word(library, rig.camera)
    sets = [(lights, slip) for lights, slip in slips(library, rig_id) if lights.row.night == night]
    if not sets and log is None:
        raise NotFound("No lights of this rig were taken in that night.")
    sets_out = []
    for lights, slip in sets:
        with sparing(library, "night", lights.row.id, lights.row.kind):
            sets_out.append(light_set_out(lights, slip, bands, today, word))
    begins, ends = _span([lights for lights, _ in sets])
    conditions = dict(log.conditions) if log else {}
    return NightOut(
        night=night,
        title=in_words.long_day(night),
        kept=sum(lights.row.n_kept for lights, _ in sets),
        taken=sum(lights.row.n_frames for lights, _ in sets),
        ready=sum(lights.row.n_kept for lights, slip in sets if slip.verdict is not Verdict.NOTHING),
        begins=begins,
        ends=ends,
        hours=_hours(begins, ends, zone),
        sets=sets_out,
        conditions=_conditions(conditions, [lights for lights, _ in sets]),
        air_from_c=conditions.get("air_from_c"),
        air_to_c=conditions.get("air_to_c"),
        notes=log.notes if log else "",
        weather=weather_out(conditions),
        shot=shot_lines(library, rig_id, night),
        night_from="; ".join(dict.fromkeys(x.facts.night_from for x, _ in sets if x.facts.night_from)),
        without_target=any(x.facts.target is None for x, _ in sets),
    )


def _span(sets: Sequence[LightSet]) -> tuple[datetime | None, datetime | None]:
    firsts = [x.row.first_utc for x in sets if x.row.first_utc]
    lasts = [_end_of(x) for x in sets if x.row.last_utc]
    return (min(firsts) if firsts else None), (max(t for t in lasts if t) if lasts else None)


def _end_of(lights: LightSet) -> datetime | None:
    last = lights.row.last_utc
    return last + timedelta(seconds=lights.want.exposure_s or 0.0) if last else None


def _hours(begins: datetime | None, ends: datetime | None, zone: ZoneInfo) -> list[datetime]:
    if begins is None or ends is None:
        return []
    start = begins.astimezone(zone).replace(minute=0, second=0, microsecond=0)
    hours = []
    while start <= ends + timedelta(hours=1, minutes=30):
        hours.append(start)
        start += timedelta(hours=1)
    return hours


def _conditions(conditions: dict[str, float], sets: Sequence[LightSet]) -> list[ConditionOut]:
    found: list[tuple[str, str]] = []
    if "seeing_arcsec" in conditions:
        found.append(("Seeing", f"{in_words.number(conditions['seeing_arcsec'], 1)}{in_words.THIN}″"))
    if "humidity_percent" in conditions:
        found.append(("Humidity", f"{conditions['humidity_percent']:.0f}{in_words.THIN}%"))
    temps = [x.facts.sensor_temp_c for x in sets if x.facts.sensor_temp_c is not None]
    if temps:
        found.append(("Sensor", in_words.degrees_c(sum(temps) / len(temps), 1)))
    angles = angles_told([x.facts.angle for x in sets if x.facts.angle])
    if angles:
        told = " ".join(f"{in_words.number(a, 1)}°" for a in angles[:MOST_ANGLES])
        found.append(("Angle", f"{told} …" if len(angles) > MOST_ANGLES else told))
    if "moon_percent" in conditions:
        found.append(("Moon", f"{conditions['moon_percent']:.0f}{in_words.THIN}%"))
    return [ConditionOut(name=name, text=text) for name, text in found]


def light_set_out(
    lights: LightSet, slip: PullSlip, bands: dict[str, float | None], today: date, word: str
) -> LightSetOut:
    """A set of lights in the table of a night."""
    facts = lights.facts
    gain = f", {word} {in_words.plain(facts.gain)}" if facts.gain is not None else ""
    part = [*in_words.stop_of(lights.want), *in_words.part_of_sensor(lights.want)]
    return LightSetOut(
        id=lights.row.id,
        target=facts.target or "no target",
        filter_code=facts.filter_code,
        stamp=in_words.stamp(facts),
        passband_nm=bands.get(facts.filter_code or ""),
        text=", ".join([f"{in_words.series(lights.row.n_frames, lights.want.exposure_s)}{gain}", *part]),
        kept=lights.row.n_kept,
        taken=lights.row.n_frames,
        begins=lights.row.first_utc,
        ends=_end_of(lights),
        verdict=slip.verdict.value,
        marks=[_mark(line, today) for line in slip.lines],
        calibrated=facts.calibrated,
    )


def _mark(line: SlipLine, today: date) -> VerdictMark:
    chosen = line.chosen
    night = chosen.holding.settings.night if chosen else None
    return VerdictMark(
        kind=line.kind.value,
        verdict=line.verdict.value,
        waits=line.waits_for is not None,
        age_step=age_step((today - night).days) if night else (0 if chosen else None),
        holding_id=int(chosen.holding.key) if chosen else None,
    )


def night_csv_rows(library: Library, rig_id: int) -> list[list[object]]:
    """The log of all nights of a rig, one row for each set of lights."""
    rows: list[list[object]] = [
        [
            "night",
            "target",
            "filter",
            "exposure_s",
            "gain",
            "offset",
            "sensor_c",
            "angle_deg",
            "focus",
            "taken",
            "kept",
            "first_utc",
            "last_utc",
            "dark",
            "flat",
            "dark_flat",
            "slip",
        ]
    ]
    for lights, slip in slips(library, rig_id):
        facts = lights.facts
        verdicts = {line.kind: line.verdict.value for line in slip.lines}
        rows.append(
            [
                lights.row.night,
                facts.target,
                facts.filter_code,
                lights.want.exposure_s,
                facts.gain,
                facts.offset,
                facts.sensor_temp_c,
                round(facts.angle.deg, 2) if facts.angle else None,
                facts.focus,
                lights.row.n_frames,
                lights.row.n_kept,
                lights.row.first_utc,
                lights.row.last_utc,
                verdicts.get(FrameKind.DARK),
                verdicts.get(FrameKind.FLAT),
                verdicts.get(FrameKind.DARK_FLAT, verdicts.get(FrameKind.BIAS)),
                slip.verdict.value,
            ]
        )
    return rows
