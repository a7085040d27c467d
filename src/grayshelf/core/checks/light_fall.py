"""How the light falls on a flat: from its middle outwards, its corners, and what changed since another."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.pictures.parts import Pixels

Floats = NDArray[np.float64]

#: So many squares of one distance tell how the light falls.
IN_A_RING = 48
#: Shares of the half diagonal at which the light is told.
RINGS = (0.25, 0.5, 0.75, 1.0)
#: What lies nearer to a corner is in it; half of the width, or of the height, is one.
IN_CORNER = 0.16
#: The corners, from the upper left, row by row: to the right or not, down or not.
SIDES = ((-1, -1), (1, -1), (-1, 1), (1, 1))
#: Levels, in percent of the middle's, of which it is told how far out they lie.
CONTOURS = (95, 90, 80, 70, 60, 50)
#: With less fall than this from the middle to the corners nobody can say where the middle is.
LEAST_FALL = 0.03
#: Columns and rows of the means that are kept of a flat, to hold the next against.
KEPT_ACROSS, KEPT_DOWN = 12, 8


@dataclass(frozen=True)
class Squares:
    """Medians of a flat's squares, in one line."""

    level: Floats
    """Logarithm of the light."""
    known: NDArray[np.bool_]
    x: Floats
    """Of their middles, −1 … 1 from the left edge to the right."""
    y: Floats
    width: int
    height: int
    """Of the flat, in pixels."""

    @classmethod
    def of(cls, flat: Pixels, across: int = 128) -> Squares:
        """Those of a flat, so many across its longer side."""
        height, width = flat.shape
        # Of a strip, too, there are some across its shorter side.
        side = max(min(max(height, width) // across, min(height, width) // 4), 2)
        rows, columns = height // side, width // side
        cut = flat[: rows * side, : columns * side].reshape(rows, side, columns, side)
        medians = np.median(cut.swapaxes(1, 2).reshape(rows * columns, side * side), axis=1)
        known = np.isfinite(medians) & (medians > 0)
        y, x = np.divmod(np.arange(rows * columns), columns)
        return cls(
            np.log(np.where(known, medians, 1.0)).astype(np.float64),
            known,
            (x + 0.5) * side / width * 2 - 1,
            (y + 0.5) * side / height * 2 - 1,
            width,
            height,
        )

    def from_point(self, x: float, y: float) -> Floats:
        """Distance of each from a point, in pixels."""
        across, down = (self.x + 1) / 2 * self.width - x, (self.y + 1) / 2 * self.height - y
        return np.asarray(np.hypot(across, down), np.float64)


def round_part(squares: Squares) -> tuple[tuple[float, float], tuple[Floats, Floats]]:
    """The middle of the light, and how it falls from there: distances in pixels, natural logarithms of the light.

    The middle is where squares of one distance from it differ least (Nelder and Mead 1965).
    """
    from scipy.optimize import minimize

    half = math.hypot(squares.width, squares.height) / 2
    known, levels = squares.known, squares.level[squares.known]

    def fall_from(x: float, y: float) -> tuple[Floats, Floats, Floats]:
        distance = squares.from_point(x, y)[known]
        order = np.argsort(distance)
        # Medians of as many squares each: at the middle and in the corners there are few.
        # In the furthest corner the fewest: smaller rings, so that the last lies near its end.
        few = IN_A_RING // 4
        most = max(order.size // IN_A_RING - 1, 0) * IN_A_RING
        wide, narrow = (
            order[:most].reshape(-1, IN_A_RING),
            order[most : order.size // few * few].reshape(-1, few),
        )
        at = np.concatenate([distance[wide].mean(axis=1), distance[narrow].mean(axis=1)])
        level = np.concatenate([np.median(levels[wide], axis=1), np.median(levels[narrow], axis=1)])
        return at, level, levels - np.interp(distance, at, level)

    def scatter(where: Floats) -> float:
        # About a middle that is off, squares of one distance differ.
        return float(np.abs(fall_from(where[0] * half, where[1] * half)[2]).mean())

    start = np.array([squares.width / 2 / half, squares.height / 2 / half])
    steps = np.array([start, start + np.array([0.12, 0]), start + np.array([0, 0.12])])
    found = minimize(
        scatter, start, method="Nelder-Mead", options={"initial_simplex": steps, "xatol": 2e-4, "maxfev": 90}
    )
    x, y = (float(v) * half for v in found.x)
    at, level, _ = fall_from(x, y)
    return (x, y), (at, level)


@dataclass(frozen=True)
class LightFall:
    """How the light falls on a flat."""

    middle: tuple[float, float] | None
    """Column and row where it is brightest, in pixels; None where it is too even to say."""
    off_percent: float | None
    """How far that is from the sensor's middle, in percent of the half diagonal."""
    rings: tuple[tuple[float, float], ...]
    """Distance from there in shares of the half diagonal, and the light in percent of the middle's."""
    contours: tuple[tuple[int, float], ...]
    """Percent of the middle's light, and how many pixels from there it falls to that."""
    corners: tuple[float, float, float, float]
    """Upper left, upper right, lower left, lower right: in percent of the middle's light."""
    kept: tuple[float, ...]
    """Means of `KEPT_DOWN` rows of `KEPT_ACROSS` squares over the mean of all, from the upper left."""

    def moved(self, right: float, down: float) -> LightFall:
        """The same in a picture that has so many columns and rows before it."""
        return replace(self, middle=self.middle and (self.middle[0] + right, self.middle[1] + down))


def light_fall(small: Pixels, factor: int) -> LightFall:
    """Read how the light falls on a flat.

    Parameters
    ----------
    small
        The flat made small by `factor`, shape (h, w): of a colour sensor whole patterns, any unit.

    Raises
    ------
    GrayShelfError
        Where it is of too few pixels.
    """
    squares = Squares.of(small)
    if np.count_nonzero(squares.known) < IN_A_RING // 4:
        raise GrayShelfError(
            "It has too few pixels with light on them to tell how its light falls.", "Look at another flat."
        )
    (x, y), (at, level) = round_part(squares)
    half = math.hypot(squares.width, squares.height) / 2
    # The innermost rings tell the middle's light; one ring alone is noise.
    brightest = float(np.mean(level[:3]))
    share = np.exp(level - brightest)
    sure = 1.0 - float(share[-1]) > LEAST_FALL
    off = math.hypot(x - squares.width / 2, y - squares.height / 2) / half
    rings = [
        (ring, 100.0 * float(np.interp(ring * half, at, share)))
        for ring in RINGS
        if ring * half <= at[-1] * 1.05
    ]
    corners = [100.0 * math.exp(_in_corner(squares, i, j) - brightest) for i, j in SIDES]
    return LightFall(
        (x * factor, y * factor) if sure else None,
        100.0 * off if sure else None,
        tuple(rings),
        _contours(at, share, factor),
        (corners[0], corners[1], corners[2], corners[3]),
        _kept(squares),
    )


def _in_corner(squares: Squares, right: int, down: int) -> float:
    """Logarithm of the light near a corner; of a strip, or of a few pixels, of the square that is nearest to it."""
    away = np.hypot(1 - right * squares.x[squares.known], 1 - down * squares.y[squares.known])
    near = away <= max(IN_CORNER, float(away.min()))
    return float(np.mean(squares.level[squares.known][near]))


def _contours(at: Floats, share: Floats, factor: int) -> tuple[tuple[int, float], ...]:
    """How far out the light falls to each of `CONTOURS`, in pixels of the whole flat, as far as it does."""
    found = []
    for percent in CONTOURS:
        below = np.flatnonzero(share < percent / 100)
        if below.size and below[0] > 0:
            found.append((percent, float(at[below[0]]) * factor))
    return tuple(found)


def _kept(squares: Squares) -> tuple[float, ...]:
    column = np.clip((squares.x + 1) / 2 * KEPT_ACROSS, 0, KEPT_ACROSS - 1).astype(np.int64)
    row = np.clip((squares.y + 1) / 2 * KEPT_DOWN, 0, KEPT_DOWN - 1).astype(np.int64)
    place, size = row * KEPT_ACROSS + column, KEPT_ACROSS * KEPT_DOWN
    n = np.bincount(place[squares.known], minlength=size)
    total = np.bincount(place[squares.known], np.exp(squares.level[squares.known]), minlength=size)
    means = np.where(n > 0, total / np.maximum(n, 1), np.nan)
    return tuple(float(v) for v in np.nan_to_num(means / np.nanmean(means), nan=1.0))


@dataclass(frozen=True)
class LightChange:
    """What changed in how the light falls between two flats."""

    percent: float
    """From where it grew most to where it fell most."""
    at: tuple[float, float]
    """Where it changed most, in shares of width and height."""
    middle_moved_px: float | None


def light_change(now: LightFall, before: LightFall) -> LightChange:
    """What changed since an earlier flat of the same train and filter."""
    ratio = _grid(now.kept) / _grid(before.kept)
    off = ratio / float(np.median(ratio)) - 1
    row, column = np.unravel_index(int(np.argmax(np.abs(off))), off.shape)
    moved = None
    if now.middle is not None and before.middle is not None:
        moved = math.hypot(now.middle[0] - before.middle[0], now.middle[1] - before.middle[1])
    at = (float(column) + 0.5) / KEPT_ACROSS, (float(row) + 0.5) / KEPT_DOWN
    return LightChange(100.0 * float(off.max() - off.min()), at, moved)


def _grid(kept: Sequence[float]) -> Floats:
    return np.asarray(kept, np.float64).reshape(KEPT_DOWN, KEPT_ACROSS)
