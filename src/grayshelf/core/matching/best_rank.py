"""The best rank that each holding of a shelf could have for each of many light sets, for all at once.

A shelf of years has thousands of holdings, and to judge one takes as long as to foretell it for hundreds. So they are
judged in the order of the best rank that they could have, and only until none of the others can come before those that
were judged. What is foretold is never behind the true rank (`rank`): what it does not reckon with (the care of
few frames, a failed check) can only put a holding further back.

Arrays are of what is wanted (down) by what is there (across).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from grayshelf.core.masters.noise import Numbers
from grayshelf.core.matching.cameras_alike import CAMERA
from grayshelf.core.matching.columns import Bools, Columns, Floats, Names
from grayshelf.core.matching.costs import LEAST_E, frame_noise_e, left_in_light_e
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.model import Candidate, CommonSettings, Holding
from grayshelf.core.matching.part_of_sensor import PART, places
from grayshelf.core.matching.rank import DOUBTED, rank

#: What one quantity's doubt counts in the number that stands for all of them, in the order of `DOUBTED`.
_WEIGHT = {quantity: 3.0 ** (len(DOUBTED) - 1 - place) for place, quantity in enumerate(DOUBTED)}
#: What another order of reckoning may change, of one step in which costs are ranked.
_SLACK = 1e-3
_NONE = np.zeros((1, 1), dtype=bool)

#: More than anything can fail on, and more than all doubts together.
_MOST_FAILURES, _MOST_DOUBTS = 100.0, 3.0 ** len(DOUBTED)

BestRank = tuple[float, float, float, float]
"""In the order of `rank`: how it stands (`_standing`), nights, cost, age."""


def _standing(nothing: Numbers, failures: Numbers, doubts: Numbers, verdict: Numbers) -> Numbers:
    """The first four fields of `rank` as one number of the same order; in halves, and exact below 2⁵²."""
    standing: Numbers = ((nothing * _MOST_FAILURES + failures) * _MOST_DOUBTS + doubts) * 3.0 + verdict
    return standing


def foretold(candidate: Candidate) -> BestRank:
    """A candidate's rank as far as it is foretold."""
    nothing, failures, doubts, verdict, nights, cost, age, *_ = rank(candidate)
    number = sum(d * w for d, w in zip(doubts, _WEIGHT.values(), strict=True) if d)
    standing = _standing(float(nothing), float(failures), float(number), float(verdict))
    return standing, float(nights), float(cost), float(age)


class HoldingColumns(Columns):
    """Holdings, one value of each in each array."""

    def __init__(self, holdings: Sequence[Holding]) -> None:
        """Take their settings apart."""
        self.names = Names()
        super().__init__([h.settings for h in holdings], self.names)
        self.holdings = tuple(holdings)
        self.n_frames = np.array([[max(h.n_frames, 1) for h in holdings]], dtype=np.float64)
        self.noise_e = np.array([[h.noise_e for h in holdings]], dtype=np.float64)


@dataclass(frozen=True)
class BestRanks:
    """The best rank of each holding for each that wants one, and which of them are candidates at all."""

    holdings: tuple[Holding, ...]
    candidates: Bools
    fields: tuple[Floats, ...]

    def row(self, wanted: int) -> RowOfRanks:
        """The candidates of one that wants."""
        return RowOfRanks(self.holdings, self.candidates[wanted], tuple(f[wanted] for f in self.fields))


@dataclass(frozen=True)
class RowOfRanks:
    """The best rank that each holding could have; infinity where it is no candidate."""

    holdings: tuple[Holding, ...]
    candidates: Bools
    fields: tuple[Floats, ...]

    def first(self) -> Holding | None:
        """The candidate of the best rank; of equals the first on the shelf."""
        standing = self.fields[0]
        if standing.size == 0 or not self.candidates.any():
            return None
        left = np.flatnonzero(standing == standing.min())
        for field in self.fields[1:]:
            if left.size == 1:
                break
            values = field[left]
            left = left[values == values.min()]
        return self.holdings[left[0]]

    def could_precede(self, limit: BestRank) -> int:
        """How many candidates could have this rank or one before it."""
        standing = self.fields[0]
        before = int(np.count_nonzero(standing < limit[0]))
        level = np.flatnonzero(standing == limit[0])
        for field, most in zip(self.fields[1:], limit[1:], strict=True):
            if level.size == 0:
                break
            values = field[level]
            before += int(np.count_nonzero(values < most))
            level = level[values == most]
        return before + level.size

    def in_order(self) -> Iterator[tuple[BestRank, Holding]]:
        """The candidates, the one of the best rank first."""
        standing, nights, cost, age = self.fields
        for place in np.lexsort(self.fields[::-1]):
            if self.candidates[place]:
                best = float(standing[place]), float(nights[place]), float(cost[place]), float(age[place])
                yield best, self.holdings[place]


