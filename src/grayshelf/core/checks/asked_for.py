"""Whether a frame that came in is the test flat that was asked for."""

from __future__ import annotations

from dataclasses import dataclass

from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind


@dataclass(frozen=True)
class AskedFor:
    """The test flat that was asked for."""

    camera: str
    filter_code: str
    gain: float
    binning: int
    offset: float | None = None
    """None where the lights do not tell theirs."""
    gain_word: str = "gain"
    """What this camera calls its gain."""


_KIND_WORDS = {
    FrameKind.LIGHT: "a light",
    FrameKind.DARK: "a dark",
    FrameKind.BIAS: "a bias frame",
    FrameKind.DARK_FLAT: "a dark flat",
}


def why_not(facts: FrameFacts, asked: AskedFor) -> str | None:
    """What is wrong with a frame, in a sentence; None where it is the one that was asked for.

    What a header does not say is not held against it: test shots of many programs say little.
    """
    if facts.kind in _KIND_WORDS and facts.kind is not FrameKind.FLAT:
        return f"It is {_KIND_WORDS[facts.kind]}, not a flat. Take a flat."
    if facts.is_master:
        return "It is a master, not a fresh frame. Take a flat."
    if facts.camera is not None and facts.camera != asked.camera:
        return f"It was taken with {facts.camera}, not with {asked.camera}."
    if facts.filter_code is not None and asked.filter_code not in ("none", facts.filter_code):
        return f"It was taken in {facts.filter_code}; {asked.filter_code} is looked for. Bring {asked.filter_code} in."
    if facts.gain is not None and facts.gain != asked.gain:
        word = asked.gain_word
        return f"It was taken at {word} {facts.gain:g}; the lights have {asked.gain:g}. Set the {word} to {asked.gain:g}."
    if None not in (facts.offset, asked.offset) and facts.offset != asked.offset:
        return f"It was taken at offset {facts.offset:g}; the lights have {asked.offset:g}. Set it to {asked.offset:g}."
    if facts.binning_x is not None and facts.binning_x != asked.binning:
        return f"It was taken at binning {facts.binning_x}; the lights have {asked.binning}. Set it to {asked.binning}."
    if facts.exposure_s is None or facts.exposure_s <= 0:
        return "Its header does not tell the exposure, so nothing can be drawn from it. Let the program write EXPTIME."
    return None
