"""Where a telescope is pointed for flats: at the zenith away from the sun, or at a panel on a wall."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

from grayshelf.core.errors import GrayShelfError

#: Near the zenith, but not in it: there an altazimuth mount does not know which way to turn (common practice).
SKY_ALTITUDE_DEG = 75.0
#: Where nobody said another, it is not pointed lower on the sky than this.
USUAL_HORIZON_DEG = 20.0


class AfterFlats(StrEnum):
    """What the mount does when a run has ended."""

    STAY = "stay"
    PARK = "park"
    HOME = "home"


@dataclass(frozen=True)
class MountCard:
    """What was said of a mount that is driven.

    Raises
    ------
    GrayShelfError
        Where a place cannot be: altitudes from −10° to 90°, azimuths from 0° to 360°, north through east; both are said or none.
    """

    panel_altitude_deg: float | None = None
    panel_azimuth_deg: float | None = None
    """Where a panel hangs, or a lit wall is; None where a hand brings the light."""
    horizon_deg: float = USUAL_HORIZON_DEG
    """It is never pointed at the sky lower than this."""
    after: AfterFlats = AfterFlats.STAY

    def __post_init__(self) -> None:
        if (self.panel_altitude_deg is None) != (self.panel_azimuth_deg is None):
            raise GrayShelfError(
                "A panel on a wall has an altitude and an azimuth.", "Type both, or neither."
            )
        if self.panel_altitude_deg is not None and not -10.0 <= self.panel_altitude_deg <= 90.0:
            raise GrayShelfError("The altitude of the panel lies between −10° and 90°.")
        if self.panel_azimuth_deg is not None and not 0.0 <= self.panel_azimuth_deg < 360.0:
            raise GrayShelfError(
                "The azimuth of the panel lies between 0° (north) and 360°, through east at 90°."
            )
        if not 0.0 <= self.horizon_deg <= 85.0:
            raise GrayShelfError("The horizon lies between 0° and 85°.")

    @property
    def panel(self) -> tuple[float, float] | None:
        """Altitude and azimuth of the panel, in degrees; None where a hand brings it."""
        if self.panel_altitude_deg is None or self.panel_azimuth_deg is None:
            return None
        return self.panel_altitude_deg, self.panel_azimuth_deg


#: With the sun higher than this nothing is opened to the sky, nor pointed at it, by itself: standing still for hours it could
#: come to look into the sun (common practice).
SUN_AT_MOST_DEG = 5.0


def may_not_face_sky(sun_altitude_deg: float) -> bool:
    """Whether the sun, at this altitude in degrees, stands too high for a telescope to face the sky with nobody there."""
    return sun_altitude_deg > SUN_AT_MOST_DEG


def sky_place(sun_azimuth_deg: float, horizon_deg: float) -> tuple[float, float]:
    """Altitude and azimuth in degrees for flats of the sky: high, on the side away from the sun, above the horizon."""
    return max(SKY_ALTITUDE_DEG, horizon_deg), (sun_azimuth_deg + 180.0) % 360.0


def hour_angle_and_declination(
    altitude_deg: float, azimuth_deg: float, latitude_deg: float
) -> tuple[float, float]:
    """Hour angle (degrees, west positive) and declination (degrees) of a place on the sky.

    ``sin δ = sin a sin φ + cos a cos φ cos A``, ``tan H = −sin A cos a / (sin a cos φ − cos a sin φ cos A)`` with the azimuth
    A from north through east (Meeus, Astronomical Algorithms, chapter 13, turned to north; from memory).
    """
    a, az, phi = (math.radians(v) for v in (altitude_deg, azimuth_deg, latitude_deg))
    sine = math.sin(a) * math.sin(phi) + math.cos(a) * math.cos(phi) * math.cos(az)
    declination = math.asin(max(-1.0, min(1.0, sine)))
    hour_angle = math.atan2(
        -math.sin(az) * math.cos(a), math.sin(a) * math.cos(phi) - math.cos(a) * math.sin(phi) * math.cos(az)
    )
    return math.degrees(hour_angle), math.degrees(declination)
