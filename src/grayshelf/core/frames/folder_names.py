"""What the names of the folders that a frame lies in say of it, where neither its header nor its own name does.

Cameras that are no astronomical ones write no kind: people sort their files into folders named for it, often with the
settings, the night or the target in folders within ('Darks/ISO 1600/180s', 'Lights/M 31'). Common practice, no source.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache
from pathlib import PurePath

from grayshelf.core.frames.file_names import KIND_WORDS, bare_name, dark_flat_as_one_word, kind_in_name
from grayshelf.core.frames.kind_words import everyday_in_english, in_english
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.targets import NUMBERED

#: Folders above a file that are looked at.
_LOOKED_AT = 4
#: What a folder of one kind of frame may have in its name beside the kind: 'darks_300s_-10C', 'master flats', 'iso800'.
_BESIDE_KIND = re.compile(
    r"master|frames?|raws?|subs?|library|calibration|iso|gain|sec|bin|[sc]|[^a-z]|(?<![a-z])[go](?![a-z])"
)
#: Of how many pixels in one: '2x2'.
_BINNING_BESIDE = re.compile(r"(?<!\d)(\d)x\1(?!\d)")
#: And of flats and lights, which are taken through one. (A dark with a B may be for a dark nebula.)
_FILTER_BESIDE = re.compile(r"(?<![a-z])(?:ha|halpha|oiii|sii|lum|luminance|red|green|blue|[lrgbh])(?![a-z])")
_THROUGH_FILTERS = (FrameKind.FLAT, FrameKind.LIGHT, FrameKind.DARK_FLAT)
#: And of flats, by which light they were taken.
_LIGHT_BESIDE = re.compile(
    r"(?<![a-z])(?:sky|twilight|dusk|dawn|evening|morning|t[-_ ]?shirt|panel|dome|wall|screen|light[-_ ]?box|led|el)(?![a-z])"
)
#: Bias frames are called offsets and zeros, too; before a number an offset is the setting.
_OFFSETS = re.compile(r"^(master[-_ ]?)?(?:offsets?(?![a-z])(?![-_ ]?\d)|zeros?(?![a-z]))")
_MASTERS = re.compile(r"^masters?$")
#: In a folder of one kind these hold what was made of its frames.
_MADE_OF_FRAMES = re.compile(
    r"align|calibrated|combin|debayer|drizzl|export|final|integrat|jpe?g|output|preview|process|regist|result|stack"
)


def folders_above(path: PurePath) -> tuple[str, ...]:
    """The names of the folders that a file lies in, the nearest first, as far up as they are looked at."""
    return path.parts[-2 : -2 - _LOOKED_AT : -1]


@lru_cache(maxsize=4096)
def kind_of_folder(name: str) -> tuple[FrameKind | None, bool]:
    """The kind of frame for which a folder is named, and whether it says masters; a folder named for anything else, such
    as a dark nebula, says nothing."""
    named = _OFFSETS.sub(r"\1bias", everyday_in_english(name))
    kind, is_master = kind_in_name(f"{named} ")
    if kind is None:
        return None, False
    rest = KIND_WORDS.sub("", dark_flat_as_one_word(named))
    if kind in _THROUGH_FILTERS:
        rest = _FILTER_BESIDE.sub("", NUMBERED.sub("", rest))
    if kind in (FrameKind.FLAT, FrameKind.DARK_FLAT):
        rest = _LIGHT_BESIDE.sub("", rest)
    rest = _BESIDE_KIND.sub("", _BINNING_BESIDE.sub("", rest))
    return (None, False) if rest else (kind, is_master)


def is_only_a_kind(file_name: str) -> bool:
    """Whether nothing but a kind and settings is in a file's name, as where it is a folder's."""
    return kind_of_folder(bare_name(file_name))[0] is not None


def kind_of_folders(names: Sequence[str]) -> tuple[FrameKind | None, bool]:
    """The same of the folders that a frame lies in, the nearest first: the first that is named for a kind says it.

    Between that one and the frame there may be folders for settings, nights and targets; none for what was made of
    frames, and, but for lights of whatever target, none that may mean another kind. Darks among flats are dark flats.
    """
    masters, other_kind = False, False
    for place, name in enumerate(names):
        kind, is_master = kind_of_folder(name)
        if kind is not None:
            doubtful = other_kind and kind is not FrameKind.LIGHT
            if kind is FrameKind.DARK and kind_of_folders(names[place + 1 :])[0] is FrameKind.FLAT:
                kind = FrameKind.DARK_FLAT
            return (None, False) if doubtful else (kind, is_master or masters)
        if _MADE_OF_FRAMES.search(name.lower()):
            return None, False
        masters = masters or _MASTERS.match(in_english(name)) is not None
        other_kind = other_kind or KIND_WORDS.search(dark_flat_as_one_word(name)) is not None
    return None, False
