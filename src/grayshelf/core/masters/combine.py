"""Combining the frames of a set into a master, in strips, so that memory does not grow with the stack.

Clipping is about the median (Janesick, Scientific Charge-Coupled Devices; `astropy.stats.sigma_clip` with
``cenfunc='median'`` gives the same pixels). Plain kappa-sigma cannot reject one outlier of 7 frames or two of
15, so under 20 frames the spread is taken from the median absolute deviation, 1.4826·MAD.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Literal, Protocol

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from grayshelf.core.errors import CannotCombine
from grayshelf.core.masters.noise import median_penalty

Method = Literal["clipped mean", "mean", "median"]
Floats = NDArray[np.float32]

MAD_TO_SIGMA = 1.482602218505602
#: Frames below which the robust spread is used.
ROBUST_BELOW = 20
#: Bytes for one strip of the whole stack.
STRIP_BYTES = 192 * 1024 * 1024
#: Pixels on which medians and noise are measured: enough for 0.1 ADU.
SAMPLE_PIXELS = 4_000_000
#: Pixels of each frame on which its level is measured: few, since every frame of the stack keeps its own.
LEVEL_PIXELS = 100_000


class RowSource(Protocol):
    """A frame that hands out some of its rows at a time."""

    name: str
    width: int
    height: int

    def rows(self, first: int, last: int) -> Floats:
        """Rows first … last−1 as float32, shape (last − first, width)."""
        ...


@dataclass(frozen=True)
class CombineSettings:
    """How a stack is combined. `robust` None means: robust under 20 frames."""

    method: Method = "clipped mean"
    kappa: float = 3.0
    rounds: int = 3
    robust: bool | None = None

    def is_robust(self, n_frames: int) -> bool:
        """Whether the spread is taken from the median absolute deviation."""
        return n_frames < ROBUST_BELOW if self.robust is None else self.robust

    def describe(self, n_frames: int) -> str:
        """In words, for the master's header."""
        if self.method != "clipped mean":
            return self.method
        spread = "MAD" if self.is_robust(n_frames) else "std"
        return f"mean, clipped at {self.kappa:g} sigma ({spread}) about the median, {self.rounds} rounds"


@dataclass(frozen=True)
class Combined:
    """A master's pixels and what is known of them."""

    pixels: Floats
    """Shape (height, width)."""
    noise: float
    """Temporal noise left in a pixel, from two half stacks A and B: sd(A − B)/2. NaN for one frame."""
    frame_noise: float
    """Temporal noise of one frame (after scaling), from neighbours in time. NaN for one frame."""
    predicted_noise: float
    """frame_noise / √N, times what a median costs."""
    clipped_fraction: tuple[float, ...]
    """For each frame, the share of its pixels that were clipped."""
    frame_levels: tuple[float, ...] = field(default=())
    """For each frame, its median in ADU, before scaling and after the pedestal was taken off."""


@njit(cache=True, nogil=True)
def _median_of(values: NDArray[np.float64], first: int, last: int) -> float:  # pragma: no cover - compiled
    count = last - first
    half = first + count // 2
    return values[half] if count % 2 else 0.5 * (values[half - 1] + values[half])


@njit(cache=True, nogil=True)
def _spread_of(
    values: NDArray[np.float64], first: int, last: int, center: float, robust: bool
) -> float:  # pragma: no cover - compiled
    """Standard deviation, or 1.4826·MAD, of a part of sorted values."""
    if robust:
        deviations = np.sort(np.abs(values[first:last] - center))
        return 1.482602218505602 * _median_of(deviations, 0, last - first)
    mean = 0.0
    for i in range(first, last):
        mean += values[i]
    mean /= last - first
    square = 0.0
    for i in range(first, last):
        square += (values[i] - mean) ** 2
    return math.sqrt(square / (last - first))


@njit(cache=True, nogil=True)
def _sort_into(row: Floats, values: NDArray[np.float64]) -> None:  # pragma: no cover - compiled
    """Copy and sort; by insertion for the depths that are usual, where it beats anything general."""
    n = row.size
    if n > 64:
        values[:] = np.sort(row.astype(np.float64))
        return
    for i in range(n):
        value = np.float64(row[i])
        j = i
        while j > 0 and values[j - 1] > value:
            values[j] = values[j - 1]
            j -= 1
        values[j] = value


