"""What of the shelf another gain or offset would leave without lights, in words."""

from __future__ import annotations

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.left_behind import CappedShelf, LeftBehind
from grayshelf.library.holdings import holdings
from grayshelf.library.library import Library
from grayshelf.web.common import in_words

#: More values than this are not told one by one.
MOST_VALUES = 4
_WORDS = {FrameKind.DARK: "dark", FrameKind.DARK_FLAT: "dark flat", FrameKind.BIAS: "bias"}


def capped_shelf(library: Library, camera: str) -> CappedShelf:
    """What a camera has that was taken with the cap on."""
    return CappedShelf(holdings(library, camera))


def of_offset(shelf: CappedShelf, gain: float, offset: float, word: str) -> str:
    """What lights at a gain could not use at an offset; empty where they could use all of that gain."""
    found = shelf.without_offset(gain, offset)
    return _told(found, f" of {word} {gain:g}", "offset", f"offset {offset:g}")


def of_gain(shelf: CappedShelf, gain: float, word: str) -> str:
    """What lights at a gain could not use; empty where all is of that gain."""
    return _told(shelf.without_gain(gain), "", word, f"{word} {gain:g}")


def _told(found: LeftBehind, of: str, word: str, value: str) -> str:
    if not found.counts:
        return ""
    counted = in_words.listed(in_words.several(n, _WORDS[kind]) for kind, n in found.counts.items())
    values = in_words.listed(f"{v:g}" for v in found.at)
    at = f"{word} {values}" if len(found.at) <= MOST_VALUES else f"{len(found.at)} other {word}s"
    one = sum(found.counts.values()) == 1
    end = "" if found.others else " All that is taken with the cap on is then to be shot anew."
    return f"{counted}{of} on the shelf {'is' if one else 'are'} at {at}: lights at {value} cannot use {'it' if one else 'them'}.{end}"
