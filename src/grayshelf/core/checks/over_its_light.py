"""A flat without its own light: what is left is shadows, noise and what the pixels differ by."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.light_fall import Squares, round_part
from grayshelf.core.masters.spread import MAD_TO_SIGMA
from grayshelf.core.pictures.parts import Pixels

Floats = NDArray[np.float64]

#: Of the polynomial that the light follows beside its fall from the middle.
DEGREE = 4


def over_its_light(flat: Pixels) -> Pixels:
    """A flat over how its light falls, less one: shape (h, w).

    How it falls is found from the medians of its squares: a function of the distance from the light's middle (so that the
    edge of a baffle is taken out as well), times a polynomial in x and y; both robust, so that no shadow bends them.
    """
    from scipy.ndimage import zoom

    height, width = flat.shape
    squares = Squares.of(flat)
    for _ in range(2):
        middle, fall = round_part(squares)
        rest = squares.level - np.interp(squares.from_point(*middle), *fall)
        fit, shaded = _steady_fit(squares, rest)
        # Then once more, without what lies in a shadow: wide ones bend it all the same.
        squares = replace(squares, known=squares.known & ~shaded)
    # The polynomial on a coarse grid, in straight lines between: millions of its values take seconds.
    gy, gx = np.broadcast_arrays(np.linspace(-1, 1, 65)[:, None], np.linspace(-1, 1, 97)[None, :])
    grid = (_terms(gx.ravel(), gy.ravel()) @ fit).reshape(65, 97).astype(np.float32)
    light = zoom(grid, (height / 65, width / 97), order=1)[:height, :width]
    y, x = np.ogrid[0:height, 0:width]
    distance = np.hypot(
        (x + np.float32(0.5 - middle[0])).astype(np.float32),
        (y + np.float32(0.5 - middle[1])).astype(np.float32),
    )
    light = np.exp(light + np.interp(distance, *fall).astype(np.float32))
    with np.errstate(divide="ignore", invalid="ignore"):
        left = flat / light - np.float32(1)
    return np.clip(np.nan_to_num(left, nan=0.0), -0.9, 0.9).astype(np.float32)


def _steady_fit(squares: Squares, level: Floats) -> tuple[Floats, NDArray[np.bool_]]:
    """A polynomial through most squares, and which of them are in a shadow.

    Least squares in rounds, with Tukey's weights (Beaton and Tukey 1974), of a low degree first, so that wide shadows weigh
    nothing by the time a higher one could follow them; what is darker is left out sooner than what is brighter.
    """
    known = squares.known
    weight: Floats = known.astype(np.float64)
    off: Floats = np.zeros(level.shape)
    scale = 1e-9
    for degree in (0, 2, 2, 2, DEGREE, DEGREE, DEGREE):
        terms = _terms(squares.x, squares.y, degree)
        fit = np.asarray(np.linalg.lstsq(terms * weight[:, None], level * weight, rcond=None)[0], np.float64)
        off = level - terms @ fit
        scale = MAD_TO_SIGMA * float(np.median(np.abs(off[known]))) or 1e-9
        reach = np.where(off < 0, 3.0, 4.685) * scale
        weight = np.asarray(known * np.clip(1 - (off / reach) ** 2, 0, None), np.float64)
    return fit, off < -3.0 * scale


def _terms(x: Floats, y: Floats, degree: int = DEGREE) -> Floats:
    """Products of Legendre polynomials up to a degree, shape (n, terms)."""
    legendre = np.polynomial.legendre.legvander
    px, py = legendre(x, degree), legendre(y, degree)
    return np.stack([px[:, i] * py[:, j] for i in range(degree + 1) for j in range(degree + 1 - i)], axis=1)
