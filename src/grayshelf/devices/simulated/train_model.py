"""The optical train: what it takes from an even light, and what the sky and the panel send through it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Map = NDArray[np.float32]

#: Natural log of the sky's light by day against that at dusk.
DAY_LOG_LIGHT = 9.0


@dataclass(frozen=True)
class DustSpeck:
    """A speck, where its shadow falls (share of width and height) and how."""

    x: float
    y: float
    diameter_px: float
    depth: float
    on: Literal["window", "filter", "telescope"]
    filter_code: str | None = None


@dataclass(frozen=True)
class TrainModel:
    """The truth about one simulated train."""

    name: str
    aperture_mm: float
    focal_length_mm: float
    corner_loss: float
    centre_off: tuple[float, float]
    """Where the light's centre is off the sensor's at angle 0, as a share of the half diagonal."""
    dust: tuple[DustSpeck, ...]
    best_focus: float = 12_000.0

    @property
    def focal_ratio(self) -> float:
        """Focal length over aperture."""
        return self.focal_length_mm / self.aperture_mm


@lru_cache(maxsize=24)
def flat_field(
    train: TrainModel,
    width: int,
    height: int,
    filter_code: str,
    angle_deg: float,
    focus: float,
    epoch: int = 0,
) -> Map:
    """What the train leaves of an even light, about 1 in the middle, shape (height, width).

    `epoch` counts the times the train was taken apart: its light's centre moved each time.
    """
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    half = math.hypot(width, height) / 2.0
    turn = math.radians(angle_deg)
    ox, oy = train.centre_off[0] + 0.05 * epoch, train.centre_off[1] - 0.03 * epoch
    cx = width / 2 + half * (ox * math.cos(turn) - oy * math.sin(turn))
    cy = height / 2 + half * (ox * math.sin(turn) + oy * math.cos(turn))
    field = 1.0 - np.float32(train.corner_loss) * (((x - cx) ** 2 + (y - cy) ** 2) / np.float32(half**2))
    for speck in train.dust:
        if speck.on == "filter" and speck.filter_code != filter_code:
            continue
        sx, sy, diameter = speck.x * width, speck.y * height, speck.diameter_px * width / 1600.0
        if speck.on == "telescope":
            dx, dy = sx - width / 2, sy - height / 2
            sx = width / 2 + dx * math.cos(turn) - dy * math.sin(turn)
            sy = height / 2 + dx * math.sin(turn) + dy * math.cos(turn)
            diameter *= 1.0 + (focus - train.best_focus) / 20_000.0
        field *= _shadow(x, y, sx, sy, diameter, speck.depth)
    return np.clip(field, 0.02, None).astype(np.float32)


def _shadow(x: Map, y: Map, cx: float, cy: float, diameter: float, depth: float) -> Map:
    """A ring-shaped shadow, as a central obstruction or a defocused speck leaves."""
    r = np.minimum(
        np.hypot(x - np.float32(cx), y - np.float32(cy)) / np.float32(diameter / 2), np.float32(5.0)
    )
    edge = 1.0 / (1.0 + np.exp((r - 1.0) * 14.0))
    hole = 1.0 / (1.0 + np.exp((r - 0.35) * 14.0))
    return (1.0 - np.float32(depth) * (edge - 0.55 * hole)).astype(np.float32)


@dataclass(frozen=True)
class PanelModel:
    """A dimmable panel: dead at the bottom, not straight, weak in the deep red, pulsed."""

    e_s_at_full: float
    dead_below: int = 18
    zero_at: float = 12.0
    exponent: float = 1.5
    pulse_hz: float = 240.0
    duty: float = 0.4

    def output(self, brightness: int) -> float:
        """Electrons a second in the middle of a clear field."""
        if brightness < self.dead_below:
            return 0.0
        return float(
            self.e_s_at_full * ((brightness - self.zero_at) / (255.0 - self.zero_at)) ** self.exponent
        )

    def banding(self, exposure_s: float) -> float:
        """Peak-to-peak banding of an exposure, as a share of the level."""
        r = (self.pulse_hz * exposure_s) % 1.0
        return min(r, self.duty, 1 - r, 1 - self.duty) / (self.duty * self.pulse_hz * exposure_s)


@dataclass(frozen=True)
class TwilightModel:
    """A sky that fades by a constant factor each minute after dusk, and grows by it before dawn, night after night."""

    dusk: datetime
    """When the sky gives `e_s` at dusk, electrons a second in the middle of a clear field; at `dawn`, the next, too."""
    dawn: datetime
    e_s: float
    per_min: float
    """Natural log a minute."""
    through: dict[str, float] | None = None
    """Share of the sky's light that each filter passes; None takes the panel's."""
    dusk_later_s: float = 0.0
    """By how much dusk comes later each day, and dawn, in seconds."""
    dawn_later_s: float = 0.0

    def mean_e_s(self, began: datetime, exposure_s: float) -> float:
        """Mean over an exposure of the light of dusk and dawn together."""
        k = self.per_min / 60.0
        mean = -math.expm1(-k * exposure_s) / (k * exposure_s) if exposure_s > 0 else 1.0
        rise = math.expm1(k * exposure_s) / (k * exposure_s) if exposure_s > 0 else 1.0
        noon = self.dusk - (timedelta(days=1) - (self.dawn - self.dusk)) / 2
        nights = math.floor((began - noon) / timedelta(days=1))
        since = (began - self.dusk).total_seconds() - nights * (86_400.0 + self.dusk_later_s)
        until = (self.dawn - began).total_seconds() + nights * (86_400.0 + self.dawn_later_s)
        # By day the sky grows no brighter.
        evening, morning = (math.exp(min(-k * s, DAY_LOG_LIGHT)) for s in (since, until))
        return self.e_s * (evening * mean + morning * rise)


@lru_cache(maxsize=8)
def sky_scene(width: int, height: int, target_seed: int, stars: int = 320) -> tuple[Map, Map]:
    """Stars and nebula of a target, each about 1 at its brightest, shape (height, width)."""
    rng = np.random.default_rng([target_seed, 77])
    field = np.zeros((height, width), np.float32)
    xs, ys = rng.uniform(4, width - 5, stars), rng.uniform(4, height - 5, stars)
    flux = np.clip(rng.pareto(1.1, stars) * 0.02, 0.004, 1.0)
    offsets = np.arange(-6, 7)
    for cx, cy, f in zip(xs, ys, flux, strict=True):
        ix, iy = int(cx), int(cy)
        gx = np.exp(-((offsets + ix - cx) ** 2) / 4.5)
        gy = np.exp(-((offsets + iy - cy) ** 2) / 4.5)
        x0, x1, y0, y1 = max(ix - 6, 0), min(ix + 7, width), max(iy - 6, 0), min(iy + 7, height)
        patch = np.outer(gy[y0 - iy + 6 : y1 - iy + 6], gx[x0 - ix + 6 : x1 - ix + 6])
        field[y0:y1, x0:x1] += np.float32(f) * patch.astype(np.float32)
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    cloud = np.zeros((height, width), np.float32)
    for octave in range(1, 5):
        for _ in range(3):
            kx, ky, phase = rng.normal(0, 2.2 * octave), rng.normal(0, 2.2 * octave), rng.uniform(0, 6.28)
            cloud += (
                np.cos((kx * x / width + ky * y / height) * np.float32(math.pi) + np.float32(phase)) / octave
            )
    envelope = np.exp(-(((x / width - 0.56) / 0.13) ** 2 + ((y / height - 0.44) / 0.16) ** 2))
    nebula = np.clip(cloud / 4.0 + 0.3, 0, None) * envelope
    return field, (nebula / max(float(nebula.max()), 1e-6)).astype(np.float32)