@njit(cache=True, nogil=True, parallel=True)
def _combine_strip(
    by_pixel: Floats,
    kappa: float,
    rounds: int,
    robust: bool,
    median_only: bool,
    out: Floats,
    half_a: Floats,
    half_b: Floats,
    kept: NDArray[np.bool_],
) -> None:  # pragma: no cover - compiled
    """Combine a strip, shape (pixels, frames). `kept[p, i]` says whether frame i was used in pixel p."""
    width, n = by_pixel.shape
    blocks = (width + 4095) // 4096
    for block in prange(blocks):
        values = np.empty(n, np.float64)
        for p in range(block * 4096, min((block + 1) * 4096, width)):
            row = by_pixel[p]
            _sort_into(row, values)
            first, last = 0, n
            for _ in range(rounds):
                center = _median_of(values, first, last)
                spread = _spread_of(values, first, last, center, robust)
                low, high = center - kappa * spread, center + kappa * spread
                new_first, new_last = first, last
                while new_first < last and values[new_first] < low:
                    new_first += 1
                while new_last > new_first and values[new_last - 1] > high:
                    new_last -= 1
                if new_first == first and new_last == last:
                    break
                first, last = new_first, new_last
            low, high = values[first], values[last - 1]
            sum_a, sum_b = 0.0, 0.0
            n_a, n_b = 0, 0
            for i in range(n):
                value = np.float64(row[i])
                inside = low <= value <= high
                kept[p, i] = inside
                if inside:
                    if i % 2 == 0:
                        sum_a += value
                        n_a += 1
                    else:
                        sum_b += value
                        n_b += 1
            out[p] = _median_of(values, 0, n) if median_only else (sum_a + sum_b) / (n_a + n_b)
            half_a[p] = sum_a / n_a if n_a else np.nan
            half_b[p] = sum_b / n_b if n_b else np.nan


def _sampled_rows(height: int, width: int) -> list[tuple[int, int]]:
    """Pairs of rows (so that both rows of a colour pattern are seen) holding about `SAMPLE_PIXELS`."""
    pairs = height // 2
    stride = max(1, math.ceil(height * width / SAMPLE_PIXELS))
    return [(2 * k, 2 * k + 2) for k in range(0, pairs, stride)] or [(0, height)]


def frame_scales(source: RowSource, dark: RowSource | None, colour: bool) -> NDArray[np.float64]:
    """Median of a frame above its pedestal: one value, or one for each of the four phases of a colour pattern.

    Parameters
    ----------
    source
        The frame.
    dark
        The dark flat (or bias) to take off first, of the same size, or None.
    colour
        Whether neighbouring pixels lie under different filters.

    Returns
    -------
    Array of shape (2, 2): medians in ADU by row and column parity, all equal for a mono frame.
    """
    strips = _sampled_rows(source.height, source.width)
    if strips[0] == (0, 2) and len(strips) > 1 and strips[1][0] == 2:
        strips = [(a, min(a + 256, source.height)) for a in range(0, source.height, 256)]
    parts = [source.rows(a, b) - (dark.rows(a, b) if dark is not None else np.float32(0)) for a, b in strips]
    if not colour:
        return np.full((2, 2), float(np.median(np.concatenate([part.ravel() for part in parts]))))
    return np.array(
        [
            [float(np.median(np.concatenate([p[r::2, c::2].ravel() for p in parts]))) for c in (0, 1)]
            for r in (0, 1)
        ]
    )


def _clean_spread(values: Floats) -> float:
    """Standard deviation without the far tail (hot pixels that flicker)."""
    finite = values[np.isfinite(values)].astype(np.float64)
    if finite.size < 2:
        return math.nan
    low, high = np.percentile(finite, [0.5, 99.5])
    kept = finite[(finite >= low) & (finite <= high)]
    if high <= low:
        return float(finite.std())
    # A normal distribution cut at its 0.5 % and 99.5 % points has 0.9597 of its standard deviation left.
    return float(kept.std()) / 0.9597


