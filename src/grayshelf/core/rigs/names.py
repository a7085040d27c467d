"""Names that headers give to one thing: which are sure to mean the same, which may, and which do not."""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from enum import IntEnum
from functools import lru_cache

from grayshelf.core.frames.filters import FILTER_ALIASES


class Alike(IntEnum):
    """How far two names mean one thing."""

    OTHER = 0
    MAYBE = 1
    SAME = 2


#: Shorter words tell too little: half of all telescopes have a word of two letters in common.
_TELLING_LETTERS = 3
#: A slip of the pen is believed only in names of this many letters.
_LONG_NAME = 6


@lru_cache(4096)
def words_in(name: str) -> tuple[str, ...]:
    """A name's words in small letters without accents, Greek letters written out: 'Hα 7 nm' gives h, alpha, 7, nm."""
    spelled = name.replace("α", " alpha").replace("β", " beta").replace("ß", "ss")
    plain = unicodedata.normalize("NFKD", spelled).encode("ascii", "ignore").decode().lower()
    return tuple(re.findall(r"[a-z]+|\d+(?:\.\d+)?", plain))


def _letters(name: str) -> str:
    return "".join(words_in(name))


def alike(one: str, other: str) -> Alike:
    """Whether two names of cameras or telescopes mean one thing.

    The same but for case, blanks, signs and accents is the same. One that says more than the other ('Heron 26M' and
    'Heron 26M driver 2'), or that differs by one letter of a long word, may be. Another number, or a letter that stands
    with a number, is another model: '26M' is not '26C'.
    """
    a, b = _letters(one), _letters(other)
    if not a or not b:
        return Alike.OTHER
    if a == b:
        return Alike.SAME
    few, many = sorted((_models(one), _models(other)), key=len)
    telling = any(len(word) >= _TELLING_LETTERS for word in few)
    if telling and few < many:
        return Alike.MAYBE
    return Alike.MAYBE if _one_letter_off(one, other) else Alike.OTHER


def _models(name: str) -> frozenset[str]:
    """A name's words, a number together with the letters that stand at it: 'heron', '26m'."""
    return frozenset(re.findall(r"[a-z0-9.]+", _ascii(name)))


def _ascii(name: str) -> str:
    return unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()


def _one_letter_off(one: str, other: str) -> bool:
    a, b = sorted((_letters(one), _letters(other)), key=len)
    if len(a) < _LONG_NAME or len(b) - len(a) > 1:
        return False
    start = next((i for i in range(len(a)) if a[i] != b[i]), len(a))
    end = next((i for i in range(len(a) - start) if a[-1 - i] != b[-1 - i]), len(a) - start)
    odd = a[start : len(a) - end] + b[start : len(b) - end]
    crossed = len(a) == len(b) and len(odd) == 4 and odd[:2] == odd[3:1:-1]
    # A letter that stands with a number names a model, and one that stands alone or with another a band: 'Rc' and 'Ic'.
    differ = _models(one) ^ _models(other)
    of_words = all(len(word) >= _TELLING_LETTERS and not re.search(r"\d", word) for word in differ)
    return (len(odd) <= 2 or crossed) and of_words


# -- filters ----------------------------------------------------------------------------------------------------

