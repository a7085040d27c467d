"""The sheet of Tonight in words: what is on it, its cost, and whether the rig is ready."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.filter_words import through
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.age import age_step
from grayshelf.core.matching.model import RigSays, Verdict
from grayshelf.core.planning.flats_go import FlatsGo
from grayshelf.core.planning.forecast import TimedStep
from grayshelf.core.planning.reminders import WHEN
from grayshelf.core.planning.sheet import RigPace, StepKind, series_seconds
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import FrameSet
from grayshelf.library.reminders import reminders_of
from grayshelf.library.rig_terms import gain_word, house_rules_of, says_of
from grayshelf.web.common import in_words
from grayshelf.web.common.gates import planned_gate
from grayshelf.web.common.rigs import passbands
from grayshelf.web.common.slips import slip_at
from grayshelf.web.tonight.schemas import (
    ChoiceOut,
    CoveredOut,
    GateNameOut,
    OfferOut,
    OutOfReachOut,
    ReadyOut,
    ReminderOut,
    StepOut,
    TonightOut,
)
from grayshelf.work.job_states import StepState
from grayshelf.work.run.again import last_run_of
from grayshelf.work.run.covered import Covered
from grayshelf.work.run.dark_offers import DarkOffer
from grayshelf.work.run.flat_offers import RowOffer
from grayshelf.work.run.reach import OutOfReach
from grayshelf.work.run.ready import Ready
from grayshelf.work.run.tonight import Choice, CostUntold, Tonight, hands_free_at

#: Less than this between the last hand and the end is not worth two times.
ONE_END = timedelta(minutes=2)


def tonight_page(library: Library, rig_id: int, tonight: Tonight, devices: RigDevices | None) -> TonightOut:
    """The sheet, its cost, and whether the rig is ready."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        zone = library.zone(session)
        bands = passbands(rig)
        word, usual, says = (
            gain_word(library, rig.camera),
            house_rules_of(rig).flats_go,
            says_of(library, rig),
        )
        last, reminders = last_run_of(session, rig_id), reminders_of(session, rig_id)
        ages = _ages(library, session, [c.holding_id for c in tonight.covered])
        has_lights = bool(light_sets(library, rig))
    offers = _offers(tonight, bands, word, says)
    on = [o for o in offers if o.on_sheet]
    hands_free = hands_free_at(tonight.steps)
    end = tonight.steps[-1].end if tonight.steps else None
    needed = tonight.sheet.times_needed
    ready = [ready_out(line) for line in tonight.ready]
    return TonightOut(
        rig_id=rig_id,
        clock=in_words.clock(tonight.now, zone),
        headline=_headline(tonight, hands_free, end, needed, zone, has_lights=has_lights),
        empty_text=_empty_text(tonight, has_lights),
        start_label=_start_label(tonight),
        can_start=bool(tonight.steps) and not any(r.stops for r in ready),
        steps=_steps_out(tonight, zone, bands),
        shared=_shared(tonight),
        go=tonight.go,
        go_by_rule=tonight.go is usual,
        go_text=_go_text(tonight, zone),
        offers=offers,
        choices=[_choice(c, zone) for c in tonight.choices],
        cost_untold=_COST_UNTOLD[tonight.cost_untold] if tonight.cost_untold else "",
        cost_told_at="/bench/gain" if tonight.cost_untold is CostUntold.GAIN else None,
        ready=ready,
        covered=[_covered(c, ages) for c in tonight.covered],
        covered_lights=max((c.lights for c in tonight.covered), default=0),
        waiting_lights=sum(o.lights for o in on),
        hands_free=in_words.clock(hands_free, zone) if hands_free else None,
        end=in_words.clock(end, zone) if end else None,
        has_devices=devices is not None,
        by_hand_label=f"{_start_label(tonight)} yourself" if tonight.steps else "",
        out_of_reach=out_of_reach(tonight.out_of_reach),
        reminders=[ReminderOut(when=r.when, text=r.text) for r in reminders],
        reminded_at=[GateNameOut(when=when, says=says) for when, says in WHEN.items()],
        again="" if last is None else last.words,
    )


def _steps_out(tonight: Tonight, zone: ZoneInfo, bands: dict[str, float | None]) -> list[StepOut]:
    """All that is shot; dark flats that another filter's serve are told apart (`_shared`)."""
    shot = [(i, t) for i, t in enumerate(tonight.steps) if t.step.served_by is None]
    return [_planned(i, t, zone, bands, tonight) for i, t in shot]


def _shared(tonight: Tonight) -> str:
    """'One set of dark flats serves L, R and G.', where filters are shot at one exposure."""
    served: dict[int, list[str]] = {}
    for step in tonight.sheet.steps:
        if step.served_by is not None and step.filter_code is not None:
            first = tonight.sheet.rows[step.served_by].filter_code
            served.setdefault(step.served_by, [first]).append(step.filter_code)
    return " ".join(f"One set of dark flats serves {in_words.listed(codes)}." for codes in served.values())