class _Foretelling:
    """Holds all holdings against all that is wanted, quantity by quantity."""

    def __init__(
        self, have: HoldingColumns, wants: Sequence[CommonSettings], terms: Terms, *, crops: bool = False
    ) -> None:
        """Begin with those of the same sensor, read out the same way (`not_the_same_sensor`)."""
        self.have, self.terms = have, terms
        self.want = want = Columns(wants, have.names, upright=True)
        shape = (want.count, have.count)
        self._failures, self._doubts = np.zeros(shape), np.zeros(shape)
        self._care = np.zeros(shape, dtype=bool)
        shown, in_doubt, odd = places(want, have, crops=crops)
        alike = (have.camera == want.camera) & ~_differ(have.sample_step, want.sample_step)
        self.candidates: Bools = shown & alike
        if in_doubt.any():
            self._take(PART, in_doubt, np.zeros(shape, dtype=bool), hard=False)
        for quantity, there in have.read_out.items():
            wanted = want.read_out[quantity]
            other = _differ(there, wanted)
            self.candidates &= ~(other & ~odd if quantity == "colour phase" else other)
            # Only what the lights say and the holding does not is in doubt.
            self._take(quantity, np.isnan(there) & ~np.isnan(wanted), np.zeros(shape, dtype=bool), hard=False)

    def judged(self, quantity: str) -> bool:
        """Whether a quantity is judged at all on this rig."""
        return quantity not in self.terms.says.fixed

    def _take(self, quantity: str, unknown: Bools, outside: Bools, *, hard: bool) -> None:
        if not self.judged(quantity):
            return
        self._doubts += (2.0 * _WEIGHT[quantity]) * unknown
        named = self.have.only_named.get(quantity, _NONE) | self.want.only_named.get(quantity, _NONE)
        self._doubts += _WEIGHT[quantity] * (named & ~unknown)
        self._care |= unknown
        if hard:
            self._failures += outside & ~unknown
        else:
            self._care |= outside

    def exact(self, quantity: str, have: Floats, want: Floats, *, hard: bool = True) -> None:
        """A setting that must be the same."""
        self._take(quantity, np.isnan(have) | np.isnan(want), have != want, hard=hard)

    def which_camera(self) -> None:
        """Of several of one name, by the telescope (`which_camera`)."""
        if self.terms.several_cameras:
            self.exact(CAMERA, self.have.telescope, self.want.telescope)

    def read_out_settings(self, *, hard: bool = True) -> None:
        """Gain, offset and binning. Of flats only the binning forbids."""
        self.exact("gain", self.have.gain, self.want.gain, hard=hard)
        self.exact("offset", self.have.offset, self.want.offset, hard=hard)
        self.exact("binning", self.have.binning, self.want.binning)

    def band(self, quantity: str, have: Floats, want: Floats, tolerance: Floats | float) -> None:
        """A number that must be near enough."""
        unknown, outside = _off(have, want, tolerance)
        self._take(quantity, unknown, outside, hard=True)

    def temperature_tolerance(self, tolerance_c: float) -> Floats:
        """As `rulers.temperature` has it."""
        drift = np.where(self.want.held, 0.0, np.round(self.want.temp_range_c / 2.0, 1))
        # Halves may be rounded the other way there.
        return tolerance_c + np.where(drift > 0, drift + 0.1, 0.0)

    def exposure_tolerance(self, percent: float) -> Floats:
        """As `rulers.exposure` has it."""
        return np.nan_to_num(self.want.exposure_s) * percent / 100.0

    def weighed(self, costs: _DarkCosts) -> None:
        """Temperature and exposure of a dark: beyond its tolerance what it costs decides."""
        tolerances, want, have = self.terms.tolerances, self.want, self.have
        cheap = costs.share <= tolerances.mismatch_share * (1 + 1e-9)
        allowed_c = self.temperature_tolerance(tolerances.dark_temp_c)
        allowed_s = self.exposure_tolerance(tolerances.dark_exposure_percent)
        dear = np.zeros_like(cheap)
        for quantity, there, wanted, allowed, mild in (
            ("temperature", have.sensor_temp_c, want.sensor_temp_c, allowed_c, self._mild()),
            ("exposure", have.exposure_s, want.exposure_s, allowed_s, False),
        ):
            unknown, outside = _off(there, wanted, allowed)
            self._take(quantity, unknown, outside, hard=False)
            if self.judged(quantity):
                dear |= outside & ~(cheap | mild)
        # Both together cost what they cost: that is told once, and is one failure.
        self._failures += dear

    def _mild(self) -> Bools:
        """Where a dark of the lights' own night serves a sensor without a cooler."""
        near = abs(self.have.sensor_temp_c - self.want.sensor_temp_c)
        allowed_c = self.terms.tolerances.uncooled_same_night_c
        return (near <= allowed_c) & (self.have.night == self.want.night) & ~self.want.held

    def angle(self, tolerance_deg: float) -> None:
        """The camera's angle, as `angle_between` measures it."""
        want, have = self.want, self.have
        of_sky = want.angle_mechanical == 0.0
        unknown = (have.angle_mechanical != want.angle_mechanical) | (
            of_sky & (np.isnan(have.pier_side) | np.isnan(want.pier_side))
        )
        flipped = of_sky & (have.pier_side != want.pier_side)
        turned = have.angle_deg - want.angle_deg + np.where(flipped, 180.0, 0.0)
        distance = abs((turned + 180.0) % 360.0 - 180.0)
        self._take("angle", unknown, distance > tolerance_deg + 1e-8, hard=True)

    def age(self, tolerance: float, *, counts: bool = True, measured: bool = True) -> Floats:
        """Nights apart; infinity where that is not known. Too old asks for care, where age `counts`. Where it is `measured`
        that it is good still, from then."""
        have, want = self.have, self.want
        apart = abs(have.night - want.night)
        if measured:
            first, last = np.minimum(have.night, have.good_on), np.maximum(have.night, have.good_on)
            apart = np.maximum(np.maximum(first - want.night, want.night - last), 0.0)
        unknown = np.isnan(apart)
        self._take("age", unknown, (apart > tolerance) & counts, hard=False)
        return np.where(unknown, np.inf, apart)

    def events(self) -> None:
        """What was done to the train between the lights and the flats."""
        unknown = np.isnan(self.have.taken_s) | np.isnan(self.want.taken_s)
        for event in self.terms.events:
            at = event.at.timestamp()
            self._care |= unknown
            self._failures += ~unknown & ((self.want.taken_s < at) != (self.have.taken_s < at))

    def ranks(
        self, cost_e: Floats | float = 0.0, nights: Floats | float = 0.0, nights_off: Floats | None = None
    ) -> BestRanks:
        """What was found, as ranks; of those that cost the same the newest first, or the one that is the fewest `nights_off`."""
        nothing = self._failures > 0
        zeros = np.zeros_like(self._failures)
        verdict = np.where(nothing, 2.0, np.where(self._care, 1.0, 0.0))
        last = zeros - self.have.day if nights_off is None else nights_off
        standing = _standing(nothing.astype(float), self._failures, self._doubts, verdict)
        standing[~self.candidates] = np.inf
        return BestRanks(
            self.have.holdings, self.candidates, (standing, nights + zeros, _ranked_e(cost_e + zeros), last)
        )


