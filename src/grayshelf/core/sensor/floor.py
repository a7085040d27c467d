"""How far the darkest good pixels of a frame reach below the pedestal, from the frames of all offsets together.

mean(o) = a + s·o is a straight line wherever nothing is clipped. With s·o taken away, all unclipped frames
sample one distribution of lowest pixels. The number of good pixels that a frame has below a depth x is λ(x); a
share q of frames stays above the depth at which λ = −ln q.

Each pixel's read noise is normal, but pixels differ in it, so λ(x) = Σ w_k·Φ(x/σ_k): so many pixels a frame of
each σ. The w_k are those of greatest likelihood for the counted lowest pixels (the nonparametric estimate of a
mixture, Kiefer & Wolfowitz 1956, Ann. Math. Statist. 27, 887, found by the usual multiplicative steps; from
memory). Sixty frames measure λ down to a sixtieth; the mixture carries it the little way on to a hundredth, as
no single frame's minimum could.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import brentq
from scipy.special import ndtr, ndtri

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
#: The deepest pixel seen lies at least this many of its own standard deviations down. A single deep pixel would
#: otherwise be taken for one so noisy that it might as well have been at zero.
DEEPEST_IN_SIGMAS = 3.3
#: Standard deviations in the mixture, and how often the weights are improved.
_SIGMAS, _ROUNDS = 36, 1500
#: Counts drawn anew to see how far the answer is from being certain.
_REDRAWN = 40


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
class FloorTail:
    """How the lowest good pixels thin out with their depth below the pedestal. ADU; one frame."""

    threshold: float
    """Depth (negative: below the pedestal) up to which pixels were counted."""
    sigmas: NDArray[np.float64]
    """Shape (k,): the read noises in the mixture."""
    weights: NDArray[np.float64]
    """Shape (1 + redrawn, k): good pixels a frame of each; first from the counts, then from counts drawn anew."""
    n_frames: int

    def depth(self, share_of_frames: float) -> float:
        """The depth that the darkest good pixel of this share of frames stays above."""
        return self._depth(self.weights[0], share_of_frames)

    def uncertainty(self, share_of_frames: float) -> float:
        """95 % uncertainty of `depth`, half width."""
        drawn = [self._depth(w, share_of_frames) for w in self.weights[1:]]
        return Z95 * float(np.std(drawn))

    def clipped_per_frame(self, depth: float) -> float:
        """Good pixels a frame below a depth; above the threshold it is at least that many."""
        return float(self.weights[0] @ ndtr(min(depth, self.threshold) / self.sigmas))

    def _depth(self, weights: NDArray[np.float64], share_of_frames: float) -> float:
        rate = -math.log(share_of_frames)

        def excess(depth: float) -> float:
            return float(weights @ ndtr(depth / self.sigmas)) - rate

        deepest = -40.0 * float(self.sigmas[-1])
        if excess(0.0) <= 0 or excess(deepest) >= 0:
            return 0.0
        return float(brentq(excess, deepest, 0.0, xtol=1e-3))


def fit_line(readings: Sequence[BiasReading], dead: Sequence[DeadPixel]) -> PedestalLine | None:
    """The straight line of the means, over frames that are not bent by clipping; None where all are."""
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
    parts = []
    for reading in pool:
        lowest = np.array(reading.lowest, np.int64).reshape(-1, 2)
        parts.append(lowest[~np.isin(lowest[:, 0], bad), 1] - _base(line, reading))
    depths = np.concatenate(parts)
    # A level stands for half a step to either side, and the line's own scatter must not drop it.
    depths = depths[depths < reach + sample_step / 2.0]
    if depths.size < FEWEST_IN_TAIL or reach >= 0:
        return _no_tail(pool, dead, line, float(sample_step)) if len(pool) >= FEWEST_FRAMES else None
    return _mixture(depths, len(pool), reach, float(sample_step))


def _no_tail(
    pool: Sequence[BiasReading], dead: Sequence[DeadPixel], line: PedestalLine, step: float
) -> FloorTail:
    """Where the noise is finer than the converter's steps nearly all pixels share one level: the lowest level seen,
    and a step below it for what was not seen."""
    deepest = min(good_minimum(r, dead) - _base(line, r) for r in pool)
    reach = -float(ndtri(-math.log(0.99)))
    # One pixel a frame, so much below at 99 %; half of the drawn ones a step deeper.
    sigmas = np.array([max(step - deepest, step), max(2.0 * step - deepest, 2.0 * step)]) / reach
    weights = np.vstack([[1.0, 0.0], *([[1.0, 0.0], [0.0, 1.0]] * (_REDRAWN // 2))])
    return FloorTail(0.0, sigmas, weights, len(pool))


def _mixture(depths: NDArray[np.float64], n_frames: int, reach: float, step: float) -> FloorTail:
    """Fit how many pixels there are of each read noise to the counts of depths, from `reach` down."""
    deepest = float(depths.min())
    width = max(step, math.ceil((reach - deepest + step) / 80.0 / step) * step)
    filled = math.ceil((reach - deepest + step) / width)
    # Empty bins further down count too: nothing was seen there.
    edges = reach + step / 2.0 - width * np.arange(filled + 41)
    counts = np.histogram(depths, bins=edges[::-1])[0][::-1].astype(np.float64)
    sigmas = np.geomspace(abs(reach) / 6.0, abs(deepest) / DEEPEST_IN_SIGMAS, _SIGMAS)
    share = ndtr(edges[:-1, None] / sigmas) - ndtr(edges[1:, None] / sigmas)
    seen = np.maximum(share.sum(axis=0), 1e-300)
    share = share / seen
    # The same frames always give the same uncertainty.
    rng = np.random.default_rng(1288)
    drawn = np.vstack([counts, rng.poisson(counts, (_REDRAWN, counts.size))])
    weights = np.repeat(drawn.sum(axis=1, keepdims=True) / _SIGMAS, _SIGMAS, axis=1)
    for _ in range(_ROUNDS):
        weights = weights * ((drawn / np.maximum(weights @ share.T, 1e-12)) @ share)
    return FloorTail(reach + step / 2.0, sigmas, weights / seen / n_frames, n_frames)


def _base(line: PedestalLine, reading: BiasReading) -> float:
    return line.at(reading.offset) if line.slope is not None else reading.mean
