"""The parts of which names of files and folders are made up: how each is read out of a name, and written into one.

One set of words serves both ways, so that what was filed by a pattern can be read again by it.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from typing import Any

from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind, parse_kind
from grayshelf.core.frames.sets import nominal_exposure, nominal_temperature


@dataclass(frozen=True)
class Part:
    """One part of a name."""

    key: str
    """Between braces in a pattern: '{gain}'."""
    label: str
    reads: str
    """A regular expression for how it stands in a name, without groups that capture."""
    says: str = ""
    """The name of `Saying` that it gives; empty where it gives none."""
    value: Callable[[str], Any] = str.strip
    """From the text in the name to its value; None where the text says nothing of the kind."""
    free: bool = False
    """Whether any text may stand there: two of them need something between them."""
    writes: Callable[[FrameFacts], str | None] = lambda facts: None
    """From what is known of a frame to the text; None where that is not known."""


_FREE = r"[^/]+?"
_PLAIN = r"\d+(?:[.,]\d+)?"
_LETTERS = r"[^\W\d_](?:[^\W\d]|[ -])*?"


def _number(text: str) -> float:
    return float(text.replace(",", "."))


def _exposure(text: str) -> float | None:
    found = re.fullmatch(r"(\d+(?:[.,]\d+)?)\s*(ms|sec|s|min)?", text, re.IGNORECASE)
    if found is None:
        return None
    factor = {"ms": 0.001, "min": 60.0}.get((found[2] or "").lower(), 1.0)
    return round(_number(found[1]) * factor, 6)


def _temperature(text: str) -> float:
    plain = re.sub(r"°?c$", "", text.strip(), flags=re.IGNORECASE).strip()
    below = re.match(r"-|−|m", plain, re.IGNORECASE) is not None
    size = _number(re.sub(r"^[^\d]+", "", plain))
    return -size if below and size else size


def _kind(text: str) -> FrameKind | None:
    return parse_kind(text)[0]


def _night(text: str) -> date | None:
    digits = re.sub(r"\D", "", text)
    if re.match(r"\d{2}\.", text):
        digits = digits[4:] + digits[2:4] + digits[:2]
    try:
        return date.fromisoformat(digits)
    except ValueError:
        return None


def _whole(text: str) -> int:
    return int(re.match(r"\d+", text)[0])  # type: ignore[index]


def _temperature_written(facts: FrameFacts) -> str | None:
    degrees = nominal_temperature(facts.sensor_temp_c, facts.set_temp_c)
    return None if degrees is None else f"{degrees:+.0f}C" if degrees else "0C"


def _exposure_written(facts: FrameFacts) -> str | None:
    # As it was dialled: a camera that tells 179.991 s is in one set, and under one name, with those that tell 180.
    return None if facts.exposure_s is None else f"{nominal_exposure(facts.exposure_s):.6g}s"


def _plain_written(value: float | None) -> str | None:
    return None if value is None else f"{value:.10g}"


_ALL = (
    Part(
        "kind",
        "kind of frame",
        _LETTERS,
        "kind",
        _kind,
        free=True,
        writes=lambda f: f.kind.value.replace(" ", "") if f.kind else None,
    ),
    Part("target", "target", _FREE, "target", free=True, writes=lambda f: f.target),
    Part("filter", "filter", _FREE, "filter_code", free=True, writes=lambda f: f.filter_code),
    Part(
        "night",
        "night",
        r"(?:\d{4}[-_.]?\d{2}[-_.]?\d{2}|\d{2}\.\d{2}\.\d{4})",
        "night",
        _night,
        writes=lambda f: f.night.isoformat() if f.night else None,
    ),
    Part("camera", "camera", _FREE, "camera", free=True, writes=lambda f: f.camera),
    Part("telescope", "telescope", _FREE, "telescope", free=True, writes=lambda f: f.telescope),
    Part(
        "exposure",
        "exposure",
        r"\d+(?:[.,]\d+)?(?:ms|sec|s|min)??",
        "exposure_s",
        _exposure,
        writes=_exposure_written,
    ),
    Part(
        "temperature",
        "sensor temperature",
        r"(?:[-−+]|m(?:inus)?)?\d+(?:[.,]\d+)?(?:°?C)??",
        "sensor_temp_c",
        _temperature,
        writes=_temperature_written,
    ),
    Part("gain", "gain or ISO", _PLAIN, "gain", _number, writes=lambda f: _plain_written(f.gain)),
    Part("offset", "offset", _PLAIN, "offset", _number, writes=lambda f: _plain_written(f.offset)),
    Part(
        "binning",
        "binning",
        r"\d(?:x\d)??",
        "binning",
        _whole,
        writes=lambda f: f"{f.binning_x}x{f.binning_y or f.binning_x}" if f.binning_x else None,
    ),
    Part(
        "angle",
        "angle of the camera",
        r"\d+(?:[.,]\d+)?(?:deg|°)??",
        "angle_deg",
        lambda t: _number(re.sub(r"[^\d.,]", "", t)),
        writes=lambda f: f"{f.angle.deg % 360.0:.1f}deg" if f.angle else None,
    ),
    Part(
        "focus",
        "focuser position",
        r"-?\d+",
        "focus",
        _number,
        writes=lambda f: None if f.focus is None else f"{f.focus:.0f}",
    ),
    Part("frames", "frames combined", r"\d+", writes=lambda f: str(f.n_combined) if f.n_combined else None),
    Part("number", "number of the frame", r"\d+"),
    Part("name", "name as it is", _FREE, free=True),
)
PARTS = {part.key: part for part in _ALL}
#: A word of which all that belongs together has the same; only what is handed over has one.
WORD = Part("word", "grouping word", _FREE, free=True)
HANDED_PARTS = {**PARTS, WORD.key: WORD}
