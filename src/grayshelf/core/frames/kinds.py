"""The five kinds of frame, and the many ways in which programs spell them."""

from __future__ import annotations

import re
from enum import StrEnum
from functools import lru_cache

from grayshelf.core.frames.kind_words import everyday_in_english


class FrameKind(StrEnum):
    """What a frame was taken for."""

    BIAS = "bias"
    DARK = "dark"
    FLAT = "flat"
    DARK_FLAT = "dark flat"
    LIGHT = "light"

    @property
    def capped(self) -> bool:
        """Whether no light may reach the sensor in a frame of this kind."""
        return self in (FrameKind.BIAS, FrameKind.DARK, FrameKind.DARK_FLAT)


#: Letters only, lower case, without 'master', 'frame', 'field', 'image' and plurals.
_SPELLINGS: dict[str, FrameKind] = {
    "light": FrameKind.LIGHT,
    "object": FrameKind.LIGHT,
    "science": FrameKind.LIGHT,
    "sci": FrameKind.LIGHT,
    "lightf": FrameKind.LIGHT,
    "bias": FrameKind.BIAS,
    "biase": FrameKind.BIAS,
    "zero": FrameKind.BIAS,
    "offset": FrameKind.BIAS,
    "dark": FrameKind.DARK,
    "flat": FrameKind.FLAT,
    "domeflat": FrameKind.FLAT,
    "skyflat": FrameKind.FLAT,
    "twilightflat": FrameKind.FLAT,
    "panelflat": FrameKind.FLAT,
    # As observatories shorten them: of the dome, the sky and the twilight.
    "dflat": FrameKind.FLAT,
    "sflat": FrameKind.FLAT,
    "tflat": FrameKind.FLAT,
    "twiflat": FrameKind.FLAT,
    "obj": FrameKind.LIGHT,
    "darkflat": FrameKind.DARK_FLAT,
    "flatdark": FrameKind.DARK_FLAT,
    "darkforflat": FrameKind.DARK_FLAT,
}


#: Words that say of what light, when or in which state a frame was taken, and not of what kind it is.
_BESIDE = re.compile(
    r"\b(?:am|pm|calibration|dawn|dusk|dome|el|evening|internal|led|lightbox|morning|panel|raw|screen|sky|twilight|wall)\b"
)
_OF_THE_SKY = re.compile(r"sky|twilight|dusk|dawn|^(?:[st]|twi)flat")


def is_of_the_sky(text: str) -> bool:
    """Whether an IMAGETYP value says that a flat was taken of the twilight sky: 'Sky Flat', 'TWILIGHT FLAT' ..."""
    letters = re.sub(r"[^a-z]", "", text.lower())
    return parse_kind(text)[0] is FrameKind.FLAT and _OF_THE_SKY.search(letters) is not None


@lru_cache(maxsize=256)
def parse_kind(text: str) -> tuple[FrameKind | None, bool]:
    """Read an IMAGETYP value.

    Parameters
    ----------
    text
        The header's value, in any spelling: 'Light Frame', 'FLATDARK', 'Master Dark', 'zero' ...

    Returns
    -------
    kind, is_master
        `kind` is None where the spelling is not known.
    """
    plain = text.lower()
    for spelled in (plain, _BESIDE.sub(" ", plain), everyday_in_english(plain)):
        kind, is_master = _spelled(spelled)
        if kind is not None:
            break
    return kind, is_master


def _spelled(text: str) -> tuple[FrameKind | None, bool]:
    letters = re.sub(r"[^a-z]", "", text)
    is_master = "master" in letters or letters.startswith(("integrated", "stacked", "super"))
    letters = re.sub(r"master|integrated|stacked|^super", "", letters)
    letters = re.sub(r"(frames?|fields?|images?|integration)$", "", letters)
    if letters.endswith("s") and letters not in ("bias",):
        letters = letters[:-1]
    return _SPELLINGS.get(letters), is_master
