"""A night before it begins, in words: what a plan costs, what it calls for, and what it became."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from zoneinfo import ZoneInfo

from sqlalchemy.orm import Session

from grayshelf.core.flats.filter_words import NO_FILTER, named
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.matching.model import RigSays, Verdict
from grayshelf.core.planning.flats_go import FlatsGo, stands_of
from grayshelf.core.planning.night_plan import (
    FlatRow,
    NightPlan,
    PlanCost,
    PlannedLights,
    PlannedTarget,
    RoundCost,
)
from grayshelf.core.planning.sheet import StepKind
from grayshelf.core.rigs.names import place_in_wheel
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import KeptPlan, Rig
from grayshelf.library.night_plans import Foretold, plan_of, plans_of
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word, says_of
from grayshelf.library.sites import zone_of
from grayshelf.web.common import in_words
from grayshelf.web.common.rigs import passbands
from grayshelf.web.tonight.plan_filters import filters_of_plan
from grayshelf.web.tonight.plan_schemas import (
    CauseOut,
    DarkCalledOut,
    FilterCostOut,
    HadOut,
    KeptPlanOut,
    LightsHadOut,
    NightPlanIO,
    PlansOut,
    PricedOut,
    RoundOut,
    SavingOut,
)
from grayshelf.work.run.night_had import NightHad, night_had
from grayshelf.work.run.plan_sketch import first_plan
from grayshelf.work.run.pricing import NOBODY_CAN_SAY, DarkCalled, Priced, Saving, as_last_night
from grayshelf.work.sky.rows import Ahead

CAUSES = ("hands", "searches", "flats", "dark flats")
WAYS = {
    "one exposure": "One exposure for all filters of a gain",
    "angle": "The camera not turned",
    "set-up": "Flats once, when a set-up of {} nights ends",
}


def plan_in(told: NightPlanIO) -> NightPlan:
    """A plan as it came over the wire."""
    return NightPlan(
        tuple(
            PlannedTarget(
                " ".join(t.name.split()),
                tuple(PlannedLights(**one.model_dump()) for one in t.lights),
                t.turned,
            )
            for t in told.targets
        ),
        told.go,
        told.nights,
    )


def plan_out(plan: NightPlan) -> NightPlanIO:
    """A plan for the wire."""
    return NightPlanIO.model_validate(
        {
            "targets": [
                {"name": t.name, "lights": [vars(one) for one in t.lights], "turned": t.turned}
                for t in plan.targets
            ],
            "go": plan.go,
            "nights": plan.nights,
        }
    )


def times(hands: int) -> str:
    """'once', 'twice', '3 times', 'never'."""
    return {0: "never", 1: "once", 2: "twice"}.get(hands, f"{hands} times")


def _takes(seconds: float) -> str:
    return in_words.duration(timedelta(seconds=seconds))


def priced_out(library: Library, rig_id: int, priced: Priced) -> PricedOut:
    """What a plan costs, in words."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        bands, word, zone = passbands(rig), gain_word(library, rig.camera), zone_of(library, session, rig)
        says = says_of(library, rig)
    plan, cost = priced.plan, priced.cost
    missing = [d for d in priced.darks if d.missing]
    return PricedOut(
        headline=_headline(plan, cost),
        seconds=cost.seconds,
        takes=_takes(cost.seconds),
        hands=cost.hands,
        flats=cost.flats,
        dark_flats=cost.dark_flats,
        diffusers=cost.diffusers,
        turns=cost.turns,
        lights=sum(one.count for t in plan.targets for one in t.lights),
        lights_take=_takes(cost.lights_s),
        causes=[
            CauseOut(what=what, seconds=cost.by_cause[what], text=_takes(cost.by_cause[what]))
            for what in (*CAUSES, *sorted(cost.by_cause.keys() - set(CAUSES)))
            if cost.by_cause.get(what)
        ],
        filters=[
            FilterCostOut(filter_code=code, passband_nm=bands.get(code), seconds=s, text=_takes(s))
            for code, s in sorted(
                cost.by_filter.items(), key=lambda item: (-item[1], place_in_wheel(item[0]))
            )
        ],
        rounds=[_round(plan, one, _when_on_the_sky(priced.dawn, zone)) for one in cost.rounds],
        dark_time=_dark_time(plan, cost),
        darks=[_dark(d, word, says) for d in priced.darks],
        darks_missing=len(missing),
        darks_text=_darks_text(priced.darks),
        savings=[_saving(s, cost) for s in priced.savings],
        notes=_notes(priced),
    )


def _headline(plan: NightPlan, cost: PlanCost) -> str:
    if not cost.rounds:
        return "No flats to shoot." if not cost.lost else "Nothing of it can be shot as planned."
    where = ""
    if plan.go is FlatsGo.END_OF_SET_UP:
        where = f" a night over {plan.nights} nights" if plan.nights > 1 else ""
    return f"{_takes(cost.seconds)} of flats{where}; you are needed {times(cost.hands)}."


