"""What a file's name says of its frame, where it says it without doubt.

A value counts where a word and its number stand together ('gain_100', 'bin2'), or a number and its unit ('300s',
'-10C'). A frame counter is none: it is padded with noughts, or it grows by one from file to file. Single letters
are none either: a G is a filter as often as a gain. Common practice, no source.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass
from functools import lru_cache

from grayshelf.core.frames.kind_words import in_english
from grayshelf.core.frames.kinds import FrameKind, parse_kind

#: Neither a letter nor a digit before it, so that 'IC1396C' is no temperature.
_START = r"(?<![A-Za-z0-9.])"
#: A number that is no counter: not padded with noughts.
_NUMBER = r"(0|[1-9]\d*)(?![\d])"
_DECIMAL = r"((?:0|[1-9]\d*)(?:\.\d+)?)(?![\d.])"
_IN_NAME = {
    "exposure_s": re.compile(
        rf"{_START}(?:exp(?:osure)?[-_ ]?)?(\d+(?:\.\d+)?)(?:(ms|[-_ ]?min(?:ute)?s?)|s|[-_ ]?sec(?:ond)?s?)(?![A-Za-z])",
        re.IGNORECASE,
    ),
    # A sign counts as one only where it cannot be a hyphen between two words.
    "sensor_temp_c": re.compile(
        r"(?:^|[_ (]|-(?=-))([-−+]?(?:0|[1-9]\d*)(?:\.\d+)?)°?c(?![a-z])", re.IGNORECASE
    ),
    "gain": re.compile(rf"{_START}(?:gain|iso)[-_ ]?{_DECIMAL}", re.IGNORECASE),
    "offset": re.compile(rf"{_START}offset[-_ ]?{_DECIMAL}", re.IGNORECASE),
    "binning": re.compile(rf"{_START}bin(?:ning)?[-_ ]?{_NUMBER}", re.IGNORECASE),
}
#: Before an exposure: '1-60s' may be a sixtieth of a second, and '0_5s' a half, since no name can hold a '/' or may a ','.
_PART_OF_IT = re.compile(r"(?<!\d)(?<!bin)(?<!bin[-_ ])[01][-_]$", re.IGNORECASE)
#: Settings whose numbers may be counters, and the words before them.
_COUNTED = ("gain", "offset", "binning")
_MAY_COUNT = re.compile("gain|iso|offset|bin", re.IGNORECASE)
#: '.fits', '.fit.fz', '.cr2': an ending begins with a letter, as no number's decimals do.
_SUFFIX = re.compile(r"(\.[a-z][a-z0-9]{1,3})?(\.(fz|gz))?$", re.IGNORECASE)
_LIMITS = {"sensor_temp_c": (-80.0, 60.0), "binning": (1.0, 8.0)}
#: Words that say the kind in a name. 'offset' and 'object' are left out: names use them for other things.
KIND_WORDS = re.compile(
    r"(?<![a-z])(master|super[-_ ]?|m(?!l))?(lights?|darks?|flats?|bias(?:es)?|darkflats?|flatdarks?)"
    r"(?:[-_ ]?(?:frames?|fields?))?(?![a-z])"
)

#: Bias frames as observatories call them, where a name begins so and has nothing but settings and numbers behind it.
_ZEROS = re.compile(
    r"^(?:master[-_ ]?|super[-_ ]?)?zeros?(?=[-_ .(]*(?:-?\d|$|(?:gain|iso|bin|offset|temp|[go]\d)))"
)


@dataclass(frozen=True)
class NameValue:
    """A number in a name, and where in it."""

    value: float
    start: int
    end: int


def bare_name(name: str) -> str:
    """A file's name without its ending."""
    return _SUFFIX.sub("", name)


def without_gear(name: str, *gear: str | None) -> str:
    """A file's name without the words in it by which its header calls the camera or the telescope: the '26C' of a 'Plover
    26 C' is no temperature, and an 'M24' that is a camera no star cloud."""
    called = _called(gear)
    if not called:
        return name
    return re.sub(r"[A-Za-z0-9]+", lambda word: "" if word[0].lower() in called else word[0], name)


#: Of what gear is called so many words are looked at, and so many of them as one; a header may say anything.
_MOST_WORDS, _MOST_JOINED = 16, 4


@lru_cache(256)
def _called(gear: tuple[str | None, ...]) -> frozenset[str]:
    """Words of letters and digits that stand for gear, alone or several as one: 'plover26', '26c', 'plover26c'."""
    found = set[str]()
    for one in gear:
        words = re.findall(r"[a-z]+|\d+", (one or "").lower())[:_MOST_WORDS]
        ends = (
            (i, j) for i in range(len(words)) for j in range(i + 2, min(i + _MOST_JOINED, len(words)) + 1)
        )
        found |= {"".join(words[i:j]) for i, j in ends}
    return frozenset(word for word in found if not word.isdigit() and not word.isalpha())


