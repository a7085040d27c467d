"""Darks, and dark flats for flats that are there, that could be on tonight’s sheet."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date

from sqlalchemy.orm import Session

from grayshelf.core.digits import seconds
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import CommonSettings, RigSays
from grayshelf.core.planning.sheet import DarkSeries
from grayshelf.core.planning.standard_darks import missing_standards
from grayshelf.core.planning.uncooled_darks import wanted_now
from grayshelf.core.rigs.house_rules import HouseRules
from grayshelf.library.cameras_alike import shelf_of
from grayshelf.library.gaps import Gap, gaps
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_sets
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import camera_of, house_rules_of, says_of, terms_of
from grayshelf.library.told_settings import told_settings
from grayshelf.work.run.choice import SheetChoice
from grayshelf.work.run.reach import OutOfReach, binning_of, not_known, not_now, not_settable


@dataclass(frozen=True)
class Cooler:
    """Whether the sensor is brought to a temperature for darks; where it is not, only those of tonight's lights can be shot."""

    there: bool
    tonight: date


@dataclass(frozen=True)
class DarkOffer:
    """A dark that could be on tonight's sheet."""

    key: str
    wish: DarkSeries
    lights: tuple[LightSet, ...]
    hole: bool
    on_sheet: bool
    note: str = ""
    """What is there, and why it does not do."""

    @property
    def against(self) -> str:
        """Nothing speaks against shooting a dark that lights ask for."""
        return ""


def dark_offers(
    library: Library, session: Session, rig: Rig, choice: SheetChoice, cooler: Cooler
) -> tuple[list[DarkOffer], list[OutOfReach]]:
    """Darks, and dark flats for flats that are there, that could be shot now; and what could not be."""
    found: dict[str, DarkOffer] = {}
    not_now: list[OutOfReach] = []
    # Read once: a library of years has hundreds of gaps.
    rules, says = house_rules_of(rig), says_of(library, rig)
    for gap in gaps(library, rig.id, with_care=True):
        offer: DarkOffer | OutOfReach | None = None
        if gap.kind is FrameKind.DARK_FLAT:
            offer = _dark_flat_offer(gap, rules, says, choice)
        elif gap.kind is FrameKind.DARK and not gap.care_only:
            offer = _dark_offer(gap, rules, says, choice, cooler)
        if isinstance(offer, OutOfReach):
            not_now.append(offer)
        elif offer is not None:
            there = found.get(offer.key)
            found[offer.key] = offer if there is None else _both(there, offer)
    for standard in _standards(library, session, rig, choice):
        found.setdefault(standard.key, standard)
    return _within_reach(library, rig, list(found.values()), not_now)


def darks_not_now(library: Library, rig: Rig, cooler: Cooler) -> list[OutOfReach]:
    """Darks that lights wait for and that cannot be shot with the cap on now, whatever the time: what they are to be set to
    is not known, or the sensor is as warm as the night."""
    rules, says = house_rules_of(rig), says_of(library, rig)
    offers = [
        _dark_offer(gap, rules, says, SheetChoice(), cooler)
        for gap in gaps(library, rig.id)
        if gap.kind is FrameKind.DARK
    ]
    return [offer for offer in offers if isinstance(offer, OutOfReach)]


def _within_reach(
    library: Library, rig: Rig, offers: list[DarkOffer], out: list[OutOfReach]
) -> tuple[list[DarkOffer], list[OutOfReach]]:
    """Those that the camera's cooler can hold in the air of the newest lights; the others are said to be out of reach."""
    airs = [s.facts.air_temp_c for s in light_sets(library, rig) if s.facts.air_temp_c is not None]
    card, air = camera_of(rig), airs[-1] if airs else None
    near = []
    for offer in offers:
        temp = offer.wish.set_temp_c
        if temp is None or offer.wish.for_flats or card.can_hold(temp, air):
            near.append(offer)
            continue
        why = (
            f"the cooler holds the sensor {card.below_air_c:g} °C below the air, and that was at {air:.0f} °C: "
            f"{card.coldest_c(air):.0f} °C at the coldest"
        ).replace("-", "−")
        title = f"Dark {seconds(offer.wish.exposure_s)} at {temp:.0f} °C".replace("-", "−")
        out.append(OutOfReach(FrameKind.DARK, title, offer.wish.lights, why))
    return near, out


