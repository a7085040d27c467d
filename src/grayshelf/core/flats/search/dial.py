"""Exposures as people dial them in, and the bands of a pulsed source that they avoid."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

#: Bands of a flat may be this deep, peak to peak: below the noise of a pixel in a usual master.
BANDING_LIMIT = 0.005
#: So far may a dialled exposure be off the exact one.
DIAL_WITHIN = 0.012


@dataclass(frozen=True)
class Pulse:
    """A source that is switched on and off."""

    hz: float
    duty: float
    """Share of the time that it is lit."""

    def banding(self, exposure_s: float) -> float:
        """Peak-to-peak banding of an exposure, as a share of the level.

        ``min(r, d, 1−r, 1−d) / (d·f·t)`` with ``r = frac(f·t)``: rows that begin at other moments
        of the pulse see a part of it more or less. At worst about ``1/(f·t)``.
        """
        r = (self.hz * exposure_s) % 1.0
        return min(r, self.duty, 1.0 - r, 1.0 - self.duty) / (self.duty * self.hz * exposure_s)

    @property
    def steady_from_s(self) -> float:
        """From this exposure on no exposure bands more than allowed."""
        return min(self.duty, 1.0 - self.duty, 0.5) / (self.duty * self.hz * BANDING_LIMIT)


def _plain_numbers(exposure_s: float, within: float) -> Iterator[float]:
    """The numbers near an exposure, the plainest first."""
    exponent = math.floor(math.log10(exposure_s))
    for digits in (0, 1, 2, 3):
        scale = 10.0 ** (exponent - digits)
        for multiple in (5.0, 2.0, 1.0):
            step = scale * multiple
            nearest = round(exposure_s / step)
            for count in (nearest, nearest - 1, nearest + 1):
                number = count * step
                if number > 0 and abs(number / exposure_s - 1.0) <= within:
                    yield float(f"{number:.4g}")


def dial(exposure_s: float, within: float = 0.015, pulse: Pulse | None = None) -> float:
    """Round an exposure, seconds, to the plainest number people would dial in, not further off than `within`, a share.

    Parameters
    ----------
    pulse
        Where the source is pulsed, only numbers whose bands stay under `BANDING_LIMIT`, or else the nearest whole
        number of pulses.
    """
    if exposure_s <= 0:
        return exposure_s
    for number in _plain_numbers(exposure_s, within):
        if pulse is None or pulse.banding(number) < BANDING_LIMIT:
            return number
    if pulse is not None:
        return float(f"{max(round(exposure_s * pulse.hz), 1) / pulse.hz:.7g}")
    return float(f"{exposure_s:.4g}")


def dial_between(exposure_s: float, within: float, low_s: float, high_s: float) -> float:
    """The plainest number near an exposure, seconds, that is permitted: a bound where the plain ones lie beyond it."""
    return min(max(dial(exposure_s, within), low_s), high_s)
