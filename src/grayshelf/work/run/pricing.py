"""A night priced before it begins: its flats by the sheet that it will have, and the darks that it calls for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date

from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.frames.angle import CameraAngle, angle_between
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.matching.judge import Terms, judge_flat
from grayshelf.core.matching.match import choose, with_focal_lengths
from grayshelf.core.matching.model import CommonSettings, Holding, SlipLine, Verdict
from grayshelf.core.matching.stock import Role, Wanted
from grayshelf.core.planning.flats_go import FlatsGo
from grayshelf.core.planning.night_plan import (
    MOST_LETTERS,
    MOST_LIGHTS,
    MOST_TARGETS,
    FlatRow,
    NightPlan,
    PlanCost,
    PlannedLights,
    PlannedTarget,
    at_the_end_of_a_set_up,
    check_plan,
    keeping_the_angle,
    one_exposure,
    price,
    row_of,
)
from grayshelf.core.planning.sheet import FlatSeries, RigPace, RunSheet, series_seconds
from grayshelf.core.planning.sky_sheet import sky_sheet
from grayshelf.devices.ports import RigDevices
from grayshelf.library.cameras_alike import shelf_of
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_sets, light_terms
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import TermsByGain, house_rules_of, tolerances_of
from grayshelf.library.sites import has_place, site_of, zone_of
from grayshelf.library.told_settings import settings_of_row, told_rows
from grayshelf.work.run.choice import AS_USUAL
from grayshelf.work.run.flat_offers import OfferMaker
from grayshelf.work.run.reach import binning_of
from grayshelf.work.run.tonight import pace_of, plan_for
from grayshelf.work.sky.rows import Ahead, look_ahead

#: Where a set-up is not said to stay: over so many nights its end is looked at.
A_SHORT_STAY = 3
#: Less is nothing worth saying.
WORTH_SAYING_S = 60.0


#: Why no night of a rig can be priced, and what to do.
NOBODY_CAN_SAY = (
    "No lights of this rig are known yet, and its flat sheet has no row, so nobody can say what frames they ask for.",
    "Bring in a night of lights, or put its filters on the whole sheet of Flat exposure (Bench), first.",
)


@dataclass(frozen=True)
class DarkCalled:
    """A dark that the lights of a plan call for."""

    exposure_s: float
    temp_c: float | None
    gain: float
    offset: float
    binning: int
    lights: int
    line: SlipLine
    """What is on the shelf for it, by the rules of matching."""
    frames: int
    seconds: float
    """Of shooting it, where it is not there."""

    @property
    def missing(self) -> bool:
        """Whether nothing on the shelf fits."""
        return self.line.verdict is Verdict.NOTHING


@dataclass(frozen=True)
class Saving:
    """Another way of doing the same, and what it would cost."""

    way: str
    """'one exposure', 'angle' or 'set-up'."""
    cost: PlanCost
    nights: int = 1


@dataclass(frozen=True)
class Priced:
    """A plan and what it costs."""

    plan: NightPlan
    cost: PlanCost
    darks: tuple[DarkCalled, ...]
    savings: tuple[Saving, ...]
    dawn: Ahead | None = None
    """How flats on the sky lie in the dawn after the night; None where none are planned, or no place is known."""


def price_night(library: Library, rig_id: int, devices: RigDevices | None, plan: NightPlan) -> Priced:
    """What a plan costs at a rig.

    Raises
    ------
    GrayShelfError
        Where the plan cannot be, or no lights are known that tell what the camera is.
    """
    check_plan(plan)
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        pricing = _Pricing(library, session, rig, devices)
        cost = pricing.cost(plan)
        dawn = pricing.dawn
        return Priced(plan, cost, pricing.darks(plan), pricing.savings(plan, cost), dawn)


class _Pricing:
    """Prices plans of one rig."""

    def __init__(self, library: Library, session: Session, rig: Rig, devices: RigDevices | None) -> None:
        self.library, self.session, self.rig, self.devices = library, session, rig, devices
        self.lights = light_sets(library, rig)
        if not self.lights and not told_rows(session, rig):
            raise GrayShelfError(*NOBODY_CAN_SAY)
        self.pace: RigPace = pace_of(rig, devices)
        self.maker = OfferMaker(library, session, rig, AS_USUAL)
        self.terms_at = TermsByGain(library, rig)
        self.now = library.clock.now()
        self.tonight: date = night_of_utc(self.now, zone_of(library, session, rig))
        self.turns_back = devices is not None and devices.rotator is not None
        self.dawn: Ahead | None = None

    def cost(self, plan: NightPlan, *, share: bool = False) -> PlanCost:
        """What a plan costs; with `share` as if all filters were shot at one exposure."""

        counts: dict[FlatRow, int] = {}
        for target in plan.targets:
            for one in target.lights:
                counts[row_of(one)] = counts.get(row_of(one), 0) + one.count

        def series_of(row: FlatRow, stand: int) -> FlatSeries | None:
            return self._series(row, stand, counts[row])

        def sheet_of(rows: Sequence[FlatSeries]) -> RunSheet:
            if plan.go is FlatsGo.NEXT_TWILIGHT:
                return self._of_the_sky(rows)
            rows = one_exposure(rows) if share else rows
            return plan_for(self.session, self.rig, rows, (), self.pace, self.devices)

        return price(
            plan,
            series_of,
            sheet_of,
            turns_back=self.turns_back,
            download_s=self.pace.download_s,
            turn_s=self.pace.gate_s,
        )

    def _of_the_sky(self, rows: Sequence[FlatSeries]) -> RunSheet:
        """Rows laid out in the dawn after the night, where it is known where the rig stands."""
        if not has_place(site_of(self.library, self.session, self.rig)):
            return sky_sheet(rows, self.pace)
        keys = [RowKey(r.filter_code, r.gain, r.offset, r.binning) for r in rows]
        counts = {key: row.n_flats for key, row in zip(keys, rows, strict=True)}
        self.dawn = look_ahead(self.library, self.session, self.rig, self.devices, dawn=True, counts=counts)
        places = {str(key): index for index, key in enumerate(keys)}
        return sky_sheet(rows, self.pace, [(places[p.code], p) for p in self.dawn.planned])

    def _like(
        self, filter_code: str, gain: float, offset: float, binning: int
    ) -> tuple[CommonSettings, LightSet | None]:
        """Lights of these settings as the rig takes them: like the newest that have most of them, and which those are."""
        if not self.lights:
            told = settings_of_row(self.session, self.rig, RowKey(filter_code, gain, offset, binning))
            return replace(told, night=self.tonight, taken=self.now), None

        def near(one: LightSet) -> tuple[bool, ...]:
            want = one.nominal
            return (
                binning_of(want) == binning,
                want.filter_code == filter_code,
                (want.gain, want.offset) == (gain, offset),
            )

        like = max(reversed(self.lights), key=near)
        newest = like.nominal
        had = binning_of(newest)
        want = replace(
            newest,
            width=newest.width * had // binning,
            height=newest.height * had // binning,
            binning=(binning, binning),
            filter_code=filter_code,
            gain=gain,
            offset=offset,
            focus=newest.focus if newest.filter_code == filter_code else None,
            night=self.tonight,
            taken=self.now,
        )
        return want, like

    def _series(self, row: FlatRow, stand: int, lights: int) -> FlatSeries | None:
        want, like = self._like(row.filter_code, row.gain, row.offset, row.binning)
        if stand:
            # Where the camera stands after a turn is not known before it; one stand is told from another.
            want = replace(want, angle=CameraAngle(float(stand), "mechanical") if self.turns_back else None)
        series = self.maker.series(want)
        terms = self._terms(want, like, lights)
        there = self._serves(Role.FLAT, want, terms).verdict
        fresh = judge_flat(want, Holding("then", FrameKind.FLAT, want, series.n_flats), terms).verdict
        # As on the night's own sheet: what fits with care is shot again only where fresh ones would fit better.
        if not stand and (there is Verdict.FITS or (there is Verdict.CARE and fresh is not Verdict.FITS)):
            return None
        angle = want.angle.deg if want.angle is not None and want.angle.of == "mechanical" else None
        focus = want.focus if want.focus is not None else self.maker.usual_focus(row.filter_code)
        return replace(series, focus=focus, angle_deg=angle, hole=True)

    def _terms(self, want: CommonSettings, like: LightSet | None, lights: int) -> Terms:
        """On what terms so many lights are served, as noisy as those that they are like."""
        terms = self.terms_at(want.gain)
        if like is not None:
            terms = light_terms(self.library, like, terms)
        terms = replace(terms, lights=replace(terms.lights, n_lights=lights))
        return with_focal_lengths(want, shelf_of(self.library, self.rig), terms)

    def _serves(self, role: Role, want: CommonSettings, terms: Terms) -> SlipLine:
        kind = FrameKind.FLAT if role is Role.FLAT else FrameKind.DARK
        shelf = shelf_of(self.library, self.rig)
        return choose(kind, shelf, [Wanted(role, want, terms)], runners_up=0)[0]

    def darks(self, plan: NightPlan) -> tuple[DarkCalled, ...]:
        """The darks that the lights of a plan call for, those that are missing first."""
        asked: dict[tuple[float, float, float, int], int] = {}
        for target in plan.targets:
            for one in target.lights:
                key = one.exposure_s, one.gain, one.offset, one.binning
                asked[key] = asked.get(key, 0) + one.count
        count = house_rules_of(self.rig).n_darks
        found = []
        for (exposure, gain, offset, binning), lights in asked.items():
            want, like = self._like("", gain, offset, binning)
            want = replace(want, filter_code=None, exposure_s=exposure, exposures_differ=False)
            line = self._serves(Role.DARK, want, self._terms(want, like, lights))
            seconds = series_seconds(count, exposure, self.pace)
            found.append(
                DarkCalled(exposure, want.sensor_temp_c, gain, offset, binning, lights, line, count, seconds)
            )
        return tuple(sorted(found, key=lambda d: (not d.missing, -d.lights, d.exposure_s)))

    def savings(self, plan: NightPlan, cost: PlanCost) -> tuple[Saving, ...]:
        """Other ways of doing the same that would cost less."""
        ways: list[Saving] = []
        dimmable = self.devices is not None and self.devices.panel is not None
        if dimmable and plan.go is not FlatsGo.NEXT_TWILIGHT:
            ways.append(Saving("one exposure", self.cost(plan, share=True)))
        if any(t.turned for t in plan.targets[1:]):
            ways.append(Saving("angle", self.cost(keeping_the_angle(plan))))
        if plan.go is not FlatsGo.END_OF_SET_UP:
            nights = max(plan.nights, A_SHORT_STAY)
            ways.append(
                Saving("set-up", self.cost(at_the_end_of_a_set_up(replace(plan, nights=nights))), nights)
            )
        return tuple(
            w for w in ways if cost.seconds - w.cost.seconds >= WORTH_SAYING_S or w.cost.hands < cost.hands
        )


def as_last_night(library: Library, rig: Rig) -> NightPlan | None:
    """A plan like the newest night of the rig: its targets with their filters, exposures and counts."""
    nights = [s.row.night for s in light_sets(library, rig) if s.row.night is not None]
    if not nights:
        return None
    return of_night(library, rig, max(nights))


def of_night(library: Library, rig: Rig, night: date) -> NightPlan | None:
    """What a night had, in the words of a plan; the camera was turned where a target's angle is another.

    Sets that a plan does not tell apart, such as those of both sides of the pier, are one line. A night that no plan
    would have, such as of headers that differ in everything, is cut to one.
    """
    targets: dict[str, dict[PlannedLights, int]] = {}
    angles: dict[str, CameraAngle | None] = {}
    for one in light_sets(library, rig):
        want = one.nominal
        if one.row.night != night or want.exposure_s is None:
            continue
        name = (one.facts.target or "no target")[:MOST_LETTERS]
        angles.setdefault(name, want.angle)
        alike = PlannedLights(
            want.filter_code or "none",
            want.exposure_s,
            0,
            want.gain or 0.0,
            want.offset or 0.0,
            binning_of(want),
        )
        counts = targets.setdefault(name, {})
        counts[alike] = counts.get(alike, 0) + one.row.n_frames
    planned: list[PlannedTarget] = []
    before: CameraAngle | None = None
    for name, counts in list(targets.items())[:MOST_TARGETS]:
        angle = angles[name]
        away = angle_between(before, angle)
        turned = away is not None and abs(away) > tolerances_of(rig).flat_angle_deg
        lights = [replace(alike, count=count) for alike, count in counts.items()]
        planned.append(PlannedTarget(name, tuple(lights[:MOST_LIGHTS]), turned))
        before = angle or before
    return NightPlan(tuple(planned), house_rules_of(rig).flats_go) if planned else None
