"""`FrameFacts` to plain data and back."""

from __future__ import annotations

from dataclasses import asdict, fields
from datetime import date, datetime
from typing import Any

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind

_NAMES = {f.name for f in fields(FrameFacts)}


def facts_to_json(facts: FrameFacts) -> dict[str, Any]:
    """Plain data without what is not known."""
    # A gain, an offset or a temperature of 0 is a value; only None, nothing in a container, and False are not known.
    data = {
        k: v
        for k, v in asdict(facts).items()
        if v is not None and v is not False and v != {} and v != () and v != ""
    }
    if facts.utc is not None:
        data["utc"] = facts.utc.isoformat()
    if facts.night is not None:
        data["night"] = facts.night.isoformat()
    if facts.complaints:
        data["complaints"] = list(facts.complaints)
    return data


def facts_from_json(data: dict[str, Any]) -> FrameFacts:
    """The facts again."""
    values = {k: v for k, v in data.items() if k in _NAMES}
    if "kind" in values:
        values["kind"] = FrameKind(values["kind"])
    if "utc" in values:
        values["utc"] = datetime.fromisoformat(values["utc"])
    if "night" in values:
        values["night"] = date.fromisoformat(values["night"])
    if "angle" in values:
        values["angle"] = CameraAngle(**values["angle"])
    if "complaints" in values:
        values["complaints"] = tuple(values["complaints"])
    return FrameFacts(**values)
