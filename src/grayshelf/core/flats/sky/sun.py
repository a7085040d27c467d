"""The sun over a site: one dusk or dawn, and when in it the sun passes which altitude."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from functools import cache, lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.flats.sky.light import SkyCourse, relative_log_light

#: Between these Astropy's sun keeps what it promises (ERFA's epv00: 1900 to 2100).
FIRST_DAY, LAST_DAY = date(1900, 1, 2), date(2100, 12, 30)
#: The sun is known at steps of so many seconds; between them it goes straight.
SUN_STEP_S = 60.0
#: At so many of these it is reckoned; a cubic spline through those is off by 0.001° at most.
STEPS_TO_RECKON = 10
HALF_DAY_S = 43_200.0


@cache
def _turn_evenly() -> None:
    """Let the earth turn by the clock, about a pole that stands still, for the whole process.

    UT1 − UTC is kept under 0.9 s (ITU-R TF.460), in which the sun goes 0.004°; the tables of what it is take seconds to
    read, and end some day. Nothing is ever fetched, and leap seconds that have grown old do not stop anybody.
    """
    from astropy import units as u
    from astropy.utils import iers

    iers.conf.auto_download = False
    iers.conf.auto_max_age = None
    even = {
        "MJD": [0.0, 200_000.0] * u.d,
        "UT1_UTC": [0.0, 0.0] * u.s,
        **{name: [0.0, 0.0] * u.arcsec for name in ("PM_x", "PM_y", "dX_2000A", "dY_2000A")},
    }
    iers.earth_orientation_table.set(iers.IERS(even))


def sun_altitudes(
    latitude_deg: float, longitude_deg: float, times: Sequence[datetime]
) -> NDArray[np.float64]:
    """Altitude of the sun's centre in degrees, without refraction, at aware times."""
    return np.asarray(_sun(latitude_deg, longitude_deg, times).alt.deg, np.float64)


def _sun(latitude_deg: float, longitude_deg: float, times: Sequence[datetime]) -> Any:
    """Astropy's sun over an earth that turns evenly: a second of time is nothing here."""
    # Loaded when a sun is asked for: it takes as long as the rest of a start.
    from astropy import units as u
    from astropy.coordinates import AltAz, EarthLocation, get_sun
    from astropy.time import Time

    _turn_evenly()
    where = EarthLocation(lat=latitude_deg * u.deg, lon=longitude_deg * u.deg)
    at = Time(list(times))
    return get_sun(at).transform_to(AltAz(obstime=at, location=where))


def sun_azimuth(latitude_deg: float, longitude_deg: float, at: datetime) -> float:
    """Azimuth of the sun's centre in degrees, from north through east, at an aware time."""
    return float(_sun(latitude_deg, longitude_deg, [at]).az.deg[0])


@dataclass(frozen=True, eq=False)
class Twilight:
    """The half day about one dusk or dawn at a place: from noon to midnight by the sun, or from midnight to noon."""

    day: date
    """By the sun's noon: of the evening, or of the morning."""
    dawn: bool
    zero: datetime
    """Times are seconds from here."""
    times_s: NDArray[np.float64]
    altitudes_deg: NDArray[np.float64]

    @property
    def course(self) -> SkyCourse:
        """How the sky's light goes with the sun."""
        return SkyCourse(self.times_s, relative_log_light(self.altitudes_deg))

    @property
    def ends_s(self) -> float:
        """Midnight, or noon."""
        return float(self.times_s[-1])

    def seconds(self, at: datetime) -> float:
        """A time on this scale."""
        return (at - self.zero).total_seconds()

    def time(self, seconds: float) -> datetime:
        """A time of this scale as one of the calendar."""
        return self.zero + timedelta(seconds=seconds)

    def passes(self, altitude_deg: float) -> float | None:
        """When the sun passes an altitude; None where it never does."""
        # It rises all the morning and sinks all the evening.
        rising = slice(None) if self.dawn else slice(None, None, -1)
        altitudes, times = self.altitudes_deg[rising], self.times_s[rising]
        if not altitudes[0] <= altitude_deg <= altitudes[-1]:
            return None
        return float(np.interp(altitude_deg, altitudes, times))

    def whole_degrees(self, from_s: float, to_s: float) -> list[tuple[int, float]]:
        """The whole degrees that the sun passes between two times, and when."""
        low, high = sorted(np.interp([from_s, to_s], self.times_s, self.altitudes_deg))
        found = [(degree, self.passes(degree)) for degree in range(math.ceil(low), math.floor(high) + 1)]
        return [(degree, at) for degree, at in found if at is not None]


@lru_cache(maxsize=32)
def twilight_at(latitude_deg: float, longitude_deg: float, day: date, *, dawn: bool) -> Twilight:
    """The sun of one dusk or dawn; `day` is that of the sun's noon."""
    # Noon by the mean sun: where the clock stands at noon says nothing of the sun's.
    noon = datetime(day.year, day.month, day.day, 12, tzinfo=UTC) - timedelta(hours=longitude_deg / 15.0)
    zero = noon - timedelta(seconds=HALF_DAY_S) if dawn else noon
    times_s = np.arange(0.0, HALF_DAY_S + 1.0, SUN_STEP_S)
    knots_s = times_s[::STEPS_TO_RECKON]
    knots = [zero + timedelta(seconds=float(s)) for s in knots_s]
    # Of its sine: the altitude itself turns sharply where the sun goes through the zenith.
    from scipy.interpolate import CubicSpline

    sines = CubicSpline(knots_s, np.sin(np.radians(sun_altitudes(latitude_deg, longitude_deg, knots))))
    altitudes_deg = np.degrees(np.arcsin(np.clip(sines(times_s), -1.0, 1.0)))
    return Twilight(day, dawn, zero, times_s, altitudes_deg)


def sun_day(at: datetime, longitude_deg: float) -> date:
    """The day by the sun's noon at a place."""
    return (at + timedelta(hours=longitude_deg / 15.0)).date()
