"""What is handed over for lights, and under which names, so that any program can pair it by a word in names.

Programs that stack pair frames by settings in headers and by words in folders and names. What a setting tells apart
needs no word; flats of two nights of one filter do, and so do darks of two set points where a program looks at the exposure
alone. Lights that share a word share, for each kind, the very same frames.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from enum import StrEnum

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.filing import NUMBER, FilingPattern, filing_pattern, same_name
from grayshelf.core.filing.names import frame_stem, master_name
from grayshelf.core.filing.parts import HANDED_PARTS, WORD
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import nominal_exposure
from grayshelf.core.masters.crop import Crop
from grayshelf.core.masters.scaled import Scaled
from grayshelf.core.matching.model import PullSlip, SlipLine, Verdict

#: Endings that stay as they are, the longest first.
_ENDINGS = tuple(e + p for p in (".fz.gz", ".gz", ".fz", "") for e in (".fits", ".fit", ".fts"))


class Form(StrEnum):
    """As what the calibration goes out."""

    MASTERS = "masters"
    FRAMES = "raw frames"
    CALIBRATED = "calibrated lights"
    """The lights alone, corrected here."""


class HandedAs(StrEnum):
    """How files come into the folder."""

    COPIES = "copies"
    HARD_LINKS = "hard links"
    LINKS = "links"


def lines_that_go(slip: PullSlip, form: Form) -> list[SlipLine]:
    """The lines of a slip whose answers go along with its lights: dark flats not where they were taken off the master flat
    already."""
    flat = next((line.chosen for line in slip.lines if line.kind is FrameKind.FLAT), None)
    taken_off = flat is not None and flat.holding.is_master and flat.holding.pedestal_taken_off
    return [
        line
        for line in slip.lines
        if line.chosen is not None
        and line.verdict is not Verdict.NOTHING
        and not (line.kind is FrameKind.DARK_FLAT and form is not Form.FRAMES and taken_off)
    ]


@dataclass(frozen=True)
class Recipe:
    """With which masters a light is calibrated here, by the numbers of their frames."""

    dark: int
    """Or a bias, where no dark fits."""
    flat: int
    pedestal: int | None = None
    """What is taken off the flat first; None where that was done."""
    scaled: Scaled | None = None
    """To what the dark is scaled; None where it is taken off as it is."""


@dataclass(frozen=True)
class FileThere:
    """A file that may be handed over."""

    frame_id: int
    name: str
    size_bytes: int


@dataclass(frozen=True)
class Serving:
    """What serves a set of lights for one kind."""

    kind: FrameKind
    key: str
    """Of the set or master, and of what it is scaled with (`Candidate.answer`)."""
    facts: FrameFacts
    verdict: str
    reasons: tuple[str, ...]
    files: tuple[FileThere, ...]
    n_frames: int
    is_master: bool
    crop: Crop | None = None
    """To what the master is cropped; its facts are those of the crop then."""
    scaled: Scaled | None = None
    """To what the dark is scaled; its facts are those of the scaled one then."""


@dataclass(frozen=True)
class LightsAsked:
    """A set of lights that is handed over, with what serves it."""

    key: int
    facts: FrameFacts
    night: date | None
    files: tuple[FileThere, ...]
    serving: tuple[Serving, ...]
    lacks: tuple[FrameKind, ...] = ()
    """Kinds for which nothing fits."""
    recipe: Recipe | None = None
    """With what they are calibrated here, where they are."""
    rests_on: tuple[str, ...] = ()
    """The sets and masters that serve them, whether they go along or not."""


@dataclass(frozen=True)
class Item:
    """One file of a hand-over."""

    path: str
    """Below the folder that is handed over, with '/'."""
    file: FileThere
    kind: FrameKind
    word: str
    """The grouping word in its name; empty where settings tell it apart."""
    facts: FrameFacts
    verdict: str = ""
    reasons: tuple[str, ...] = ()
    recipe: Recipe | None = None
    """With what it is calibrated here; None where it goes as it is."""
    crop: Crop | None = None
    """To what it is cropped; None where it goes as it is."""
    scaled: Scaled | None = None
    """To what it is scaled; None where it goes as it is."""


@dataclass(frozen=True)
class HandOver:
    """All that is handed over."""

    items: tuple[Item, ...]
    words: Mapping[int, str]
    """The grouping word of each set of lights."""

    @property
    def size_bytes(self) -> int:
        """Of all files together."""
        return sum(i.file.size_bytes for i in self.items)


def _told_apart(kind: FrameKind, facts: FrameFacts) -> tuple[object, ...]:
    """What programs tell frames of a kind apart by, without a word: frames that are the same in it are paired alike."""
    size = facts.width, facts.height, facts.binning_x or 1, facts.gain
    if kind is FrameKind.FLAT:
        return kind, facts.filter_code, *size[:3]
    if kind is FrameKind.BIAS:
        return kind, facts.offset, *size
    return kind, None if facts.exposure_s is None else nominal_exposure(facts.exposure_s), *size


def _asks_for(lights: LightsAsked) -> dict[tuple[object, ...], str]:
    """What must be served by one and the same, by how a program would ask for it; a gap is an answer of its own."""
    asked = {_told_apart(s.kind, _paired_with(s.kind, lights, s.facts)): s.key for s in lights.serving}
    for kind in lights.lacks:
        asked[_told_apart(kind, _paired_with(kind, lights))] = f"nothing for {lights.key}"
    return asked


def _paired_with(kind: FrameKind, lights: LightsAsked, own: FrameFacts | None = None) -> FrameFacts:
    """Whose settings frames of a kind are paired by: bias by their `own`, since they may be for lights or flats; dark flats by
    those of the flats, all else by those of the lights."""
    if kind is FrameKind.BIAS and own is not None:
        return own
    flat = next((s.facts for s in lights.serving if s.kind is FrameKind.FLAT), None)
    return flat if kind is FrameKind.DARK_FLAT and flat is not None else lights.facts


def grouping_words(asked: Sequence[LightsAsked]) -> dict[int, str]:
    """A word for each set of lights: its night; with a letter where one night has two answers to one question."""
    words: dict[int, str] = {}
    taken: dict[str, dict[tuple[object, ...], str]] = {}
    for lights in asked:
        base = f"NIGHT_{lights.night.isoformat()}" if lights.night else "NIGHT_undated"
        wants, letter = _asks_for(lights), 0
        while True:
            word = base if letter == 0 else f"{base}{_letters(letter)}"
            there = taken.setdefault(word, {})
            if all(there.get(question, key) == key for question, key in wants.items()):
                break
            letter += 1
        there.update(wants)
        words[lights.key] = word
    return words


def _letters(number: int) -> str:
    """'b' for the second, ..., 'z', 'ba'."""
    text = ""
    while True:
        text = chr(ord("a") + number % 26) + text
        number //= 26
        if number == 0:
            return text


def handed_pattern(text: str) -> FilingPattern:
    """A pattern of one's own for what is handed over.

    Raises
    ------
    GrayShelfError
        Where it is none, or has no word by which flats find their lights.
    """
    pattern = filing_pattern(text, known=HANDED_PARTS)
    if not any(piece is WORD for chunk in pattern.chunks for piece in chunk.pieces):
        raise GrayShelfError(
            "Nothing in these names says which flats belong to which lights.",
            "Put the grouping word into it: {word}, or [{word}_] where settings tell them apart.",
        )
    return pattern


def lay_out(asked: Sequence[LightsAsked], pattern: FilingPattern | None = None) -> HandOver:
    """Names for all that is handed over; each file of the calibration once for each word that needs it.

    Parameters
    ----------
    asked
        In the order of their nights.
    pattern
        Of one's own (`handed_pattern`); None for ours.
    """
    words = grouping_words(asked)
    answers: dict[tuple[object, ...], set[str]] = {}
    for lights in asked:
        for question, key in _asks_for(lights).items():
            answers.setdefault(question, set()).add(key)
    names = _Names(pattern)
    items: list[Item] = []
    given: set[tuple[str, str, Crop | None, Scaled | None]] = set()
    for lights in asked:
        word = words[lights.key]
        for file in lights.files:
            path = names.one(FrameKind.LIGHT, word, lights.facts, file, master=0)
            items.append(Item(path, file, FrameKind.LIGHT, word, lights.facts, recipe=lights.recipe))
        for one in lights.serving:
            pairs = one.kind in (FrameKind.FLAT, FrameKind.DARK_FLAT)
            several = len(answers[_told_apart(one.kind, _paired_with(one.kind, lights, one.facts))]) > 1
            own = word if pairs or several else ""
            if (one.key, own, one.crop, one.scaled) in given:
                continue
            given.add((one.key, own, one.crop, one.scaled))
            for file in one.files:
                path = names.one(one.kind, own, one.facts, file, one.n_frames if one.is_master else 0)
                told = one.facts, one.verdict, one.reasons
                items.append(Item(path, file, one.kind, own, *told, crop=one.crop, scaled=one.scaled))
    return HandOver(tuple(items), words)


class _Names:
    """Gives names that are taken by nobody, on any system."""

    def __init__(self, pattern: FilingPattern | None) -> None:
        self._next: dict[str, int] = {}
        self._pattern = pattern

    def one(self, kind: FrameKind, word: str, facts: FrameFacts, file: FileThere, master: int) -> str:
        """A path for a file; `master` is how many frames it was made of, 0 for a frame."""
        if self._pattern is not None:
            return self._by_pattern(self._pattern, word, facts, file)
        folder = f"{kind.value.replace(' ', '_')}s" if kind is not FrameKind.BIAS else "bias"
        stem = master_name(facts, master) if master else frame_stem(facts)
        start = "/".join(filter(None, (folder, word, "_".join(filter(None, (word, stem))))))
        number = self._next[start.lower()] = self._next.get(start.lower(), 0) + 1
        if master and number == 1:
            return f"{start}{_ending(file.name)}"
        return f"{start}_{number:04d}{_ending(file.name)}"

    def _by_pattern(self, pattern: FilingPattern, word: str, facts: FrameFacts, file: FileThere) -> str:
        ending = _ending(file.name)
        stem = file.name[: len(file.name) - len(ending)]
        template = pattern.write(facts, stem, word)
        number = self._next[same_name(template)] = self._next.get(same_name(template), 0) + 1
        if NUMBER in template:
            return f"{template.replace(NUMBER, f'{number:04d}')}{ending}"
        # What would have one name is told apart all the same.
        return f"{template}{ending}" if number == 1 else f"{template}_{number:04d}{ending}"


def _ending(name: str) -> str:
    lower = name.lower()
    own = lower.rpartition(".")[2]
    return next((e for e in _ENDINGS if lower.endswith(e)), f".{own}" if own.isalnum() else "")