#: What is written for a filter beside the names that `normal_filter` knows already, letters only: other languages, and
#: lines named in full (common practice).
_MORE_FILTERS = {
    **dict.fromkeys(("l", "luminanz", "luminosity", "luminosite", "luminancia"), "L"),
    **dict.fromkeys(("r", "rot", "rouge", "rojo", "rosso"), "R"),
    **dict.fromkeys(("g", "grun", "gruen", "vert", "verde"), "G"),
    **dict.fromkeys(("b", "blau", "bleu", "azul", "blu"), "B"),
    **dict.fromkeys(("hydrogenalpha", "halfa"), "Ha"),
    **dict.fromkeys(("o", "oxygeniii", "oxygen", "oiiiline"), "OIII"),
    **dict.fromkeys(("s", "sulfurii", "sulphurii", "sulfur", "sulphur"), "SII"),
    "hb": "Hb",
    "hbeta": "Hb",
    "nii": "NII",
    "n2": "NII",
}
#: Where the lines lie, in nm (wavelengths in air, NIST Atomic Spectra Database, from memory), and the middles of the
#: broad bands (common practice).
CENTRE_NM = {
    "Ha": 656.3,
    "Hb": 486.1,
    "OIII": 500.7,
    "SII": 672.4,
    "NII": 658.3,
    "L": 550.0,
    "R": 640.0,
    "G": 530.0,
    "B": 450.0,
}
#: As people put them into a wheel.
_IN_THE_WHEEL = ("L", "R", "G", "B", "Ha", "OIII", "SII")
#: '7 nm', '3-nm', and of a band from where to where: '400-700 nm'.
_WIDTH = re.compile(
    r"(?:(?<![\d.])(\d{3,4})(?:\s*nm)?\s*[-–]\s*(?=\d{3,4}\s*nm))?(\d+(?:\.\d+)?)\s*-?\s*nm\b", re.IGNORECASE
)
#: What is said of a filter's glass or place, and not of what it passes: 2 inches, 36 mm, slot 3, '#3', '3:' …
_NOT_PASSED = re.compile(
    r"\b\d+(?:\.\d+)?\s*-?\s*(?:mm|inch(?:es)?|in)\b|\d+(?:\.\d+)?\s*[\"″”]|\b1\.25\b"
    r"|\b(?:slot|pos(?:ition)?|no|nr)\.?\s*\d+\b|#\s*\d+|^\s*\d+\s*[-:._)]\s*|[(\[]\s*\d+\s*[)\]]\s*$",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class FilterNamed:
    """What a filter's name says."""

    letters: str
    """By which it is the same as another: a code in small letters, or the name without case and signs."""
    code: str | None
    """The usual code; None where the name is none that is usual."""
    width_nm: float | None
    """Where the name gives it: '7 nm'."""


@lru_cache(4096)
def read_filter_name(name: str) -> FilterNamed:
    """What a filter's name says: its code, and its width in nm where that is in the name.

    A name that is nothing but a number is a slot of a wheel: it says nothing of the filter. A letter with a prime is of
    another system of bands than the same letter without: g' is not G.
    """
    if re.search(r"\b[a-z]['’′]", name, re.IGNORECASE):
        return FilterNamed(f"{_letters(name)}'", None, None)
    width = _WIDTH.search(name)
    rest = _NOT_PASSED.sub(" ", _WIDTH.sub(" ", name))
    words = [w for w in words_in(rest) if w not in ("filter", "filt", "band", "narrowband", "line")]
    letters = "".join(words)
    if not letters or letters.isdigit():
        return FilterNamed(_letters(name) or name, None, None)
    code = FILTER_ALIASES.get(letters) or _MORE_FILTERS.get(letters)
    nm = abs(float(width[2]) - float(width[1] or 0)) if width else None
    # 'Dual band' is a name of its own, and 'band' is a part of it.
    kept = letters if code else "".join(w for w in words_in(rest) if w not in ("filter", "filt"))
    return FilterNamed((code or kept).lower(), code, nm)


def place_in_wheel(name: str) -> tuple[int, str]:
    """Sort key: broad bands from L, then lines, then what has a name of its own."""
    code = read_filter_name(name).code
    return (_IN_THE_WHEEL.index(code) if code in _IN_THE_WHEEL else len(_IN_THE_WHEEL), name)


#: Wider than this a filter passes a band, and not a line (common practice: lines are 3 to 12 nm wide).
WIDEST_LINE_NM = 25.0


def is_broad(name: str, width_nm: float | None) -> bool:
    """Whether a filter passes a broad band: by its width, else by what its name says; one unknown counts as broad."""
    if width_nm is not None:
        return width_nm > WIDEST_LINE_NM
    code = read_filter_name(name).code
    return code is None or code in ("L", "R", "G", "B")


def filters_alike(one: str, other: str) -> Alike:
    """Whether two names of filters in one wheel mean one filter.

    Two widths in nm are two filters. A name with a width and one without may be one filter, or an older and a newer one.
    """
    a, b = read_filter_name(one), read_filter_name(other)
    if a.letters != b.letters:
        slots = a.letters.isdigit() or b.letters.isdigit()
        return Alike.OTHER if slots or a.code or b.code else min(alike(one, other), Alike.MAYBE)
    if a.width_nm is not None and b.width_nm is not None and a.width_nm != b.width_nm:
        return Alike.OTHER
    return Alike.SAME if a.width_nm == b.width_nm else Alike.MAYBE
