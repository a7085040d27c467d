"""A night before it begins: which targets in which filters, and what that costs in flats, time and hands.

Priced by the very sheet that the night will have, so that what is foretold is what comes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.planning.flats_go import FlatsGo, Rounds, lay_rounds, stands_of
from grayshelf.core.planning.sheet import SERIES, FlatSeries, RunSheet, SheetStep, StepKind

#: More is no plan of a night.
MOST_TARGETS, MOST_LIGHTS, MOST_COUNT, MOST_NIGHTS = 12, 24, 2000, 60
#: Of a target's name.
MOST_LETTERS = 80


@dataclass(frozen=True)
class PlannedLights:
    """Lights of one filter."""

    filter_code: str
    exposure_s: float
    count: int
    gain: float
    offset: float
    binning: int = 1


@dataclass(frozen=True)
class PlannedTarget:
    """What is imaged of one target."""

    name: str
    lights: tuple[PlannedLights, ...]
    turned: bool = False
    """The camera is turned before it."""


@dataclass(frozen=True)
class NightPlan:
    """What a person means to do in a night."""

    targets: tuple[PlannedTarget, ...]
    go: FlatsGo = FlatsGo.AT_THE_END
    nights: int = 1
    """Over so many nights the set-up stays: its flats are shot once, where they go to its end."""


def check_plan(plan: NightPlan) -> None:
    """Refuse a plan that cannot be.

    Raises
    ------
    GrayShelfError
        With what is wrong, and where.
    """
    if not 1 <= len(plan.targets) <= MOST_TARGETS:
        raise GrayShelfError(f"A plan has 1 to {MOST_TARGETS} targets.", "Add a target, or take some out.")
    if not 1 <= plan.nights <= MOST_NIGHTS:
        raise GrayShelfError(f"A set-up stays for 1 to {MOST_NIGHTS} nights.")
    for target in plan.targets:
        where = f"{target.name or 'A target'}: "
        if not target.name.strip() or len(target.name) > MOST_LETTERS:
            raise GrayShelfError(f"Every target has a name of 1 to {MOST_LETTERS} letters.")
        if not 1 <= len(target.lights) <= MOST_LIGHTS:
            raise GrayShelfError(
                f"{where}a target has lights in 1 to {MOST_LIGHTS} filters.", "Choose a filter for it."
            )
        for one in target.lights:
            if not 1 <= one.count <= MOST_COUNT:
                raise GrayShelfError(f"{where}{one.filter_code} has 1 to {MOST_COUNT:,} lights.")
            if not 1e-4 <= one.exposure_s <= 7200.0:
                raise GrayShelfError(f"{where}an exposure lies between 0.0001 and 7,200 s.")
            if not (0 <= one.gain <= 1e6 and 0 <= one.offset <= 1e6 and 1 <= one.binning <= 16):
                raise GrayShelfError(f"{where}that gain, offset or binning cannot be.")


@dataclass(frozen=True)
class FlatRow:
    """Flats that lights of a plan want: all of one of these are the same."""

    filter_code: str
    gain: float
    offset: float
    binning: int


def row_of(lights: PlannedLights) -> FlatRow:
    """The row of flats that lights want."""
    return FlatRow(lights.filter_code, lights.gain, lights.offset, lights.binning)


@dataclass(frozen=True)
class RoundCost:
    """One round of flats and what it takes."""

    after: int
    """Index of the target after which it is shot."""
    sheet: RunSheet
    seconds: float
    """Until nobody is needed any more and all is shot; masters are built after it."""


@dataclass(frozen=True)
class PlanCost:
    """What a plan costs."""

    lights_s: float
    rounds: tuple[RoundCost, ...]
    seconds: float
    """Of flats and dark flats with all that belongs to them; of one night where they are shot once for several."""
    hands: int
    """Times that somebody has to act, turns of the camera by hand among them."""
    turns: int
    diffusers: int
    """Changes of what hangs before the light."""
    flats: int
    dark_flats: int
    by_cause: Mapping[str, float] = field(default_factory=dict)
    """Seconds by what they are spent on; their sum is `seconds`."""
    by_filter: Mapping[str, float] = field(default_factory=dict)
    """Seconds by filter: its search, flats and dark flats."""
    lost: tuple[tuple[int, tuple[FlatRow, ...]], ...] = ()
    """Flats that can no longer be shot, by stand of the camera."""
    covered: tuple[FlatRow, ...] = ()
    """Flats that the shelf has already."""


#: What a row's flats are shot like; None where what is on the shelf serves these lights.
SeriesOf = Callable[[FlatRow, int], FlatSeries | None]
#: The sheet of some rows.
SheetOf = Callable[[Sequence[FlatSeries]], RunSheet]

_CAUSES = {
    StepKind.GATE: "hands",
    StepKind.FIND: "searches",
    StepKind.FLATS: "flats",
    StepKind.DARK_FLATS: "dark flats",
}


def price(
    plan: NightPlan,
    series_of: SeriesOf,
    sheet_of: SheetOf,
    *,
    turns_back: bool,
    download_s: float,
    turn_s: float,
) -> PlanCost:
    """What a plan costs in flats.

    Parameters
    ----------
    series_of
        How the flats of a row are shot at a stand of the camera.
    sheet_of
        The sheet that a rig has for these rows.
    turns_back
        Whether the rig turns the camera by itself.
    download_s
        Of one frame.
    turn_s
        What a turn of the camera by hand takes; it counts as a hand.
    """
    stands = stands_of([t.turned for t in plan.targets])
    wanted = [tuple(dict.fromkeys(row_of(one) for one in t.lights)) for t in plan.targets]
    laid: Rounds[FlatRow] = lay_rounds(stands, wanted, plan.go, turns_back=turns_back)
    rounds, covered = _priced_rounds(laid, series_of, sheet_of)
    turns = 0 if turns_back else stands[-1]
    steps = [step for one in rounds for step in _shot(one.sheet)]
    share = 1.0 / plan.nights if plan.go is FlatsGo.END_OF_SET_UP else 1.0
    causes = _summed(((_CAUSES.get(s.kind, "other"), s.seconds) for s in steps), share)
    if turns:
        causes["hands"] = causes.get("hands", 0.0) + turns * turn_s
    of_filters = ((s.filter_code, s.seconds) for s in steps if s.filter_code and s.kind is not StepKind.GATE)
    return PlanCost(
        lights_s=sum(one.count * (one.exposure_s + download_s) for t in plan.targets for one in t.lights),
        rounds=rounds,
        seconds=sum(causes.values()),
        hands=sum(s.needs_person for s in steps) + turns,
        turns=turns,
        diffusers=sum(s.gate is not None and s.gate.sign == "diffuser" for s in steps),
        flats=_frames(steps, StepKind.FLATS),
        dark_flats=_frames(steps, StepKind.DARK_FLATS),
        by_cause=causes,
        by_filter=_summed(of_filters, share),
        lost=laid.lost,
        covered=covered,
    )


def _priced_rounds(
    laid: Rounds[FlatRow], series_of: SeriesOf, sheet_of: SheetOf
) -> tuple[tuple[RoundCost, ...], tuple[FlatRow, ...]]:
    """Each round with its sheet, and the rows that the shelf has already."""
    rounds, covered = [], []
    for one in laid.rounds:
        asked = [(key, series_of(key, stand)) for stand, keys in one.stands for key in keys]
        covered += [key for key, series in asked if series is None]
        rows = [series for _, series in asked if series is not None]
        if rows:
            sheet = sheet_of(rows)
            rounds.append(RoundCost(one.after, sheet, sum(s.seconds for s in _shot(sheet))))
    return tuple(rounds), tuple(dict.fromkeys(covered))


def _summed(parts: Iterable[tuple[str, float]], share: float) -> dict[str, float]:
    found: dict[str, float] = {}
    for name, seconds in parts:
        found[name] = found.get(name, 0.0) + share * seconds
    return found


def _shot(sheet: RunSheet) -> list[SheetStep]:
    return [step for step in sheet.steps if step.kind is not StepKind.BUILD]


def _frames(steps: Sequence[SheetStep], kind: StepKind) -> int:
    return sum(s.count for s in steps if s.kind is kind and s.kind in SERIES and s.served_by is None)


def one_exposure(rows: Sequence[FlatSeries]) -> list[FlatSeries]:
    """The rows as if all of one gain, offset and binning were shot at one exposure: the longest that is known of them,
    with one set of dark flats.

    The panel's brightness follows then; whether it can is for the search to say.
    """
    groups: dict[tuple[object, ...], list[int]] = {}
    for index, row in enumerate(rows):
        groups.setdefault((row.gain, row.offset, row.binning, row.read_mode), []).append(index)
    shared = list(rows)
    for group in groups.values():
        known = [e for i in group if (e := rows[i].prior_exposure_s) is not None]
        longest = max(known, default=None)
        most = max(rows[i].n_dark_flats for i in group)
        first = next((i for i in group if rows[i].prior_exposure_s is not None), group[0])
        for i in group:
            prior = None if rows[i].prior_exposure_s is None else longest
            shared[i] = replace(rows[i], prior_exposure_s=prior, n_dark_flats=most if i == first else 0)
    return shared


def keeping_the_angle(plan: NightPlan) -> NightPlan:
    """The same without any turn of the camera."""
    return replace(plan, targets=tuple(replace(t, turned=False) for t in plan.targets))


def at_the_end_of_a_set_up(plan: NightPlan) -> NightPlan:
    """The same with the flats shot once, when the set-up ends."""
    return replace(plan, go=FlatsGo.END_OF_SET_UP)
