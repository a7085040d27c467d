"""Where frames are filed: a pattern of one's own for folders and names, laid out for many frames before any is moved.

Parts stand between braces; what stands between brackets is left out where a part of it is not known. Names are legal
on every system: Windows' reserved names and characters are left out (Microsoft, 'Naming Files, Paths, and
Namespaces'), and two names that differ in case or Unicode form alone are one.
"""

from __future__ import annotations

import re
import unicodedata
from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from enum import StrEnum

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.name_pattern import ANYTHING, Piece, pieces_of
from grayshelf.core.filing.names import is_reserved
from grayshelf.core.filing.parts import PARTS, WORD, Part
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind

#: Windows takes no longer path without being told to (260 with drive and end); a name may have 255 bytes.
LONGEST_PATH, LONGEST_NAME_BYTES = 240, 200
#: Legal in no name of some system.
_ILLEGAL = re.compile(r'[<>:"\\|?*\x00-\x1f\x7f]')
_CHUNKS = re.compile(r"\[([^\[\]]*)\]|([^\[\]]+)|([\[\]])")
#: Stand for the number of a frame until it is known, and for any name of its own.
NUMBER, _ANY_NAME = "\x00", "\x01"
_KEPT = str.maketrans({NUMBER: "\ue000", _ANY_NAME: "\ue001"})
_BACK = str.maketrans({"\ue000": NUMBER, "\ue001": _ANY_NAME})
DIGITS = 4
_ENDING = re.compile(r"(\.[A-Za-z0-9]{1,5})(\.(fz|gz))*$", re.IGNORECASE)


class Sort(StrEnum):
    """What is filed by one pattern."""

    CALIBRATION = "darks and bias"
    FLATS = "flats and their dark flats"
    LIGHTS = "lights"
    MASTERS = "masters"


#: A start of our own: words of the trade and keywords of the FITS Standard, by which programs group. What begins with
#: 0 stands before all nights.
USUAL = {
    Sort.CALIBRATION: "0_calibration/{camera}/{kind}/{kind}[_EXPTIME_{exposure}][_TEMP_{temperature}][_GAIN_{gain}][_OFFSET_{offset}]_{night}_{number}",
    Sort.FLATS: "nights/{night}/{kind}/{kind}[_FILTER_{filter}][_EXPTIME_{exposure}][_GAIN_{gain}][_{angle}]_{number}",
    Sort.LIGHTS: "nights/{night}/light/{target}/{target}[_FILTER_{filter}][_EXPTIME_{exposure}][_GAIN_{gain}]_{number}",
    Sort.MASTERS: "0_masters/{camera}/{kind}/master_{kind}[_FILTER_{filter}][_EXPTIME_{exposure}][_TEMP_{temperature}][_GAIN_{gain}]_{night}[_{frames}]",
}
#: What stands for a part that is not known, outside of brackets.
UNKNOWN = "unknown"


def sort_of(facts: FrameFacts) -> Sort | None:
    """By which pattern a frame is filed; None where its kind is not known."""
    if facts.kind is None:
        return None
    if facts.is_master:
        return Sort.MASTERS
    if facts.kind in (FrameKind.BIAS, FrameKind.DARK):
        return Sort.CALIBRATION
    return Sort.LIGHTS if facts.kind is FrameKind.LIGHT else Sort.FLATS


@dataclass(frozen=True)
class _Chunk:
    optional: bool
    pieces: tuple[Piece, ...]


@dataclass(frozen=True)
class FilingPattern:
    """A pattern by which paths are written."""

    chunks: tuple[_Chunk, ...]
    unknown: str

    def write(self, facts: FrameFacts, name: str, word: str = "") -> str:
        """The path of a frame without its ending; a number that it is to get stands as NUL.

        Parameters
        ----------
        name, word
            Its name as it is, and the word by which it is grouped, where it has one.
        """
        given = {"number": NUMBER, "name": name, WORD.key: word}
        text = "".join(self._chunk(chunk, facts, given) for chunk in self.chunks)
        return "/".join(part for part in (legal(p) for p in text.split("/")) if part)

    def _chunk(self, chunk: _Chunk, facts: FrameFacts, given: Mapping[str, str]) -> str:
        written: list[str] = []
        for piece in chunk.pieces:
            if isinstance(piece, str):
                written.append(piece)
                continue
            value = given.get(piece.key) if piece.key in given else piece.writes(facts)
            if value is None or not value.strip():
                if chunk.optional:
                    return ""
                value = self.unknown
            # No part of a name makes a folder of its own.
            written.append(value.replace("/", "_"))
        return "".join(written)


