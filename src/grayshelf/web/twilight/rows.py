"""A row of a twilight in words."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from zoneinfo import ZoneInfo

from grayshelf.core.flats.filter_words import through
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.flats.sky.plan import PlannedRow
from grayshelf.core.flats.sky.sun import Twilight
from grayshelf.core.matching.model import RigSays
from grayshelf.library.models import Job
from grayshelf.library.sites import has_place
from grayshelf.web.common import in_words
from grayshelf.web.common.places import degrees_in_words
from grayshelf.web.flats.rows import key_out
from grayshelf.web.twilight.schemas import TwilightRow
from grayshelf.work.sky.rows import SkySubject


@dataclass(frozen=True)
class Setting:
    """What the words of a page need to know besides the twilight."""

    zone: ZoneInfo
    bands: dict[str, float | None]
    gain_word: str
    says: RigSays

    def row(self, key: RowKey, count: int) -> dict[str, Any]:
        """What is said of any row."""
        binned = [f"binning {key.binning}"] if key.binning > 1 else []
        gain = [] if self.says.to_set("gain", key.gain) is None else [f"{self.gain_word} {key.gain:g}"]
        return {
            "key": key_out(key),
            "gain_text": ", ".join([*gain, *binned]),
            "passband_nm": self.bands.get(key.filter_code),
            "count": count,
        }


def _minutes(at_s: float | None) -> float | None:
    return None if at_s is None else at_s / 60.0


def _times_in_words(planned: PlannedRow, time: Callable[[float], str]) -> tuple[str, str]:
    """When the sky suits a row, and when it is shot."""
    window = plan = "the sky never suits it"
    if planned.opens_s is not None and planned.shuts_s is not None:
        window = f"open {time(planned.opens_s)}–{time(planned.shuts_s)}, {planned.fit} fit"
        plan = "no time left after the filters before it" if planned.fit else "its sky is past"
    if planned.begins_s is not None and planned.ends_s is not None:
        plan = f"{time(planned.begins_s)} to {time(planned.ends_s)}"
    return window, plan


def row_out(subject: SkySubject, planned: PlannedRow, twilight: Twilight, setting: Setting) -> TwilightRow:
    """A row as it is laid out: when its sky is there, its exposures, how many fit."""

    window, plan = _times_in_words(planned, lambda at_s: in_words.clock(twilight.time(at_s), setting.zone))
    low, high = subject.window.shortest, subject.window.longest
    return TwilightRow(
        **setting.row(subject.key, subject.wish.count),
        done=0,
        set_aside=0,
        fit=planned.fit,
        planned=planned.planned,
        opens=_minutes(planned.opens_s),
        shuts=_minutes(planned.shuts_s),
        begins=_minutes(planned.begins_s),
        ends=_minutes(planned.ends_s),
        first_exposure_s=planned.first_exposure_s,
        last_exposure_s=planned.last_exposure_s,
        window_text=window,
        plan_text=plan,
        exposures_text=exposures_in_words(planned.first_exposure_s, planned.last_exposure_s),
        light_text=f"Its light by {subject.known_from}; permitted {in_words.plain(low.exposure_s)} ({low.reason}) "
        f"to {in_words.seconds(high.exposure_s)}",
        trouble="",
        state="plan",
        shots=[],
    )


def troubled_row(row: dict[str, Any], trouble: str) -> TwilightRow:
    """A row of which nothing can be said, with the reason."""
    nothing: dict[str, Any] = dict.fromkeys(
        ("opens", "shuts", "begins", "ends", "first_exposure_s", "last_exposure_s")
    )
    return TwilightRow(
        **row,
        **nothing,
        done=0,
        set_aside=0,
        fit=0,
        planned=0,
        window_text="",
        plan_text=trouble,
        exposures_text="",
        light_text="",
        trouble=trouble,
        state="plan",
        shots=[],
    )


def exposures_in_words(first: float | None, last: float | None) -> str:
    """'0.5 to 12 s'."""
    if first is None or last is None:
        return ""
    one, other = (f"{x:.2g}" if x < 10 else f"{x:.0f}" for x in (first, last))
    return f"{one}{in_words.THIN}s" if one == other else f"{one} to {other}{in_words.THIN}s"


def place_in_words(site: dict[str, Any]) -> str:
    """Where the site is: "My site, 50.1° N, 8.7° E"; empty where nobody entered it."""
    if not has_place(site):
        return ""
    return f"{site['name']}, {degrees_in_words(float(site['latitude']), float(site['longitude']))}"


def known_in_words(subjects: Sequence[SkySubject]) -> str:
    """What the light of the rows is reckoned from, said once for all."""
    seen = in_words.listed(
        f"the twilight of {in_words.day(d)}" for d in sorted({s.seen_on for s in subjects if s.seen_on})
    )
    if seen and all(s.seen_on for s in subjects):
        return f"The light is as {seen} showed it."
    reckoned = "reckoned from focal ratio, pixel and filter, set right by as much"
    if seen:
        return f"The light is as {seen} showed it; of the others it is {reckoned}."
    newest = max((s.set_right_by for s in subjects if s.set_right_by), default=None)
    if newest is not None:
        return f"The light is {reckoned} as the twilight of {in_words.day(newest)} was off."
    return (
        "The light is reckoned from focal ratio, pixel, the filters’ widths and the sun: it may be off by a factor "
        "of two, five minutes or so."
    )


def last_in_words(job: Job | None, zone: ZoneInfo) -> str:
    """When the last twilight of the rig was, and what it brought."""
    if job is None:
        return ""
    when = (job.ended_at or job.created_at).astimezone(zone).date()
    return f"{in_words.short_day(when)}: {job.message}" if job.message else in_words.short_day(when)


def missed_in_words(missed: Mapping[RowKey, int]) -> str:
    """'The last twilight left 12 in SII and 20 in Ha: they are picked here.'"""
    if not missed:
        return ""
    rows = in_words.listed([f"{count}{through(key.filter_code)}" for key, count in missed.items()])
    return f"The last twilight left {rows}: they are picked here."


def day_in_words(twilight: Twilight, zone: ZoneInfo) -> str:
    """'Dusk of 19 Oct'."""
    middle = twilight.time(twilight.ends_s / 2.0).astimezone(zone)
    return f"{'Dawn' if twilight.dawn else 'Dusk'} of {in_words.short_day(middle.date())}"
