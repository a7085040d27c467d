"""What a frame's values can physically be. A value outside is not known, whatever the header says.

Generous on purpose: a bound has to let every camera pass that there is, and keep out what only a fault, a driver that
has no such thing, or malice writes. Every sum in the core must hold for everything inside. Common practice, no source.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from grayshelf.core.digits import significant

#: Longer texts are no names: a FITS card holds 68 characters of one (FITS Standard 4.0, 4.2.1).
MOST_TEXT = 120


@dataclass(frozen=True)
class Bound:
    """From the lowest value that can be to the highest, both included."""

    what: str
    lowest: float
    highest: float
    unit: str
    why: str

    def trouble(self, value: float) -> str | None:
        """Why a value cannot be; None where it can."""
        if self.lowest <= value <= self.highest:
            return None
        shown = f"{significant(value, 9)}{self.unit}" if math.isfinite(value) else "not a finite number"
        return f"the {self.what} is {shown}, which cannot be: {self.why}"


#: By the names of `FrameFacts`.
BOUNDS = {
    "exposure_s": Bound("exposure", 0.0, 86_400.0, " s", "no exposure lasts over a day"),
    "scaled_from_s": Bound(
        "exposure of the dark it was scaled from", 0.0, 86_400.0, " s", "no exposure lasts over a day"
    ),
    "gain": Bound("gain", 0.0, 10_000_000.0, "", "gains and ISO values lie between 0 and 10 million"),
    "offset": Bound("offset", 0.0, 1_000_000.0, "", "offsets are counted up from 0"),
    "binning": Bound("binning", 1.0, 32.0, "", "1 to 32 pixels are added along a side"),
    "binning_y": Bound("binning", 1.0, 32.0, "", "1 to 32 pixels are added along a side"),
    "corner_x": Bound("first column", 0.0, 200_000.0, "", "no sensor has so many"),
    "corner_y": Bound("first row", 0.0, 200_000.0, "", "no sensor has so many"),
    "n_combined": Bound("number of frames combined", 1.0, 100_000.0, "", "nobody combines more"),
    "sensor_temp_c": Bound("sensor temperature", -130.0, 90.0, " °C", "no camera of this trade works there"),
    "set_temp_c": Bound("set point", -130.0, 90.0, " °C", "no camera of this trade works there"),
    "air_temp_c": Bound("air temperature", -90.0, 60.0, " °C", "no night was ever so"),
    "focal_length_mm": Bound("focal length", 1.0, 200_000.0, " mm", "no telescope has it"),
    "aperture_mm": Bound("aperture", 1.0, 50_000.0, " mm", "no telescope has it"),
    "pixel_um": Bound("pixel size", 0.1, 1_000.0, " µm", "no sensor has such pixels"),
    "electrons_per_adu": Bound("e⁻/ADU", 1e-5, 10_000.0, "", "no converter has it"),
    "angle": Bound("angle", -3_600.0, 3_600.0, "°", "nothing turns further"),
    "focus": Bound("focuser position", -10_000_000.0, 10_000_000.0, "", "no focuser counts so far"),
    "full_adu": Bound("full level", 255.0, 65_535.0, " ADU", "no converter of 8 to 16 bits is full there"),
    "pedestal_adu": Bound("pedestal", -70_000.0, 70_000.0, " ADU", "it lies outside the range of the pixels"),
}
#: Zero stands for 'not set' where a header must have a number.
ZERO_IS_UNKNOWN = ("focal_length_mm", "aperture_mm", "pixel_um", "electrons_per_adu")
#: What programs and drivers write where they know nothing; of a temperature also the absolute zero, and three nines.
_NOWHERE, _NO_TEMPERATURE = (-999.0, -9999.0), (999.0, 9999.0, -273.0, -273.15)


def tells_nothing(what: str, value: float) -> bool:
    """Whether a number in a header stands for 'not known'; `what` is a name of `BOUNDS`."""
    bound = BOUNDS[what]
    if value == 0.0:
        return what in ZERO_IS_UNKNOWN
    # Where nothing is counted below 0, and of a focuser, whose first place that is.
    if value == -1.0:
        return bound.lowest >= 0.0 or what == "focus"
    return value in _NOWHERE or (bound.unit == " °C" and value in _NO_TEMPERATURE)
