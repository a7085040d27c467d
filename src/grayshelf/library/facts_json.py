"""`FrameFacts` to plain data and back."""

from __future__ import annotations

from dataclasses import asdict, fields
from datetime import date, datetime
from typing import Any

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.bounds import BOUNDS, MOST_TEXT
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind

_NAMES_IN_ORDER = tuple(f.name for f in fields(FrameFacts))
_NAMES = frozenset(_NAMES_IN_ORDER)


def facts_to_json(facts: FrameFacts) -> dict[str, Any]:
    """Plain data without what is not known."""
    # A gain, an offset or a temperature of 0 is a value; only None, nothing in a container, and False are not known.
    data = {
        k: v
        for k in _NAMES_IN_ORDER
        if (v := getattr(facts, k)) is not None and v is not False and v != {} and v != () and v != ""
    }
    if facts.angle is not None:
        data["angle"] = asdict(facts.angle)
    if facts.utc is not None:
        data["utc"] = facts.utc.isoformat()
    if facts.night is not None:
        data["night"] = facts.night.isoformat()
    if facts.night_before is not None:
        data["night_before"] = facts.night_before.isoformat()
    if facts.complaints:
        data["complaints"] = list(facts.complaints)
    return data


def facts_from_json(data: dict[str, Any]) -> FrameFacts:
    """The facts again. What cannot be is not known, also where an older version has kept it."""
    values = {k: v for k, v in data.items() if k in _NAMES and (k in _FREE or can_be(k, v))}
    if "kind" in values:
        values["kind"] = FrameKind(values["kind"])
    if "utc" in values:
        values["utc"] = datetime.fromisoformat(values["utc"])
    if "night" in values:
        values["night"] = date.fromisoformat(values["night"])
    if "night_before" in values:
        values["night_before"] = date.fromisoformat(values["night_before"])
    if "angle" in values:
        angle = CameraAngle(**values["angle"])
        known = angle.of in ("mechanical", "sky") and can_be("angle_deg", angle.deg)
        values["angle"] = angle if known else None
    if "complaints" in values:
        values["complaints"] = tuple(values["complaints"])
    return FrameFacts(**values)


def facts_if_sound(data: Any) -> FrameFacts | None:
    """The same, or None where the database keeps what makes no sense: it is told of where the shelf is made
    (`left_out`), and need not be told again where sets are only looked through."""
    try:
        return facts_from_json(data)
    except (ValueError, TypeError, AttributeError, KeyError):
        return None


#: What has no bound and is no text of a header's: it is not looked at again.
_FREE = frozenset(
    (
        "kind",
        "is_master",
        "angle",
        "of_sky",
        "calibrated",
        "stacked",
        "utc",
        "night",
        "night_from",
        "night_before",
        "origins",
        "as_written",
        "complaints",
        "clock_ahead_h",
        "said",
        "as_read",
    )
)
#: The bounds by the names under which facts are kept.
KEPT_BOUNDS = {
    **{name: bound for name, bound in BOUNDS.items() if name not in ("angle", "binning")},
    "binning_x": BOUNDS["binning"],
    "angle_deg": BOUNDS["angle"],
}


def can_be(name: str, value: Any) -> bool:
    """Whether a value that is kept is one that can be."""
    if isinstance(value, str):
        return name.startswith("night") or len(value) <= MOST_TEXT
    bound = KEPT_BOUNDS.get(name)
    return bound is None or (isinstance(value, (int, float)) and bound.trouble(value) is None)