def _ranked_e(cost_e: Floats) -> Floats:
    """`ranked_e` of each; where another order of reckoning could round up, down."""
    known = np.where((cost_e > 0.0) & np.isfinite(cost_e), cost_e, 1.0)
    step = np.maximum(10.0 ** (np.floor(np.log10(known)) - 1.0), LEAST_E)
    rounded = np.where(known == cost_e, np.floor(known / step + 0.5 - _SLACK) * step, cost_e)
    return np.nan_to_num(rounded, nan=-np.inf, posinf=np.inf, neginf=-np.inf)


@dataclass(frozen=True)
class _DarkCosts:
    """`costs.DarkCost` of every dark for every light set."""

    mismatch_e: Floats
    hot_mismatch_e: Floats
    noise_e: Floats
    background_e: Floats

    @property
    def share(self) -> Floats:
        """What each leaves and adds, as a share of the lights' own background noise."""
        worst = np.hypot(np.maximum(self.mismatch_e, self.hot_mismatch_e), self.noise_e)
        return np.divide(
            worst, self.background_e, out=np.full_like(worst, np.inf), where=self.background_e > 0
        )


def _off(have: Floats, want: Floats, tolerance: Floats | float) -> tuple[Bools, Bools]:
    distance = abs(have - want)
    return np.isnan(distance), distance > tolerance * (1 + 1e-9) + 1e-12


def _differ(have: Floats, want: Floats) -> Bools:
    return (have != want) & ~np.isnan(have) & ~np.isnan(want)


def _upright(values: Sequence[float]) -> Floats:
    return np.array(values, dtype=np.float64).reshape(-1, 1)


def _stack_noise(have: HoldingColumns, wants: Sequence[CommonSettings], terms: Terms) -> Floats:
    one = _upright([frame_noise_e(want, terms.traits) for want in wants])
    return np.where(np.isnan(have.noise_e), one / np.sqrt(have.n_frames), have.noise_e)


