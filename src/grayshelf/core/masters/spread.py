"""How far samples of a pixel scatter, known from all pixels of a stack and not from one pixel's few samples.

One pixel's median absolute deviation of a dozen coarse samples is often nought, and clipping by it rejects a tenth of
the good ones. Frames of one set have one noise, though, that depends on little but the level: it is read from the
differences of neighbouring frames over all pixels of about one level. Pixels that are far noisier than their level
(those that flicker) are told from their own samples, with the furthest left out.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: Median absolute deviation to standard deviation, of normal values.
MAD_TO_SIGMA = 1.482602218505602
#: Clipping while the noise is read, and what it leaves of a normal distribution's variance.
KAPPA, LEFT_BY_KAPPA = 2.5, 0.9112
MOST_ROUNDS = 15
#: From so many frames on growing needs no correction.
CALIBRATED_TO = 40
#: Up to so many frames their differences are read, and no sample is left out.
FEW = 3
#: Samples of the stack on which the noise is measured.
MOST_SAMPLES = 3_000_000
MOST_PIXELS = 200_000
#: Pixels that tell how wide the bins are.
PIXELS_FOR_WIDTH = 10_000
#: Shares of the pixels, by level, at whose edges the noise may differ: the hot ones stand at the top.
_SHARES = (*np.arange(0.0, 1.0, 0.05), 0.99, 0.997, 0.999)
#: Fewer pixels than this in a bin are joined to the next one.
FEWEST_IN_BIN = 200
#: Least width of a bin, in standard deviations of a mean of the stack.
LEAST_WIDTH = 15.0
#: One pixel in so many may be taken for a noisy one though it is not.
NOISY_BY_CHANCE = 0.001


@dataclass(frozen=True)
class StackNoise:
    """Temporal noise of one frame of a stack by level, and when a pixel counts as noisier than that."""

    levels: Floats
    """Shape (k,), rising."""
    variances: Floats
    """Shape (k,), of one sample at those levels."""
    quantum: float
    """Step of the samples: values lie on it, so none is told from another by less than half of it."""
    noisy_above: float
    """A pixel's own trimmed standard deviation counts from this many of the usual ones on."""
    own_factor: float
    """What makes the trimmed standard deviation that of normal samples."""
    trimmed: int
    """Furthest samples left out of it."""

    typical: float = 0.0
    """Noise of the usual pixel."""

    @property
    def least_above(self) -> Floats:
        """The least variance at or above each of the levels, shape (k,)."""
        return np.asarray(np.minimum.accumulate(self.variances[::-1])[::-1].copy())


def steady_rms(values: NDArray[np.floating], always_within: float = 0.0) -> float:
    """Root mean square of values about nought, without those beyond 4 σ.

    Exact to 0.1 % for normal values however coarse their steps; up to a third of the values may be far off.

    Parameters
    ----------
    always_within
        Values up to this are never left out: where the steps are far larger than the noise, a rare step is the noise.
    """
    size = np.abs(values[np.isfinite(values)]).astype(np.float64)
    if size.size == 0:
        return float("nan")
    half, most, nearly = np.quantile(size, [0.5, 0.68, 0.9])
    sigma = max(half / 0.6745, most / 0.994) or nearly / 1.645 or float(np.sqrt(np.mean(size**2)))
    for _ in range(12):
        inside = size[size <= max(4.0 * sigma, always_within)]
        # Within 4 σ a normal distribution keeps 0.9995 of its standard deviation.
        new = float(np.sqrt(np.mean(inside**2))) / 0.99946 if inside.size else sigma
        if new <= 0.0 or abs(new - sigma) <= 1e-6 * sigma:
            break
        sigma = new
    return sigma


