"""How much light the twilight sky gives through a filter, before anybody has looked: for forecasts.

Near the zenith the sky follows the sun's altitude: its logarithm falls by 0.094 a minute where the sun sinks straight
down, a quarter of a degree a minute, and slower elsewhere by the relative length of twilight (Tyson & Gal 1993, AJ 105,
1206, from memory). It passes 11.84 mag/arcsec² in V at 5° below the horizon (Patat et al. 2006, A&A 455, 385, from
memory). Either may be off by a factor of two on a given evening, some minutes of time.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.flats.sky.twilight import Fade, SkyShot

#: Decades of light for each degree of the sun's altitude: 0.094 a minute at 0.25° a minute.
DEX_PER_DEG = 0.094 / 0.25
#: Where the sky is known, and how bright it is there in V, in magnitudes of a square arc second.
ANCHOR_ALTITUDE_DEG, ANCHOR_MAG = -5.0, 11.84
#: Photons from a star of magnitude 0 in V, each second, cm² and nm (Bessell 1979, PASP 91, 589, from memory).
PHOTONS_AT_ZERO = 1.0e4
#: Of the photons that reach the telescope, those that become electrons (common practice: glass, filter and sensor).
THROUGHPUT = 0.4
#: Focal ratio, pixel and conversion where nobody has entered them.
USUAL_FOCAL_RATIO, USUAL_PIXEL_UM, USUAL_E_PER_ADU = 6.0, 4.0, 0.5
#: Widths of passbands in nm where nobody has entered them, by what a filter's code says (common practice).
USUAL_WIDTHS_NM = {"L": 300.0, "R": 90.0, "G": 80.0, "B": 100.0, "Ha": 6.0, "OIII": 6.0, "SII": 6.0}
#: One channel of a colour sensor with no filter before it, and a mono sensor with none.
CHANNEL_WIDTH_NM, OPEN_WIDTH_NM = 90.0, 400.0
_ARCSEC_PER_RADIAN = 206_264.806


def relative_log_light(sun_altitudes_deg: NDArray[np.float64]) -> NDArray[np.float64]:
    """Natural log of the sky's light against that at the anchor, for altitudes of the sun in degrees; any shape."""
    return math.log(10.0) * DEX_PER_DEG * (sun_altitudes_deg - ANCHOR_ALTITUDE_DEG)


@dataclass(frozen=True, eq=False)
class SkyCourse:
    """The sky's light through a twilight: `log_light` (natural log, relative) at `times_s`, ascending, any zero."""

    times_s: NDArray[np.float64]
    log_light: NDArray[np.float64]

    def at(self, times_s: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The light (natural log) and how much of it is lost each second, at some times."""
        here, before, after = (
            np.interp(times_s + by, self.times_s, self.log_light) for by in (0.0, -30.0, 30.0)
        )
        return here, (before - after) / 60.0

    def fade(self, at_s: float, scale_adu_s: float = 1.0) -> Fade:
        """The sky about a time, through a filter that gives `scale_adu_s` at relative light 1."""
        light, per_s = self.at(np.array([at_s]))
        return Fade(scale_adu_s * math.exp(float(light[0])), at_s, float(per_s[0]))

    def scale(self, shots: Sequence[SkyShot]) -> float:
        """What a filter gives at relative light 1, in ADU a second, by shots on the course's scale of time."""
        middles = np.array([s.began_s + s.exposure_s / 2.0 for s in shots])
        rates = np.array([s.signal_adu / s.exposure_s for s in shots])
        return float(np.exp(np.median(np.log(rates) - self.at(middles)[0])))


def off_by(seen_and_reckoned: Sequence[tuple[float, float]]) -> float:
    """How many times more light the sky of a twilight gave than was reckoned: the geometric mean over all filters that were
    shot, of ``seen / reckoned`` (ADU a second both).
    """
    logs = [math.log(seen / reckoned) for seen, reckoned in seen_and_reckoned]
    return math.exp(sum(logs) / len(logs)) if logs else 1.0


def filter_width_nm(code: str, entered_nm: float | None, *, colour: bool) -> float:
    """The width of what a pixel sees: as entered, else by the filter's code, else the open sensor's."""
    if entered_nm:
        return min(entered_nm, CHANNEL_WIDTH_NM) if colour else entered_nm
    if code in USUAL_WIDTHS_NM:
        return USUAL_WIDTHS_NM[code]
    return CHANNEL_WIDTH_NM if colour else OPEN_WIDTH_NM


def anchor_rate_e_s(width_nm: float, pixel_um: float, focal_ratio: float, binning: int = 1) -> float:
    """Electrons a second in a pixel with the sun at the anchor; binned pixels are added up.

    The aperture falls out: twice as wide at one focal length gathers four times the light in each pixel.
    """
    cm2_arcsec2 = math.pi / 4.0 * (pixel_um * 1e-4 * _ARCSEC_PER_RADIAN / focal_ratio) ** 2
    photons = PHOTONS_AT_ZERO * 10.0 ** (-0.4 * ANCHOR_MAG) * width_nm * cm2_arcsec2
    return THROUGHPUT * photons * binning**2


@dataclass(frozen=True)
class SkyOptics:
    """What decides how much of the sky a pixel sees; None where nobody knows."""

    filter_code: str
    width_nm: float | None
    pixel_um: float | None
    focal_ratio: float | None
    e_per_adu: float | None
    binning: int
    colour: bool

    @property
    def guessed(self) -> list[str]:
        """What is taken as usual, since nobody entered it."""
        known = {
            "the pixel": self.pixel_um,
            "the focal ratio": self.focal_ratio,
            "electrons in an ADU": self.e_per_adu,
            "the filter’s width": self.width_nm,
        }
        return [name for name, value in known.items() if not value]

    def scale_adu_s(self) -> float:
        """ADU a second with the sun at the anchor."""
        width = filter_width_nm(self.filter_code, self.width_nm, colour=self.colour)
        pixel, ratio = self.pixel_um or USUAL_PIXEL_UM, self.focal_ratio or USUAL_FOCAL_RATIO
        return anchor_rate_e_s(width, pixel, ratio, self.binning) / (self.e_per_adu or USUAL_E_PER_ADU)
