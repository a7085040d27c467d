"""Measuring one setting of a holding against the one that is wanted."""

from __future__ import annotations

import re
from datetime import date
from functools import lru_cache

from grayshelf.core.digits import stop
from grayshelf.core.frames.angle import angle_between
from grayshelf.core.frames.night import nights_apart
from grayshelf.core.frames.sets import STOPS_APART
from grayshelf.core.matching.model import CommonSettings, Ruler


def exact(quantity: str, wanted: object, measured: object, unit: str = "") -> Ruler:
    """A setting that must be the same: gain, offset, binning, filter."""
    known = wanted is not None and measured is not None
    numbers = isinstance(wanted, (int, float)) and isinstance(measured, (int, float))
    distance = float(measured) - float(wanted) if numbers else None  # type: ignore[arg-type]
    return Ruler(
        quantity,
        "exact",
        unit,
        _plain(wanted),
        _plain(measured),
        distance,
        None,
        inside=known and wanted == measured,
        unknown=not known,
    )


def _plain(value: object) -> float | str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, (int, float)):
        return float(value)
    if isinstance(value, tuple):
        return "×".join(str(v) for v in value)
    return str(value)


def band(
    quantity: str, wanted: float | None, measured: float | None, tolerance: float, unit: str, note: str = ""
) -> Ruler:
    """A number that must lie within `tolerance` of the one wanted."""
    if wanted is None or measured is None:
        return Ruler(
            quantity, "band", unit, wanted, measured, None, tolerance, inside=False, unknown=True, note=note
        )
    distance = measured - wanted
    # A rounding error of the subtraction must not turn 'exactly at the limit' into 'outside'.
    inside = abs(distance) <= tolerance * (1 + 1e-9) + 1e-12
    return Ruler(quantity, "band", unit, wanted, measured, distance, tolerance, inside, note=note)


def exposure(want: CommonSettings, have: CommonSettings, percent: float) -> Ruler:
    """Exposure times in seconds, within a percentage of the one wanted."""
    tolerance = (want.exposure_s or 0.0) * percent / 100.0
    return band("exposure", want.exposure_s, have.exposure_s, tolerance, "s", f"±{percent:g} %")


def temperature(want: CommonSettings, have: CommonSettings, tolerance_c: float) -> Ruler:
    """Sensor temperatures. A set that drifted with the night is as wide as it drifted."""
    drift = 0.0 if want.held else round(want.temp_range_c / 2.0, 1)
    note = f"the lights drifted over {want.temp_range_c:.1f} °C" if drift > 0.05 else ""
    return band("temperature", want.sensor_temp_c, have.sensor_temp_c, tolerance_c + drift, "°C", note)


@lru_cache(4096)
def plain_name(name: str | None) -> str | None:
    """A name without case, blanks and signs: programs write one telescope in several ways."""
    letters = re.sub(r"[^a-z0-9]", "", name.lower()) if name else ""
    return letters or name


def same_name(quantity: str, wanted: str | None, measured: str | None) -> Ruler:
    """Two names of one thing, however they are written: a telescope, a filter."""
    ruler = exact(quantity, plain_name(wanted), plain_name(measured))
    return ruler._replace(wanted=wanted, measured=measured)


def focal_length(want: CommonSettings, have: CommonSettings, percent: float) -> Ruler:
    """Focal lengths in mm, within a percentage: a reducer makes another train of the same telescope."""
    tolerance = (want.focal_length_mm or 0.0) * percent / 100.0
    return band(
        "focal length", want.focal_length_mm, have.focal_length_mm, tolerance, "mm", f"±{percent:g} %"
    )


def other_stop(want: CommonSettings, have: CommonSettings) -> list[str]:
    """Of a lens: that its flats were shot at another stop, where its light falls off otherwise."""
    wanted, there = want.lens_stop, have.lens_stop
    if not wanted or not there or abs(there - wanted) <= STOPS_APART * max(wanted, there):
        return []
    return [f"{stop(there)}, not {stop(wanted)}"]


def angle(want: CommonSettings, have: CommonSettings, tolerance_deg: float) -> Ruler:
    """Angles of the camera in degrees, on the circle; sky angles only with the side of the pier."""
    distance = angle_between(have.angle, want.angle)
    wanted = want.angle.deg if want.angle else None
    measured = have.angle.deg if have.angle else None
    if distance is None:
        note = (
            "a sky angle without the side of the pier says nothing"
            if wanted is not None and measured is not None
            else ""
        )
        return Ruler(
            "angle", "band", "°", wanted, measured, None, tolerance_deg, inside=False, unknown=True, note=note
        )
    return Ruler(
        "angle", "band", "°", wanted, measured, distance, tolerance_deg, abs(distance) <= tolerance_deg + 1e-9
    )


def days_from(night: date, have: CommonSettings) -> int:
    """Days from a night to those over which a dark or bias is known to be good: from the one on which it was taken to the
    last on which it was measured."""
    if have.night is None:
        raise ValueError("When it was taken is not known.")
    ends = sorted([have.night, have.good_on or have.night])
    return 0 if ends[0] <= night <= ends[1] else min(nights_apart(night, end) for end in ends)


def age_nights(want: CommonSettings, have: CommonSettings, tolerance_nights: int) -> Ruler:
    """Nights between the lights and the flats."""
    if want.night is None or have.night is None:
        return Ruler("age", "age", "nights", None, None, None, tolerance_nights, inside=False, unknown=True)
    apart = nights_apart(want.night, have.night)
    inside, later = apart <= tolerance_nights, have.night > want.night
    return Ruler(
        "age", "age", "nights", 0.0, float(apart), float(apart), tolerance_nights, inside, later=later
    )


def age_days(want: CommonSettings, have: CommonSettings, tolerance_days: int) -> Ruler:
    """Days between the lights and the darks or bias; none as long as these were measured to be good still."""
    if want.night is None or have.night is None:
        return Ruler("age", "age", "days", None, None, None, tolerance_days, inside=False, unknown=True)
    apart = days_from(want.night, have)
    inside, later = apart <= tolerance_days, have.night > want.night
    return Ruler("age", "age", "days", 0.0, float(apart), float(apart), tolerance_days, inside, later=later)