@lru_cache(maxsize=64)
def _trimmed_of_normal(n: int, trimmed: int) -> float:
    """Standard deviation of n normal samples of σ = 1 without the furthest ones, by drawing them, always the same."""
    samples = np.random.default_rng(n).normal(size=(max(20_000, 400_000 // n), n))
    away = np.abs(samples - np.median(samples, axis=1, keepdims=True))
    kept = np.take_along_axis(samples, np.argsort(away, axis=1)[:, : n - trimmed], axis=1)
    return float(np.sqrt(np.mean(kept.var(axis=1, ddof=1))))


def _rarely_exceeded(count: int) -> float:
    """What the standard deviation of so many normal samples of σ = 1 exceeds once in `1/NOISY_BY_CHANCE`."""
    # Loaded when it is needed: it takes as long as the rest of a start.
    from scipy.stats import chi2

    return math.sqrt(float(chi2.ppf(1.0 - NOISY_BY_CHANCE, count - 1)) / (count - 1))


def trimmed_count(n: int) -> int:
    """How many samples of n may be outliers: one of up to 13, two of 15, a seventh of many."""
    return max(1, n // 7)


def _bins(level: Floats, least_width: float) -> NDArray[np.int64]:
    """For each pixel, the number of its bin by level; no bin is narrower than `least_width` or nearly empty.

    Bins as narrow as the noise would sort pixels by their noise, not by their light.
    """
    ordered = np.sort(level)
    wanted = ordered[np.minimum((np.array(_SHARES) * level.size).astype(int), level.size - 1)]
    edges = [ordered[0]]
    for edge in wanted[1:]:
        filled = np.searchsorted(ordered, edge) - np.searchsorted(ordered, edges[-1])
        if edge - edges[-1] >= least_width and filled >= FEWEST_IN_BIN:
            edges.append(edge)
    # The last edge has too few above it to be more than an end.
    inner = np.array([e for e in edges[1:] if level.size - np.searchsorted(ordered, e) >= FEWEST_IN_BIN])
    return np.searchsorted(inner, level, side="right").astype(np.int64)


def stack_noise(samples: NDArray[np.float32], quantum: float = 0.0) -> StackNoise:
    """Read the noise of a stack, though any pixel may hold an outlier.

    The scatter of samples without the furthest ones is too small, whether they were outliers or not. What lies within
    κ of it is taken in, and so on: that grows to the noise of the frames, and stops short of what lies far off.

    Parameters
    ----------
    samples
        Shape (n, p): some pixels of each frame, in the order in which the frames were taken; n ≥ 2.
    quantum
        Step of the samples, 0 for none.
    """
    samples = _known(samples)
    n = samples.shape[0]
    # Sorted once, since every round asks for the lowest and the highest of what is left.
    by_pixel = np.sort(np.ascontiguousarray(samples.T), axis=1)
    level = (by_pixel[:, (n - 1) // 2].astype(np.float64) + by_pixel[:, n // 2]) / 2.0
    trimmed = trimmed_count(n) if n - trimmed_count(n) >= 2 else 0

    def read(number: NDArray[np.int64], every: int = 1) -> Floats:
        if n <= FEW:
            return _by_differences(samples[:, ::every], number, quantum)
        return _by_growing(by_pixel[::every], number, quantum, trimmed) / _grown_of_normal(n)

    # How wide a bin has to be need not be known well.
    some = max(1, level.size // PIXELS_FOR_WIDTH) | 1
    sigma = math.sqrt(max(float(read(np.zeros(level[::some].size, np.int64), some)[0]), 0.0))
    number = _bins(level, LEAST_WIDTH * sigma / math.sqrt(n))
    variances = read(number)
    levels = np.bincount(number, level) / np.bincount(number)
    # What is left beside an outlier is not trimmed: it may scatter as any samples do.
    rare = _rarely_exceeded(n - trimmed) if trimmed else math.inf
    factor = 1.0 / _trimmed_of_normal(n, trimmed) if trimmed else 1.0
    variances = np.maximum(variances, 1e-20)
    usual = math.sqrt(float(np.median(variances[number])))
    return StackNoise(levels, variances, quantum, rare, factor, trimmed, usual)


def _known(samples: NDArray[np.float32]) -> NDArray[np.float32]:
    """Pixels that hold a number in every frame; where hardly one does, the frame's median stands for what is none."""
    known = np.isfinite(samples)
    if known.all():
        return samples
    whole = known.all(axis=0)
    if np.count_nonzero(whole) >= FEWEST_IN_BIN:
        return samples[:, whole]
    middle = [float(np.median(row[k])) if k.any() else 0.0 for row, k in zip(samples, known, strict=True)]
    return np.where(known, samples, np.array(middle, np.float32)[:, None])


def _by_differences(samples: NDArray[np.float32], number: NDArray[np.int64], quantum: float) -> Floats:
    """Of so few frames no sample can be spared: their differences tell, as long as few pixels hold an outlier."""
    differences = samples[1:] - samples[:-1]
    return np.array(
        [steady_rms(differences[:, number == b], 1.5 * quantum) ** 2 / 2.0 for b in range(number.max() + 1)]
    )


@lru_cache(maxsize=64)
def _grown_of_normal(n: int) -> float:
    """What growing makes of normal samples of variance 1: of a few frames a little less than that."""
    if n > CALIBRATED_TO:
        return 1.0
    samples = np.random.default_rng(n).normal(size=(200_000 // n, n)).astype(np.float32)
    samples.sort(axis=1)
    return float(_by_growing(samples, np.zeros(samples.shape[0], np.int64), 0.0, trimmed_count(n))[0])


def _by_growing(
    by_pixel: NDArray[np.float32], number: NDArray[np.int64], quantum: float, trimmed: int
) -> Floats:
    # Loaded when it is needed: it takes as long as a sixth of a start.
    from grayshelf.core.masters.clipping import scatter_of

    sigma = np.zeros(by_pixel.shape[0])
    rounding = quantum**2 / 12.0
    variances = np.zeros(number.max() + 1)
    # Each layout is compiled for itself.
    by_pixel = np.ascontiguousarray(by_pixel)
    for _ in range(MOST_ROUNDS):
        squares, freedom = scatter_of(by_pixel, sigma, KAPPA, quantum, trimmed)
        new = np.bincount(number, squares) / np.bincount(number, freedom)
        if sigma[0] > 0.0:
            # What rounding adds is not clipped by κ.
            new = np.maximum(new - rounding, 0.0) / LEFT_BY_KAPPA + np.minimum(new, rounding)
            if np.all(np.abs(new - variances) <= 1e-3 * new):
                return new
        variances = new
        sigma = np.sqrt(np.maximum(variances, 1e-20))[number]
    return variances
