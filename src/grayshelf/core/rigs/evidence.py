"""What speaks for a rig that is proposed, and what its frames do not tell."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind


@dataclass(frozen=True)
class SetSeen:
    """A set of frames of a rig."""

    facts: FrameFacts
    frames: int


@dataclass(frozen=True)
class Evidence:
    """How much there is of a rig."""

    lights: int
    flats: int
    nights: int
    first: date | None
    last: date | None
    focal_lengths_mm: tuple[float, float] | None
    filters: tuple[str, ...]
    """Most frames first."""
    not_told: tuple[str, ...]
    """What none of its lights (or flats, where there are no lights) says, in words."""


def evidence_of(sets: Sequence[SetSeen]) -> Evidence:
    """What the lights and flats of a rig amount to: frames, nights, focal lengths in mm from the shortest to the longest."""
    nights = {s.facts.night for s in sets if s.facts.night is not None}
    lengths = [s.facts.focal_length_mm for s in sets if s.facts.focal_length_mm]
    by_filter: dict[str, int] = {}
    for s in sets:
        if s.facts.filter_code:
            by_filter[s.facts.filter_code] = by_filter.get(s.facts.filter_code, 0) + s.frames
    lights = [s.facts for s in sets if s.facts.kind is FrameKind.LIGHT] or [s.facts for s in sets]
    return Evidence(
        sum(s.frames for s in sets if s.facts.kind is FrameKind.LIGHT),
        sum(s.frames for s in sets if s.facts.kind is FrameKind.FLAT),
        len(nights),
        min(nights, default=None),
        max(nights, default=None),
        (min(lengths), max(lengths)) if lengths else None,
        tuple(sorted(by_filter, key=lambda code: (-by_filter[code], code))),
        _not_told(lights),
    )


def _not_told(facts: Sequence[FrameFacts]) -> tuple[str, ...]:
    told = {
        "telescope": any(f.telescope for f in facts),
        "focal length": any(f.focal_length_mm for f in facts),
        "filter": any(f.filter_code or f.bayer_pattern for f in facts),
        "gain": any(f.gain is not None for f in facts),
        "offset": any(f.offset is not None for f in facts),
        "sensor temperature": any(f.sensor_temp_c is not None for f in facts),
        "camera angle": any(f.angle is not None for f in facts),
        "focus": any(f.focus is not None for f in facts),
    }
    return tuple(what for what, is_told in told.items() if not is_told)
