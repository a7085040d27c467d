"""The scale of time of a twilight’s chart, and its fade in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from grayshelf.core.flats.sky.plan import PlannedRow
from grayshelf.core.flats.sky.sun import Twilight
from grayshelf.library.library import Library
from grayshelf.library.models import RunShot
from grayshelf.web.common import in_words
from grayshelf.web.twilight.schemas import SkyMark, SunMark

#: What of the time before the first window and after the last one is shown, in minutes.
MARGIN_MIN = 6.0


def scale_of(
    library: Library,
    twilight: Twilight,
    planned: Sequence[PlannedRow],
    shots: Sequence[RunShot],
    zone: ZoneInfo,
    *,
    over: bool = False,
) -> dict[str, Any]:
    """First and last minute of the chart, its hours, where the sun passes whole degrees, and now."""
    times = [x for p in planned for x in (p.opens_s, p.shuts_s, p.ends_s) if x is not None]
    times += [twilight.seconds(s.taken_at) for s in shots]
    if not times:
        # Nothing to show: half an hour on both sides of sunset or sunrise, or of the middle where there is none.
        horizon = twilight.passes(0.0)
        middle = twilight.ends_s / 2.0 if horizon is None else horizon
        times = [middle - 1800.0, middle + 1800.0]
    first, last = min(times) / 60.0 - MARGIN_MIN, max(times) / 60.0 + MARGIN_MIN
    now = twilight.seconds(library.clock.now()) / 60.0
    shown = first <= now <= last and not over
    at_zero = "sun rises" if twilight.dawn else "sun sets"
    return {
        "zero": twilight.zero,
        "from_x": first,
        "to_x": last,
        "now_x": now if shown else None,
        "hours": [
            SkyMark(x=twilight.seconds(at) / 60.0, text=in_words.clock(at, zone))
            for at in _round_times(twilight.time(first * 60.0), twilight.time(last * 60.0), zone)
        ],
        "sun": [
            SunMark(x=at / 60.0, degree=degree, text=f"{in_words.number(degree)}°" if degree else at_zero)
            for degree, at in twilight.whole_degrees(first * 60.0, last * 60.0)
        ],
    }


def _round_times(first: datetime, last: datetime, zone: ZoneInfo) -> list[datetime]:
    """Times of the clock on the wall to write at an axis: every ten minutes, or every half hour."""
    step = timedelta(minutes=10 if last - first < timedelta(minutes=110) else 30)
    midnight = first.astimezone(zone).replace(hour=0, minute=0, second=0, microsecond=0)
    at = midnight + math.ceil((first - midnight) / step) * step
    times = []
    while at <= last:
        times.append(at)
        at += step
    return times


def course_fade(twilight: Twilight, planned: Sequence[PlannedRow]) -> float:
    """The fade by the sun's course, when the windows open."""
    opens = sorted(p.opens_s for p in planned if p.opens_s is not None)
    return twilight.course.fade(opens[len(opens) // 2] if opens else twilight.ends_s / 2.0).per_s


def fade_in_words(per_s: float, *, seen: bool) -> str:
    """How the light fades in a minute, and how that is known."""
    factor = math.exp(-60.0 * per_s)
    known = "as the frames show it" if seen else "by the sun’s course; the frames will tell"
    return f"The sky’s light changes ×{factor:.2f} a minute, {known}."
