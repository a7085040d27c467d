"""Shadows of dust in a flat: where they lie, how wide and how deep they are.

A speck in front of a sensor takes light from a disc as wide as the cone of light is there; behind a telescope with a
central obstruction the disc is a ring. Both are round, so what is looked for is round, and what is round is measured by its
mean about its centre.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.over_its_light import over_its_light
from grayshelf.core.masters.spread import MAD_TO_SIGMA
from grayshelf.core.pictures.colours import cell_of
from grayshelf.core.pictures.parts import Parts, Pixels, made_small, reduced

Floats = NDArray[np.float64]

#: A flat is made small until neither side is longer than this; what is narrower than a few of those pixels is not seen.
LOOKED_AT = 2000
#: Shadows are looked for from so many of those pixels across, in steps of √2, up to this share of the shorter side.
NARROWEST, STEP, WIDEST = 7.0, math.sqrt(2), 0.6
#: A shadow stands out of its surroundings by so many of their standard deviations.
STANDS_OUT = 7.0
#: Of the eighths of a round thing so many are darker than what is around it.
DARK_EIGHTHS = 6
#: And so many of its uncertainties from nothing.
SURE = 6.0
#: No part of it differs from its mean about its middle by more than this share of its depth, beyond noise.
UNEVEN = 0.35
#: Shallower than this nothing is called dust: the flat takes out far more.
SHALLOWEST = 0.003
#: At least this share of it lies on the sensor.
INSIDE = 0.35
#: One that the sensor's edge cuts is so many of those pixels wide: narrower ones are noise, which is twofold there.
NARROWEST_CUT = 20.0
#: So many are told at most; so many candidates are measured in a round.
MOST, MOST_TRIED = 80, 160
#: What a deep one hid is found once that is taken out.
ROUNDS, DEEP = 2, 0.02
#: On the rim of a wider one nothing this much narrower and shallower is told: it is what is left of the rim.
RIM, RIM_NARROWER, RIM_SHALLOWER = 0.15, 0.4, 0.4
#: What stands out so many times as far as it must and is not round is odd: its pieces are not told as shadows.
ODD = 4.0
#: Spreads at any width are no more than so many times what white noise would have there.
MOST_NOISE = 3.0


@dataclass(frozen=True)
class Shadow:
    """The shadow of a speck, in pixels of the flat."""

    x: float
    """Of its middle, from the left edge of the first column."""
    y: float
    diameter: float
    """Where it is half as deep as it gets."""
    depth: float
    """Share of the light that is lost where it is deepest, 0 … 1."""

    def moved(self, right: float, down: float) -> Shadow:
        """The same in a picture that has so many columns and rows before it."""
        return replace(self, x=self.x + right, y=self.y + down)


def factor_looked_at(width: int, height: int, pattern: str | None) -> int:
    """By how much a flat is made small before it is looked at: a colour sensor's by whole cells of its pattern, so that none
    is darker than the next."""
    factor = -(-max(width, height) // LOOKED_AT)
    return factor if pattern is None else factor + -factor % cell_of(pattern)


def dust_on(flat: Parts, pattern: str | None = None) -> list[Shadow]:
    """The shadows of dust on a flat, the deepest first.

    Parameters
    ----------
    flat
        A master flat, or one frame; any unit.
    pattern
        Of the filters that neighbouring pixels lie under; None where they lie under the same.
    """
    factor = factor_looked_at(flat.width, flat.height, pattern)
    small = made_small(flat, factor)
    return [
        Shadow(s.x * factor, s.y * factor, s.diameter * factor, s.depth)
        for s in shadows_in(over_its_light(small))
    ]


def shadows_in(left: Pixels) -> list[Shadow]:
    """The shadows in what is left of a flat over its own light.

    Parameters
    ----------
    left
        Shape (h, w), about 0; changed: what was found is taken out of it.
    """
    found: list[Shadow] = []
    for _ in range(ROUNDS):
        before = len(found)
        tried: list[_Candidate] = []
        odd: list[tuple[_Candidate, float]] = []
        for candidate in _candidates(left):
            if len(tried) == MOST_TRIED or len(found) == MOST:
                break
            if any(candidate.much_like(other) for other in tried):
                continue
            tried.append(candidate)
            shadow = _measured(left, candidate)
            if shadow is not None and any(
                candidate.part_of(o) and shadow.depth < RIM_SHALLOWER * d for o, d in odd
            ):
                continue
            if shadow is not None:
                _take_out(left, shadow)
                found.append(shadow)
            elif candidate.strength > ODD * STANDS_OUT:
                odd.append((candidate, _darkest(left, candidate)))
        if not any(s.depth > DEEP for s in found[before:]):
            break
    found = [s for s in found if not any(_on_rim(s, wide) for wide in found)]
    return sorted(found, key=lambda s: -s.depth)


def _on_rim(one: Shadow, wide: Shadow) -> bool:
    if one.diameter > RIM_NARROWER * wide.diameter or one.depth > RIM_SHALLOWER * wide.depth:
        return False
    off = abs(math.hypot(one.x - wide.x, one.y - wide.y) - wide.diameter / 2)
    return off < RIM * wide.diameter / 2 + one.diameter


class _Candidate(NamedTuple):
    """Where something is darker than its surroundings; in pixels."""

    x: float
    y: float
    diameter: float
    strength: float
    """In standard deviations of its surroundings."""

    def much_like(self, other: _Candidate) -> bool:
        """Whether measuring it would come to what the other came to."""
        near = math.hypot(self.x - other.x, self.y - other.y) < 0.2 * min(self.diameter, other.diameter)
        return near and max(self.diameter, other.diameter) < 1.25 * min(self.diameter, other.diameter)

    def part_of(self, odd: _Candidate) -> bool:
        """Whether it is a piece of something strong that is not round: a hair, or what the edge of a baffle leaves."""
        if self.diameter > RIM_NARROWER * odd.diameter:
            return False
        return math.hypot(self.x - odd.x, self.y - odd.y) < 0.75 * odd.diameter


def _darkest(left: Pixels, candidate: _Candidate) -> float:
    """How deep it gets where something is darker than its surroundings, noise aside: 0 … 1."""
    r, x, y = candidate.diameter / 2, candidate.x, candidate.y
    part = left[max(int(y - r), 0) : int(y + r) + 1, max(int(x - r), 0) : int(x + r) + 1]
    return -float(np.percentile(reduced(part, 2), 4.0))


def _candidates(left: Pixels) -> list[_Candidate]:
    """What is darker than its surroundings, the widest first.

    The Laplacian of Gaussians as the difference of two (Lindeberg 1998; Lowe 2004): for a disc it is greatest where the
    Gaussian's σ is its radius over √2. Wide ones are looked for on a smaller picture.
    """
    found: list[_Candidate] = []
    noise: float | None = None
    for level, small in _halved(left):
        for diameter in (NARROWEST, NARROWEST * STEP):
            if diameter * level > WIDEST * min(left.shape):
                break
            dark, spread = _darker(small, diameter)
            # On a picture of few pixels wide shadows themselves are most of its spread; that of noise falls with width.
            noise = spread * diameter * level if noise is None else noise
            for strength, y, x in _peaks(
                dark, min(spread, MOST_NOISE * noise / (diameter * level)), diameter
            ):
                found.append(_Candidate((x + 0.5) * level, (y + 0.5) * level, diameter * level, strength))
    return sorted(found, key=lambda one: (-one.diameter, -one.strength))


def _halved(left: Pixels) -> Iterator[tuple[int, Pixels]]:
    level = 1
    while min(left.shape) >= 3 * NARROWEST:
        yield level, left
        left, level = reduced(left, 2), level * 2


def _darker(small: Pixels, diameter: float) -> tuple[Pixels, float]:
    """By how much what is so wide is darker than its surroundings, less the usual; and the spread of that."""
    from scipy.ndimage import gaussian_filter

    sigma = diameter / 2 / math.sqrt(2)
    inner = gaussian_filter(small, sigma / 1.19, mode="reflect")
    dark = gaussian_filter(small, sigma * 1.19, mode="reflect") - inner
    some = dark[::3, ::3]
    middle = float(np.median(some))
    spread = MAD_TO_SIGMA * float(np.median(np.abs(some - middle))) or 1e-9
    return dark - np.float32(middle), spread


def _peaks(dark: Pixels, spread: float, diameter: float) -> list[tuple[float, int, int]]:
    from scipy.ndimage import maximum_filter

    strength = dark / np.float32(spread)
    peaks = (strength > STANDS_OUT) & (strength == maximum_filter(strength, size=max(int(diameter / 2), 3)))
    return [(float(strength[y, x]), int(y), int(x)) for y, x in np.argwhere(peaks)]


@dataclass(frozen=True)
class _Cut:
    """A part of a picture about a middle, made small."""

    deficit: Floats
    x: Floats
    y: Floats
    """Of each pixel, from the middle; in pixels of the whole."""


def _cut(left: Pixels, x: float, y: float, radius: float, least: float) -> _Cut | None:
    """What is about a point, less a plane through its surroundings; None where too little of it lies on the sensor."""
    reach = 2.0 * radius
    top, bottom = max(int(y - reach), 0), min(math.ceil(y + reach), left.shape[0])
    first, last = max(int(x - reach), 0), min(math.ceil(x + reach), left.shape[1])
    if bottom - top < 6 or last - first < 6:
        return None
    factor = max(int(radius / 12), 1)
    part = reduced(left[top:bottom, first:last], factor).astype(np.float64)
    px = (np.arange(part.shape[1]) + 0.5) * factor + first - x
    py = (np.arange(part.shape[0]) + 0.5) * factor + top - y
    gx, gy = np.broadcast_arrays(px[None, :], py[:, None])
    r = np.hypot(gx, gy)
    around = (r > 1.3 * radius) & (r < 1.9 * radius)
    if np.count_nonzero(r < radius) * factor**2 < least * math.pi * radius**2 or around.sum() < 12:
        return None
    design = np.stack([np.ones(int(around.sum())), gx[around] / radius, gy[around] / radius], axis=1)
    values = part[around]
    keep = (
        np.abs(values - np.median(values))
        < 3 * MAD_TO_SIGMA * np.median(np.abs(values - np.median(values))) + 1e-9
    )
    plane = np.linalg.lstsq(design[keep], values[keep], rcond=None)[0]
    return _Cut(plane[0] + plane[1] * gx / radius + plane[2] * gy / radius - part, gx, gy)


def _profile(cut: _Cut, radius: float) -> tuple[Floats, Floats]:
    """Mean deficit of rings about the middle, and their radii."""
    r = np.hypot(cut.x, cut.y)
    width = max(radius / 12, float(abs(cut.x[0, 1] - cut.x[0, 0])))
    ring = (r / width).astype(np.int64)
    inside = ring < int(1.9 * radius / width)
    n = np.bincount(ring[inside])
    total = np.bincount(ring[inside], cut.deficit[inside])
    radii = np.bincount(ring[inside], r[inside]) / np.maximum(n, 1)
    told = n > 0
    return radii[told], (total / np.maximum(n, 1))[told]


def _edge(radii: Floats, profile: Floats) -> tuple[float, float]:
    """Where a shadow is half as deep as it gets, outwards of there; and how deep that is."""
    smooth = np.convolve(np.pad(profile, 1, mode="edge"), (0.25, 0.5, 0.25), "valid")
    deepest = int(np.argmax(smooth))
    if smooth[deepest] <= 0:
        return 0.0, 0.0
    plateau = profile[smooth > 0.75 * smooth[deepest]]
    depth = float(np.median(plateau))
    beyond = np.flatnonzero(smooth[deepest:] < depth / 2)
    if beyond.size == 0:
        return float(radii[-1]), depth
    i = deepest + int(beyond[0])
    if i == 0 or smooth[i - 1] == smooth[i]:
        return float(radii[i]), depth
    share = (smooth[i - 1] - depth / 2) / (smooth[i - 1] - smooth[i])
    return float(radii[i - 1] + share * (radii[i] - radii[i - 1])), depth


def _measured(left: Pixels, candidate: _Candidate) -> Shadow | None:
    """A candidate, measured: its middle moved until its rings are round, its width where it is half as deep."""
    x, y, radius = candidate.x, candidate.y, candidate.diameter / 2
    radii = profile = np.zeros(0)
    depth, cut = 0.0, None
    for turn in range(8):
        # Near the sensor's edge a candidate lies on the edge: what is found there may be moved inwards.
        cut = _cut(left, x, y, radius, INSIDE if turn > 2 else 0.8 * INSIDE)
        if cut is None:
            return None
        radii, profile = _profile(cut, radius)
        edge, depth = _edge(radii, profile)
        if depth < SHALLOWEST or not 0.35 * radius < edge:
            return None
        if turn == 1 and not _is_round(cut, radius, depth, (radii, profile), 2 * UNEVEN):
            return None
        dx, dy = _off_middle(cut, radii, profile, edge)
        most = 0.35 * edge
        x, y = x + float(np.clip(dx, -most, most)), y + float(np.clip(dy, -most, most))
        settled = abs(edge - radius) < 0.01 * radius and math.hypot(dx, dy) < 0.02 * radius
        radius = float(np.clip(edge, 0.6 * radius, 1.5 * radius))
        if settled:
            break
    if cut is None or not _is_round(cut, radius, depth, (radii, profile)):
        return None
    edges = min(x, left.shape[1] - x), min(y, left.shape[0] - y)
    # In a corner the light itself falls steeply.
    in_corner = math.hypot(max(edges[0], 0.0), max(edges[1], 0.0)) < 2 * radius
    if min(edges) < radius and (2 * radius < NARROWEST_CUT or in_corner):
        return None
    return Shadow(x, y, 2 * radius, depth)


def _off_middle(cut: _Cut, radii: Floats, profile: Floats, edge: float) -> tuple[float, float]:
    """How far the middle lies off, by least squares: a shifted round profile differs by its slope times the shift."""
    r = np.hypot(cut.x, cut.y)
    near = (r > 0) & (r < 1.5 * edge)
    slope = np.interp(r[near], radii, np.gradient(profile, radii)) if radii.size > 2 else np.zeros(near.sum())
    off = cut.deficit[near] - np.interp(r[near], radii, profile)
    design = -np.stack([slope * cut.x[near] / r[near], slope * cut.y[near] / r[near]], axis=1)
    found, _, rank, _ = np.linalg.lstsq(design, off, rcond=None)
    return (float(found[0]), float(found[1])) if rank == 2 else (0.0, 0.0)


def _is_round(
    cut: _Cut, radius: float, depth: float, profile: tuple[Floats, Floats], uneven: float = UNEVEN
) -> bool:
    """Whether it is one round thing: nearly all its eighths are darker than what is around, and in no part of it, or of
    what is around, does it differ from its rings by much of its depth."""
    r, angle = np.hypot(cut.x, cut.y), np.arctan2(cut.y, cut.x)
    eighth = ((angle + math.pi) / (2 * math.pi) * 8).astype(np.int64) % 8
    zone = np.digitize(r / radius, (0.55, 1.15, 1.3, 1.9))
    off = cut.deficit - np.interp(r, *profile)
    dark, told, inside = 0, 0, []
    for part in range(8):
        # What is around may be a corner, in which the light falls as nothing round does.
        for ring, most in ((0, uneven), (1, uneven), (3, 2 * uneven)):
            cell = (eighth == part) & (zone == ring)
            n = int(np.count_nonzero(cell))
            # A sliver at the sensor's edge tells nothing.
            if n < max(4, np.count_nonzero(zone == ring) / 24):
                continue
            noise = float(np.std(off[cell])) / math.sqrt(n)
            if abs(float(off[cell].mean())) > most * depth + 3.5 * noise:
                return False
        within = (eighth == part) & (r < radius)
        if np.count_nonzero(within) >= 3:
            told += 1
            inside.append(float(cut.deficit[within].mean()))
            dark += inside[-1] > 0.15 * depth
    if told < 4 or dark < math.ceil(DARK_EIGHTHS / 8 * told):
        return False
    stray = float(np.std(inside)) / math.sqrt(told)
    return float(np.mean(inside)) > SURE * stray


def _take_out(left: Pixels, shadow: Shadow) -> None:
    """Take a shadow out of a picture, by its own profile, so that its edge is not found as another."""
    reach = 0.8 * shadow.diameter
    top, bottom = max(int(shadow.y - reach), 0), min(math.ceil(shadow.y + reach), left.shape[0])
    first, last = max(int(shadow.x - reach), 0), min(math.ceil(shadow.x + reach), left.shape[1])
    y = np.arange(top, bottom)[:, None] + 0.5 - shadow.y
    x = np.arange(first, last)[None, :] + 0.5 - shadow.x
    distance = np.hypot(x, y)
    part = left[top:bottom, first:last]
    # Finer than it was measured: a steep edge would be left as a ring.
    ring = (distance / max(shadow.diameter / 120, 1.0)).astype(np.int64)
    n = np.maximum(np.bincount(ring.ravel()), 1)
    fine = np.bincount(ring.ravel(), part.ravel()) / n
    radii = np.bincount(ring.ravel(), distance.ravel()) / n
    level = float(np.median(part[(distance > 0.65 * shadow.diameter) & (distance < reach)]))
    deficit = np.where((radii < 0.7 * shadow.diameter) & (n > 3), level - fine, 0.0)
    part += np.interp(distance, radii, deficit, right=0.0).astype(np.float32)
