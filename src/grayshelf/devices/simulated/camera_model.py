"""The sensor: from electrons to the numbers in a frame.

Electrons are light plus dark current, with Poisson noise (its normal limit: the same mean and variance), plus
read noise; times conversion; plus pedestal and fixed pattern; quantised, left-justified, clipped.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Map = NDArray[np.float32]


@dataclass(frozen=True)
class SensorModel:
    """The truth about one simulated sensor. Known to the model and to tests, never to the application."""

    name: str
    width: int
    height: int
    pixel_um: float
    seed: int
    sample_step: int = 1
    bayer_pattern: str | None = None
    channel_response: tuple[float, float, float] = (0.62, 1.0, 0.74)
    """Of the red, green and blue pixels of a colour sensor."""
    cooled: bool = True
    full_well_e: float = 51_000.0
    e_per_adu_at_zero_gain: float = 0.80
    conversion_switch_gain: float = 150.0
    read_noise_low_e: float = 3.4
    read_noise_high_e: float = 1.55
    pedestal_adu: float = 20.0
    pedestal_per_offset: float = 16.0
    dark_e_s_at_minus_10: float = 0.0022
    glow_e_s: float = 0.06
    unrepeatable_below_s: float = 0.0
    dead_time_s: float = 0.0015
    download_s: float = 1.5
    gain_range: tuple[float, float] = (0.0, 400.0)
    offset_range: tuple[float, float] = (0.0, 80.0)
    shortest_s: float = 0.001
    shutter: Literal["electronic", "slow", "curtain"] = "electronic"
    shutter_travel_s: float = 0.0
    """A slow shutter opens from the middle: the corners get this much less of the exposure."""
    most_binning: int = 4

    @property
    def white_adu(self) -> int:
        """Highest level."""
        return 65536 - self.sample_step

    def e_per_adu(self, gain: float) -> float:
        """Conversion at a gain setting in tenths of a decibel."""
        return float(self.e_per_adu_at_zero_gain * 10.0 ** (-gain / 200.0))

    def read_noise_e(self, gain: float) -> float:
        """Read noise of the usual pixel; drops where the sensor switches its conversion."""
        base = self.read_noise_low_e if gain < self.conversion_switch_gain else self.read_noise_high_e
        return float(base * (0.85 + 0.15 * 10.0 ** (-gain / 300.0)))

    def dark_e_s(self, temp_c: float) -> float:
        """Dark current of the usual pixel: doubles every 6 °C."""
        return float(self.dark_e_s_at_minus_10 * 2.0 ** ((temp_c + 10.0) / 6.0))

    def pedestal(self, offset: float) -> float:
        """Level of a capped frame, in ADU."""
        return self.pedestal_adu + self.pedestal_per_offset * offset

    @cached_property
    def response(self) -> Map:
        """Pixel response, 1 % rms about 1, or about the channel's on a colour sensor."""
        response = self._normal(1, 0.01) + np.float32(1.0)
        if self.bayer_pattern is not None:
            by_colour = dict(zip("RGB", self.channel_response, strict=True))
            for place, colour in enumerate(self.bayer_pattern):
                response[place // 2 :: 2, place % 2 :: 2] *= np.float32(by_colour[colour])
        return response

    @cached_property
    def pattern_adu(self) -> Map:
        """Fixed pattern of columns and rows in the pedestal."""
        rng = np.random.default_rng([self.seed, 2])
        columns = rng.normal(0, 2.2, self.width).astype(np.float32)
        rows = rng.normal(0, 1.2, self.height).astype(np.float32)
        return columns[None, :] + rows[:, None]

    @cached_property
    def noise_factor(self) -> Map:
        """Read noise of each pixel over that of the usual one: a tail of noisy pixels, up to three times as noisy.

        It sets the rms over all pixels a tenth above the usual pixel.
        """
        rng = np.random.default_rng([self.seed, 3])
        factor = np.ones((self.height, self.width), np.float32)
        noisy = rng.random(factor.shape, dtype=np.float32) < 0.06
        factor[noisy] = (1.5 + 1.5 * rng.beta(1.0, 1.5, int(noisy.sum()))).astype(np.float32)
        return factor

    @cached_property
    def _hot(self) -> tuple[NDArray[np.int64], Map, Map]:
        rng = np.random.default_rng([self.seed, 4])
        count = max(8, int(0.004 * self.width * self.height))
        where = rng.choice(self.width * self.height, count, replace=False)
        rate = rng.lognormal(3.2, 1.5, count).astype(np.float32)
        phase = rng.random(count).astype(np.float32)
        return where, rate, phase

    def dark_factor(self, on: date) -> Map:
        """Dark current of each pixel over the usual one; hot pixels change slowly with the calendar."""
        where, rate, phase = self._hot
        years = (on - date(2026, 1, 1)).days / 365.25
        factor = np.ones(self.width * self.height, np.float32)
        alive = (phase + np.float32(0.25 * years)) % 1.0 < 0.9
        factor[where[alive]] += rate[alive]
        return factor.reshape(self.height, self.width)

    @cached_property
    def glow(self) -> Map:
        """Amplifier glow, in one corner, 1 at its brightest."""
        y, x = np.mgrid[0 : self.height, 0 : self.width].astype(np.float32)
        scale = 0.16 * self.width
        return np.exp(-np.hypot(self.width - x, 0.75 * (y - 0.86 * self.height)) / scale).astype(np.float32)

    @cached_property
    def dead(self) -> NDArray[np.int64]:
        """Flat indices of a few dead pixels."""
        return np.random.default_rng([self.seed, 5]).choice(self.width * self.height, 5, replace=False)

    def _normal(self, stream: int, sigma: float) -> Map:
        rng = np.random.default_rng([self.seed, stream])
        return rng.standard_normal((self.height, self.width), dtype=np.float32) * np.float32(sigma)


@dataclass(frozen=True)
class Conditions:
    """How a frame is taken."""

    exposure_s: float
    gain: float
    offset: float
    temp_c: float
    on: date
    first_of_series: bool = False
    lit: tuple[float, float] | None = None
    """The light is on after so many seconds, for so many; None: all the time."""


def expected_electrons(sensor: SensorModel, light_e_s: Map | float, c: Conditions) -> Map:
    """Mean electrons in each pixel, shape (height, width)."""
    seconds = c.exposure_s + sensor.dead_time_s
    open_s = _open_s(sensor, seconds) if c.lit is None else _lit_s(sensor, c.exposure_s, *c.lit)
    light = np.asarray(light_e_s, np.float32) * sensor.response * open_s
    dark = sensor.dark_factor(c.on) * np.float32(sensor.dark_e_s(c.temp_c) * c.exposure_s)
    glow = sensor.glow * np.float32(sensor.glow_e_s * c.exposure_s * 2.0 ** ((c.temp_c + 10.0) / 12.0))
    return np.asarray(light + dark + glow, np.float32)


def _open_s(sensor: SensorModel, seconds: float) -> Map | np.float32:
    """For how long each pixel sees the light."""
    if not sensor.shutter_travel_s:
        return np.float32(seconds)
    y, x = np.mgrid[0 : sensor.height, 0 : sensor.width].astype(np.float32)
    off = np.hypot(x / sensor.width - 0.5, y / sensor.height - 0.5) / np.float32(math.hypot(0.5, 0.5))
    return np.asarray(np.maximum(seconds - sensor.shutter_travel_s * off, 0.0), np.float32)


def _lit_s(sensor: SensorModel, exposure_s: float, before_s: float, lit_s: float) -> Map | np.float32:
    """For how long each pixel sees a light that is lit within the exposure: all of it, once the shutter is open."""
    late = np.float32(exposure_s) - _open_s(sensor, exposure_s)
    seen = min(before_s + lit_s, exposure_s) - np.maximum(before_s, late)
    return np.asarray(np.maximum(seen, 0.0), np.float32)


def binned(pixels: NDArray[np.uint16], binning: int) -> NDArray[np.uint16]:
    """Pixels added up in squares, full at white: shape (h // binning, w // binning)."""
    if binning == 1:
        return pixels
    height, width = (n // binning * binning for n in pixels.shape)
    squares = pixels[:height, :width].reshape(height // binning, binning, width // binning, binning)
    return np.minimum(squares.sum(axis=(1, 3), dtype=np.uint32), 65535).astype(np.uint16)


def expected_adu(sensor: SensorModel, electrons: Map, c: Conditions) -> Map:
    """The noise-free level of each pixel, in ADU, before quantisation."""
    level = np.minimum(electrons, np.float32(sensor.full_well_e)) / np.float32(sensor.e_per_adu(c.gain))
    level += np.float32(sensor.pedestal(c.offset)) + sensor.pattern_adu
    return np.asarray(level, np.float32)


def expose(
    sensor: SensorModel, light_e_s: Map | float, c: Conditions, rng: np.random.Generator
) -> NDArray[np.uint16]:
    """One frame, shape (height, width)."""
    if c.lit is None and sensor.unrepeatable_below_s and c.exposure_s < sensor.unrepeatable_below_s:
        wobble = 1.0 + 0.08 * float(rng.standard_normal()) * (
            1.0 - c.exposure_s / sensor.unrepeatable_below_s
        )
        light_e_s = np.asarray(light_e_s, np.float32) * np.float32(wobble)
    electrons = expected_electrons(sensor, light_e_s, c)
    read = sensor.noise_factor * np.float32(sensor.read_noise_e(c.gain))
    noise = rng.standard_normal(electrons.shape, dtype=np.float32) * np.sqrt(electrons + read * read)
    adu = expected_adu(sensor, electrons + noise, c)
    if c.first_of_series:
        adu += np.float32(1.5)
    step = sensor.sample_step
    frame = np.clip(np.rint(adu / step) * step, 0, sensor.white_adu).astype(np.uint16)
    frame.ravel()[sensor.dead] = 0
    return frame


def stacked(
    sensor: SensorModel, light_e_s: Map | float, c: Conditions, n_frames: int, rng: np.random.Generator
) -> Map:
    """What the mean of `n_frames` frames looks like, without making them: shape (height, width), ADU."""
    electrons = expected_electrons(sensor, light_e_s, c)
    read = sensor.noise_factor * np.float32(sensor.read_noise_e(c.gain))
    noise = rng.standard_normal(electrons.shape, dtype=np.float32) * np.sqrt(
        (electrons + read * read) / n_frames
    )
    return expected_adu(sensor, electrons + noise, c)
