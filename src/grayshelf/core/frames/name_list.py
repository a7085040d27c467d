"""Frames named in a list: as a person pastes it, or as another program writes what it kept."""

from __future__ import annotations

import re

#: Behind a frame's own name: what it is packed in, and what other programs put behind it when they work on it.
_SUFFIX = re.compile(r"(\.(fits|fit|fts|xisf|tiff?|raw|cr[23]|nef|arw|dng))?(\.(fz|gz))?$", re.IGNORECASE)
#: A line may hold one name with blanks in it, or several behind one another.
_PARTS = re.compile(r"[\t,;]")


def stem_of(name: str) -> str:
    """What two names of one frame share: without folders, quotes, suffix and case."""
    last = re.split(r"[\\/]", name.strip().strip("\"'").strip())[-1]
    return _SUFFIX.sub("", last).lower()


def names_in(text: str) -> list[str]:
    """The names in a list, a line each or several on one, parted by commas, semicolons or tabs; none twice.

    Lines that begin with '#' are somebody's remarks.
    """
    found: dict[str, None] = {}
    for line in text.splitlines():
        if line.lstrip().startswith("#"):
            continue
        for part in _PARTS.split(line):
            name = part.strip().strip("\"'").strip()
            if name:
                found.setdefault(name)
    return list(found)
