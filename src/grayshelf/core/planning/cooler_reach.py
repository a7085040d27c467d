"""How cold a cooler holds a sensor tonight, and how hard it works for that."""

from __future__ import annotations

import math
from dataclasses import dataclass

#: A cooler that works harder than this has nothing left where the night gets warmer (common practice).
COMFORTABLE_PERCENT = 80.0
#: Below this its power tells little of how far it reaches.
LEAST_TELLING_PERCENT = 10.0


@dataclass(frozen=True)
class CoolerReach:
    """A cooler in tonight's air."""

    air_c: float
    below_air_c: float
    """So far below the air it holds the sensor at full power."""
    measured: bool = False
    """From its power now, not from what is said of the camera."""

    def power_percent(self, temp_c: float) -> float:
        """About the power it needs: the heat that it moves goes with the difference (common practice)."""
        return max(100.0 * (self.air_c - temp_c) / self.below_air_c, 0.0)

    def can_hold(self, temp_c: float) -> bool:
        """Whether it holds this set point at all."""
        return self.power_percent(temp_c) <= 100.0

    @property
    def coldest_c(self) -> float:
        """The lowest whole degree that it holds with something to spare."""
        return float(math.ceil(self.air_c - COMFORTABLE_PERCENT / 100.0 * self.below_air_c - 1e-9))


def reach_of(
    air_c: float | None, below_air_c: float | None, sensor_c: float | None, power_percent: float | None
) -> CoolerReach | None:
    """What is known of a cooler's reach: by its power now where that tells, else by what is said of the camera.

    Parameters
    ----------
    air_c
        Tonight's air, in °C.
    below_air_c
        So far below the air the camera is said to hold its sensor.
    sensor_c, power_percent
        Where the sensor is held now, and how hard the cooler works for that.
    """
    if air_c is None:
        return None
    telling = power_percent is not None and LEAST_TELLING_PERCENT <= power_percent < 100.0
    if telling and sensor_c is not None and power_percent is not None and sensor_c < air_c:
        return CoolerReach(air_c, (air_c - sensor_c) * 100.0 / power_percent, measured=True)
    return None if below_air_c is None else CoolerReach(air_c, below_air_c)
