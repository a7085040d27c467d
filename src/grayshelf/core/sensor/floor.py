"""How far the darkest good pixels of a frame reach below the pedestal, from the frames of all offsets together.

mean(o) = a + s·o is a straight line wherever nothing is clipped. With s·o taken away, all unclipped frames
sample one distribution of lowest pixels. The number of good pixels that a frame has below a depth x is λ(x); a
share q of frames stays above the depth at which λ = −ln q.

Which pixels are the lowest is known, so each says of itself how often it came so low and how deep. A pixel is
either steady, with a normal read noise of its own, or a telegraph: now and then it jumps down by an amount of its
own (random telegraph noise). How many pixels there are of each is a mixture over a grid of both, drawn from its
posterior by Gibbs sampling (Diebolt & Robert 1994, J. R. Stat. Soc. B 56, 363; from memory): each draw is a sensor that
could have given these frames, and λ of all draws says what is known and how well. A pixel that came deep once in ten
frames may be very noisy or not: the draws differ, and the ± grows.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.sensor.bias import BiasReading, DeadPixel, good_minimum, good_zeros

#: Two-sided 95 % of a normal distribution.
Z95 = 1.96
#: Share of pixels at zero from which on clipping bends the mean up.
CLIPPING_BENDS_FROM = 1e-5
#: Means that rise by less than this from the lowest offset to the highest do not follow the setting.
LEAST_RISE_ADU = 2.0
#: Fewer of the lowest pixels than this give no tail ...
FEWEST_IN_TAIL = 30
#: ... and from fewer frames, nothing is said at all.
FEWEST_FRAMES = 4
#: So many of the lowest pixels of a frame are asked, on average: the deepest, where noisy pixels rule.
ASKED_PER_FRAME = 60
#: The noisiest pixel that is reckoned with: the deepest level seen is no more than this many of its σ down.
DEEPEST_IN_SIGMAS = 1.2
_SIGMAS = 48
#: Jumps of telegraph pixels: how many amounts, and how often they are down.
_JUMPS, _SHARES_DOWN = 18, (0.004, 0.015, 0.06, 0.25)
#: Pixels of each kind that are thought of before any is seen: steady ones, and telegraphs, which may hide for long.
_PRIOR_STEADY, _PRIOR_TELEGRAPH = 0.025, 0.0003
_OTHERS = 1e-3
#: What is called sure has so many times less of a rate than is allowed.
SAFE_BY = 4.0
#: Share of a depth that the kinds of pixel are no better than.
MODEL_WITHIN = 0.03
#: A floor further down than so many of the usual read noises is that of a few pixels unlike the rest.
UNLIKE_OTHERS = 8.0
#: No floor is known better than a tenth of the usual margin.
WITHIN_ADU = 3.5
_BURN_IN, _WARM_UP, _DRAWS = 30, 10, 100
#: Up to so many pixels that are alike are drawn one by one; of more, all at once (a multinomial asks each kind in turn).
_FEW_ALIKE = 60
#: Depths at which λ is reckoned; between them ln λ is nearly straight.
_GRID = 700
#: The draws' own median and their central 95 %.
_CENTRAL = (0.025, 0.975)


@dataclass(frozen=True)
class PedestalLine:
    """mean(o) = at_zero + slope·o, in ADU."""

    at_zero: float
    slope: float | None
    """ADU for one step of the offset; 0 where the camera does not follow, None where only one was unclipped."""
    worst_residual: float

    def at(self, offset: float) -> float:
        """Mean level at an offset."""
        return self.at_zero + (self.slope or 0.0) * offset


@dataclass(frozen=True)
class PixelKinds:
    """The kinds of pixel in the mixture: below a depth x lies the share (1 − p)·Φ(x/σ) + p·Φ((x + a)/σ) of samples."""

    sigma: NDArray[np.float64]
    """Shape (k,): read noise, ADU."""
    jump: NDArray[np.float64]
    """Shape (k,): a, by how much it jumps down; 0 for steady ones."""
    down: NDArray[np.float64]
    """Shape (k,): p, the share of frames in which it is down."""

    def below(self, depth: NDArray[np.float64] | float) -> NDArray[np.float64]:
        """Share of samples below a depth, shape (..., k)."""
        # Loaded when it is needed: it takes as long as the rest of a start.
        from scipy.special import ndtr

        x = np.asarray(depth, np.float64)[..., None]
        steady = ndtr(x / self.sigma)
        return np.asarray(steady + self.down * (ndtr((x + self.jump) / self.sigma) - steady))


@dataclass(frozen=True)
class FloorTail:
    """How the lowest good pixels thin out with their depth below the pedestal. ADU; one frame."""

    threshold: float
    """Depth (negative: below the pedestal) up to which pixels were asked."""
    kinds: PixelKinds
    counts: NDArray[np.float64]
    """Shape (1 + draws, k): good pixels of each kind; first what is expected of all, then sensors that could have given
    these frames."""
    n_frames: int
    usual: float = math.inf
    """Spread of the usual pixels."""

    def depth(self, share_of_frames: float) -> float:
        """The depth that the darkest good pixel of this share of frames stays above."""
        return float(self._depths(share_of_frames)[0])

    def uncertainty(self, share_of_frames: float) -> float:
        """95 % uncertainty of `depth`, half width: to the further end of the draws' central 95 %, and what the grid and
        the pattern of the pedestal, which no draw knows of, are good for."""
        depths = self._depths(share_of_frames)
        low, high = np.quantile(depths[1:], _CENTRAL)
        middle = float(depths[0])
        half = max(high - middle, middle - low)
        if abs(middle) > UNLIKE_OTHERS * self.usual:
            # The floor is set by a few pixels unlike the rest: the prior has a word in what those are.
            half *= 1.4
        return math.hypot(half, MODEL_WITHIN * middle, WITHIN_ADU)

    def surely_above(self, share_of_frames: float) -> float:
        """The depth that the darkest good pixel of this share of frames surely stays above, whatever the sensor is.

        Where only a part of that rate is expected.
        """
        grid, logs = self._curves
        return float(np.interp(math.log(-math.log(share_of_frames) / SAFE_BY), logs[0], grid))

    def clipped_per_frame(self, depth: float) -> float:
        """Good pixels a frame below a depth; above the threshold it is at least that many."""
        return float(self.counts[0] @ self.kinds.below(min(depth, self.threshold)))

    def _depths(self, share_of_frames: float) -> NDArray[np.float64]:
        """For each draw, where λ = −ln q."""
        found = self._depths_of.get(share_of_frames)
        if found is None:
            rate = math.log(-math.log(share_of_frames))
            grid, logs = self._curves
            found = np.array([np.interp(rate, curve, grid) for curve in logs])
            self._depths_of[share_of_frames] = found
        return found

    @cached_property
    def _depths_of(self) -> dict[float, NDArray[np.float64]]:
        """Every offset there is asks for the same share of frames."""
        return {}

    @cached_property
    def _curves(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """ln λ of each draw on a grid of depths, both rising."""
        reach = 30.0 * float(self.kinds.sigma.max()) + float(self.kinds.jump.max())
        nearest = 0.5 * abs(self.threshold) or 1e-3 * reach
        grid = -np.geomspace(reach, nearest, _GRID)
        many = self.counts @ self.kinds.below(grid).T
        return grid, np.log(np.maximum(many, 1e-300))


def fit_line(readings: Sequence[BiasReading], dead: Sequence[DeadPixel]) -> PedestalLine | None:
    """The straight line of the means, ``level = offset·slope + level₀`` in ADU, over frames that are not bent by clipping; None
    where all are.
    """
    straight = [r for r in readings if good_zeros(r, dead) <= CLIPPING_BENDS_FROM * r.n_pixels]
    if not straight:
        return None
    offsets = np.array([r.offset for r in straight])
    means = np.array([r.mean for r in straight])
    if np.ptp(offsets) == 0:
        return PedestalLine(float(means.mean()), None, float(np.ptp(means)))
    slope, at_zero = np.polyfit(offsets, means, 1)
    if slope * np.ptp(offsets) < LEAST_RISE_ADU:
        slope, at_zero = 0.0, means.mean()
    residual = float(np.abs(means - (at_zero + slope * offsets)).max())
    return PedestalLine(float(at_zero), float(slope), residual)


def unclipped(readings: Sequence[BiasReading], dead: Sequence[DeadPixel]) -> list[BiasReading]:
    """The frames of those offsets at which no frame has a good pixel at zero.

    Whole offsets are taken or left: to pick only the frames that happen to be clear would make the floor look
    higher than it is.
    """
    clipped = {r.offset for r in readings if good_zeros(r, dead) > 0 or r.complete_to < 0}
    highest_clipped = max(clipped, default=-math.inf)
    return [r for r in readings if r.offset > highest_clipped]


def fit_tail(
    readings: Sequence[BiasReading], dead: Sequence[DeadPixel], line: PedestalLine, sample_step: int = 1
) -> FloorTail | None:
    """The tail of the lowest good pixels, from all unclipped frames; None where there is too little of it.

    Parameters
    ----------
    readings
        All bias frames of one camera at one gain.
    line
        Their pedestal; a level's depth counts from it.
    sample_step
        Step of the levels: a level stands for half a step to either side.
    """
    pool = unclipped(readings, dead)
    if not pool:
        return None
    bad = np.array([d.index for d in dead], np.int64)
    reach = min(r.complete_to - _base(line, r) for r in pool)
    parts, places = [], []
    for reading in pool:
        lowest = reading.lowest_table
        good = ~np.isin(lowest[:, 0], bad)
        parts.append(lowest[good, 1] - _base(line, reading))
        places.append(lowest[good, 0])
    depths, index = np.concatenate(parts), np.concatenate(places)
    # A level stands for half a step to either side, and the line's own scatter must not drop it.
    asked = depths < reach + sample_step / 2.0
    depths, index = depths[asked], index[asked]
    if depths.size < FEWEST_IN_TAIL or reach >= 0:
        return _no_tail(pool, dead, line, float(sample_step)) if len(pool) >= FEWEST_FRAMES else None
    deep = np.sort(depths)[min(ASKED_PER_FRAME * len(pool), depths.size) - 1]
    threshold = min(reach, float(deep)) + sample_step / 2.0
    asked = depths < threshold
    n_pixels = min(r.n_pixels for r in pool) - len(dead)
    usual = float(np.median([r.spread for r in pool]))
    return _drawn(depths[asked], index[asked], len(pool), n_pixels, threshold, float(sample_step), usual)


def _no_tail(
    pool: Sequence[BiasReading], dead: Sequence[DeadPixel], line: PedestalLine, step: float
) -> FloorTail:
    """Where the noise is finer than the converter's steps nearly all pixels share one level: the lowest level seen,
    and a step below it for what was not seen."""
    deepest = min(good_minimum(r, dead) - _base(line, r) for r in pool)
    reach = -NormalDist().inv_cdf(-math.log(0.99))
    # One pixel a frame, so much below at 99 %; half of the drawn ones a step deeper.
    sigmas = np.array([max(step - deepest, step), max(2.0 * step - deepest, 2.0 * step)]) / reach
    kinds = PixelKinds(sigmas, np.zeros(2), np.zeros(2))
    return FloorTail(0.0, kinds, np.array([[1.0, 0.0], [1.0, 0.0], [0.0, 1.0]]), len(pool))


def _kinds(threshold: float, deepest: float, usual: float) -> PixelKinds:
    """The grid: read noises from the quietest pixel that comes so low to the noisiest, jumps from just there on down."""
    sigmas = np.geomspace(abs(threshold) / 6.5, max(abs(deepest) / DEEPEST_IN_SIGMAS, usual * 1.5), _SIGMAS)
    # Smaller jumps than these cannot be told from a little more read noise.
    jumps = np.linspace(max(abs(threshold), 3.0 * usual), max(abs(deepest), 4.0 * usual) + usual, _JUMPS)
    pairs = [(a, p) for a in jumps for p in _SHARES_DOWN]
    return PixelKinds(
        np.concatenate([sigmas, np.full(len(pairs), max(usual, abs(threshold) / 6.5))]),
        np.concatenate([np.zeros(_SIGMAS), [a for a, _ in pairs]]),
        np.concatenate([np.zeros(_SIGMAS), [p for _, p in pairs]]),
    )


def _drawn(
    depths: NDArray[np.float64],
    index: NDArray[np.int64],
    n_frames: int,
    n_pixels: int,
    threshold: float,
    step: float,
    usual: float,
) -> FloorTail:
    """Draw sensors that could have given these depths."""
    # Loaded when it is needed: the compiler takes as long as the rest of a start.
    from grayshelf.core.sensor.compiled import draw_kinds

    kinds = _kinds(threshold, float(depths.min()), usual)
    # Levels of different offsets lie between one another: told apart no finer than the noise lets them be.
    fineness = max(0.25 * step, usual / 6.0)
    levels, level_of = np.unique(np.round(depths / fineness) * fineness, return_inverse=True)
    # How likely a pixel of each kind gives a level; a level stands for half a step to either side of it.
    log_level = np.log(
        np.maximum(kinds.below(levels + step / 2.0) - kinds.below(levels - step / 2.0), 1e-300)
    )
    log_above = np.log(np.maximum(1.0 - kinds.below(threshold), 1e-300))
    likelihoods, repeats = _pixels_alike(index, level_of, log_level, log_above, n_frames, n_pixels)
    # The same frames always give the same answer.
    rng = np.random.default_rng(1288)
    prior = np.where(kinds.jump > 0.0, _PRIOR_TELEGRAPH, _PRIOR_STEADY)
    # Most pixels of most sensors are alike: from there on the noisy ones are found, rather than left over.
    alike = int(np.argmax(repeats @ np.log(np.maximum(likelihoods[:, :_SIGMAS], 1e-300))))
    weights = np.full(kinds.sigma.size, _OTHERS / kinds.sigma.size)
    weights[alike] += 1.0 - _OTHERS
    for _ in range(_BURN_IN):
        weights = (_expected(likelihoods, repeats, weights) + prior) / (repeats.sum() + prior.sum())
    few = repeats <= _FEW_ALIKE
    by_one, alone, n_alone = likelihoods[few], repeats[few], int(repeats[few].sum())
    many, in_many = likelihoods[~few], repeats[~few]
    draws: list[NDArray[np.int64]] = []
    expected = np.zeros(kinds.sigma.size)
    for number in range(_WARM_UP + _DRAWS):
        counts = _groups_drawn(rng, in_many, many * weights)
        draw_kinds(by_one, weights, by_one @ weights, alone, rng.random(n_alone), counts)
        if number >= _WARM_UP:
            draws.append(counts)
            # What a draw leads one to expect moves far less than the draw itself.
            expected += _expected(likelihoods, repeats, weights)
        weights = rng.dirichlet(counts + prior) + 1e-300
    return FloorTail(threshold, kinds, np.vstack([expected / len(draws), *draws]), n_frames, usual)


def _expected(
    likelihoods: NDArray[np.float64], repeats: NDArray[np.int64], weights: NDArray[np.float64]
) -> NDArray[np.float64]:
    """How many pixels of each kind are expected, shape (k,): each group's by its own shares, likelihood times weight."""
    return np.asarray(weights * ((repeats / (likelihoods @ weights)) @ likelihoods))


