"""Sets of frames with one fault each, or none, by a generator that shares nothing with the demo's."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from grayshelf.core.checks.looks import hottest, look_at
from grayshelf.core.checks.of_a_master import Beside, findings_of_master, look_at_master, together
from grayshelf.core.checks.of_a_set import Looked, findings_of_set
from grayshelf.core.checks.stars import stars_on
from grayshelf.core.frames.kinds import FrameKind

PEDESTAL, E_PER_ADU, NOISE_E = 400, 1.2, 4.0


@dataclass
class Sensor:
    """A sensor and a train, drawn by chance: off-centre vignetting, hard-edged shadows, hot pixels, glow, a row pattern."""

    rng: np.random.Generator
    height: int = 240
    width: int = 320

    def __post_init__(self) -> None:
        rng, h, w = self.rng, self.height, self.width
        self.y, self.x = np.mgrid[0:h, 0:w].astype(float)
        cx, cy = w / 2 + rng.uniform(-w, w) / 16, h / 2 + rng.uniform(-h, h) / 16
        self.r2 = ((self.x - cx) ** 2 + (self.y - cy) ** 2) / ((w / 2) ** 2 + (h / 2) ** 2)
        field = 1.0 - rng.uniform(0.1, 0.4) * self.r2
        for _ in range(6):
            sx, sy, size = rng.uniform(15, w - 15), rng.uniform(15, h - 15), rng.uniform(8, 25)
            far = np.hypot(self.x - sx, self.y - sy)
            field *= 1.0 - rng.uniform(0.005, 0.05) * ((far < size / 2) & (far > size / 6))
        self.field = field * (1.0 + rng.normal(0, 0.008, (h, w)))
        self.hot = np.zeros((h, w))
        index = rng.choice(h * w, int(0.004 * h * w), replace=False)
        self.hot.ravel()[index] = rng.lognormal(1.5, 1.3, index.size)
        self.glow = np.exp(-np.hypot(w - self.x, 0.8 * (self.y - 0.1 * h)) / (0.15 * w))
        self.pattern = rng.normal(0, 1.2, (1, w)) + rng.normal(0, 0.6, (h, 1))

    def read(self, electrons, more=0.0):
        e = self.rng.poisson(electrons) + self.rng.normal(0, NOISE_E, electrons.shape)
        return np.clip(np.rint(e / E_PER_ADU + PEDESTAL + self.pattern + more), 0, 65535).astype(np.uint16)


def flats(seed: int, *faults: str, n: int = 12):
    """Flats at 28,000 ADU; `faults` name what is wrong with them."""
    rng = np.random.default_rng(seed)
    s = Sensor(rng)
    wrong, frames = int(rng.integers(n)), []
    stars = [
        (rng.uniform(12, s.width - 12), rng.uniform(12, s.height - 12), rng.uniform(0.01, 0.2))
        for _ in range(12)
    ]
    for i in range(n):
        light, level = s.field, 28_000.0 * (1.0 + rng.normal(0, 0.001))
        if "panel drift" in faults:
            level *= 1.0 + 0.02 * (i / (n - 1) - 0.5)
        if "wrong filter" in faults and i == wrong:
            light = light * (1.0 - 0.03 * s.r2) * (1.0 + 0.01 * (s.x / s.width - 0.5))
        if "shutter shade" in faults:
            light = light * (1.0 - 0.01 * np.sqrt(s.r2))
        if "banding" in faults:
            waves, phase = rng.uniform(12, 13), rng.uniform()
            light = light * (1.0 + 0.0015 * np.sin(2 * np.pi * (s.y / s.height * waves + phase)))
        if "saturated" in faults:
            level *= 2.3
        if "wrong level" in faults and i == wrong:
            level *= 1.06
        if "unsettled first frames" in faults and i < 2:
            level *= 1.0 + 0.02 / (i + 1)
        electrons = light * level * E_PER_ADU
        if "stars" in faults:
            for sx, sy, bright in stars:
                spot = np.exp(-((s.x - sx) ** 2 + (s.y - sy) ** 2) / (2 * 1.6**2))
                electrons = electrons + bright * level * E_PER_ADU * spot
        frames.append(s.read(electrons))
    return frames, wrong


def darks(seed: int, *faults: str, n: int = 16, exposure_s: float = 120.0):
    """Darks with hot pixels and a glow of 16 ADU."""
    rng = np.random.default_rng(seed)
    s = Sensor(rng)
    wrong, frames = int(rng.integers(n)), []
    for i in range(n):
        warmer = 1.0 if "wrong temperature" in faults and i == wrong else 0.0
        electrons = (s.hot + 0.01) * exposure_s * 2.0 ** (warmer / 6.0) + 20.0 * s.glow
        more = 0.0
        if "light leak" in faults:
            more = more + 3.0 * (s.x / s.width - 0.5)
        if "wrong level" in faults and i == wrong:
            more = more + 40.0
        if "pedestal drift" in faults:
            more = more + 4.0 * (i / (n - 1) - 0.5)
        if "unsettled first frames" in faults and i < 2:
            more = more + 3.0 / (i + 1)
        if "clipped at zero" in faults:
            more = more + 12.0 - PEDESTAL
        frames.append(s.read(electrons, more))
    return frames, wrong


def found_in(frames, kind: FrameKind, *, of_sky: bool = False, set_c: float | None = -10.0):
    """All that the checks find of a set and of the plain mean of what they leave in; and that mean's look."""
    lit = kind is FrameKind.FLAT
    hot = None if lit else hottest([frames[0], frames[len(frames) // 2], frames[-1]])
    looks = [look_at(f, 65535, lit=lit, hot_at=hot) for f in frames]
    found = findings_of_set(Looked(kind, looks, [None] * len(frames), set_c, of_sky))
    out = {i for f in found if f.leave_out for i in f.frames}
    master = np.mean([f for i, f in enumerate(frames) if i not in out], axis=0).astype(np.float32)
    if lit:
        master = (master - PEDESTAL) / np.float32(np.median(master - PEDESTAL))
    look = look_at_master(master, kind)
    found = together(found, findings_of_master(master, look, kind, Beside(), exposure_s=1.0))
    if of_sky:
        found += stars_on(frames[0], looks[0].level, looks[0].noise)
    return found, look
