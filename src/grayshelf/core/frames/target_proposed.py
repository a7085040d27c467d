"""What lights may be of, by the folder that they lie in, where nothing says it: 'Veil West', '2024-08-10 Andromeda'.

Cameras that are no astronomical ones write no target, and people sort their lights into folders named for it (common
practice, no source). A name without a number in a catalogue may be anything, so it is proposed and not taken.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from grayshelf.core.frames.filters import normal_filter
from grayshelf.core.frames.folder_names import kind_of_folder

_MONTHS = (
    "jan(?:uary)?|feb(?:ruary)?|mar(?:ch)?|apr(?:il)?|may|june?|july?|aug(?:ust)?|sept?(?:ember)?|oct(?:ober)?"
    "|nov(?:ember)?|dec(?:ember)?"
)
#: Parts of a folder's name that tell when, how or with what, and not of what.
_NOT_OF_WHAT = re.compile(
    r"\d{4}[-_. ]?\d\d[-_. ]?\d\d|\d{1,2}[-_. ]\d{1,2}[-_. ]\d{2,4}"
    rf"|(?<![a-z])\d{{0,2}}[-_. ]?(?:{_MONTHS})[-_. ]?\d{{0,4}}(?![a-z0-9])"
    r"|(?<![a-z0-9])(?:iso|gain|offset|bin(?:ning)?|exp|f/?)[-_ ]?\d+(?:\.\d+)?(?:x\d)?"
    r"|[-−+]?\d+(?:\.\d+)?(?:x\d+(?:\.\d+)?)?[-_ ]?(?:ms|s|sec|secs|seconds|min|m|mm|h|c|°c|deg)(?![a-z])"
    r"|(?<![a-z0-9])\d+x\d+(?![a-z0-9])|(?<![a-z])\d+(?![a-z0-9])",
    re.IGNORECASE,
)
#: Words by which folders of lights are called whatever is in them.
_OF_ANYTHING = frozenset([
    "a", "all", "archive", "astro", "astrophoto", "astrophotos", "astrophotography", "bad", "best", "camera",
    "capture", "captures", "card", "data", "day", "dcim", "deep", "dslr", "exports", "fit", "fits", "fts",
    "files", "frame", "frames", "good", "home", "image", "images", "img", "imaging", "jpg", "keep", "kept",
    "light", "lights", "mono", "mosaic", "name", "narrowband", "new", "night", "nights", "no", "none", "object",
    "objects", "old", "originals", "osc", "pane", "panel", "part", "photo", "photos", "picture", "pictures",
    "project", "projects", "raw", "raws", "rgb", "reject", "rejects", "rejected", "sd", "session", "sessions",
    "set", "sky", "sorted", "stick", "sub", "subs", "target", "targets", "test", "tests", "tif", "tiff", "to",
    "todo", "unknown", "untitled", "usb", "user", "users", "work",
])  # fmt: skip
#: As cameras name them (DCF, the design rule for camera file systems; from memory).
_OF_A_CAMERA = re.compile(r"\d{3}\w{5}")
_WORD = re.compile(r"[^\W_]+(?:['’][^\W_]+)*")
_LEAST_LETTERS, _MOST_LETTERS = 3, 60


def target_by_folders(names: Sequence[str], gear: Sequence[str | None] = ()) -> tuple[str, int] | None:
    """The name that lights may have their target from, and the place of the folder that has it among these.

    Parameters
    ----------
    names
        Of the folders that the lights lie in, the nearest first, up to the one that a person named.
    gear
        By what their camera and telescope are called: a folder may be named for those.

    Returns
    -------
    None where no folder is named for anything.
    """
    of_gear = {word.lower() for name in gear for word in _WORD.findall(name or "")}
    for place, name in enumerate(names):
        if kind_of_folder(name)[0] is not None:
            continue
        told = _told(name, of_gear)
        if told:
            return told, place
    return None


def _told(name: str, of_gear: set[str]) -> str:
    """What is left of a folder's name without all that tells of no object; empty where that is no name."""
    if _OF_A_CAMERA.fullmatch(name):
        return ""
    dropped = _OF_ANYTHING | of_gear
    left = _WORD.sub(
        lambda word: "" if word[0].lower() in dropped or _is_filter(word[0]) else word[0],
        _NOT_OF_WHAT.sub(" ", name),
    )
    told = re.sub(r"[\s_]+", " ", left).strip(" -–.,;+&()[]")
    return told if sum(c.isalpha() for c in told) >= _LEAST_LETTERS and len(told) <= _MOST_LETTERS else ""


def _is_filter(word: str) -> bool:
    known = ("L", "R", "G", "B", "Ha", "Hb", "OIII", "SII", "NII")
    return normal_filter(word) in known
