"""What a stack of calibration frames adds to the noise of the lights."""

from __future__ import annotations

import math
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

Numbers = TypeVar("Numbers", float, NDArray[np.float64])
"""One number, or an array of them."""


def flat_stack_noise(signal_e: float, read_noise_e: float, n_flats: int, n_dark_flats: int | None) -> float:
    """Relative noise of a pixel of a master flat: √((S + RN²)/N + RN²/N_df) / S."""
    if n_flats < 1 or signal_e <= 0:
        return math.inf
    dark = read_noise_e**2 / n_dark_flats if n_dark_flats else 0.0
    return math.sqrt((signal_e + read_noise_e**2) / n_flats + dark) / signal_e


def median_penalty(n: int) -> float:
    """How much noisier the median of n frames of normal noise is than their mean.

    ``√(π/2 · n/(n + c))`` with c = 0.5 for odd n and 1.3 for even n: within 0.5 % of the tables of order statistics (1.160
    of 3, 1.198 of 5, 1.179 of 10, 1.2533 of many).
    """
    if n < 3:
        return 1.0
    return math.sqrt(math.pi / 2.0 * n / (n + (0.5 if n % 2 else 1.3)))


#: How much noisier the mean of n frames of normal noise is without its lowest and highest sample: drawn 3.2 million times each,
#: to 0.05 %; for n = 3 it is the median, of order statistics.
_WITHOUT_EXTREMES = {3: 1.160, 4: 1.092, 5: 1.066, 6: 1.051, 7: 1.042, 8: 1.036, 9: 1.030, 10: 1.026}
#: So many frames are few: of more, two samples of each pixel say little, and clipping leaves out what lies apart and no more
#: (common practice).
FEW_FRAMES = max(_WITHOUT_EXTREMES)


def extremes_penalty(n: int) -> float:
    """How much noisier the mean of n frames is without its lowest and highest sample, for 3 to `FEW_FRAMES` of them."""
    return _WITHOUT_EXTREMES.get(n, 1.0)


def flats_cost_percent(
    sky_e: float, signal_e: float, n_flats: int, n_lights: int, read_noise_e: float, dither_positions: int = 1
) -> float:
    """Percent that a master flat adds to the noise of a stack of lights.

    ``√(1 + (B²/(N·S)) / (σ_L²/M)) − 1`` with σ_L² = B + RN², divided by the number of dither positions.

    Parameters
    ----------
    sky_e
        Sky background B of one light, in electrons.
    signal_e
        Level S of one flat above the pedestal, in electrons.
    n_flats, n_lights
        N and M.
    """
    variance = (sky_e + read_noise_e**2) / max(n_lights, 1)
    added = sky_e**2 / (n_flats * signal_e) / dither_positions
    return 100.0 * (math.sqrt(1.0 + added / variance) - 1.0)


def darks_cost_percent(
    dark_noise_e: float, n_darks: int, light_noise_e: float, n_lights: int, dither_positions: int = 1
) -> float:
    """Percent that a master dark adds to the noise of a stack: ``√(1 + (σ_D²/N)/(σ_L²/M)) − 1``."""
    added = dark_noise_e**2 / n_darks / dither_positions
    return 100.0 * (math.sqrt(1.0 + added / (light_noise_e**2 / max(n_lights, 1))) - 1.0)


#: Dark current doubles in so many degrees Celsius (Widenhorn et al. 2002, Proc. SPIE 4669: 6.1 … 7.1 °C).
DARK_DOUBLES_IN_C = 6.0


def dark_rate_at(rate_e_s: float, at_c: float, to_c: Numbers) -> Numbers:
    """Dark current at another temperature, or at an array of them, in electrons a second: ``rate · 2^((to − at)/6)``.

    It doubles every 6 °C or so (Widenhorn et al. 2002, Proc. SPIE 4669: 6.1 … 7.1 °C).
    """
    found: Numbers = rate_e_s * 2.0 ** ((to_c - at_c) / DARK_DOUBLES_IN_C)
    return found
