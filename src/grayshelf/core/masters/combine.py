"""Combining the frames of a set into a master, in strips, so that memory does not grow with the stack.

Outliers are told by the noise of the whole stack (`spread`), so that three frames suffice and few coarse samples do not
mislead; kappa-sigma in rounds about the median, as `astropy.stats.sigma_clip` does it, can be chosen instead. Plain
kappa-sigma cannot reject one outlier of 7 frames or two of 15 (Janesick, Scientific Charge-Coupled Devices).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import CannotCombine
from grayshelf.core.frames.lit_part import LitPart
from grayshelf.core.masters.clipping_kinds import EXTREMES, MAD, NO_CLIPPING, POOLED, STD, Clip
from grayshelf.core.masters.noise import FEW_FRAMES, extremes_penalty, median_penalty
from grayshelf.core.masters.sources import RowSource
from grayshelf.core.masters.spread import MOST_PIXELS, MOST_SAMPLES, StackNoise, stack_noise, steady_rms
from grayshelf.core.masters.strips import CORES, Strips, scale_rows
from grayshelf.core.pictures.colours import levels_of_colours, side_of

Method = Literal["clipped mean", "mean", "median", "mean without extremes"]
Spread = Literal["pooled", "std", "mad"]
Floats = NDArray[np.float32]

#: Pixels on which a flat's median is measured: enough for a hundred-thousandth of it.
SAMPLE_PIXELS = 1_000_000
#: Pixels on which the noise that is left is measured: enough for a thousandth of it.
NOISE_PIXELS = 500_000
#: Samples that tell the noise of the usual pixel to a thousandth.
SAMPLES_OF_USUAL = 600_000
#: Of the whole work, where flats are scaled to one level first.
SHARE_OF_SCALING = 0.3


#: Of fewer nothing is left between the lowest and the highest.
FEWEST_WITHOUT_EXTREMES = 3


def may_leave_extremes(n_frames: int) -> bool:
    """Whether so many frames are few enough to leave out the lowest and the highest of each pixel, and not too few."""
    return FEWEST_WITHOUT_EXTREMES <= n_frames <= FEW_FRAMES


@dataclass(frozen=True)
class CombineSettings:
    """How a stack is combined."""

    method: Method = "clipped mean"
    kappa: float = 3.3
    """3 σ would cost 1.3 % of noise on frames without any outlier: the variance grows by the share of it that lies
    beyond κ, κ²·p at least. 3.3 σ costs 0.6 %."""
    rounds: int = 3
    """For 'std' and 'mad'; with a pooled spread outliers go one by one, until none is left."""
    spread: Spread = "pooled"

    def how(self, n_frames: int) -> int:
        """How samples are left out, in the words of `clipping`."""
        if self.method == "mean without extremes" and n_frames >= FEWEST_WITHOUT_EXTREMES:
            return EXTREMES
        if self.method != "clipped mean" or n_frames < 3:
            return NO_CLIPPING
        return {"pooled": POOLED, "std": STD, "mad": MAD}[self.spread]

    def describe(self, n_frames: int) -> str:
        """In words, for the master's header."""
        if self.method == "mean without extremes":
            return "mean without the lowest and the highest of each pixel"
        if self.method != "clipped mean":
            return self.method
        if self.spread == "pooled":
            return (
                f"mean, clipped at {self.kappa:g} sigma (pooled over all pixels) from the mean of the others"
            )
        return f"mean, clipped at {self.kappa:g} sigma ({self.spread}) about the median, {self.rounds} rounds"


@dataclass(frozen=True)
class Told:
    """What is known of a master when it is combined."""

    noise: float
    """Temporal noise left in a pixel, from two half stacks A and B of a and b frames: sd(A − B)·√(ab)/(a + b).

    NaN for one frame."""
    frame_noise: float
    """Temporal noise of one frame (after scaling) at the usual level, from neighbours in time. NaN for one frame."""
    predicted_noise: float
    """frame_noise / √N, times what a median costs, or a mean without its extremes."""
    clipped_fraction: tuple[float, ...]
    """For each frame, the share of its pixels that were clipped; extremes that are left out whatever they are do not count."""


@dataclass(frozen=True)
class Combined(Told):
    """A master's pixels, shape (height, width), and what is known of them."""

    pixels: Floats


def _sampled_rows(lit: LitPart, side: int) -> list[tuple[int, int]]:
    """Groups of `side` rows (so that all rows of a colour pattern are seen) holding about `SAMPLE_PIXELS`."""
    height, width = lit.bottom - lit.top, lit.right - lit.left
    stride = max(1, math.ceil(height * width / SAMPLE_PIXELS))
    first = lit.top + -lit.top % side
    if stride == 1:
        many = 256 // side * side
        return [(a, min(a + many, lit.bottom)) for a in range(first, lit.bottom, many)]
    return [(a, a + side) for a in range(first, lit.bottom - side + 1, side * stride)] or [
        (lit.top, lit.bottom)
    ]