def _round(plan: NightPlan, one: RoundCost, on_the_sky: str) -> RoundOut:
    filters = sum(s.kind is StepKind.FLATS for s in one.sheet.steps)
    last = one.after == len(plan.targets) - 1
    when = f"after {plan.targets[one.after].name}"
    if last and plan.go not in (FlatsGo.AFTER_EACH_TARGET, FlatsGo.BEFORE_EACH_TURN):
        when = on_the_sky or str(plan.go)
    hands = times(one.sheet.times_needed)
    text = f"{in_words.several(filters, 'row')} of flats, {_takes(one.seconds)}, needed {hands}"
    return RoundOut(when=when, text=text)


def _dark_time(plan: NightPlan, cost: PlanCost) -> str:
    between = sum(r.seconds for r in cost.rounds if r.after < len(plan.targets) - 1)
    return f"{_takes(between)} of it between targets, when lights could be taken" if between else ""


def _row(row: FlatRow) -> str:
    code = named(row.filter_code)
    return code if row.binning == 1 else f"{code} at binning {row.binning}"


def _flats_of(rows: Sequence[FlatRow]) -> str:
    """'flats in Ha and L'; 'flats' where there is no filter."""
    if {row.filter_code for row in rows} == {NO_FILTER}:
        return "flats"
    return f"flats in {in_words.listed([_row(r) for r in rows])}"


def _notes(priced: Priced) -> list[str]:
    plan, cost, notes = priced.plan, priced.cost, list[str]()
    stands = stands_of([t.turned for t in plan.targets])
    for stand, rows in cost.lost:
        names = in_words.listed([t.name for t, at in zip(plan.targets, stands, strict=True) if at == stand])
        notes.append(
            f"For {names} {_flats_of(rows)} are lost: the camera is turned before "
            "they are shot, and no hand brings an angle back to a degree."
        )
    if cost.covered:
        notes.append(f"The shelf has {_flats_of(cost.covered)} that fit.")
    if plan.go is FlatsGo.NEXT_TWILIGHT and cost.rounds:
        notes += _on_the_sky(priced.dawn)
    return notes


def _when_on_the_sky(dawn: Ahead | None, zone: ZoneInfo) -> str:
    """'in the dawn of 19 Oct, 06:49 to 07:22'; empty where no flats are laid out by the sun."""
    ends = max((p.ends_s for p in dawn.planned if p.ends_s is not None), default=None) if dawn else None
    if dawn is None or dawn.begins is None or ends is None:
        return ""
    begins, ended = in_words.clock(dawn.begins, zone), in_words.clock(dawn.twilight.time(ends), zone)
    return f"in the dawn of {in_words.short_day(dawn.twilight.day)}, {begins} to {ended}"


def _on_the_sky(dawn: Ahead | None) -> list[str]:
    """What of flats on the sky does not fit, and what cannot be said of them."""
    if dawn is None:
        return [
            "The sky is bright enough for flats for half an hour or so: what does not fit waits for the next. Say where "
            "the rig stands (Intake), and it is laid out by the sun."
        ]
    codes = {str(s.key): (named(s.key.filter_code), s.wish.count) for s in dawn.subjects}
    short = [
        f"{codes[p.code][0]} ({p.planned} of {codes[p.code][1]})"
        for p in dawn.planned
        if p.planned < codes[p.code][1]
    ]
    notes = []
    if short:
        notes.append(
            f"Not all fit into one dawn: {in_words.listed(short)}. The rest waits for the next twilight."
        )
    return notes + [f"{named(key.filter_code)}: {why}" for key, why in dawn.troubles.items()]


def _darks_text(darks: Sequence[DarkCalled]) -> str:
    missing = [d for d in darks if d.missing]
    care = sum(d.line.verdict is Verdict.CARE for d in darks)
    told = f"{_takes(sum(d.seconds for d in missing))} to shoot" if missing else "all there"
    return f"{told}, {care} with care" if care else told


def _dark(dark: DarkCalled, word: str, says: RigSays) -> DarkCalledOut:
    temp = "" if dark.temp_c is None else f" at {in_words.degrees_c(dark.temp_c)}"
    title = f"{in_words.seconds(dark.exposure_s)}{temp}{in_words.at_gain(word, says, dark.gain)}"
    line, chosen = dark.line, dark.line.chosen
    if line.verdict is Verdict.NOTHING:
        text = f"not there: {dark.frames} darks take {_takes(dark.seconds)}"
    elif line.verdict is Verdict.CARE and chosen is not None:
        text = "; ".join(chosen.reasons)
    else:
        frames = chosen.holding.n_frames if chosen is not None else 0
        text = f"on the shelf, of {in_words.several(frames, 'frame')}"
    key = chosen.holding.key if chosen is not None else ""
    return DarkCalledOut(
        title=title,
        lights=dark.lights,
        verdict=line.verdict.value,
        text=text,
        holding_id=int(key) if key.isdigit() else None,
    )