def combine(
    sources: Sequence[RowSource],
    settings: CombineSettings = CombineSettings(),
    *,
    pedestal: RowSource | None = None,
    scale_to_median: bool = False,
    colour: bool = False,
    progress: Callable[[float], None] | None = None,
) -> Combined:
    """Combine frames of one size into a master.

    Parameters
    ----------
    sources
        The frames, in the order they were taken.
    settings
        Method and clipping.
    pedestal
        Master dark flat (or bias) taken off every frame first, for flats.
    scale_to_median
        Scale each frame to its own median (each colour phase on its own): the master then has norm 1.
    colour
        Whether the sensor has a colour pattern.
    progress
        Called with the share done, 0 … 1; may raise to stop.

    Raises
    ------
    CannotCombine
        Where there is no frame, sizes differ, or a flat has no light in it.
    """
    if not sources:
        raise CannotCombine("There is no frame to combine.")
    height, width = sources[0].height, sources[0].width
    odd = [
        s.name
        for s in (*sources, *([pedestal] if pedestal else []))
        if (s.height, s.width) != (height, width)
    ]
    if odd:
        raise CannotCombine(
            f"{odd[0]} is not {width} × {height} pixels as the others are.", "Leave it out of the set."
        )
    n = len(sources)
    report = progress or (lambda share: None)
    levels: list[float] = []
    scales = np.ones((n, 2, 2))
    if scale_to_median:
        for i, source in enumerate(sources):
            medians = frame_scales(source, pedestal, colour)
            if medians.min() <= 0:
                raise CannotCombine(
                    f"{source.name} is not brighter than its dark flat.",
                    "Check that the panel was on, and that the dark flats were capped.",
                )
            scales[i] = 1.0 / medians
            levels.append(float(medians.mean()))
            report(0.3 * (i + 1) / n)
    done = 0.3 if scale_to_median else 0.0
    rows_each = max(2, min(height, STRIP_BYTES // (n * width * 9)) // 2 * 2)
    pixels = np.empty((height, width), np.float32)
    clipped = np.zeros(n)
    differences: list[Floats] = []
    neighbours: list[Floats] = []
    spare = max(1, height * width // SAMPLE_PIXELS)
    level_stride = max(1, height * width // LEVEL_PIXELS) | 1
    level_samples: list[list[Floats]] = [[] for _ in range(n)]
    for first in range(0, height, rows_each):
        last = min(first + rows_each, height)
        stack = np.empty((n, last - first, width), np.float32)
        dark = pedestal.rows(first, last) if pedestal is not None else None
        for i, source in enumerate(sources):
            stack[i] = source.rows(first, last)
            if dark is not None:
                stack[i] -= dark
            if scale_to_median:
                _scale(stack[i], scales[i], first)
            else:
                level_samples[i].append(stack[i].ravel()[::level_stride].copy())
        by_pixel = np.ascontiguousarray(stack.reshape(n, -1).T)
        if n > 1:
            neighbours.append((by_pixel[::spare, 0] - by_pixel[::spare, 1]).copy())
        del stack
        out = np.empty(by_pixel.shape[0], np.float32)
        half_a, half_b = np.empty_like(out), np.empty_like(out)
        kept = np.empty(by_pixel.shape, np.bool_)
        rounds = settings.rounds if settings.method == "clipped mean" and n > 2 else 0
        _combine_strip(
            by_pixel,
            settings.kappa,
            rounds,
            settings.is_robust(n),
            settings.method == "median",
            out,
            half_a,
            half_b,
            kept,
        )
        pixels[first:last] = out.reshape(-1, width)
        clipped += (~kept).sum(axis=0)
        differences.append((half_a - half_b)[::spare].copy())
        report(done + (1.0 - done) * last / height)
    if not scale_to_median:
        levels = [float(np.median(np.concatenate(parts))) for parts in level_samples]
    frame_noise = _clean_spread(np.concatenate(neighbours)) / math.sqrt(2.0) if n > 1 else math.nan
    efficiency = median_penalty(n) if settings.method == "median" else 1.0
    return Combined(
        pixels=pixels,
        noise=_clean_spread(np.concatenate(differences)) / 2.0 if n > 1 else math.nan,
        frame_noise=frame_noise,
        predicted_noise=efficiency * frame_noise / math.sqrt(n),
        clipped_fraction=tuple(float(c) / (height * width) for c in clipped),
        frame_levels=tuple(levels),
    )


def _scale(rows: Floats, scales: NDArray[np.float64], first_row: int) -> None:
    """Multiply rows in place by the factor of their colour phase."""
    if np.all(scales == scales[0, 0]):
        rows *= np.float32(scales[0, 0])
        return
    for parity in (0, 1):
        start = (parity - first_row) % 2
        rows[start::2, 0::2] *= np.float32(scales[parity, 0])
        rows[start::2, 1::2] *= np.float32(scales[parity, 1])