def _standards(library: Library, session: Session, rig: Rig, choice: SheetChoice) -> list[DarkOffer]:
    """Standard darks of the house rules that are not on the shelf: no lights wait for them yet."""
    rules = house_rules_of(rig)
    if not (rules.dark_temps_c and rules.dark_exposures_s):
        return []
    lights = [s.nominal for s in light_sets(library, rig)] or told_settings(library, session, rig)
    terms = terms_of(library, rig, lights[-1].gain if lights else None)
    offers = []
    for want in missing_standards(rules, lights, shelf_of(library, rig), terms):
        series = _dark_series(want, rules.n_darks, 0, ())
        key = _dark_key(want)
        offers.append(DarkOffer(key, series, (), False, key in choice.add, "a standard of your house rules"))
    return offers


def _dark_key(want: CommonSettings) -> str:
    temp = want.sensor_temp_c
    degrees = "" if temp is None else f":{temp:.0f}C"
    return f"dark:{want.exposure_s:g}s{degrees}{_set_to(want)}"


def _set_to(want: CommonSettings) -> str:
    mode = f":{want.read_mode}" if want.read_mode else ""
    return f":g{want.gain or 0:g}:o{want.offset or 0:g}:b{binning_of(want)}{mode}"


def _dark_series(want: CommonSettings, count: int, lights: int, targets: tuple[str, ...]) -> DarkSeries:
    assert want.exposure_s is not None
    return DarkSeries(
        want.exposure_s,
        want.sensor_temp_c,
        want.gain or 0.0,
        want.offset or 0.0,
        binning_of(want),
        count,
        lights,
        targets,
        read_mode=want.read_mode,
    )


def _both(one: DarkOffer, other: DarkOffer) -> DarkOffer:
    """One series for lights of two temperatures, of a sensor that nobody holds."""
    wish = replace(
        one.wish,
        lights=one.wish.lights + other.wish.lights,
        targets=tuple(dict.fromkeys((*one.wish.targets, *other.wish.targets))),
        filters=tuple(dict.fromkeys((*one.wish.filters, *other.wish.filters))),
    )
    return replace(one, wish=wish, lights=(*one.lights, *other.lights))


def _dark_offer(
    gap: Gap, rules: HouseRules, says: RigSays, wishes: SheetChoice, cooler: Cooler
) -> DarkOffer | OutOfReach:
    newest = gap.sets[-1]
    free = not newest.want.held and not cooler.there
    now = wanted_now(gap.want, newest.row.night, cooler.tonight) if free else None
    to_set = ("exposure", "gain", "offset", *(() if now is not None else ("temperature",)))
    unknown = not_settable(gap.want, says, to_set)
    if unknown:
        return not_now(gap, f"the lights’ {not_known(unknown)}", unknown=True)
    if free and now is None:
        temp = gap.want.sensor_temp_c
        warm = "" if temp is None else f" about {temp:.0f} °C".replace("-", "−")
        return not_now(
            gap,
            f"this sensor is as warm as the night: darks for them can be shot when it is{warm or ' as it was'} again, "
            "best right after the lights",
        )
    if now is not None:
        sets = tuple(s for s in gap.sets if s.row.night == cooler.tonight)
        gap = replace(gap, want=now, sets=sets, lights=sum(s.row.n_kept for s in sets))
    key = _dark_key(gap.want)
    wish = _dark_series(gap.want, rules.n_darks, gap.lights, gap.targets)
    return DarkOffer(key, wish, gap.sets, True, key in wishes.add)


def _dark_flat_offer(
    gap: Gap, rules: HouseRules, says: RigSays, wishes: SheetChoice
) -> DarkOffer | OutOfReach | None:
    """Dark flats for flats that were shot before: asked for until they are there, or a bias is said to do."""
    want = gap.want
    if want.exposure_s is None or want.exposures_differ:
        return None
    unknown = not_settable(want, says, ("gain", "offset"))
    if unknown:
        return None if gap.care_only else not_now(gap, f"the flats’ {not_known(unknown)}", unknown=True)
    key = f"dark flat:{want.exposure_s:g}s{_set_to(want)}"
    wish = DarkSeries(
        want.exposure_s,
        None,
        want.gain or 0.0,
        want.offset or 0.0,
        binning_of(want),
        wishes.frames or rules.n_dark_flats or HouseRules().n_dark_flats,
        gap.lights,
        gap.targets,
        FrameKind.DARK_FLAT,
        gap.filters,
        want.read_mode,
    )
    on = key in wishes.add or (not gap.care_only and key not in wishes.leave_out)
    return DarkOffer(key, wish, gap.sets, not gap.care_only, on, gap.nearest)