def best_darks(
    have: HoldingColumns, wants: Sequence[CommonSettings], terms: Terms, backgrounds_e: Sequence[float | None]
) -> BestRanks:
    """Of darks that lights want (`judge_dark`)."""
    found, tolerances = _Foretelling(have, wants, terms, crops=True), terms.tolerances
    costs = _dark_costs(found, wants, backgrounds_e)
    found.which_camera()
    found.read_out_settings()
    found.weighed(costs)
    nights: Floats | float = 0.0
    if found.judged("temperature"):
        found.age(tolerances.dark_age_days)
    else:
        apart = found.age(0, measured=False)
        nights = apart if found.judged("age") else 0.0
    return found.ranks(np.hypot(costs.mismatch_e, costs.noise_e), nights)


def _dark_costs(
    found: _Foretelling, wants: Sequence[CommonSettings], backgrounds_e: Sequence[float | None]
) -> _DarkCosts:
    traits, have, want = found.terms.traits, found.have, found.want
    at_c, light_s = traits.dark_rate_at_c, np.nan_to_num(want.exposure_s)
    known_c = np.where(np.isnan(want.sensor_temp_c), have.sensor_temp_c, want.sensor_temp_c)
    light_c = np.where(np.isnan(known_c), at_c, known_c)
    dark_c = np.where(np.isnan(have.sensor_temp_c), light_c, have.sensor_temp_c)
    dark_s = np.where(np.isnan(have.exposure_s), light_s, have.exposure_s)
    sensor_e = [frame_noise_e(w, traits) for w in wants]
    return _DarkCosts(
        left_in_light_e(traits.dark_rate_e_s, at_c, light_s, light_c, dark_s, dark_c),
        left_in_light_e(traits.hot_rate_e_s, at_c, light_s, light_c, dark_s, dark_c),
        _stack_noise(have, wants, found.terms),
        _upright([max(b or 0.0, own) for b, own in zip(backgrounds_e, sensor_e, strict=True)]),
    )


def best_bias(have: HoldingColumns, wants: Sequence[CommonSettings], terms: Terms) -> BestRanks:
    """Of bias that lights or flats want (`judge_bias`)."""
    found = _Foretelling(have, wants, terms)
    found.which_camera()
    found.read_out_settings()
    found.age(terms.tolerances.bias_age_days)
    return found.ranks(terms.traits.read_noise_e / np.sqrt(have.n_frames))


def best_dark_flats(have: HoldingColumns, flats: Sequence[CommonSettings], terms: Terms) -> BestRanks:
    """Of dark flats, or darks, that flats want (`judge_dark_flat`)."""
    found, tolerances = _Foretelling(have, flats, terms), terms.tolerances
    want = found.want
    found.which_camera()
    found.read_out_settings()
    allowed_c = found.temperature_tolerance(tolerances.dark_flat_temp_c)
    found.band("temperature", have.sensor_temp_c, want.sensor_temp_c, allowed_c)
    allowed_s = found.exposure_tolerance(tolerances.dark_flat_exposure_percent)
    found.band("exposure", have.exposure_s, want.exposure_s, allowed_s)
    nights_off = found.age(tolerances.dark_age_days)
    return found.ranks(_stack_noise(have, flats, terms), nights_off=nights_off)


def best_flats(have: HoldingColumns, wants: Sequence[CommonSettings], terms: Terms) -> BestRanks:
    """Of flats that lights want (`judge_flat`). Those known to be of another filter are no candidates."""
    found, tolerances = _Foretelling(have, wants, terms, crops=True), terms.tolerances
    want = found.want
    if found.judged("filter"):
        found.candidates &= ~_differ(have.filter, want.filter)
    found.exact("filter", have.filter, want.filter)
    found.exact("telescope", have.telescope, want.telescope)
    found.read_out_settings(hard=False)
    if found.judged("telescope"):
        _focal_length(found, tolerances.focal_length_percent)
    found.angle(tolerances.flat_angle_deg)
    found.band("focus", have.focus, want.focus, tolerances.flat_focus_steps)
    nights = found.age(tolerances.flat_nights, counts=not tolerances.train_stays_put, measured=False)
    found.events()
    return found.ranks(-np.inf, nights if found.judged("age") else 0.0)


def _focal_length(found: _Foretelling, percent: float) -> None:
    """Lights that give none ask for none, where their telescope has one reducer."""
    have, want = found.have.focal_length_mm, found.want.focal_length_mm
    unknown, outside = _off(have, want, np.nan_to_num(want) * percent / 100.0)
    if not found.terms.several_focal_lengths:
        asked = ~np.isnan(want)
        unknown, outside = unknown & asked, outside & asked
    found._take("focal length", unknown, outside, hard=True)
