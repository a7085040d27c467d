"""The glow of a sensor's own electronics on capped frames."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.looks import medians_of_squares
from grayshelf.core.masters.spread import MAD_TO_SIGMA
from grayshelf.core.pictures.made_of import Difference
from grayshelf.core.pictures.parts import Parts

Floats = NDArray[np.float64]

#: What is told lies this many of its own uncertainties from nothing.
SURE = 6.0
#: Squares along the longer side of a dark, by whose medians its glow is looked for, and the fewest along the shorter one.
SQUARES, FEWEST_SQUARES = 48, 4
#: So many rows of a square tell its median: those of large sensors need not be read whole.
ROWS_OF_SQUARE = 16
#: How far a sensor's own glow reaches, as shares of the frame's width; and where it comes from, as shares of its sides.
_GLOW_REACH = (0.05, 0.1, 0.2)
_GLOW_FROM = tuple((y / 4.0, x) for y in range(5) for x in (0.0, 1.0)) + tuple(
    (y, x / 4.0) for y in (0.0, 1.0) for x in range(1, 4)
)


def glow_adu(dark: Parts, bias: Parts) -> float:
    """How bright a dark's glow is at its brightest, ADU above a bias of its size; 0 where its sensor does not glow."""
    side = max(max(dark.width, dark.height) // SQUARES, 1)
    if min(dark.width, dark.height) // side < FEWEST_SQUARES:
        return 0.0
    squares = medians_of_squares(Difference(dark, bias), side, ROWS_OF_SQUARE)
    return float(glow_of(np.asarray(squares, np.float64)).max())


def glow_of(squares: Floats) -> Floats:
    """The glow of a sensor's own electronics, which falls off from a point of its edge: ``a·exp(−d/s)``, with a reach `s` of
    its own along rows and columns.

    It belongs to the sensor and is the same in the lights, so it is no leak. Zero where nothing falls off so.

    Parameters
    ----------
    squares
        Levels of a capped frame's squares, shape (rows, columns).
    """
    from scipy.optimize import least_squares

    height, width = squares.shape
    y, x = (
        (axis.ravel() + 0.5) / n for axis, n in zip(np.mgrid[0:height, 0:width], (height, width), strict=True)
    )
    flat = np.where(np.isfinite(squares), squares, np.nanmedian(squares)).ravel()
    base, _ = np.linalg.qr(np.column_stack([np.ones(flat.size), x - 0.5, y - 0.5]))
    left = flat - base @ (base.T @ flat)
    noise = _rough_noise(squares)

    def shape(where: Floats) -> Floats:
        # Beyond these reaches it is a point, or even: the search may try what no glow has.
        across, down = np.exp(np.clip(where[2:4], -8.0, 4.0))
        return np.asarray(np.exp(-np.hypot((x - where[0]) / across, (y - where[1]) / down)))

    best, gain = None, 0.0
    for from_y, from_x in _GLOW_FROM:
        for reach in _GLOW_REACH:
            where = np.array([from_x, from_y, math.log(reach), math.log(reach * width / height)])
            own = shape(where)
            own = own - base @ (base.T @ own)
            amount = float(own @ left) / float(own @ own)
            if amount > 0.0 and amount * amount * float(own @ own) > gain:
                best, gain = (amount, where), amount * amount * float(own @ own)
    # A glow explains more of what no plane does than chance would in the best of so many tries; else there is none.
    if best is None or gain < (SURE * noise) ** 2:
        return np.zeros(squares.shape)
    middle = float(np.median(flat))
    fit = least_squares(
        lambda p: (p[0] + p[1] * (x - 0.5) + p[2] * (y - 0.5) + p[3] * shape(p[4:]) - flat) / noise,
        np.array([middle, 0.0, 0.0, best[0], *best[1]]),
        x_scale=np.array([noise, noise, noise, best[0], 0.1, 0.1, 0.3, 0.3]),
        loss="soft_l1",
        max_nfev=80,
    )
    return np.asarray(fit.x[3] * shape(fit.x[4:])).reshape(squares.shape)


def _rough_noise(squares: Floats) -> float:
    """From square to square, without what changes slowly; in the squares' unit."""
    steps = squares[:, 2:] - 2.0 * squares[:, 1:-1] + squares[:, :-2]
    return max(MAD_TO_SIGMA * float(np.nanmedian(np.abs(steps))) / math.sqrt(6.0), 1e-6)