def _go_text(tonight: Tonight, zone: ZoneInfo) -> str:
    """What it means for the sheet that the flats go there."""
    waiting = [o for o in tonight.offers if o.hole and not o.on_sheet]
    targets = in_words.listed(
        list(dict.fromkeys(t for o in tonight.offers if o.hole for t in o.wish.targets))
    )
    filters = in_words.several(len(waiting), "filter")
    if tonight.go is FlatsGo.NEXT_TWILIGHT and waiting:
        return f"Flats in {filters} wait for the sky: they are laid out on the Bench, under Twilight."
    if tonight.go is FlatsGo.END_OF_SET_UP and waiting:
        return f"Flats in {filters} wait until this set-up ends. Nothing of the train may be touched before."
    if tonight.begins is not None:
        begins = in_words.clock(tonight.begins, zone)
        return f"Begun at {begins} tomorrow; angle and focus must stay as they are until then."
    if tonight.go is FlatsGo.AFTER_EACH_TARGET and targets:
        return f"For {targets}: before the next target."
    if tonight.go is FlatsGo.BEFORE_EACH_TURN and targets:
        return f"For {targets}: before the camera is turned."
    return ""


_COST_UNTOLD = {
    CostUntold.GAIN: "How much noise a number of flats adds is told once the camera’s gain is measured.",
    CostUntold.SKY: "How much noise a number of flats adds is told once a bias or a dark of the lights’ settings is here.",
}


def _choice(choice: Choice, zone: ZoneInfo) -> ChoiceOut:
    return ChoiceOut(
        frames=choice.frames,
        cost=None if choice.cost_percent is None else round(choice.cost_percent, 2),
        done_at=in_words.clock(choice.done_at, zone),
        chosen=choice.chosen,
    )


def _covered(covered: Covered, ages: Mapping[int, int]) -> CoveredOut:
    return CoveredOut(
        holding_id=covered.holding_id,
        kind=covered.kind.value,
        title=covered.title,
        lights=covered.lights,
        age_step=ages.get(covered.holding_id, 0),
        ruler=in_words.ruler_out(covered.ruler) if covered.ruler else None,
    )


def ready_out(line: Ready) -> ReadyOut:
    """One line of what to know before the start."""
    return ReadyOut(
        what=line.what,
        text=line.text,
        good=line.good,
        stops=line.stops,
        ruler=in_words.ruler_out(line.ruler) if line.ruler else None,
    )


def _ages(library: Library, session: Session, ids: Sequence[int]) -> dict[int, int]:
    today = library.clock.now().date()
    rows = session.scalars(select(FrameSet).where(FrameSet.id.in_(ids)))
    return {r.id: age_step((today - r.night).days) if r.night else 0 for r in rows}


def ends_in_words(hands_free: datetime | None, end: datetime, zone: ZoneInfo) -> str:
    """'Done at 01:45.', or both times where frames go on after the last hand was needed."""
    if hands_free is None or end - hands_free <= ONE_END:
        return f"Done at {in_words.clock(end, zone)}."
    return f"Hands free at {in_words.clock(hands_free, zone)}, done at {in_words.clock(end, zone)}."


def _headline(
    tonight: Tonight,
    hands_free: datetime | None,
    end: datetime | None,
    needed: int,
    zone: ZoneInfo,
    *,
    has_lights: bool,
) -> str:
    if end is None:
        left = _left_off(tonight) or not has_lights
        return "Nothing is on the sheet." if left else "Nothing is missing that can be shot tonight."
    times = {0: "You are not needed.", 1: "You are needed once.", 2: "You are needed twice."}
    return f"{ends_in_words(hands_free, end, zone)} {times.get(needed, f'You are needed {needed} times.')}"


def _left_off(tonight: Tonight) -> list[RowOffer | DarkOffer]:
    """Holes that could be filled tonight, and are not on the sheet."""
    flats = [o for o in tonight.offers if o.hole and not o.on_sheet and not o.more]
    return [*flats, *(d for d in tonight.darks if d.hole and not d.on_sheet)]


def _would_not_fit(offer: RowOffer | DarkOffer) -> bool:
    return isinstance(offer, RowOffer) and offer.would.verdict is not Verdict.FITS


def _empty_text(tonight: Tonight, has_lights: bool) -> str:
    """What an empty sheet means, and what can be done; empty where something is on it."""
    if tonight.steps:
        return ""
    if not has_lights:
        if tonight.offers:
            return "No lights of this rig are known yet, so nothing is asked for. Tick rows of your flat sheet below."
        return (
            "No lights of this rig are known yet, so nothing is asked for. Bring them in on Intake, put rows on the whole "
            "sheet of Flat exposure (Bench) to shoot their flats here, or fill the shelf with darks."
        )
    if left := _left_off(tonight):
        if all(_would_not_fit(o) for o in left):
            return (
                "Flats shot now would not surely fit the lights that wait: each line says why. "
                "Tick what you want all the same."
            )
        return "What your lights ask for is not ticked. Tick below what is to be shot."
    anyway = " Tick something below to shoot it anyway." if tonight.offers or tonight.darks else ""
    if tonight.out_of_reach:
        return f"What your lights still ask for cannot be shot tonight; below is why.{anyway}"
    return f"What your lights ask for is on the shelf.{anyway}"


