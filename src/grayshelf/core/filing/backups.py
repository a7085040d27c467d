"""Copies of the database: when one is due, and which are kept by their age. Common practice, no source."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

#: A copy that is younger stands for this night.
FRESH = timedelta(hours=20)
#: All copies of so many days are kept, then the newest of each week by the calendar, then of each month.
ALL_OF_DAYS, WEEKS, MONTHS = 7, 8, 12


def is_due(newest: datetime | None, now: datetime) -> bool:
    """Whether a copy is due, `FRESH` (20 hours, so one each night) after the last; one from the future (a clock that jumped) stands for no night."""
    return newest is None or now - newest > FRESH or newest - now > FRESH


def to_drop(made: Sequence[datetime], now: datetime) -> list[datetime]:
    """Which copies make room, by when they were made; the newest never does."""
    seen = set[tuple[int, ...]]()
    dropped: list[datetime] = []
    for at in sorted(made, reverse=True):
        days = (now - at).days
        if days < ALL_OF_DAYS:
            continue
        # By the calendar: a span that moved with the days would drop each copy before it grew old.
        span = (*at.isocalendar()[:2], 0) if days < 7 * WEEKS else (at.year, at.month)
        if span in seen or days > 31 * MONTHS:
            dropped.append(at)
        seen.add(span)
    newest = max(made, default=None)
    return [at for at in dropped if at != newest]