def filing_pattern(text: str, unknown: str = UNKNOWN, known: Mapping[str, Part] = PARTS) -> FilingPattern:
    """A pattern by which paths are written, from what a person typed; `known` are the parts that there are.

    Raises
    ------
    GrayShelfError
        Where it is none, or could not name frames on every system.
    """
    text = text.strip().strip("/")
    chunks: list[_Chunk] = []
    for found in _CHUNKS.finditer(text):
        inner, plain, bracket = found.groups()
        if bracket or inner == "":
            raise GrayShelfError(
                "A bracket stands alone, or in another.",
                "What may be left out stands between two: [_{filter}].",
            )
        pieces = (
            pieces_of(inner if inner is not None else plain, known)
            if (inner or plain).strip("/ ")
            else (plain,)
        )
        chunks.append(_Chunk(inner is not None, pieces))
    parts = [p for c in chunks for p in c.pieces if isinstance(p, Part)]
    if not parts:
        raise GrayShelfError(
            "All frames would have one name.", "Put in parts that tell them apart, and {number} at its end."
        )
    if ANYTHING in parts:
        raise GrayShelfError(
            "A name that is written has no *.", "It only stands in patterns by which names are read."
        )
    literal = "".join(p for c in chunks for p in c.pieces if isinstance(p, str))
    illegal = sorted(set(_ILLEGAL.findall(literal + unknown)))
    if illegal:
        raise GrayShelfError(
            f"{' '.join(illegal)} may be in no name on some systems.", "Take _ or - in its place."
        )
    if any(p in (".", "..") for p in text.split("/")):
        raise GrayShelfError("A folder called . or .. leads elsewhere.", "Take it out.")
    if not _of_last_name(chunks) & {"number", "name", "frames"}:
        raise GrayShelfError(
            "Frames of one set would have one name.", "Put {number}, or {name}, into the file’s name."
        )
    return FilingPattern(tuple(chunks), legal(unknown) or UNKNOWN)


def _of_last_name(chunks: Sequence[_Chunk]) -> set[str]:
    """The parts in the file's own name that are always there."""
    found = set[str]()
    for chunk in chunks:
        for piece in chunk.pieces:
            if isinstance(piece, str):
                found = set() if "/" in piece else found
            elif not chunk.optional or piece.key == "frames":
                found = found | {piece.key}
    return found


def legal(name: str) -> str:
    """One name of a path, legal on every system, of at most `LONGEST_NAME_BYTES` bytes; letters of any alphabet stay."""
    plain = unicodedata.normalize("NFC", name).translate(_KEPT)
    plain = re.sub(r"\s+", "_", _ILLEGAL.sub("_", plain).strip())
    plain = re.sub(r"_{2,}", "_", plain).strip(". ").strip("_") if plain.strip("._ ") else ""
    while len(plain.encode()) > LONGEST_NAME_BYTES:
        plain = plain[:-1]
    if is_reserved(plain.partition(".")[0]):
        plain = f"{plain.partition('.')[0]}_{plain[len(plain.partition('.')[0]) :]}"
    return plain.translate(_BACK)


def same_name(path: str) -> str:
    """What two paths share that are one on some system."""
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", path).casefold())


@dataclass(frozen=True)
class FrameThere:
    """A frame that may be filed."""

    frame_id: int
    path: str
    """Its whole path now."""
    facts: FrameFacts
    in_root: str | None = None
    """Its path below the folder that is filed into, where it lies in it."""

    @property
    def name(self) -> str:
        """Its file's name."""
        return self.path.rpartition("/")[2]


@dataclass(frozen=True)
class Placed:
    """Where a frame goes: below the folder that is filed into; or why it stays where it is."""

    frame: FrameThere
    path: str
    stays: str = ""
    """Why it stays, in a sentence; empty where it goes."""
    in_place: bool = False


@dataclass
class _Taken:
    """Names that are taken, by folder."""

    listed: Callable[[str], Collection[str]]
    by_folder: dict[str, dict[str, str]] = field(default_factory=dict)

    def folder(self, name: str) -> dict[str, str]:
        """Names in a folder, as they are compared, each with how it is written."""
        key = same_name(name)
        if key not in self.by_folder:
            self.by_folder[key] = {same_name(n): n for n in self.listed(name)}
        return self.by_folder[key]