def _groups_drawn(
    rng: np.random.Generator, repeats: NDArray[np.int64], shares: NDArray[np.float64]
) -> NDArray[np.int64]:
    """How many of each kind, shape (k,), of pixels that are alike in groups of so many."""
    return np.asarray(rng.multinomial(repeats, shares / shares.sum(axis=1, keepdims=True)).sum(axis=0))


def _pixels_alike(
    index: NDArray[np.int64],
    level_of: NDArray[np.int64],
    log_level: NDArray[np.float64],
    log_above: NDArray[np.float64],
    n_frames: int,
    n_pixels: int,
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Likelihoods of each kind for pixels that gave the same levels, shape (groups, k), and how many pixels those are."""
    order = np.lexsort((level_of, index))
    starts = np.flatnonzero(np.diff(index[order], prepend=-1))
    gave_all = level_of[order].tobytes()
    # Thousands of pixels: cut out of one row of bytes, which takes a part of the time that as many arrays would.
    edges = (np.append(starts, index.size) * level_of.itemsize).tolist()
    groups = Counter(gave_all[begin:end] for begin, end in pairwise(edges))
    # Pixels that never came so low are the largest group.
    rows = [n_frames * log_above]
    repeats = [n_pixels - starts.size]
    for key, count in groups.items():
        gave = np.frombuffer(key, level_of.dtype)
        rows.append(log_level[gave].sum(axis=0) + max(n_frames - gave.size, 0) * log_above)
        repeats.append(count)
    logs = np.array(rows)
    return np.exp(logs - logs.max(axis=1, keepdims=True)), np.array(repeats, np.int64)


def _base(line: PedestalLine, reading: BiasReading) -> float:
    return line.at(reading.offset) if line.slope is not None else reading.mean
