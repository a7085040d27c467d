"""What a person notes of a night's weather: which quantities there are, their units, and between what they lie."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from grayshelf.core.errors import GrayShelfError


@dataclass(frozen=True)
class Quantity:
    """One quantity of a night."""

    name: str
    says: str
    unit: str
    least: float
    most: float


QUANTITIES = (
    Quantity("air_from_c", "air at first", "°C", -60.0, 60.0),
    Quantity("air_to_c", "air at last", "°C", -60.0, 60.0),
    Quantity("humidity_percent", "humidity", "%", 0.0, 100.0),
    Quantity("wind_m_s", "wind", "m/s", 0.0, 80.0),
    Quantity("cloud_percent", "cloud", "%", 0.0, 100.0),
    Quantity("seeing_arcsec", "seeing", "″", 0.1, 30.0),
    Quantity("sky_mag_arcsec2", "sky", "mag/″²", 10.0, 23.0),
    Quantity("moon_percent", "moon", "%", 0.0, 100.0),
)
_BY_NAME = {q.name: q for q in QUANTITIES}


def checked_weather(told: Mapping[str, float | None], before: Mapping[str, float]) -> dict[str, float]:
    """What is kept of a night's weather after a change: None takes a quantity out.

    Raises
    ------
    GrayShelfError
        Where there is no such quantity, or its value cannot be.
    """
    kept = dict(before)
    for name, value in told.items():
        quantity = _BY_NAME.get(name)
        if quantity is None:
            raise GrayShelfError(f"Nothing of the weather is called ‘{name}’.")
        if value is None:
            kept.pop(name, None)
            continue
        # Also where it is no number.
        if not quantity.least <= value <= quantity.most:
            words = f"{quantity.least:g} and {quantity.most:g} {quantity.unit}".replace("-", "−")
            raise GrayShelfError(f"{quantity.says.capitalize()} lies between {words}.")
        kept[name] = float(value)
    return kept
