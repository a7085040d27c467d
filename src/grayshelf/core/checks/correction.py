"""Whether flats correct: what is left of the flat in a light that was calibrated with it.

On a calibrated light, stars left out, the logarithm of the background is regressed on the logarithm of the flat with terms
in x and y, since a gradient of the sky fakes a slope otherwise. A slope of 0 means that it corrects, above that it corrects
too little, below too much.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.masters.spread import MAD_TO_SIGMA
from grayshelf.core.pictures.parts import Pixels

Floats = NDArray[np.float64]

#: Squares across the longer side on which the background is read.
ACROSS = 96
#: A flat that falls by less than this from its brightest squares to its darkest tells nothing.
LEAST_FALL = 0.02
#: A slope that is no larger than this corrects, however surely it is not nought: of a fall of 20 % it leaves 1 %.
SMALL = 0.05
#: Squares further above the fit, or below it, than so many robust deviations hold stars, a nebula or a speck.
BRIGHT, DARK = 2.0, 3.0
#: What is left over wide parts of the picture may lead the slope astray by so many times its spread over the flat's.
ASTRAY = 2.0
#: The light is parted into so many by so many fields, of which each is left out in turn: what hangs together over a
#: field does not make the answer look surer than it is (jackknife; Quenouille 1949, Tukey 1958).
FIELDS = 5
#: Of Student's t, two-sided 95 % with the fields less one as its degrees of freedom.
T_95 = 2.064
#: Fewer squares than this tell nothing.
FEWEST = 200


class Corrects(StrEnum):
    """What the slope says."""

    YES = "it corrects"
    TOO_LITTLE = "it corrects too little"
    TOO_MUCH = "it corrects too much"
    UNSURE = "it cannot be told"


@dataclass(frozen=True)
class Correction:
    """What is left of a flat in a calibrated light."""

    slope: float
    least: float
    most: float
    """Its interval of 95 %."""
    corner_percent: float | None
    """Corners over the middle of the calibrated light, less 1, with the sky's gradient taken off: in percent. None where
    stars or a nebula cover them."""
    corner_raw_percent: float | None
    """The same of the light as it was taken, less its dark."""
    corrects: Corrects
    squares: int
    """So many were used."""


def correction_of(calibrated: Pixels, raw: Pixels, flat: Pixels) -> Correction | None:
    """What is left of a flat in a light that was calibrated with it; None where too little of it can be used.

    Parameters
    ----------
    calibrated
        The calibrated light; shape (h, w). Of a colour sensor one colour, or whole patterns.
    raw
        The same light less its dark alone.
    flat
        The flat by which it was divided, over its own level.
    """
    side = max(max(calibrated.shape) // ACROSS, 4)
    sky, before, light = (_background(p, side) for p in (calibrated, raw, flat))
    rows, columns = sky.shape
    y, x = (np.linspace(-1, 1, n) for n in (rows, columns))
    gx, gy = (np.broadcast_to(a, sky.shape).ravel() for a in (x[None, :], y[:, None]))
    known = (np.isfinite(sky) & np.isfinite(light) & (sky > 0) & (light > 0)).ravel()
    if known.sum() < FEWEST:
        return None
    log_sky = np.log(np.where(known, sky.ravel(), 1.0))
    log_flat = np.log(np.where(known, light.ravel(), 1.0))
    fall = float(np.diff(np.percentile(log_flat[known], (2.0, 98.0)))[0])
    if fall < LEAST_FALL:
        return None
    design = np.stack([log_flat - log_flat[known].mean(), np.ones_like(gx), gx, gy], axis=1)
    level, used = _without_gradient(design, log_sky, known)
    if used.sum() < FEWEST:
        return None
    slope, stray = _jackknifed(design, level, used, gx, gy)
    reach = math.hypot(T_95 * stray, ASTRAY * _hangs_together(design, level, used, gx, gy))
    corner, corner_raw = (_corners(np.asarray(p, np.float64).ravel(), used, gx, gy) for p in (sky, before))
    return Correction(
        slope, slope - reach, slope + reach, corner, corner_raw, _said(slope, reach), int(used.sum())
    )


def _without_gradient(
    design: Floats, log_sky: Floats, known: NDArray[np.bool_]
) -> tuple[Floats, NDArray[np.bool_]]:
    """The logarithm of the sky over its gradient, and the squares that hold no stars. A gradient that is straight in the
    light is bent in its logarithm, as a flat is: it is divided out first, as the slope becomes known."""
    gx, gy = design[:, 2], design[:, 3]
    used, slope, level = known, 0.0, log_sky
    for _ in range(4):
        level = log_sky - np.log(_plane(np.exp(log_sky - slope * design[:, 0]), used, gx, gy))
        used = _without_stars(design, level, known)
        if used.sum() < FEWEST:
            break
        slope = float(np.linalg.lstsq(design[used], level[used], rcond=None)[0][0])
    return level, used


def _plane(values: Floats, used: NDArray[np.bool_], gx: Floats, gy: Floats) -> Floats:
    """A plane through the sky, nowhere below a tenth of its middle."""
    design = np.stack([np.ones_like(gx), gx, gy], axis=1)
    fit = np.linalg.lstsq(design[used], values[used], rcond=None)[0]
    return np.asarray(np.maximum(design @ fit, 0.1 * abs(float(fit[0]))), np.float64)


def _hangs_together(design: Floats, values: Floats, used: NDArray[np.bool_], gx: Floats, gy: Floats) -> float:
    """How far a slope may be led astray by what is left over wide parts of the picture, such as a nebula: the spread of
    the fields' means over that of the flat, as far as x and y do not tell it."""
    off = values - design @ np.linalg.lstsq(design[used], values[used], rcond=None)[0]
    own = design[:, 0] - design[:, 1:] @ np.linalg.lstsq(design[used, 1:], design[used, 0], rcond=None)[0]
    field = _field_of(gx, gy)
    n = np.bincount(field[used], minlength=FIELDS**2)
    means = np.bincount(field[used], off[used], minlength=FIELDS**2)[n > 0] / n[n > 0]
    return float(np.std(means)) / max(float(np.std(own[used])), 1e-9)


