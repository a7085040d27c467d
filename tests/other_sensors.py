"""Sensors of another make than the demo's: other tails of noise, other steps, telegraph noise, column patterns.

They share no code with the simulated rig: what was only ever tried on one model is not proven.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.optimize import brentq
from scipy.special import ndtr


@dataclass(frozen=True)
class OtherSensor:
    """A small sensor with a noise of its own in every pixel. Electrons; ADU on the 16-bit scale."""

    e_per_adu: float
    step: int
    well_e: float
    noise_e: np.ndarray
    jump_e: np.ndarray
    down: np.ndarray
    column_e: np.ndarray
    response: np.ndarray
    base_adu: float = 60.0
    adu_per_offset: float = 16.0
    white_adu: int = 65535

    def pedestal(self, offset: float) -> float:
        """Level of a capped frame, ADU."""
        return self.base_adu + self.adu_per_offset * offset

    def frame(self, electrons: float, offset: float, rng: np.random.Generator) -> np.ndarray:
        """A frame of even light."""
        light = np.minimum(rng.poisson(electrons * self.response), self.well_e) if electrons else 0.0
        read = self.noise_e * rng.standard_normal(self.noise_e.shape) + self.column_e
        read -= self.jump_e * (rng.random(self.noise_e.shape) < self.down)
        adu = self.pedestal(offset) + (light + read) / self.e_per_adu
        return np.clip(np.round(adu / self.step) * self.step, 0, self.white_adu).astype(np.uint16)

    def pixels_below(self, depth_adu: float) -> float:
        """Pixels a frame that lie this far below the pedestal, on average; negative depths."""
        x = depth_adu * self.e_per_adu - self.column_e
        steady = ndtr(x / self.noise_e)
        return float((steady + self.down * (ndtr((x + self.jump_e) / self.noise_e) - steady)).sum())

    def floor_depth(self, share_of_frames: float) -> float:
        """Depth that the darkest pixel of this share of frames stays above, ADU."""
        return float(brentq(lambda d: self.pixels_below(d) + np.log(share_of_frames), -20_000.0, 0.0))

    @property
    def read_noise_e(self) -> float:
        """Rms over all pixels, telegraph noise included."""
        return float(np.sqrt(np.mean(self.noise_e**2 + self.jump_e**2 * self.down * (1.0 - self.down))))


def other_sensor(make: str, seed: int, shape: tuple[int, int] = (160, 240)) -> OtherSensor:
    """One of three makes: 'heavy' tails on 14 bits, 'light' tails on 12, 'telegraph' noise on 16."""
    rng = np.random.default_rng(seed)
    zero = np.zeros(shape)
    column = np.tile(rng.normal(0.0, 0.15, shape[1]), (shape[0], 1))
    response = 1.0 + 0.008 * rng.standard_normal(shape)
    if make == "heavy":
        noise = 3.0 * np.exp(0.12 * rng.standard_normal(shape))
        noisy = rng.random(shape) < 0.01
        noise[noisy] *= 1.0 + np.minimum(rng.pareto(2.5, int(noisy.sum())), 5.0)
        return OtherSensor(0.1, 4, 5_200.0, noise, zero, zero, column, response)
    if make == "light":
        return OtherSensor(0.31, 16, 18_500.0, np.full(shape, 7.4), zero, zero, column, response)
    noise = 1.8 * np.exp(0.08 * rng.standard_normal(shape))
    jumping = rng.random(shape) < 0.003
    jump, down = zero.copy(), zero.copy()
    jump[jumping] = rng.uniform(5.0, 22.0, int(jumping.sum()))
    down[jumping] = rng.uniform(0.02, 0.3, int(jumping.sum()))
    return OtherSensor(0.8, 1, 47_000.0, noise, jump, down, column, response)
