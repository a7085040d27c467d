"""The camera's angle: mechanical where a rotator gives it, of the sky where it does not."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class CameraAngle:
    """An angle in degrees, and what it is measured against.

    A sky angle changes by 180° at a meridian flip though nothing turned, so it says something of the
    train only together with the side of the pier ('east' or 'west').
    """

    deg: float
    of: Literal["mechanical", "sky"] = "mechanical"
    pier_side: str | None = None


def circular_difference(a_deg: float, b_deg: float) -> float:
    """Return a − b on the circle, in −180 … +180 degrees."""
    return (a_deg - b_deg + 180.0) % 360.0 - 180.0


def angle_between(a: CameraAngle | None, b: CameraAngle | None) -> float | None:
    """How far the camera was turned from `b` to `a`, in degrees, or None where that is not known."""
    if a is None or b is None or a.of != b.of:
        return None
    if a.of == "mechanical":
        return circular_difference(a.deg, b.deg)
    if a.pier_side is None or b.pier_side is None:
        return None
    flip = 0.0 if a.pier_side == b.pier_side else 180.0
    return circular_difference(a.deg + flip, b.deg)


def circular_mean(angles_deg: list[float]) -> float:
    """Mean of angles on the circle, in 0 … 360 degrees; the angles must lie within a half circle."""
    first = angles_deg[0]
    return (first + sum(circular_difference(a, first) for a in angles_deg) / len(angles_deg)) % 360.0
