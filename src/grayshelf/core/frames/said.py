"""What a person says of a frame where its header is silent or wrong: it wins over the header, and can be taken back.

What was read is kept beside it, so that the frame is as it was as soon as nothing is said of it any more.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields, replace
from datetime import date, datetime, timedelta
from typing import Any

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.bounds import BOUNDS, MOST_TEXT
from grayshelf.core.frames.facts import FILE_NAME, SAID, FrameFacts
from grayshelf.core.frames.filters import normal_filter
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.moments import EARLIEST_YEAR, LATEST_YEAR
from grayshelf.core.frames.night import follows_site, night_of_local

#: A clock that is further off than this was never set: its nights are said instead.
MOST_CLOCK_S = 366 * 86_400.0


@dataclass(frozen=True)
class Saying:
    """What is said of a frame, or of many; None where nothing is said."""

    kind: FrameKind | None = None
    is_master: bool | None = None
    camera: str | None = None
    telescope: str | None = None
    focal_length_mm: float | None = None
    filter_code: str | None = None
    target: str | None = None
    exposure_s: float | None = None
    gain: float | None = None
    offset: float | None = None
    binning: int | None = None
    sensor_temp_c: float | None = None
    angle_deg: float | None = None
    """Mechanical."""
    focus: float | None = None
    night: date | None = None
    clock_s: float | None = None
    """Seconds by which the camera's clock was behind: its times are later by so much than they say."""
    on: date | None = None
    """The day on which it was said."""

    @property
    def says(self) -> tuple[str, ...]:
        """Names of what is said."""
        return tuple(f.name for f in fields(self) if f.name != "on" and getattr(self, f.name) is not None)

    def then(self, later: Saying) -> Saying:
        """Both, where what was said later wins."""
        return replace(
            self,
            **{name: getattr(later, name) for name in later.says},
            on=later.on if later.says else self.on,
        )

    def to_plain(self) -> dict[str, Any]:
        """As JSON can hold it, without what is not said."""
        return {
            name: value.isoformat() if isinstance(value, date) else value
            for name, value in asdict(self).items()
            if value is not None
        }

    @staticmethod
    def from_plain(plain: Mapping[str, Any]) -> Saying:
        """What `to_plain` made; raises ValueError or TypeError where it makes no sense."""
        known = {f.name: plain[f.name] for f in fields(Saying) if f.name in plain}
        if "kind" in known:
            known["kind"] = FrameKind(known["kind"])
        for name in ("night", "on"):
            if name in known:
                known[name] = date.fromisoformat(known[name])
        return Saying(**known)


#: The words for what can be said, by the names of `Saying`, in the order in which they are told.
WORDS = {
    "kind": "kind of frame",
    "is_master": "master or not",
    "camera": "camera",
    "telescope": "telescope",
    "focal_length_mm": "focal length",
    "filter_code": "filter",
    "target": "target",
    "exposure_s": "exposure",
    "gain": "gain",
    "offset": "offset",
    "binning": "binning",
    "sensor_temp_c": "temperature",
    "angle_deg": "angle",
    "focus": "focus",
    "night": "night",
    "clock_s": "clock",
}
#: Names of facts by the names under which rulers and cards have them.
QUANTITIES = {
    **{
        ("angle" if name == "angle_deg" else name): word
        for name, word in WORDS.items()
        if name not in ("is_master", "clock_s")
    },
    "night": "age",
}
_TEXTS = ("camera", "telescope", "filter_code", "target")


def checked(saying: Saying) -> Saying:
    """The same with names as they are kept.

    Raises
    ------
    GrayShelfError
        Where a value cannot be, or nothing is said.
    """
    if not saying.says:
        raise GrayShelfError("Nothing is said yet.", "Fill in what the headers lack or have wrong.")
    for name in saying.says:
        value, bound = getattr(saying, name), BOUNDS.get("angle" if name == "angle_deg" else name)
        trouble = bound.trouble(float(value)) if bound is not None else None
        if trouble is not None:
            raise GrayShelfError(f"{trouble[:1].upper()}{trouble[1:]}.", "Nothing was changed.")
        if name in _TEXTS and (not value.strip() or len(value) > MOST_TEXT):
            raise GrayShelfError(f"The {WORDS[name]} needs a name of 1 to {MOST_TEXT} letters.")
    if saying.night is not None and not EARLIEST_YEAR <= saying.night.year <= LATEST_YEAR:
        raise GrayShelfError(f"No frame is of the year {saying.night.year}.")
    if saying.clock_s is not None and abs(saying.clock_s) > MOST_CLOCK_S:
        raise GrayShelfError("No clock is off by more than a year.", "Say the night instead.")
    texts = {n: " ".join(getattr(saying, n).split()) for n in _TEXTS if getattr(saying, n) is not None}
    if "filter_code" in texts:
        texts["filter_code"] = normal_filter(texts["filter_code"]) or texts["filter_code"]
    return replace(saying, **texts)  # type: ignore[arg-type]


def in_words(saying: Saying, gain_word: str = "gain") -> str:
    """'dark, gain 100, −10 °C' or '120 s': what is said, in the order of `WORDS`."""
    parts: list[str] = []
    for name in WORDS:
        value = getattr(saying, name)
        if value is not None:
            parts.append(_value_in_words(name, value, gain_word))
    return ", ".join(parts)