def _field_of(gx: Floats, gy: Floats) -> NDArray[np.int64]:
    column = np.clip(((gx + 1) / 2 * FIELDS).astype(np.int64), 0, FIELDS - 1)
    row = np.clip(((gy + 1) / 2 * FIELDS).astype(np.int64), 0, FIELDS - 1)
    return np.asarray(row * FIELDS + column, np.int64)


def _said(slope: float, reach: float) -> Corrects:
    if abs(slope) <= SMALL and reach <= SMALL:
        return Corrects.YES
    if abs(slope) <= max(reach, SMALL):
        return Corrects.UNSURE
    return Corrects.TOO_LITTLE if slope > 0 else Corrects.TOO_MUCH


def _background(pixels: Pixels, side: int) -> Floats:
    """The background of squares: medians of those of their pixels that are not far above the others, so that no star that
    is fainter than the noise's tail counts much; shape (h // side, w // side)."""
    rows, columns = pixels.shape[0] // side, pixels.shape[1] // side
    cut = pixels[: rows * side, : columns * side].reshape(rows, side, columns, side)
    squares = np.sort(cut.swapaxes(1, 2).reshape(rows * columns, -1), axis=1)
    middle = squares[:, squares.shape[1] // 2]
    low = squares[:, int(0.16 * squares.shape[1])]
    # Twice clipped about the median by what lies below it, where there are no stars.
    within = squares <= (middle + 2.0 * (middle - low))[:, None]
    n = np.maximum(within.sum(axis=1), 1)
    clipped = squares[np.arange(n.size), n // 2]
    return np.asarray(clipped.reshape(rows, columns), np.float64)


def _without_stars(design: Floats, values: Floats, known: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Squares that lie near the fit: stars and nebulae stand above it, and are left out sooner than what is dark."""
    used = known.copy()
    for _ in range(12):
        fit = np.linalg.lstsq(design[used], values[used], rcond=None)[0]
        off = values - design @ fit
        middle = float(np.median(off[used]))
        spread = MAD_TO_SIGMA * float(np.median(np.abs(off[used] - middle))) or 1e-9
        now = known & (off < middle + BRIGHT * spread) & (off > middle - DARK * spread)
        if now.sum() < FEWEST or (now == used).all():
            break
        used = now
    return used


def _jackknifed(
    design: Floats, values: Floats, used: NDArray[np.bool_], gx: Floats, gy: Floats
) -> tuple[float, float]:
    """The slope, and its standard deviation, by leaving out one field of the picture after the other."""
    field = _field_of(gx, gy)
    slope = float(np.linalg.lstsq(design[used], values[used], rcond=None)[0][0])
    without = []
    for one in range(FIELDS**2):
        rest = used & (field != one)
        if rest.sum() > design.shape[1]:
            without.append(float(np.linalg.lstsq(design[rest], values[rest], rcond=None)[0][0]))
    n = len(without)
    return slope, math.sqrt((n - 1) / n * float(np.sum((np.array(without) - np.mean(without)) ** 2)))


def _corners(values: Floats, used: NDArray[np.bool_], gx: Floats, gy: Floats) -> float | None:
    """Corners over the middle, less 1, in percent; a plane through all is taken off first."""
    design = np.stack([np.ones_like(gx), gx, gy], axis=1)
    fit = np.linalg.lstsq(design[used], values[used], rcond=None)[0]
    flat = values - gx * fit[1] - gy * fit[2]
    far, near = np.hypot(gx, gy) / math.sqrt(2) > 0.85, np.hypot(gx, gy) / math.sqrt(2) < 0.2
    if not (used & far).any() or not (used & near).any():
        return None
    return 100.0 * (float(np.median(flat[used & far])) / float(np.median(flat[used & near])) - 1.0)
