"""Numbers and dates as people say them."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

from grayshelf.core.digits import THIN as THIN
from grayshelf.core.digits import file_size, stop
from grayshelf.core.digits import named as named
from grayshelf.core.digits import seconds as seconds
from grayshelf.core.digits import several as several
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.matching.model import CommonSettings, RigSays, Ruler
from grayshelf.core.matching.part_of_sensor import FIRST, OnSensor, begins_at
from grayshelf.web.common.schemas import RulerOut

MINUS = "−"
size = file_size


def number(value: float, digits: int = 0) -> str:
    """'1,234.5' with a true minus."""
    return f"{round(value, digits) + 0.0:,.{digits}f}".replace("-", MINUS)


def plain(value: float) -> str:
    """A number without needless digits: '0.78', '300'."""
    return f"{value:g}".replace("-", MINUS)


def exposure(value_s: float | None) -> str:
    """The same of frames whose exposure may not be known."""
    return "exposure not known" if value_s is None else seconds(value_s)


def series(count: int, exposure_s: float | None) -> str:
    """'20 × 300 s'; '3 lights, exposure not known'."""
    if exposure_s is None:
        return f"{several(count, 'light')}, {exposure(None)}"
    return f"{count} × {seconds(exposure_s)}"


def stamp(facts: FrameFacts) -> str:
    """A frame's filter; where it has none, whether it is of a colour sensor."""
    return facts.filter_code or ("colour" if facts.bayer_pattern else "no filter")


def part_of_sensor(frames: OnSensor) -> list[str]:
    """'part 3008 × 3008' of frames that say that they begin elsewhere than the sensor."""
    return [f"part\u00a0{frames.width}\u00a0×\u00a0{frames.height}"] if begins_at(frames) != FIRST else []


def stop_of(frames: FrameFacts | CommonSettings) -> list[str]:
    """'f/4' of frames through a lens that tell it."""
    return [stop(frames.lens_stop)] if frames.lens_stop else []


def at_gain(word: str, says: RigSays, gain: float) -> str:
    """', gain 100'; nothing of a camera that has none to set."""
    return "" if says.to_set("gain", gain) is None else f", {word} {plain(gain)}"


def degrees_c(value: float, digits: int = 0) -> str:
    """'−10 °C'."""
    return f"{number(value, digits)}{THIN}°C"


def duration(span: timedelta | float) -> str:
    """'1 h 12 min', '4 min', '40 s'."""
    total = round(span if isinstance(span, (int, float)) else span.total_seconds())
    if total < 90:
        return f"{total}{THIN}s"
    minutes = round(total / 60)
    if minutes < 60:
        return f"{minutes}{THIN}min"
    return (
        f"{minutes // 60}{THIN}h {minutes % 60:02d}{THIN}min" if minutes % 60 else f"{minutes // 60}{THIN}h"
    )


def day(when: date | None) -> str:
    """'12 Sep 26'."""
    return when.strftime("%-d %b %y") if when else "no date"


def short_day(when: date | None) -> str:
    """'12 Sep'."""
    return when.strftime("%-d %b") if when else "no date"


def long_day(when: date) -> str:
    """'Sunday 18 October 2026'."""
    return when.strftime("%A %-d %B %Y")


def clock(when: datetime, zone: ZoneInfo) -> str:
    """'01:12' at the site."""
    return when.astimezone(zone).strftime("%H:%M")


def night_title(night: str) -> str:
    """A night as ISO 8601 has it, as '18 Oct 2026'; what has none is told so."""
    try:
        return day(date.fromisoformat(night))
    except ValueError:
        return "of no night"


def frames(count: int, *, known: bool = True) -> str:
    """'1 frame', '50 frames'; '? frames' of a master that does not tell."""
    return several(count, "frame") if known else "? frames"


def frames_told(count: int, *, known: bool) -> str:
    """The same for those who hear it."""
    return several(count, "frame") if known else "number of frames not known"


def many(count: int) -> str:
    """'0', '1,840', '58,300', '1.2 M', '83 M'."""
    if count < 100_000:
        return f"{count:,}"
    return f"{count / 1e6:.1f}{THIN}M" if count < 10_000_000 else f"{count / 1e6:.0f}{THIN}M"


def listed(words: Iterable[str]) -> str:
    """'L, R and G'."""
    items = list(words)
    if len(items) < 2:
        return "".join(items)
    return f"{', '.join(items[:-1])} and {items[-1]}"


def days(nights: Iterable[date | None]) -> str:
    """'2 and 3 Oct'."""
    known = sorted({n for n in nights if n is not None})
    if not known:
        return "no date"
    if len({(n.year, n.month) for n in known}) == 1:
        return f"{listed(str(n.day) for n in known)} {known[0]:%b}"
    return listed(short_day(n) for n in known)


def ruler_text(ruler: Ruler) -> str:
    """The distance written beside a ruler."""
    if ruler.unknown:
        return "unknown"
    if ruler.kind == "age":
        return _age_text(ruler)
    if ruler.kind == "exact":
        return plain(ruler.measured) if isinstance(ruler.measured, float) else str(ruler.measured)
    return _distance_text(ruler.distance or 0.0, ruler.unit)


def _age_text(ruler: Ruler) -> str:
    count = int(ruler.measured or 0) if isinstance(ruler.measured, (int, float)) else 0
    if ruler.unit != "days":
        return several(count, "night") if count else "same night"
    if count >= 61:
        return several(round(count / 30.4), "month")
    if count == 0:
        return "same day"
    return several(round(count / 7), "week") if count >= 21 else several(count, "day")


def _distance_text(distance: float, unit: str) -> str:
    if unit == "s" and abs(distance) < 0.005:
        return f"0{THIN}s"
    digits = {"°C": 1, "°": 1, "steps": 0, "ADU": 0}.get(unit, 2)
    if unit == "s" and abs(distance) >= 10:
        digits = 0
    sign = "+" if round(distance, digits) > 0 else ""
    space = "" if unit == "°" else THIN
    return f"{sign}{number(distance, digits)}{space}{unit}"


def _notes(ruler: Ruler) -> list[str]:
    """Where its values are from, if not from headers."""
    by_hand = "said by hand" if ruler.by_hand else ""
    if ruler.note:
        return [n for n in (ruler.note, by_hand) if n]
    return [n for n in ("only from a file’s name" if ruler.from_name else "", by_hand) if n]


def ruler_out(ruler: Ruler) -> RulerOut:
    """A ruler for the page."""
    return RulerOut(
        quantity=ruler.quantity,
        kind=ruler.kind,
        unit=ruler.unit,
        wanted=ruler.wanted,
        measured=ruler.measured,
        distance=ruler.distance,
        tolerance=ruler.tolerance,
        inside=ruler.inside,
        unknown=ruler.unknown,
        note="; ".join(_notes(ruler)),
        from_name=ruler.from_name,
        by_hand=ruler.by_hand,
        text=ruler_text(ruler),
    )
