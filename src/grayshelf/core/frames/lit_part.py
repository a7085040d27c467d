"""The part of a frame that light can reach, where columns or rows beside it were read out too: an overscan, or pixels under
a mask.

Such pixels hold the camera's pedestal and nothing else: beside those that light reaches they look like a dark corner, a slope
of light, or a thousand dead pixels. TRIMSEC and DATASEC name the rest: '[x1:x2,y1:y2]', counted from 1, both ends inside
(NOAO's conventions for FITS, from memory).
"""

from __future__ import annotations

import re
from typing import NamedTuple

from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.fits_blocks import ImageHeader, card_value
from grayshelf.core.pictures.colours import shifted
from grayshelf.core.pictures.made_of import Alone
from grayshelf.core.pictures.parts import Cropped, Parts

LIT = ("TRIMSEC", "DATASEC")
_SECTION = re.compile(r"\[\s*(\d{1,6})\s*:\s*(\d{1,6})\s*,\s*(\d{1,6})\s*:\s*(\d{1,6})\s*\]")
#: No sensor has more masked pixels than others: a section that is smaller is of something else.
LEAST_SHARE = 0.5


class LitPart(NamedTuple):
    """Columns and rows of a frame, counted from 0; the ends are outside."""

    left: int
    top: int
    right: int
    bottom: int

    @property
    def section(self) -> str:
        """As headers write it."""
        return f"[{self.left + 1}:{self.right},{self.top + 1}:{self.bottom}]"

    def of(self, whole: Parts) -> Cropped:
        """The pixels of it."""
        return Cropped(whole, self.left, self.top, self.right - self.left, self.bottom - self.top)

    def of_one_colour(self, cell: int) -> LitPart:
        """The same where `cell` × `cell` pixels of a colour pattern make one; only those that lie in it whole."""
        return LitPart(-(-self.left // cell), -(-self.top // cell), self.right // cell, self.bottom // cell)

    def alone(self, whole: Parts) -> Alone:
        """The whole, with no number beside it."""
        return Alone(whole, *self)

    def within(self, left: int, top: int, width: int, height: int) -> LitPart | None:
        """The same in a crop of the frame; None where light reaches all of that."""
        inside = LitPart(
            max(self.left - left, 0),
            max(self.top - top, 0),
            min(self.right - left, width),
            min(self.bottom - top, height),
        )
        return _sensible(inside, width, height)


def lit_part(image: ImageHeader) -> LitPart | None:
    """What a header says of it.

    Returns
    -------
    None where light reaches all of the frame, or the header names no part of it: one that was trimmed may still name the part
    that it had before.
    """
    for name in LIT:
        found = _in_text(str(card_value(image.header, name) or ""), image.width, image.height)
        if found is not None:
            return found
    return None


def lit_part_of(facts: FrameFacts) -> LitPart | None:
    """The same as it is known of a frame or a set."""
    return None if facts.lit_section is None else _in_text(facts.lit_section, facts.width, facts.height)


def pattern_where_lit(pattern: str | None, lit: LitPart | None) -> str | None:
    """The pattern of filters over the pixels of that part, by that over the whole frame."""
    return pattern if pattern is None or lit is None else shifted(pattern, lit.left, lit.top)


def _in_text(text: str, width: int, height: int) -> LitPart | None:
    match = _SECTION.fullmatch(text.strip())
    if match is None:
        return None
    # A section that counts backwards is of a picture that is turned over: the same pixels.
    x, y = sorted((int(match[1]), int(match[2]))), sorted((int(match[3]), int(match[4])))
    return _sensible(LitPart(x[0] - 1, y[0] - 1, x[1], y[1]), width, height)


def _sensible(part: LitPart, width: int, height: int) -> LitPart | None:
    left, top, right, bottom = part
    inside = 0 <= left < right <= width and 0 <= top < bottom <= height
    enough = inside and (right - left) * (bottom - top) >= LEAST_SHARE * width * height
    return part if enough and part != (0, 0, width, height) else None
