"""Where on earth a frame says that it was taken."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from datetime import timedelta

from grayshelf.core.frames.reader import HeaderReader, number_of

#: What is further away than this is another site: headers give places in tenths of a degree, and the sun's course is the same
#: within it.
ELSEWHERE_KM = 100.0
#: One hour of the sun's time for so many degrees of longitude.
DEGREES_AN_HOUR = 15.0
#: Clocks of zones keep to the sun by so much, summer time among it. Common practice, no source.
CLOCKS_KEEP_TO_H = 3.5
#: Keywords by which programs tell it: OBSGEO-B and -L are of the FITS Standard 4.0, section 8.4.1; the rest is practice,
#: with no source.
LATITUDE = ("SITELAT", "LAT-OBS", "OBSGEO-B", "OBSLAT", "LATITUDE")
LONGITUDE = ("SITELONG", "LONG-OBS", "OBSGEO-L", "OBSLONG", "LONGITUD")
#: From the centre of the earth, in metres, and the ellipsoid that degrees of latitude are told on (WGS 84): FITS Standard 4.0,
#: section 8.4.1.
GEOCENTRIC = ("OBSGEO-X", "OBSGEO-Y", "OBSGEO-Z")
EQUATOR_M, FLATTENING = 6_378_137.0, 1.0 / 298.257223563
#: Nobody stands further than this from the ellipsoid.
_HEIGHT_M = 50_000.0


@dataclass(frozen=True)
class Place:
    """Where a header says that its frame was taken."""

    latitude_deg: float | None
    """North positive; None where it says no latitude that can be one."""
    longitude_deg: float
    """East positive, -180 to 180."""


def place_in(reader: HeaderReader) -> Place | None:
    """The place in a header; one of exactly 0° N 0° E was never set. A longitude that is none is complained of."""
    found = reader.value(LONGITUDE)
    if found is None:
        return _from_the_centre(reader)
    longitude = degrees_of(found[1])
    if longitude is None or not -180.0 <= longitude <= 360.0:
        reader.complaints.append(f"{found[0]} is '{found[1]}', which is not a longitude")
        return None
    beside = reader.value(LATITUDE)
    latitude = None if beside is None else degrees_of(beside[1])
    if longitude == 0.0 and not latitude:
        return None
    sound = latitude is not None and -90.0 <= latitude <= 90.0
    return Place(latitude if sound else None, longitude - 360.0 if longitude > 180.0 else longitude)


def _from_the_centre(reader: HeaderReader) -> Place | None:
    told = [number_of(found[1], "") if (found := reader.value((name,))) else None for name in GEOCENTRIC]
    x, y, z = (math.nan if one is None else one for one in told)
    polar_m = EQUATOR_M * (1.0 - FLATTENING)
    if not polar_m - _HEIGHT_M <= math.hypot(x, y, z) <= EQUATOR_M + _HEIGHT_M:
        return None
    from_axis_m = math.hypot(x, y)
    # B. R. Bowring, Survey Review 23 (1976), from memory: exact to far below an arc second near the ground.
    reduced = math.atan2(z * EQUATOR_M, from_axis_m * polar_m)
    e2 = FLATTENING * (2.0 - FLATTENING)
    north_m = z + e2 / (1.0 - e2) * polar_m * math.sin(reduced) ** 3
    latitude = math.atan2(north_m, from_axis_m - e2 * EQUATOR_M * math.cos(reduced) ** 3)
    return Place(math.degrees(latitude), math.degrees(math.atan2(y, x)))


def degrees_of(value: object) -> float | None:
    """Degrees from a header: a number, or '-104 49 21.6', '+51:28:38', '0d57m00s W'; None where it is neither.

    West and south are negative, also where a letter says so.
    """
    if isinstance(value, bool):
        return None
    if isinstance(value, (int, float)):
        return float(value) if math.isfinite(value) else None
    text = str(value).strip()
    # A letter may stand before it as well as behind.
    text = re.sub(r"^([NSEWnsew])\s*(?=\d)(.*\d)\D?$", r"\2 \1", text)
    parts = re.fullmatch(
        r"([+\-−]?)\s*(\d+(?:\.\d+)?)(?:[\s:dD°]+(\d+(?:\.\d+)?))?(?:[\s:mM'′]+(\d+(?:\.\d+)?))?"
        # A small s is of the seconds, a capital one is south.
        r"[\s:dD°mM'′s\"″]*([NSEWnsew]?)",
        text,
    )
    if parts is None:
        return None
    sign, degrees, minutes, seconds, side = parts.groups()
    if float(minutes or 0) >= 60.0 or float(seconds or 0) > 60.0:
        return None
    total = float(degrees) + float(minutes or 0) / 60.0 + float(seconds or 0) / 3600.0
    negative = sign in ("-", "−") or side.upper() in ("W", "S")
    return -total if negative else total


def sun_offset(longitude_deg: float) -> timedelta:
    """How far the mean sun's time at a longitude (east positive) is ahead of UTC."""
    return timedelta(hours=longitude_deg / DEGREES_AN_HOUR)


def apart_km(one: Place, other: Place) -> float:
    """How far two places are from one another, along the ground of a round earth (haversine formula), km; both latitudes
    have to be known."""
    assert one.latitude_deg is not None
    assert other.latitude_deg is not None
    north, other_north = math.radians(one.latitude_deg), math.radians(other.latitude_deg)
    east = math.radians(other.longitude_deg - one.longitude_deg)
    share = (
        math.sin((other_north - north) / 2.0) ** 2
        + math.cos(north) * math.cos(other_north) * math.sin(east / 2.0) ** 2
    )
    return 2.0 * EQUATOR_M / 1000.0 * math.asin(min(1.0, math.sqrt(share)))


def clock_off_h(longitude_deg: float, clock_ahead: timedelta) -> float | None:
    """Hours by which the mean sun at a longitude (east positive) is ahead of a clock, -12 to 12, where that clock cannot be
    the place's own; None where it can.

    Parameters
    ----------
    clock_ahead
        How far the clock is ahead of UTC.
    """
    ahead_h = (sun_offset(longitude_deg) - clock_ahead).total_seconds() / 3600.0
    ahead_h = (ahead_h + 12.0) % 24.0 - 12.0
    return ahead_h if abs(ahead_h) > CLOCKS_KEEP_TO_H else None
