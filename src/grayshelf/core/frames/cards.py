"""Cards of a FITS header, each read when it is asked for.

A scan asks some forty keywords of each of many thousand headers, and the frames of a series have nearly all their cards
in common: reading the usual forms here, each but once, takes a small part of the time.
What is written in any other way is read by Astropy, so that the answer is the same (FITS Standard 4.0, section 4.2).
"""

from __future__ import annotations

import re
import struct
import warnings
from collections.abc import Iterator
from functools import cached_property, lru_cache
from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from astropy.io import fits

CARD, BLOCK = 80, 2880
_NAME_AND_REST = struct.Struct("8s72s")
_END = b"END     "
#: Cards that are no values, and those that tell of the pixels behind their own header alone.
_SAYS_NOTHING = (b"COMMENT ", b"HISTORY ", b" " * 8)
_OF_ITS_OWN = re.compile(
    rb"SIMPLE |XTENSION|BITPIX |NAXIS\d* |EXTEND |PCOUNT |GCOUNT |BSCALE |BZERO |BLANK |CHECKSUM|DATASUM |EXTNAME "
)
#: 'NAME    = value / comment', with a value in one of the usual forms.
_USUAL = re.compile(
    r"= +(?:'(?P<text>(?:[^']|'')*)'|(?P<true>T)|(?P<false>F)"
    r"|(?P<whole>[+-]?\d+)|(?P<float>[+-]?\d+\.\d*(?:E[+-]?\d+)?)) *(?:/.*)?"
)


class Cards(Protocol):
    """A header that can be asked for a keyword."""

    def get(self, name: str, default: Any = None, /) -> Any:
        """The value of a keyword, or the default where it is absent."""
        ...


class _Padded(dict[str, bytes]):
    """Keywords as they stand in a file: eight bytes."""

    def __missing__(self, name: str) -> bytes:
        padded = self[name] = name.encode("ascii", "replace").ljust(8)
        return padded


_PADDED = _Padded()


class CardText:
    """A header as it lies in its file."""

    def __init__(self, blocks: bytes) -> None:
        """`blocks` are the header's, 80 bytes a card."""
        self._blocks = blocks
        # Long texts and long keywords run over several cards, or name themselves otherwise.
        self._usual = b"HIERARCH" not in blocks and b"CONTINUE" not in blocks
        self._cards = _cards_of(blocks) if self._usual else {}

    def inheriting(self, primary: CardText) -> CardText:
        """With what the file's first header says of the exposure and this one does not.

        Of how pixels lie in the file each header speaks for itself. (The INHERIT convention of the FITS registry.)
        """
        if self.get("INHERIT", True) is False:
            return self
        own = list(_each_card(self._blocks))
        there, taken = {card[:8] for card in own}, False
        for card in _each_card(primary._blocks):
            name = card[:8]
            if name != b"CONTINUE":
                taken = name not in there and name not in _SAYS_NOTHING and not _OF_ITS_OWN.match(name)
            own += [card] if taken else []
        blocks = b"".join(own) + _END.ljust(CARD)
        return CardText(blocks.ljust(-(-len(blocks) // BLOCK) * BLOCK))

    @cached_property
    def whole(self) -> fits.Header:
        """All of it, as Astropy reads it."""
        from astropy.io import fits

        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return fits.Header.fromstring(_as_text(self._blocks))

    def may_have(self, name: str) -> bool:
        """Whether it has a keyword, as far as that is told without Astropy: most of the many that are asked for it has
        not."""
        return not self._usual or _PADDED[name] in self._cards

    def get(self, name: str, default: Any = None, /) -> Any:
        """The value of a keyword, or the default where it is absent. Raises what Astropy does at a card that makes no
        sense."""
        if self._usual:
            card = self._cards.get(_PADDED[name])
            if card is None:
                return default
            usual, value = _value_of(card)
            if usual:
                return value
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return self.whole.get(name, default)


def _as_text(written: bytes) -> str:
    return written.decode("ascii", "replace").replace("\ufffd", "?")


def _each_card(blocks: bytes) -> Iterator[bytes]:
    """All cards before the end."""
    for start in range(0, len(blocks) - CARD + 1, CARD):
        card = blocks[start : start + CARD]
        if card[:8] == _END:
            return
        yield card


def _cards_of(blocks: bytes) -> dict[bytes, bytes]:
    """What stands behind each keyword, of several cards the first."""
    end = blocks.find(_END)
    while end % CARD and end != -1:
        end = blocks.find(_END, end + 1)
    cards = list(_NAME_AND_REST.iter_unpack(blocks[: len(blocks) // CARD * CARD if end == -1 else end]))
    # From the last to the first, which stays.
    cards.reverse()
    named = dict(cards)
    names = b"".join(named)
    # Keywords are in capitals (FITS Standard 4.0, section 4.1.2.1), and Astropy takes small letters for them.
    return named if names == names.upper() else {name.upper(): rest for name, rest in cards}


@lru_cache(maxsize=4096)
def _value_of(rest: bytes) -> tuple[bool, Any]:
    """Whether what stands behind a keyword is in one of the usual forms, and its value then."""
    usual = _USUAL.fullmatch(_as_text(rest))
    if usual is None:
        return False, None
    text, true, _, whole, number = usual.groups()
    if text is not None:
        return True, text.replace("''", "'").rstrip()
    if whole is not None:
        return True, int(whole)
    return True, float(number) if number is not None else true is not None
