"""One header read: what stands under several keywords, and what was there and could not be used."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from typing import Any

from grayshelf.core.frames.bounds import BOUNDS, MOST_TEXT, tells_nothing
from grayshelf.core.frames.cards import Cards, CardText
from grayshelf.core.frames.facts import FILE_NAME
from grayshelf.core.frames.fits_blocks import card_value
from grayshelf.core.frames.number_text import number_in_text

#: Under these some programs write a number, and others what the device is called. Common practice, no source.
NAMES_AS_WELL = ("FOCUS", "FOCUSER", "ROTATOR")
#: Words that stand where there is nothing to tell. Common practice, no source; 'Na' is sodium.
_NOTHING = re.compile(
    r"n/a|nan|none|null|nil|unknown|undefined|unset|not (?:set|known|available|connected|present|specified)|[-–—?._]+",
    re.IGNORECASE,
)


def number_of(value: Any, what: str) -> float | None:
    """A finite number, also where it stands as a text; `what` is a name of `BOUNDS`, or empty of what has no unit."""
    if isinstance(value, bool):
        return None
    try:
        number = float(value)
    except (TypeError, ValueError, OverflowError):
        return number_in_text(value, what) if what and isinstance(value, str) else None
    return number if math.isfinite(number) else None


class HeaderReader:
    """Reads one header, noting what was there and could not be used."""

    def __init__(self, header: Cards, named: Mapping[str, float]) -> None:
        """`named` is what the file's name says."""
        self.header, self.named = header, named
        self._may_have = header.may_have if isinstance(header, CardText) else None
        self.complaints: list[str] = []
        self.origins: dict[str, str] = {}

    def _there(self, names: tuple[str, ...]) -> Iterable[str]:
        return names if self._may_have is None else filter(self._may_have, names)

    def value(self, names: tuple[str, ...]) -> tuple[str, Any] | None:
        """First of `names` that says something, and what."""
        for name in self._there(names):
            value = card_value(self.header, name)
            if value is not None:
                return name, value
        return None

    def text(self, *names: str) -> str | None:
        """The same as a text, blanks made single; one that is longer than any name is complained of."""
        found = self.value(names)
        text = "" if found is None else " ".join(str(found[1]).split())
        if _NOTHING.fullmatch(text):
            return None
        if found is not None and len(text) > MOST_TEXT:
            self.complaints.append(f"{found[0]} has {len(text):,} characters, which no name has")
            return None
        return text or None

    def number(self, what: str, names: tuple[str, ...]) -> float | None:
        """First of `names` that holds a number that can be; each that holds something else is complained of."""
        for name in self._there(names):
            value = card_value(self.header, name)
            if value is None:
                continue
            number = number_of(value, what)
            if number is None and (name in NAMES_AS_WELL or _NOTHING.fullmatch(str(value).strip())):
                continue
            if number is None:
                shown = str(value)
                self.complaints.append(f"{name} is '{shown[:40]}', which is not a number")
                continue
            if tells_nothing(what, number):
                continue
            trouble = BOUNDS[what].trouble(number)
            if trouble is not None:
                self.complaints.append(trouble)
                continue
            if name != names[0]:
                self.origins[what] = name
            return number
        return None

    def number_or_named(self, what: str, names: tuple[str, ...]) -> float | None:
        """The same; what no keyword gives, as the file's name has it."""
        value = self.number(what, names)
        if value is None and what in self.named and BOUNDS[what].trouble(self.named[what]) is None:
            self.origins[what] = FILE_NAME
            return self.named[what]
        return value

    def whole(self, what: str, names: tuple[str, ...]) -> int | None:
        """A whole number that is not 0."""
        return int(self.number(what, names) or 0) or None

    def capitals(self, *names: str) -> str | None:
        """A text in capitals."""
        return (self.text(*names) or "").upper() or None