_WITH_UNIT = {
    "exposure_s": "{} s",
    "sensor_temp_c": "{} °C",
    "focal_length_mm": "{} mm",
    "angle_deg": "{}°",
    "offset": "offset {}",
    "binning": "binning {}",
    "focus": "focus {}",
    "filter_code": "filter {}",
    "target": "target {}",
}


def _value_in_words(name: str, value: Any, gain_word: str) -> str:
    if name == "is_master":
        return "a master" if value else "no master"
    if name == "clock_s":
        return f"clock {shift_in_words(value)}"
    if name == "gain":
        return f"{gain_word} {value:g}"
    if isinstance(value, FrameKind):
        return value.value
    if isinstance(value, date):
        return f"night of {value:%-d %b %Y}"
    shown = f"{value:g}".replace("-", "−") if isinstance(value, (int, float)) else str(value)
    return _WITH_UNIT.get(name, "{}").format(shown)


def shift_in_words(clock_s: float) -> str:
    """'put on by 1 h', 'put back by 12 h 30 min', from seconds that a clock was behind (negative: ahead)."""
    whole = round(abs(clock_s))
    hours, minutes, seconds = whole // 3600, whole % 3600 // 60, whole % 60
    parts = [f"{n:,} {unit}" for n, unit in ((hours, "h"), (minutes, "min"), (seconds, "s")) if n]
    return f"put {'on' if clock_s >= 0 else 'back'} by {' '.join(parts) or '0 s'}"


def unsaid(facts: FrameFacts) -> FrameFacts:
    """The facts as they were read, before what a person said of them (which stays noted in `said`)."""
    if not facts.as_read:
        return facts
    values: dict[str, Any] = {}
    origins = dict(facts.origins)
    for name, (was, origin) in facts.as_read.items():
        values[name] = _from_plain(name, was)
        origins.pop(_origin_name(name), None)
        if origin:
            origins[_origin_name(name)] = origin
    return replace(facts, **values, origins=origins, as_read={})


def with_said(facts: FrameFacts) -> FrameFacts:
    """Facts as they were read, with what a person said of them (`said`).

    A clock that is put right moves the time of exposure and, with it, the night; where nights are counted at the site
    they are to be counted anew afterwards.
    """
    if not facts.said:
        return facts
    saying = Saying.from_plain(facts.said)
    new = _new_values(facts, saying)
    as_read = {name: [_to_plain(getattr(facts, name)), facts.origins.get(_origin_name(name))] for name in new}
    said_on = f"{SAID}, {saying.on:%-d %b %Y}" if saying.on else SAID
    # What a header says, too, is no word of a person's; what only the file's name said is one now.
    marks = {
        _origin_name(name): said_on
        for name, value in new.items()
        if name not in _NO_MARK
        and (value != getattr(facts, name) or facts.origins.get(_origin_name(name)) == FILE_NAME)
    }
    if "night" in new and saying.night is None:
        marks.pop("night", None)
    return replace(facts, **new, origins={**facts.origins, **marks}, as_read=as_read)


#: What changes beside what is said, and is told of with it.
_NO_MARK = ("as_written", "night_from", "is_master", "binning_y")


def _new_values(facts: FrameFacts, saying: Saying) -> dict[str, Any]:
    """What the facts are to be, by their names."""
    new: dict[str, Any] = {}
    for name in saying.says:
        value = getattr(saying, name)
        if name == "binning":
            new |= {"binning_x": value, "binning_y": value}
        elif name == "angle_deg":
            new["angle"] = CameraAngle(value % 360.0)
        elif name not in ("clock_s", "night"):
            new[name] = value
    named = {"camera": "camera", "telescope": "telescope", "filter_code": "filter"}
    dropped = {word for name, word in named.items() if name in new}
    if dropped & facts.as_written.keys():
        new["as_written"] = {k: v for k, v in facts.as_written.items() if k not in dropped}
    if saying.clock_s is not None and facts.utc is not None:
        new |= _clock_put_right(facts, saying.clock_s)
    if saying.night is not None:
        new |= {"night": saying.night, "night_from": SAID}
    return new


def _clock_put_right(facts: FrameFacts, clock_s: float) -> dict[str, Any]:
    """Time and night of a frame whose clock was behind by so many seconds."""
    assert facts.utc is not None
    try:
        utc = facts.utc + timedelta(seconds=clock_s)
    except OverflowError:
        return {}
    if follows_site(facts.night_from) or facts.clock_ahead_h is None:
        # Counted by the site's zone afterwards.
        kept = facts.night_from if follows_site(facts.night_from) else ""
        return {"utc": utc, "night_from": kept, "night": facts.night}
    local = (utc + timedelta(hours=facts.clock_ahead_h)).replace(tzinfo=None)
    return {"utc": utc, "night": night_of_local(local), "night_from": facts.night_from}


def _origin_name(name: str) -> str:
    return "binning" if name in ("binning_x", "binning_y") else name


def _to_plain(value: Any) -> Any:
    if isinstance(value, FrameKind):
        return value.value
    if isinstance(value, date):
        return value.isoformat()
    return asdict(value) if isinstance(value, CameraAngle) else value


def _from_plain(name: str, plain: Any) -> Any:
    if plain is None:
        return None
    if name == "kind":
        return FrameKind(plain)
    if name == "utc":
        return datetime.fromisoformat(plain)
    if name == "night":
        return date.fromisoformat(plain)
    return CameraAngle(**plain) if name == "angle" else plain