def lay_out(
    frames: Iterable[FrameThere],
    patterns: Mapping[Sort, str],
    unknown: str,
    listed: Callable[[str], Collection[str]],
    root_length: int,
) -> list[Placed]:
    """Where each frame goes, in the order in which they were taken; frames of one night of one set share a template.

    Parameters
    ----------
    patterns
        By what is filed.
    listed
        The names in a folder below the one that is filed into (''), none where it is not there.
    root_length
        Letters of the path of the folder that is filed into.

    Raises
    ------
    GrayShelfError
        Where a pattern is none.
    """
    made = {sort: filing_pattern(text, unknown) for sort, text in patterns.items()}
    taken, placed = _Taken(listed), list[Placed]()
    by_template: dict[str, list[FrameThere]] = defaultdict(list)
    for frame in sorted(frames, key=_in_order):
        sort = sort_of(frame.facts)
        if sort is None:
            placed.append(
                Placed(frame, "", "Its kind is not known: say it (Intake, ‘Say what is lacking or wrong’).")
            )
            continue
        ending = _ENDING.search(frame.name)
        stem, end = (frame.name[: ending.start()], ending[0]) if ending else (frame.name, "")
        if frame.in_root is not None and _is_in_place(
            frame.in_root, f"{made[sort].write(frame.facts, _ANY_NAME)}{end}"
        ):
            placed.append(Placed(frame, frame.in_root, in_place=True))
            continue
        by_template[f"{made[sort].write(frame.facts, stem)}{end}"].append(frame)
    for template, members in by_template.items():
        placed += _name_them(template, members, taken, root_length)
    return placed


def _in_order(frame: FrameThere) -> tuple[datetime, str]:
    return frame.facts.utc or datetime.max.replace(tzinfo=UTC), frame.path


def _name_them(template: str, members: Sequence[FrameThere], taken: _Taken, root_length: int) -> list[Placed]:
    folder, _, name = template.rpartition("/")
    names = taken.folder(folder)
    numbered = re.compile(re.escape(same_name(name)).replace(re.escape(NUMBER), r"(\d+)") + r"\Z")
    used = {int(m[1]) for n in names if NUMBER in name and (m := numbered.match(n))}
    here = {m.in_root for m in members if m.in_root is not None}
    placed, number = list[Placed](), max(used, default=0)
    for frame in members:
        number += 1
        path = template.replace(NUMBER, f"{number:0{DIGITS}d}")
        own = path.rpartition("/")[2]
        before = names.get(same_name(own))
        if before is not None:
            number -= 1
            why = (
                "A file of its name is there already."
                if f"{folder}/{before}".strip("/") not in here
                else "Another frame has its name already."
            )
            placed.append(Placed(frame, path, f"{why} Put {{number}} into the pattern."))
        elif root_length + 1 + len(path) > LONGEST_PATH:
            number -= 1
            length = root_length + 1 + len(path)
            placed.append(
                Placed(
                    frame, path, f"Its path would have {length} letters; {LONGEST_PATH} are legal everywhere."
                )
            )
        else:
            names[same_name(own)] = own
            placed.append(Placed(frame, path))
    return placed


def _is_in_place(path: str, template: str) -> bool:
    """Whether a frame has the name that it would get already, whatever its number and its own part of the name."""
    told = re.escape(unicodedata.normalize("NFC", template))
    told = told.replace(re.escape(NUMBER), r"\d+").replace(re.escape(_ANY_NAME), r"[^/]+")
    return re.fullmatch(told, unicodedata.normalize("NFC", path)) is not None


def folders_of(placed: Iterable[Placed]) -> list[tuple[str, int]]:
    """The folders that frames go into, each with how many do, in the order of their names."""
    counted = Counter(p.path.rpartition("/")[0] for p in placed if not p.stays and not p.in_place)
    return sorted(counted.items())


def goes_along(frame_folders: Mapping[str, Sequence[str]]) -> dict[str, str]:
    """For each folder that frames leave, the one that its other files go along to: where most of them go."""
    return {
        folder: Counter(targets).most_common(1)[0][0] for folder, targets in frame_folders.items() if targets
    }
