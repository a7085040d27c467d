"""A pattern by which names are read: '{target}/{night}/{kind}_{filter}_{exposure}s_*'.

Parts stand between braces, '*' is anything, everything else is itself. Without '/' a pattern is held against the
file's name alone, with it against as many folders above as it has; the ending ('.fits', '.fits.fz') is left out.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import pairwise

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.parts import PARTS, Part
from grayshelf.core.frames.bounds import BOUNDS
from grayshelf.core.frames.filters import normal_filter
from grayshelf.core.frames.kinds import parse_kind
from grayshelf.core.frames.said import Saying

#: Longer patterns, and more parts, nobody can read; and the time that one name can take grows with them.
MOST_LETTERS, MOST_PARTS, MOST_FREE_IN_A_NAME = 300, 24, 5
_SUFFIX = re.compile(r"\.[A-Za-z0-9]{1,5}(\.(fz|gz))?$", re.IGNORECASE)
_PIECES = re.compile(r"\{([^{}]*)\}|(\*)|([^{}*]+)|([{}])")
#: What stands for anything.
ANYTHING = Part("*", "anything", r"[^/]*?", free=True)

Piece = str | Part


def pieces_of(text: str, parts: Mapping[str, Part] = PARTS) -> tuple[Piece, ...]:
    """The texts and parts of a pattern, one behind the other; `parts` are those that there are.

    Raises
    ------
    GrayShelfError
        Where it is none, with what is wrong in it.
    """
    if not text.strip("/ "):
        raise GrayShelfError("The pattern is empty.", "Choose parts, and type what stands between them.")
    if len(text) > MOST_LETTERS:
        raise GrayShelfError(f"The pattern has {len(text):,} letters; {MOST_LETTERS} are the most.")
    pieces: list[Piece] = []
    for found in _PIECES.finditer(text):
        key, star, plain, brace = found.groups()
        if brace:
            raise GrayShelfError(f"A brace stands alone: ‘{brace}’.", "Parts stand between two: {gain}.")
        if key is not None and key.strip().lower() not in parts:
            known = ", ".join(parts)
            raise GrayShelfError(f"There is no part ‘{{{key}}}’.", f"There are: {known}.")
        pieces.append(ANYTHING if star else parts[key.strip().lower()] if key is not None else plain)
    if sum(isinstance(p, Part) for p in pieces) > MOST_PARTS:
        raise GrayShelfError(f"The pattern has more than {MOST_PARTS} parts.")
    return tuple(pieces)


@dataclass(frozen=True)
class NameRead:
    """What a name says by a pattern: `saying`, or why it says nothing."""

    saying: Saying | None
    why: str = ""


@dataclass(frozen=True)
class NamePattern:
    """A pattern to read names by."""

    folders: int
    """Folders above the name that it is held against."""
    names: re.Pattern[str]
    parts: tuple[Part, ...]

    def read(self, path: str) -> NameRead:
        """What the name of a file says; `path` is below its folder, with '/'."""
        # Some systems write an 'ü' as two signs.
        bare = _SUFFIX.sub("", unicodedata.normalize("NFC", path))
        told = "/".join(bare.split("/")[-1 - self.folders :])
        found = self.names.fullmatch(told) if len(told) <= 1024 else None
        if found is None:
            return NameRead(None, "The pattern does not fit this name.")
        said = Saying()
        for part in self.parts:
            if not part.says:
                continue
            text = found[part.key]
            value = part.value(text)
            if part.says == "filter_code":
                value = normal_filter(value)
            if value is None:
                return NameRead(None, f"‘{text}’ is no {part.label}.")
            bound = BOUNDS.get("angle" if part.key == "angle" else part.says)
            trouble = bound.trouble(float(value)) if bound is not None else None
            if trouble is not None:
                return NameRead(None, f"{trouble[:1].upper()}{trouble[1:]}.")
            said = replace(said, **{part.says: value})
            if part.key == "kind" and parse_kind(text)[1]:
                said = replace(said, is_master=True)
        return NameRead(said)


def name_pattern(text: str) -> NamePattern:
    """A pattern to read names by, from what a person typed.

    Raises
    ------
    GrayShelfError
        Where it is none, or says nothing of a frame.
    """
    text = unicodedata.normalize("NFC", text.strip().strip("/"))
    pieces = pieces_of(text)
    for one, other in pairwise(pieces):
        if isinstance(one, Part) and isinstance(other, Part) and one.free and other.free:
            raise GrayShelfError(
                f"Between {_shown(one)} and {_shown(other)} something has to stand: nobody could tell where one ends.",
                "Type what parts them in your names, such as _ or -.",
            )
    free = 0
    for piece in pieces:
        if isinstance(piece, str):
            free = 0 if "/" in piece else free
        elif piece.free:
            free += 1
        if free > MOST_FREE_IN_A_NAME:
            raise GrayShelfError(f"More than {MOST_FREE_IN_A_NAME} parts of one name may be any text.")
    seen = dict[str, Part]()
    written: list[str] = []
    for piece in pieces:
        if isinstance(piece, str):
            written.append(re.escape(piece))
        elif piece is ANYTHING:
            written.append(f"(?:{piece.reads})")
        else:
            # A part that stands there twice says the same twice.
            written.append(f"(?P={piece.key})" if piece.key in seen else f"(?P<{piece.key}>{piece.reads})")
            seen[piece.key] = piece
    if not any(part.says for part in seen.values()):
        raise GrayShelfError(
            "Nothing is read by this pattern yet.",
            "Put a part where it stands in your names: {gain}, {filter}, {exposure} ...",
        )
    return NamePattern(text.count("/"), re.compile("".join(written), re.IGNORECASE), tuple(seen.values()))


def _shown(part: Part) -> str:
    return "*" if part is ANYTHING else f"{{{part.key}}}"