def frame_scales(
    source: RowSource, dark: RowSource | None, pattern: str | None, lit: LitPart | None = None
) -> NDArray[np.float64]:
    """Median of a frame above its pedestal: one value, or one for each channel of a colour pattern.

    Parameters
    ----------
    source
        The frame.
    dark
        The dark flat (or bias) to take off first, of the same size, or None.
    pattern
        Of the filters that neighbouring pixels lie under; None where they lie under the same.
    lit
        The part that light can reach; None where it reaches all.

    Returns
    -------
    Array of shape (side, side): medians in ADU by row and column within the pattern, all equal for a mono frame.
    """
    lit, side = lit or LitPart(0, 0, source.width, source.height), side_of(pattern)
    # From a column on at which a pattern begins, as from such a row, so that colours keep their places.
    across = slice(lit.left + -lit.left % side, lit.right)
    bands = [
        (source.rows(a, b) - (dark.rows(a, b) if dark is not None else np.float32(0)))[:, across]
        for a, b in _sampled_rows(lit, side)
    ]
    return levels_of_colours(bands, pattern)


def _samples(
    sources: Sequence[RowSource], pedestal: RowSource | None, scales: NDArray[np.float64], most: int
) -> tuple[Floats, float]:
    """Some pixels of every frame as they will be combined, shape (n, p), at most so many in all; and the step of their
    values."""
    n, height, width = len(sources), sources[0].height, sources[0].width
    pairs = max(1, min(height // 2, min(MOST_PIXELS, most // n) // (2 * width)))
    firsts = [2 * (k * (height // 2) // pairs) for k in range(pairs)]
    found = np.empty((n, sum(min(2, height - f) for f in firsts) * width), np.float32)
    quantum = 0.0
    darks = [pedestal.rows(f, min(f + 2, height)) if pedestal is not None else None for f in firsts]
    for i, source in enumerate(sources):
        at = 0
        for first, dark in zip(firsts, darks, strict=True):
            rows = source.rows(first, min(first + 2, height)).copy()
            if i == 0:
                quantum = float(math.gcd(int(quantum), int(_step(rows))))
            if dark is not None:
                rows -= dark
            scale_rows(rows, scales[i], first)
            found[i, at : at + rows.size] = rows.ravel()
            at += rows.size
    return found, quantum * float(scales[0].max())


def _step(rows: Floats) -> float:
    """The largest step on which whole numbers of a camera lie; 0 where they are none."""
    if rows.min() < 0 or rows.max() > 65535 or not np.array_equal(rows, np.floor(rows)):
        return 0.0
    return float(np.gcd.reduce(np.diff(np.unique(rows)).astype(np.int64)))


def combine(
    sources: Sequence[RowSource],
    settings: CombineSettings = CombineSettings(),
    *,
    pedestal: RowSource | None = None,
    scale_to_median: bool = False,
    pattern: str | None = None,
    lit: LitPart | None = None,
    progress: Callable[[float], None] | None = None,
) -> Combined:
    """Combine frames of one size into a master, held whole; see `combine_into`."""
    pixels: list[Floats] = []
    told = combine_into(
        pixels.append,
        sources,
        settings,
        pedestal=pedestal,
        scale_to_median=scale_to_median,
        pattern=pattern,
        lit=lit,
        progress=progress,
    )
    return Combined(**vars(told), pixels=np.concatenate(pixels))


def combine_into(
    take: Callable[[Floats], object],
    sources: Sequence[RowSource],
    settings: CombineSettings = CombineSettings(),
    *,
    pedestal: RowSource | None = None,
    scale_to_median: bool = False,
    pattern: str | None = None,
    lit: LitPart | None = None,
    progress: Callable[[float], None] | None = None,
) -> Told:
    """Combine frames of one size into a master.

    Parameters
    ----------
    take
        Called with the rows of the master, some at a time, from the first to the last; shape (rows, width).
    sources
        The frames, in the order they were taken.
    settings
        Method and clipping.
    pedestal
        Master dark flat (or bias) taken off every frame first, for flats.
    scale_to_median
        Scale each frame to its own median (each colour on its own): the master then has norm 1.
    pattern
        Of the filters that neighbouring pixels lie under; None where they lie under the same.
    lit
        The part of the frames that light can reach, of which the median is taken; None where it reaches all.
    progress
        Called with the share done, 0 … 1; may raise to stop.

    Raises
    ------
    CannotCombine
        Where there is no frame, sizes differ, or a flat has no light in it.
    """
    _check_sizes(sources, pedestal)
    height, width, n = sources[0].height, sources[0].width, len(sources)
    if settings.method == "mean without extremes" and not may_leave_extremes(n):
        raise CannotCombine(
            f"Leaving out the lowest and the highest is for {FEWEST_WITHOUT_EXTREMES} to {FEW_FRAMES} frames, not for {n}.",
            "Use the mean with outliers left out.",
        )
    report = progress or (lambda share: None)
    scales, scaled = np.ones((n, side_of(pattern), side_of(pattern))), 0.0
    if scale_to_median:
        scaled = SHARE_OF_SCALING
        scales = _scales(sources, pedestal, pattern, lit, lambda share: report(scaled * share))
    noise = _noise_of(sources, pedestal, scales, clips=settings.how(n) in (POOLED, STD, MAD))
    spare = max(1, height * width // NOISE_PIXELS)
    clip = _clip_of(settings, n, noise)
    clipped, differences = np.zeros(n), []
    for strip in Strips(sources, clip, pedestal, scales if scale_to_median else None, spare):
        take(strip.pixels)
        clipped += strip.left_out
        differences.append(strip.difference)
        report(scaled + (1.0 - scaled) * (strip.first + len(strip.pixels)) / height)
    clipped_fraction = tuple(float(c) / (height * width) for c in clipped)
    if n < 2:
        return Told(math.nan, math.nan, math.nan, clipped_fraction)
    penalties = {"median": median_penalty, "mean without extremes": extremes_penalty}
    efficiency = penalties[settings.method](n) if settings.method in penalties else 1.0
    halves = math.sqrt((n - n // 2) * (n // 2)) / n
    return Told(
        noise=efficiency * steady_rms(_about_median(differences), 1.5 * noise.quantum) * halves,
        frame_noise=noise.typical,
        predicted_noise=efficiency * noise.typical / math.sqrt(n),
        clipped_fraction=clipped_fraction,
    )


def _clip_of(settings: CombineSettings, n: int, noise: StackNoise) -> Clip:
    return Clip(
        settings.how(n),
        settings.kappa,
        settings.rounds,
        settings.method == "median",
        noise.levels,
        noise.variances,
        noise.least_above,
        noise.quantum,
        noise.noisy_above,
        noise.own_factor,
        noise.trimmed,
    )


def _check_sizes(sources: Sequence[RowSource], pedestal: RowSource | None) -> None:
    if not sources:
        raise CannotCombine("There is no frame to combine.")
    height, width = sources[0].height, sources[0].width
    for source in (*sources, *([pedestal] if pedestal else [])):
        if (source.height, source.width) != (height, width):
            raise CannotCombine(
                f"{source.name} is not {width} × {height} pixels as the others are.",
                "Leave it out of the set.",
            )


def _scales(
    sources: Sequence[RowSource],
    pedestal: RowSource | None,
    pattern: str | None,
    lit: LitPart | None,
    report: Callable[[float], None],
) -> NDArray[np.float64]:
    """What each frame is multiplied by so that its median becomes 1, shape (n, side, side)."""
    scales = np.ones((len(sources), side_of(pattern), side_of(pattern)))
    with ThreadPoolExecutor(CORES, thread_name_prefix="levels") as several:
        several_medians = several.map(lambda source: frame_scales(source, pedestal, pattern, lit), sources)
        with closing(several_medians):  # type: ignore[type-var]
            for i, (source, medians) in enumerate(zip(sources, several_medians, strict=True)):
                if not medians.min() > 0:
                    raise CannotCombine(
                        f"{source.name} is not brighter than its dark flat.",
                        "Check that the panel was on, and that the dark flats were capped.",
                    )
                scales[i] = 1.0 / medians
                report((i + 1) / len(sources))
    return scales


def _about_median(parts: Sequence[Floats]) -> Floats:
    """All differences of the half stacks, without what sets the halves apart as a whole."""
    whole = np.concatenate(parts)
    return np.asarray(whole - np.nanmedian(whole), np.float32)


def _noise_of(
    sources: Sequence[RowSource], pedestal: RowSource | None, scales: NDArray[np.float64], *, clips: bool
) -> StackNoise:
    """What is known of the noise before anything is combined; where nothing is clipped by it, only the usual pixel's."""
    if len(sources) < 2:
        return StackNoise(np.zeros(1), np.zeros(1), 0.0, math.inf, 1.0, 0)
    most = MOST_SAMPLES if clips else SAMPLES_OF_USUAL
    return stack_noise(*_samples(sources, pedestal, scales, most))
