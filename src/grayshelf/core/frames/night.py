"""Observing nights: noon to noon by the site's clock, named by the evening."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.facts import SAID

#: How the words begin that say by what a night was found; other nights follow the site's time zone.
LOCAL_CLOCK = "local clock"
HEADER_PLACE = "the place in the header"
_AT_SITE = "(UTC)"


def follows_site(night_from: str) -> bool:
    """Whether a night was found by the site's time zone, and changes with it."""
    return not any(words in night_from for words in (LOCAL_CLOCK, HEADER_PLACE, SAID))


def site_zone(name: str) -> ZoneInfo:
    """Return the time zone called `name`, e.g. 'Europe/London'.

    Raises
    ------
    GrayShelfError
        Where there is no such zone.
    """
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise GrayShelfError(
            f"There is no time zone called '{name}', so frames could not be given their nights.",
            "Use a name such as Europe/London or America/Denver.",
        ) from error


def night_of_local(local: datetime) -> date:
    """The night to which a local time belongs: frames before and after midnight are one night."""
    return (local - timedelta(hours=12)).date()


def night_of_utc(utc: datetime, zone: ZoneInfo) -> date:
    """The night to which an aware UTC time belongs at a site in `zone`."""
    return night_of_local(utc.astimezone(zone).replace(tzinfo=None))


def site_night(utc: datetime, zone: ZoneInfo, keyword: str = "DATE-OBS") -> tuple[date, str]:
    """The night of a frame that says neither its local time nor its place, and the words for how it was found: by the
    keyword that has its time."""
    return night_of_utc(utc, zone), f"{keyword} {_AT_SITE} at {zone.key}, your site"


def told_again(utc: datetime, zone: ZoneInfo, night_from: str) -> tuple[date, str]:
    """The same in another zone, of a frame whose night was found so before."""
    keyword, found, _ = night_from.partition(f" {_AT_SITE}")
    return site_night(utc, zone, keyword) if found else site_night(utc, zone)


def event_moment(on: date | None, now: datetime, zone: ZoneInfo) -> datetime:
    """When something was done to a rig, entered as a day: before that day's night; today or no day is now.

    Raises
    ------
    GrayShelfError
        Where the day is still to come.
    """
    today = now.astimezone(zone).date()
    if on is None or on == today:
        return now
    if on > today:
        raise GrayShelfError(
            f"{on:%-d %b %Y} is still to come: what was not done yet makes nothing stale.",
            "Enter the day on which it was done.",
        )
    return datetime(on.year, on.month, on.day, 12, tzinfo=zone).astimezone(UTC)


def nights_apart(a: date, b: date) -> int:
    """Number of nights between two nights, never negative."""
    return abs((a - b).days)
