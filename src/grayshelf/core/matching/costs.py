"""What a dark of other settings, or a thin master, costs the lights: in electrons and in percent of their noise.

Electrons are those of one light. A mismatch is weighed against the noise of the background of one light; few
frames are weighed against the noise of the whole stack (common practice).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from grayshelf.core.masters.noise import Numbers, dark_rate_at, darks_cost_percent, flats_cost_percent
from grayshelf.core.matching.model import CommonSettings, Holding, LightsNoise, SensorTraits

#: Sky of one light where it was not measured, electrons (common practice: between narrow and broad band).
USUAL_SKY_E = 500.0
#: Signal of one flat where it is not known, electrons (common practice: a third of a usual pixel's range).
USUAL_FLAT_SIGNAL_E = 20_000.0


@dataclass(frozen=True)
class DarkCost:
    """What a dark leaves in one light, electrons."""

    mismatch_e: float
    """Dark current that is too much or too little, in the usual pixel."""
    hot_mismatch_e: float
    """The same where the hottest 0.1 % of the pixels begin."""
    noise_e: float
    """Noise of the master."""
    background_e: float
    """Noise of the background of one light."""

    @property
    def worst_e(self) -> float:
        """Mismatch and noise together, in the pixel where they are largest."""
        return math.hypot(max(self.mismatch_e, self.hot_mismatch_e), self.noise_e)

    @property
    def share(self) -> float:
        """`worst_e` as a share of the lights' own background noise."""
        return self.worst_e / self.background_e if self.background_e > 0 else math.inf


#: Costs that differ by less are the same, electrons.
LEAST_E = 0.01


def ranked_e(cost_e: float) -> float:
    """A cost as candidates are ranked by it, electrons: to the two digits that a slip tells.

    Two darks never have the same temperature to the last digit. What no slip tells is not to stand before the newer of them.
    """
    if not 0.0 < cost_e < math.inf:
        return cost_e
    step = max(10.0 ** (math.floor(math.log10(cost_e)) - 1), LEAST_E)
    return math.floor(cost_e / step + 0.5) * step


def frame_noise_e(settings: CommonSettings, traits: SensorTraits) -> float:
    """Temporal noise of one capped frame of these settings, electrons: ``√(R² + D(T)·t)`` with read noise R, dark current D in
    electrons a second and t in seconds (EMVA Standard 1288, equation of the dark noise; from memory).
    """
    temp_c = traits.dark_rate_at_c if settings.sensor_temp_c is None else settings.sensor_temp_c
    rate = dark_rate_at(traits.dark_rate_e_s, traits.dark_rate_at_c, temp_c)
    return math.sqrt(traits.read_noise_e**2 + rate * (settings.exposure_s or 0.0))


@dataclass(frozen=True)
class Ruling:
    """What rules the noise of a capped frame: its read-out, as in a bias, or its dark current."""

    read_share: float
    """Of the variance of a usual pixel, what the read-out brings: 0 … 1."""
    usual_from_s: float
    """Exposure in seconds from which dark current brings more than the read-out, in a usual pixel."""
    hot_from_s: float
    """The same where the hottest 0.1 % of the pixels begin."""


def what_rules(settings: CommonSettings, traits: SensorTraits) -> Ruling:
    """What rules the noise of a capped frame of these settings: both bring the same at ``R² = D(T)·t`` (`frame_noise_e`)."""
    temp_c = traits.dark_rate_at_c if settings.sensor_temp_c is None else settings.sensor_temp_c
    read_e2 = traits.read_noise_e**2
    usual, hot = (
        dark_rate_at(rate, traits.dark_rate_at_c, temp_c)
        for rate in (traits.dark_rate_e_s, traits.hot_rate_e_s)
    )
    whole_e2 = frame_noise_e(settings, traits) ** 2
    return Ruling(
        read_e2 / whole_e2 if whole_e2 > 0 else 1.0,
        *(read_e2 / r if r > 0 else math.inf for r in (usual, hot)),
    )