def _saving(saving: Saving, cost: PlanCost) -> SavingOut:
    less = cost.seconds - saving.cost.seconds
    parts = [f"{_takes(less)} less"] if less >= 60 else []
    if less <= -60:
        parts.append(f"{_takes(-less)} more")
    hands = cost.hands - saving.cost.hands
    if hands > 0:
        parts.append(f"needed {times(saving.cost.hands)} instead of {times(cost.hands)}")
    frames = cost.dark_flats - saving.cost.dark_flats
    if frames > 0 and saving.way == "one exposure":
        parts.append(f"{frames} dark flats fewer")
    return SavingOut(
        way=saving.way, words=WAYS[saving.way].format(saving.nights), text=in_words.listed(parts)
    )


def difference(names: Sequence[str], prices: Sequence[PricedOut | None]) -> str:
    """One plan against the other, in a sentence."""
    known = [p for p in prices if p is not None]
    if len(known) < 2:
        return ""
    # The dearer one is told against the other.
    pairs = sorted(zip(known, names, strict=True), key=lambda pair: -pair[0].seconds)
    (one, first), (other, second) = pairs
    more = one.seconds - other.seconds
    hands = one.hands - other.hands
    darks = one.darks_missing - other.darks_missing
    parts = [f"{_takes(more)} more"] if more >= 60 else []
    if hands:
        parts.append(f"{in_words.several(abs(hands), 'hand')} {'more' if hands > 0 else 'fewer'}")
    if darks:
        parts.append(f"{in_words.several(abs(darks), 'dark')} {'more' if darks > 0 else 'fewer'} to shoot")
    if not parts:
        return f"{first} and {second} cost the same."
    return f"{first} costs {in_words.listed(parts)} than {second}."


def plans_page(library: Library, rig_id: int) -> PlansOut:
    """Where a plan begins from, and those that were kept."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        zone, bands = zone_of(library, session, rig), passbands(rig)
        tonight = night_of_utc(library.clock.now(), zone)
        lights = light_sets(library, rig)
        last = as_last_night(library, rig) if lights else first_plan(session, rig)
        filters = filters_of_plan(library, rig, bands, last)
        can_plan = bool(lights) or last is not None
        sets_gain = any(says_of(library, rig).to_set("gain", f.gain) is not None for f in filters)
        nights = [s.row.night for s in lights if s.row.night is not None]
        return PlansOut(
            can_plan=can_plan,
            cannot="" if can_plan else " ".join(NOBODY_CAN_SAY),
            last=plan_out(last) if last is not None else None,
            last_text=f"as on {in_words.short_day(max(nights))}"
            if nights
            else ""
            if lights
            else "by your flat sheet",
            filters=filters,
            kept=[_kept(library, session, rig, row, tonight, bands) for row in plans_of(session, rig_id)],
            tonight=tonight,
            gain_word=gain_word(library, rig.camera) if sets_gain else "",
        )


def _kept(
    library: Library, session: Session, rig: Rig, row: KeptPlan, tonight: date, bands: dict[str, float | None]
) -> KeptPlanOut:
    plan, foretold = plan_of(row), read(Foretold, row.foretold)
    had = None
    if row.night is not None and row.night <= tonight:
        found = night_had(library, session, rig, row.night, plan)
        if row.night < tonight or any(one.taken for one in found.lights):
            had = _had(found, foretold, bands)
    return KeptPlanOut(
        id=row.id,
        name=row.name,
        night=row.night,
        night_text=in_words.short_day(row.night) if row.night is not None else "for any night",
        foretold=f"{_takes(foretold.seconds)}, needed {times(foretold.hands)}",
        plan=plan_out(plan),
        had=had,
    )


def _had(had: NightHad, foretold: Foretold, bands: dict[str, float | None]) -> HadOut:
    planned, taken = sum(x.planned for x in had.lights), sum(x.taken for x in had.lights)
    kept = sum(x.kept for x in had.lights)
    if not taken:
        summary = "No lights of that night are here."
    else:
        summary = f"{in_words.several(taken, 'light')} of {planned} planned, {kept} kept"
    frames = (
        f"{had.flats} flats and {had.dark_flats} dark flats; "
        f"{foretold.flats} and {foretold.dark_flats} were foretold"
    )
    time = ""
    if had.seconds is not None and had.hands is not None:
        time = (
            f"{_takes(had.seconds)}, needed {times(had.hands)}; "
            f"{_takes(foretold.seconds)}, {times(foretold.hands)}, were foretold"
        )
    return HadOut(
        summary=summary,
        flats=frames,
        time=time,
        lights=[
            LightsHadOut(
                target=x.target,
                filter_code=x.filter_code,
                passband_nm=bands.get(x.filter_code),
                planned=x.planned,
                taken=x.taken,
                kept=x.kept,
            )
            for x in had.lights
        ],
    )
