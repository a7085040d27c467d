"""The camera's angle: mechanical where a rotator gives it, of the sky where it does not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

#: What a rotator or a header scatters by (common practice): within it angles are told as one.
ONE_ANGLE_DEG = 1.0


@dataclass(frozen=True)
class CameraAngle:
    """An angle in degrees, and what it is measured against.

    A sky angle changes by 180° at a meridian flip though nothing turned, so it says something of the
    train only together with the side of the pier ('east' or 'west').
    """

    deg: float
    of: Literal["mechanical", "sky"] = "mechanical"
    pier_side: str | None = None

    @property
    def on_one_side_deg(self) -> float:
        """The angle as it is east of the pier, in degrees: the same before and after a flip at which nothing turned."""
        return (self.deg + 180.0) % 360.0 if self.of == "sky" and self.pier_side == "west" else self.deg


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


def told_apart_deg(a: CameraAngle | None, b: CameraAngle | None) -> float | None:
    """How far two angles are told to be apart, in degrees from 0 to 180, or None where they say nothing of one another.

    Unlike `angle_between` a sky angle without the side of the pier counts as it stands: it cannot be shown to be the same, and
    two that are written alike are not two.
    """
    if a is None or b is None or a.of != b.of:
        return None
    known = angle_between(a, b)
    return abs(circular_difference(a.deg, b.deg) if known is None else known)


def angles_told(angles: Sequence[CameraAngle]) -> list[float]:
    """The angles of a night as they are told, in degrees and in order; those within a degree of one another are one."""
    found: list[list[float]] = []
    for deg in sorted(angle.deg for angle in angles):
        near = next((g for g in found if abs(circular_difference(deg, g[0])) <= ONE_ANGLE_DEG), None)
        if near is None:
            found.append(near := [])
        near.append(deg)
    return [circular_mean(group) for group in found]


def circular_mean(angles_deg: list[float]) -> float:
    """Mean of angles on the circle, in 0 … 360 degrees; the angles must lie within a half circle."""
    first = angles_deg[0]
    return (first + sum(circular_difference(a, first) for a in angles_deg) / len(angles_deg)) % 360.0