def stack_noise_e(settings: CommonSettings, holding: Holding, traits: SensorTraits) -> float:
    """Noise of a capped master, electrons: as measured, else that of one frame over ``√N``."""
    if holding.noise_e is not None:
        return holding.noise_e
    return frame_noise_e(settings, traits) / math.sqrt(max(holding.n_frames, 1))


def background_noise_e(want: CommonSettings, traits: SensorTraits, lights: LightsNoise) -> float:
    """Noise of the background of one light, electrons: as measured, but never below the sensor's own (`frame_noise_e`)."""
    return max(lights.background_e or 0.0, frame_noise_e(want, traits))


def left_in_light_e(
    rate_e_s: float, at_c: float, light_s: Numbers, light_c: Numbers, dark_s: Numbers, dark_c: Numbers
) -> Numbers:
    """Dark current that a dark leaves in a light, electrons: ``|D(T_light)·t_light − D(T_dark)·t_dark|``.

    Parameters
    ----------
    rate_e_s, at_c
        Dark current D in electrons a second, and the temperature at which it is that.
    light_s, light_c, dark_s, dark_c
        Exposures in seconds and temperatures in °C; arrays for many at once.
    """
    light = light_s * dark_rate_at(rate_e_s, at_c, light_c)
    return abs(light - dark_s * dark_rate_at(rate_e_s, at_c, dark_c))


def dark_cost(want: CommonSettings, holding: Holding, traits: SensorTraits, lights: LightsNoise) -> DarkCost:
    """What a dark leaves in lights of these settings, electrons: see `left_in_light_e`; temperatures in °C.

    What is not known of the dark is taken to be as wanted: that it is not known is said elsewhere.
    """
    have = holding.settings
    light_c = next(
        c for c in (want.sensor_temp_c, have.sensor_temp_c, traits.dark_rate_at_c) if c is not None
    )
    dark_c = light_c if have.sensor_temp_c is None else have.sensor_temp_c
    light_s = want.exposure_s or 0.0
    dark_s = light_s if have.exposure_s is None else have.exposure_s

    at_c = traits.dark_rate_at_c
    return DarkCost(
        left_in_light_e(traits.dark_rate_e_s, at_c, light_s, light_c, dark_s, dark_c),
        left_in_light_e(traits.hot_rate_e_s, at_c, light_s, light_c, dark_s, dark_c),
        stack_noise_e(want, holding, traits),
        background_noise_e(want, traits, lights),
    )


def sky_of(want: CommonSettings, traits: SensorTraits, lights: LightsNoise) -> float:
    """Electrons (e⁻) of the sky in one light: what its background noise has above the sensor's own, ``σ_bg² − σ_frame²``, since
    the noise of the sky is the root of its electrons; else a usual sky.
    """
    if lights.background_e is None:
        return USUAL_SKY_E
    return max(lights.background_e**2 - frame_noise_e(want, traits) ** 2, 0.0)


def few_darks_percent(
    want: CommonSettings, holding: Holding, traits: SensorTraits, lights: LightsNoise, dither_positions: int
) -> float:
    """Percent that a master dark adds to the noise of the stacked lights; see `darks_cost_percent`.

    Parameters
    ----------
    dither_positions
        Of the lights, where they were dithered: so many different pixels of the dark fall onto one of the stack.
    """
    own = frame_noise_e(want, traits)
    background = math.sqrt(sky_of(want, traits, lights) + own**2)
    return darks_cost_percent(
        stack_noise_e(want, holding, traits), 1, background, max(lights.n_lights, 1), dither_positions
    )


def few_flats_percent(
    want: CommonSettings, holding: Holding, traits: SensorTraits, lights: LightsNoise, dither_positions: int
) -> float:
    """Percent that a master flat adds to the noise of the stacked lights; see `flats_cost_percent`.

    Parameters
    ----------
    dither_positions
        Of the lights, where they were dithered: so many different pixels of the flat fall onto one of the stack.
    """
    return flats_cost_percent(
        sky_of(want, traits, lights),
        holding.signal_e or USUAL_FLAT_SIGNAL_E,
        max(holding.n_frames, 1),
        max(lights.n_lights, 1),
        frame_noise_e(want, traits),
        dither_positions,
    )