def out_of_reach(these: Sequence[OutOfReach]) -> list[OutOfReachOut]:
    """What is asked for and cannot be shot now."""
    return [
        OutOfReachOut(
            kind=o.kind.value,
            title=o.title,
            lights=o.lights,
            why=o.why,
            slip=slip_at(o.told_on) if o.told_on else None,
        )
        for o in these
    ]


def _note(offer: RowOffer) -> str:
    """What is there now; of a hole that is left off the sheet, also what speaks against filling it now."""
    against = offer.against if offer.hole else ""
    return "; shot now: ".join([offer.note, *([against] if against else [])])


def _start_label(tonight: Tonight) -> str:
    rows = tonight.sheet.rows
    if rows:
        counts = sorted({r.n_flats for r in rows})
        each = str(counts[0]) if len(counts) == 1 else f"{counts[0]}–{counts[-1]}"
        where = through(rows[0].filter_code) if len(rows) == 1 else f" in {len(rows)} filters"
        return f"Shoot {each} flats{where}"
    by_kind = {k: sum(d.n_frames for d in tonight.sheet.darks if d.kind is k) for k in FrameKind}
    parts = [in_words.several(n, kind.value) for kind, n in by_kind.items() if n]
    if parts:
        return f"Shoot {in_words.listed(parts)}"
    return "Nothing to shoot"


def _offers(tonight: Tonight, bands: dict[str, float | None], word: str, says: RigSays) -> list[OfferOut]:
    found = []
    for o in tonight.offers:
        nights = in_words.days(x.row.night for x in o.lights)
        found.append(
            OfferOut(
                key=o.key,
                kind="flat",
                title="Flats and dark flats",
                filter_code=o.wish.filter_code,
                passband_nm=bands.get(o.wish.filter_code),
                lights=o.wish.lights,
                hole=o.hole,
                on_sheet=o.on_sheet,
                more=o.more,
                detail="no lights wait"
                if o.more
                else f"{in_words.several(o.wish.lights, 'light')} of {in_words.listed(dict.fromkeys(o.wish.targets))}, {nights}",
                note=_note(o),
            )
        )
    for d in tonight.darks:
        seconds = series_seconds(d.wish.n_frames, d.wish.exposure_s, RigPace())
        kind = d.wish.kind.value
        degrees = "" if d.wish.for_flats else ", as warm as the sensor is now"
        if d.wish.set_temp_c is not None:
            degrees = f", {in_words.degrees_c(d.wish.set_temp_c)}"
        served = f" for {in_words.listed(d.wish.filters)}" if len(d.wish.filters) > 1 else ""
        takes = f"{d.wish.n_frames} frames take {in_words.duration(seconds)}, with nobody needed"
        found.append(
            OfferOut(
                key=d.key,
                kind=kind,
                filter_code=d.wish.filters[0] if len(d.wish.filters) == 1 else None,
                passband_nm=bands.get(d.wish.filters[0]) if len(d.wish.filters) == 1 else None,
                lights=d.wish.lights,
                hole=d.hole,
                on_sheet=d.on_sheet,
                title=f"{kind.capitalize()} {in_words.seconds(d.wish.exposure_s)}{degrees}{in_words.at_gain(word, says, d.wish.gain)}{served}",
                detail=_dark_asked_by(d),
                note=takes if d.hole or not d.lights else f"{takes}; what is there: {d.note}",
            )
        )
    return sorted(found, key=lambda o: (o.more, o.kind != "flat", not o.hole, -o.lights))


def _dark_asked_by(offer: DarkOffer) -> str:
    """Who asks for a dark: lights, or the house rules alone."""
    if not offer.lights:
        return offer.note
    return f"{in_words.several(offer.wish.lights, 'light')} of {in_words.listed(offer.wish.targets)}"


def _planned(
    index: int, timed: TimedStep, zone: ZoneInfo, bands: dict[str, float | None], tonight: Tonight
) -> StepOut:
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
    return planned_step(index, timed, zone, bands, lights, wanted=wanted)


def planned_step(
    index: int, timed: TimedStep, zone: ZoneInfo, bands: dict[str, float | None], lights: int, *, wanted: bool
) -> StepOut:
    """A step that has not begun; `wanted` where lights wait for it that have nothing."""
    step = timed.step
    return StepOut(
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
        start_clock=in_words.clock(timed.start, zone),
        end_clock=in_words.clock(timed.end, zone),
        exposure=in_words.seconds(step.exposure_s) if step.exposure_s else None,
        exposure_known=step.exposure_known,
        needs_person=step.needs_person,
        row=step.row,
        gate=None if step.gate is None else planned_gate(step.gate),
        lights=lights,
        wanted=wanted,
        outcome="",
    )
