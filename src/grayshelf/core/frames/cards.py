"""Cards of a FITS header, each read when it is asked for.

A scan asks some forty keywords of each of many thousand headers: reading the usual forms here takes a tenth of the time.
What is written in any other way is read by Astropy, so that the answer is the same (FITS Standard 4.0, section 4.2).
"""

from __future__ import annotations

import re
import warnings
from collections.abc import Collection
from functools import cached_property
from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from astropy.io import fits

CARD = 80
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


class CardText:
    """A header as it lies in its file."""

    def __init__(self, text: str) -> None:
        """`text` is the header's blocks, 80 characters a card."""
        self._text = text
        # Long texts and long keywords run over several cards, or name themselves otherwise.
        self._usual = "HIERARCH" not in text and "CONTINUE" not in text

    @cached_property
    def whole(self) -> fits.Header:
        """All of it, as Astropy reads it."""
        from astropy.io import fits

        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return fits.Header.fromstring(self._text)

    @cached_property
    def _cards(self) -> dict[str, str]:
        """Cards by keyword: of several the first."""
        text, named = self._text, self._text.upper()
        names = [named[start : start + 8].rstrip() for start in range(0, len(text), CARD)]
        last = names.index("END") if "END" in names else len(names)
        # From the last to the first, which stays.
        return {names[i]: text[i * CARD : (i + 1) * CARD] for i in range(last - 1, -1, -1)}

    @cached_property
    def keywords(self) -> Collection[str] | None:
        """All that it has, so that those which it has not, most of the many that are asked for, need not be looked for; None
        where they are told apart by Astropy alone."""
        return self._cards.keys() if self._usual else None

    def get(self, name: str, default: Any = None, /) -> Any:
        """The value of a keyword, or the default where it is absent. Raises what Astropy does at a card that makes no
        sense."""
        card = self._cards.get(name) if self._usual else ""
        if card is None:
            return default
        usual = _USUAL.fullmatch(card, 8)
        if usual is None:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                return self.whole.get(name, default)
        text, true, _, whole, number = usual.groups()
        if text is not None:
            return text.replace("''", "'").rstrip()
        if whole is not None:
            return int(whole)
        return float(number) if number is not None else true is not None