def dark_flat_as_one_word(name: str) -> str:
    """The name in small letters and in English, with 'dark flat', 'flat-dark' and 'darks for flats' as the one word that
    they are."""
    return re.sub(r"(dark|flat)(?:[-_ ]|s?[-_ ]for[-_ ](?:the[-_ ])?)(flat|dark)", r"\1\2", in_english(name))


def values_in_name(name: str, settings: Iterable[str] = tuple(_IN_NAME)) -> dict[str, NameValue]:
    """Settings written into a file's name, such as 'dark_300s_-10C_gain100_bin1.fits'.

    Two different values of one setting leave a doubt, so neither counts.
    """
    bare, found = bare_name(name), dict[str, NameValue]()
    for what in settings:
        matches = list(_IN_NAME[what].finditer(bare))
        values = {m.groups() for m in matches}
        if len(values) != 1:
            continue
        value = float(matches[0].group(1).replace("−", "-"))
        if what == "exposure_s":
            if any(_PART_OF_IT.search(bare[: m.start()]) for m in matches):
                continue
            unit = (matches[0].group(2) or "").lower()
            value *= 0.001 if unit == "ms" else 60.0 if unit else 1.0
        low, high = _LIMITS.get(what, (0.0, 100_000.0))
        if low <= value <= high:
            found[what] = NameValue(value, *matches[0].span(1))
    return found


def counters_among(names: Iterable[str]) -> Mapping[str, frozenset[str]]:
    """Which of the values in these names (of one folder) are counters, by name.

    Names that differ in nothing but one number, which grows by one from each to the next more often than not, count
    frames with it.
    """
    families: dict[tuple[str, str], list[tuple[float, str]]] = defaultdict(list)
    for name in names:
        if not _MAY_COUNT.search(name):
            continue
        for what, found in values_in_name(name, _COUNTED).items():
            bare = bare_name(name)
            families[what, f"{bare[: found.start]}#{bare[found.end :]}"].append((found.value, name))
    counted: dict[str, set[str]] = defaultdict(set)
    for (what, _), members in families.items():
        numbers = sorted(value for value, _ in members)
        steps = [b - a for a, b in zip(numbers, numbers[1:], strict=False)]
        if steps and 2 * sum(step == 1 for step in steps) > len(steps):
            for _, name in members:
                counted[name].add(what)
    return {name: frozenset(whats) for name, whats in counted.items()}


def kind_in_name(name: str) -> tuple[FrameKind | None, bool]:
    """The kind of frame that a name says, and whether it says that it is a master."""
    plain = dark_flat_as_one_word(bare_name(name))
    kinds = {
        parse_kind(m.group(2).removesuffix("es") if "bias" in m.group(2) else m.group(2))[0]
        for m in KIND_WORDS.finditer(plain)
    }
    if not kinds and _ZEROS.match(plain):
        kinds = {FrameKind.BIAS}
    if len(kinds) != 1:
        return None, False
    return kinds.pop(), "master" in plain


#: Names of masters in use (common practice, no source): 'MasterDark_300s', 'mdark', 'flat-Ha-master', 'superbias', 'stack of 40 darks'.
_MASTER_OF_KIND = re.compile(r"(?<![a-z])(?:master[-_ ]?(?:dark|flat|bias|zero|offset)|m(?:dark|flat|bias))")
_MASTERS = re.compile(r"(?<![a-z])masters?(?![a-z])")
_COMBINED = re.compile(
    r"super[-_ ]?(?:bias|dark|flat|zero)|stack|integrat|combin|averag|(?<![a-z])(?:mean|median)(?![a-z])"
)
#: A number at the end, unless it is the day of a date.
_COUNTS_FRAMES = re.compile(r"(?<!\d{4}[-_.]\d\d)[-_ .(](?!(?:19|20)\d\d[01]\d[0-3]\d\b)(\d{2,})\)?$")


def names_a_master(
    name: str, folders: Iterable[str], settings: Callable[[], Collection[float]] = tuple, *, whole: bool
) -> bool:
    """Whether the name of a calibration frame, or of a folder that it lies in, says that it is a master; its header says the
    kind alone.

    Parameters
    ----------
    settings
        Numbers that its header has for its settings, such as the exposure in seconds: the number at the end of
        'master_dark_180' may be one of them.
    whole
        Whether its pixels are whole numbers, as a camera gives them: then its name has to say it without doubt, and must
        not count frames.
    """
    plain = in_english(bare_name(name))
    if _MASTER_OF_KIND.search(plain) and not (whole and _counts_frames(plain, settings)):
        return True
    told = (
        _MASTERS.search(plain)
        or _COMBINED.search(plain)
        or any(_MASTERS.search(in_english(f)) for f in folders)
    )
    return not whole and bool(told)


def _counts_frames(plain: str, settings: Callable[[], Collection[float]]) -> bool:
    found = _COUNTS_FRAMES.search(plain)
    if found is None:
        return False
    digits = found[1]
    return digits.startswith("0") or float(digits) not in settings()
