"""Flats, darks and lights for the checks of pictures, written apart from the demo's generator and from what is checked."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np


class Speck(NamedTuple):
    x: float
    y: float
    diameter: float
    depth: float
    hole: float
    """Of the central obstruction, as a share of the diameter."""


def shadow(shape, speck, soft):
    """A disc, or a ring, with edges that are straight slopes."""
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]]
    r = np.hypot(x + 0.5 - speck.x, y + 0.5 - speck.y)

    def disc(diameter):
        return np.clip((diameter / 2 - r) / max(soft * speck.diameter, 1) + 0.5, 0, 1)

    return 1 - speck.depth * (disc(speck.diameter) - (disc(speck.diameter * speck.hole) if speck.hole else 0))


def illumination(shape, rng, off=(0.0, 0.0)):
    """Cosine to the fourth, and a baffle's edge in the corners."""
    h, w = shape
    y, x = np.mgrid[0:h, 0:w]
    r = np.hypot(x - w * (0.5 + off[0]), y - h * (0.5 + off[1])) / np.hypot(w, h) * 2
    return np.cos(r * rng.uniform(0.5, 0.65)) ** 4 * (1 - 0.12 / (1 + np.exp(-(r - 0.85) * 30)))


def specks(rng, shape, n, depth=None, narrowest=16, widest=260):
    """Specks that do not touch, some behind a telescope with a central obstruction."""
    h, w = shape
    found: list[Speck] = []
    while len(found) < n:
        d = float(np.exp(rng.uniform(np.log(narrowest), np.log(widest))))
        x, y = rng.uniform(0.08 * w, 0.92 * w), rng.uniform(0.08 * h, 0.92 * h)
        if all(np.hypot(x - s.x, y - s.y) > 0.75 * (d + s.diameter) for s in found):
            deep = depth or float(rng.uniform(0.01, 0.1))
            found.append(Speck(x, y, d, deep, float(rng.choice([0.0, 0.3, 0.45]))))
    return found


def dusty_flat(rng, shape, on_it, *, noise=0.004, response=0.01, off=(0.0, 0.0), train=None):
    """A master flat of norm 1: its light, shadows, the pixels' response and what noise is left."""
    flat = illumination(shape, rng if train is None else np.random.default_rng(train), off)
    for speck in on_it:
        flat = flat * shadow(shape, speck, rng.choice([0.04, 0.12]) if train is None else 0.08)
    flat = flat * (1 + response * rng.standard_normal(shape)) * (1 + noise * rng.standard_normal(shape))
    return (flat / np.median(flat)).astype(np.float32)


def calibrated_light(rng, shape, error, gradient, nebula=0.0):
    """A light calibrated with purpose-made errors: (calibrated, light less its dark, flat over its level)."""
    h, w = shape
    y, x = np.mgrid[0:h, 0:w]
    sky, pedestal, dark = 900.0, 500.0, 40.0
    flat = illumination(shape, rng, (0.02, -0.03))
    flat /= np.median(flat)
    light = sky * (1 + gradient * (x / w - 0.5) + 0.6 * gradient * (y / h - 0.5))
    light = light + nebula * sky * np.exp(-(((x / w - 0.45) / 0.22) ** 2) - ((y / h - 0.55) / 0.25) ** 2)
    stars = np.zeros(shape)
    glow = np.exp(-np.add.outer(np.arange(-3, 4) ** 2, np.arange(-3, 4) ** 2) / 4)
    for cx, cy, peak in zip(
        rng.integers(5, w - 5, 400), rng.integers(5, h - 5, 400), sky * rng.pareto(1.2, 400), strict=True
    ):
        stars[cy - 3 : cy + 4, cx - 3 : cx + 4] += peak * glow
    taken = rng.poisson((light + stars) * flat + dark) + pedestal + rng.normal(0, 5, shape)
    master = 20_000 * flat + rng.normal(0, 30, shape)
    master = master + {"pedestal left in the flat": 4000, "flat over-subtracted": -3000}.get(error, 0)
    off = pedestal + dark - (200 if error == "pedestal left in the light" else 0)
    raw, master = (taken - off).astype(np.float32), (master / np.median(master)).astype(np.float32)
    return (raw / master).astype(np.float32), raw, master


def dark(rng, shape, hot, *, frames=30, level=500.0, noise=6.0, warm=1.0):
    """A dark: hot pixels as (flat index, ADU), noise of so many frames."""
    pixels = level + rng.normal(0, noise / np.sqrt(frames), shape)
    where, value = hot
    pixels.ravel()[where] += warm * value
    return pixels.astype(np.float32)
