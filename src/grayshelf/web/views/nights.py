"""The page Nights: the list, one night, and the pull slip of a set of lights."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.matching.age import age_step
from grayshelf.core.matching.model import Candidate, PullSlip, SlipLine, Verdict
from grayshelf.core.matching.parts import answered
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_set
from grayshelf.library.models import FrameSet, NightLog, Rig
from grayshelf.library.rig_terms import gain_word, rig_of_lights
from grayshelf.library.slips import slip_for, slips
from grayshelf.web import schemas as s
from grayshelf.web.views import words as w
from grayshelf.web.views.shelf import kind_title
from grayshelf.work.run.tonight import Tonight


def passbands(rig: Rig) -> dict[str, float | None]:
    """Centre of each filter's passband."""
    return {f.code: f.passband_nm for f in rig.filters}


def nights_page(library: Library, rig_id: int) -> s.NightsOut:
    """The nights of a rig, newest first."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
    by_night: dict[date, list[tuple[LightSet, PullSlip]]] = defaultdict(list)
    for lights, slip in slips(library, rig_id):
        if lights.row.night is not None:
            by_night[lights.row.night].append((lights, slip))
    nights = [
        s.NightBrief(
            night=night,
            day=w.short_day(night),
            weekday=f"{night:%a}",
            targets=list(dict.fromkeys(lights.facts.target or "no target" for lights, _ in sets)),
            kept=sum(lights.row.n_kept for lights, _ in sets),
            taken=sum(lights.row.n_frames for lights, _ in sets),
            marks=[slip.verdict.value for _, slip in sets],
        )
        for night, sets in sorted(by_night.items(), reverse=True)
    ]
    return s.NightsOut(rig=rig.name, nights=nights)


def night_page(library: Library, rig_id: int, night: date) -> s.NightOut:
    """One night of a rig."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        zone = library.zone(session)
        bands = passbands(rig)
        log = session.scalar(select(NightLog).where(NightLog.rig_id == rig_id, NightLog.night == night))
        today = night_of_utc(library.clock.now(), zone)
        word = gain_word(library, rig.camera)
    sets = [(lights, slip) for lights, slip in slips(library, rig_id) if lights.row.night == night]
    if not sets:
        raise NotFound("No lights of this rig were taken in that night.")
    sets_out = []
    for lights, slip in sets:
        with sparing(library, "night", lights.row.id, lights.row.kind):
            sets_out.append(light_set_out(lights, slip, bands, today, word))
    begins, ends = _span([lights for lights, _ in sets])
    conditions = dict(log.conditions) if log else {}
    return s.NightOut(
        night=night,
        title=w.long_day(night),
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
        night_from="; ".join(dict.fromkeys(x.facts.night_from for x, _ in sets if x.facts.night_from)),
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


def _conditions(conditions: dict[str, float], sets: Sequence[LightSet]) -> list[s.ConditionOut]:
    found: list[tuple[str, str]] = []
    if "seeing_arcsec" in conditions:
        found.append(("Seeing", f"{w.number(conditions['seeing_arcsec'], 1)}{w.THIN}″"))
    if "humidity_percent" in conditions:
        found.append(("Humidity", f"{conditions['humidity_percent']:.0f}{w.THIN}%"))
    temps = [x.facts.sensor_temp_c for x in sets if x.facts.sensor_temp_c is not None]
    if temps:
        found.append(("Sensor", w.degrees_c(sum(temps) / len(temps), 1)))
    angles = sorted({round(x.facts.angle.deg, 1) for x in sets if x.facts.angle})
    if angles:
        found.append(("Angle", " ".join(f"{w.number(a, 1)}°" for a in angles[:2])))
    if "moon_percent" in conditions:
        found.append(("Moon", f"{conditions['moon_percent']:.0f}{w.THIN}%"))
    return [s.ConditionOut(name=name, text=text) for name, text in found]


def light_set_out(
    lights: LightSet, slip: PullSlip, bands: dict[str, float | None], today: date, word: str
) -> s.LightSetOut:
    """A set of lights in the table of a night."""
    facts = lights.facts
    gain = f", {word} {w.plain(facts.gain)}" if facts.gain is not None else ""
    return s.LightSetOut(
        id=lights.row.id,
        target=facts.target or "no target",
        filter_code=facts.filter_code,
        passband_nm=bands.get(facts.filter_code or ""),
        text=f"{lights.row.n_frames} × {w.seconds(lights.want.exposure_s or 0)}{gain}",
        kept=lights.row.n_kept,
        taken=lights.row.n_frames,
        begins=lights.row.first_utc,
        ends=_end_of(lights),
        verdict=slip.verdict.value,
        marks=[_mark(line, today) for line in slip.lines],
        calibrated=facts.calibrated,
    )


def _mark(line: SlipLine, today: date) -> s.VerdictMark:
    chosen = line.chosen
    night = chosen.holding.settings.night if chosen else None
    return s.VerdictMark(
        kind=line.kind.value,
        verdict=line.verdict.value,
        waits=line.waits_for is not None,
        age_step=age_step((today - night).days) if night else (0 if chosen else None),
        holding_id=int(chosen.holding.key) if chosen else None,
    )


#: The columns of a slip: what is compared, in this order.
COLUMNS = (
    "filter",
    "telescope",
    "focal length",
    "gain",
    "offset",
    "binning",
    "read-out mode",
    "row order",
    "colour phase",
    "temperature",
    "exposure",
    "angle",
    "focus",
    "age",
)
#: What has a column only where somewhere it is not as it should be: else it is the same for all, and known.
_SHOWN_IF_OFF = {"filter", "telescope", "focal length", "read-out mode", "row order", "colour phase"}


def slip_page(library: Library, set_id: int, tonight_of: dict[int, Tonight] | None = None) -> s.SlipOut:
    """The pull slip of a set of lights."""
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.kind != "light":
            raise NotFound("These lights are not in the library.")
        rig = rig_of_lights(session, row)
        bands = passbands(rig)
        today = night_of_utc(library.clock.now(), library.zone(session))
        lights = light_set(row)
    slip = slip_for(library, rig, lights)
    word = gain_word(library, rig.camera)
    lines = [_line_out(line, today, word) for line in slip.lines]
    shown = {
        r.quantity
        for line in lines
        for c in [line.chosen, *line.runners_up]
        if c
        for r in c.rulers
        if r.quantity not in _SHOWN_IF_OFF or not r.inside or r.from_name
    }
    tonight = (tonight_of or {}).get(rig.id)
    offer = None
    if tonight is not None:
        keys = [o.key for o in tonight.offers if set_id in {x.row.id for x in o.lights}]
        keys += [d.key for d in tonight.darks if set_id in {x.row.id for x in d.lights}]
        offer = keys[0] if keys else None
    gain = f", {word} {w.plain(lights.facts.gain)}" if lights.facts.gain is not None else ""
    return s.SlipOut(
        set_id=set_id,
        title=f"{row.n_frames} × {w.seconds(lights.want.exposure_s or 0)}{gain}",
        target=lights.facts.target or "no target",
        filter_code=lights.facts.filter_code,
        passband_nm=bands.get(lights.facts.filter_code or ""),
        verdict=slip.verdict.value,
        lines=lines,
        columns=[s.CountOut(name=c, count=i) for i, c in enumerate(COLUMNS) if c in shown],
        warnings=list(slip.warnings),
        questions=[
            s.QuestionOut(quantity=q.quantity, text=q.text, fixed=q.fixed_label, moves=q.moves_label)
            for q in slip.questions
        ],
        said=[
            s.PartSaid(quantity=q, text=answered(q, says))
            for q, says in (rig.says or {}).items()
            if answered(q, says)
        ],
        rig_id=rig.id,
        gain_word=word,
        advice=_advice(slip, offer),
        offer=offer,
    )


def _line_out(line: SlipLine, today: date, word: str) -> s.SlipLineOut:
    return s.SlipLineOut(
        kind=line.kind.value,
        verdict=line.verdict.value,
        chosen=_candidate_out(line.chosen, today, "", word) if line.chosen else None,
        runners_up=[
            _candidate_out(c, today, lost, word)
            for c, lost in zip(line.runners_up, line.lost_on, strict=True)
        ],
        note=line.note,
        waits=line.waits_for is not None,
    )


def _candidate_out(candidate: Candidate, today: date, lost: str, word: str) -> s.CandidateOut:
    holding = candidate.holding
    have = holding.settings
    title = kind_title(holding)
    if have.gain is not None:
        title += f", {word} {w.plain(have.gain)}"
    if holding.kind is FrameKind.FLAT and have.angle is not None:
        title += f", {w.number(have.angle.deg, 1)}°"
    loose = "" if holding.is_master else ", loose"
    cost = f"{candidate.cost_e:.2g} e⁻" if holding.kind is not FrameKind.FLAT else ""
    return s.CandidateOut(
        holding_id=int(holding.key),
        title=title[:1].upper() + title[1:],
        detail=f"{w.several(holding.n_frames, 'frame')}{loose}, {w.day(have.night)}",
        verdict=candidate.verdict.value,
        is_master=holding.is_master,
        age_step=age_step((today - have.night).days) if have.night else 0,
        care=candidate.verdict is Verdict.CARE,
        rulers=[w.ruler_out(r) for r in candidate.rulers],
        reasons=list(candidate.reasons),
        lost_on=lost,
        cost=cost,
    )


def _advice(slip: PullSlip, offer: str | None) -> str:
    """One sentence at the foot of a slip: what to do about it."""
    missing = [
        line.kind.value for line in slip.lines if line.verdict is Verdict.NOTHING and line.waits_for is None
    ]
    if missing:
        tail = " Tonight’s sheet can close the gap." if offer else ""
        return f"No {w.listed(missing)} fits these lights.{tail}"
    care = [
        f"the {line.kind.value}: {'; '.join(line.chosen.reasons)}"
        for line in slip.lines
        if line.verdict is Verdict.CARE and line.chosen is not None and line.chosen.reasons
    ]
    if care:
        tail = " Tonight’s sheet can renew it." if offer else ""
        return f"Care with {w.listed(care)}.{tail}"
    return "Everything these lights need is on the shelf." if slip.lines else ""


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


def slip_csv_rows(slip: s.SlipOut) -> list[list[object]]:
    """A slip as a table: every candidate of every line with its distances."""
    rows: list[list[object]] = [["line", "place", "verdict", "what", "detail", "lost_on", *COLUMNS]]
    for line in slip.lines:
        for place, c in [("chosen", line.chosen), *(("next best", c) for c in line.runners_up)]:
            if c is None:
                rows.append([line.kind, "chosen", line.verdict, "", "", line.note, *[""] * len(COLUMNS)])
                continue
            texts = {r.quantity: r.text for r in c.rulers}
            reasons = c.lost_on or "; ".join(c.reasons)
            rows.append(
                [
                    line.kind,
                    place,
                    c.verdict,
                    c.title,
                    c.detail,
                    reasons,
                    *(texts.get(q, "") for q in COLUMNS),
                ]
            )
    return rows


def set_notes(session: Session, rig_id: int, night: date, notes: str) -> None:
    """Keep what is noted of a night."""
    log = session.scalar(select(NightLog).where(NightLog.rig_id == rig_id, NightLog.night == night))
    if log is None:
        session.add(NightLog(rig_id=rig_id, night=night, conditions={}, notes=notes))
    else:
        log.notes = notes
