"""What rigs a library has, from its headers: names joined where a person would, and what has to be asked.

A name is joined with another only where nothing speaks against it; whatever may be one thing or two is asked. Nothing
here changes a frame: what comes out is which spelling stands for which name.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import combinations

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import FOCAL_SPLIT
from grayshelf.core.rigs.names import Alike, alike, filters_alike, read_filter_name

#: Pixels further apart than this, as a share, are of two sensors.
_PIXEL_SPLIT = 0.02
#: Names of one kind that are held against each other: more are no gear of one person, and the rest stay as they are.
MOST_NAMES = 200


class NameOf(StrEnum):
    """What is named."""

    CAMERA = "camera"
    TELESCOPE = "telescope"
    FILTER = "filter"


@dataclass(frozen=True)
class Seen:
    """Frames whose headers name the same gear."""

    camera: str
    telescope: str | None = None
    """Empty and None are the same: none is named."""
    filter_name: str | None = None
    """As the header has it."""
    kind: FrameKind | None = None
    focal_length_mm: float | None = None
    pixel_um: float | None = None
    """Of the unbinned sensor."""
    bayer_pattern: str | None = None
    frames: int = 1


@dataclass(frozen=True)
class Join:
    """A spelling stands for a name."""

    about: NameOf
    camera: str
    """For telescopes and filters the camera of their frames, by its own name; empty for cameras."""
    spelled: str
    """Empty: frames that name none."""
    name: str


@dataclass(frozen=True)
class Doubt:
    """Two names that may be one thing, or two."""

    join: Join
    """What holds if they are one."""
    frames: int
    """That carry the spelling."""
    why: str
    """What speaks for it."""


@dataclass(frozen=True)
class Proposal:
    """What headers tell of names."""

    joins: tuple[Join, ...]
    doubts: tuple[Doubt, ...]


@dataclass(frozen=True)
class Decided:
    """What stands already: nothing of it is decided again."""

    joins: tuple[Join, ...] = ()
    apart: frozenset[tuple[NameOf, str, frozenset[str]]] = frozenset()
    """Pairs that a person said are two, with their camera."""
    rigs: tuple[tuple[str, str | None], ...] = ()
    """Camera and telescope of the rigs that are there: two of them are never joined without being asked."""

    filters: tuple[tuple[str, str], ...] = ()
    """Camera and code of filters of which something is kept: none of them becomes another without being asked."""

    def codes(self, camera: str) -> frozenset[str]:
        """Codes of a camera's filters of which something is kept."""
        return frozenset(code for there, code in self.filters if there == camera)

    def cameras(self) -> frozenset[str]:
        """Names that cameras of rigs have."""
        return frozenset(camera for camera, _ in self.rigs)

    def telescopes(self, camera: str) -> frozenset[str]:
        """Names that telescopes of a camera's rigs have."""
        return frozenset(telescope for there, telescope in self.rigs if there == camera and telescope)


@dataclass
class _Name:
    """One spelling with what its frames tell."""

    text: str
    frames: int = 0
    focal_lengths_mm: set[float] | None = None
    pixels_um: set[float] | None = None
    colour: set[bool] | None = None


def propose(seen: Iterable[Seen], decided: Decided = Decided()) -> Proposal:
    """Which spellings are sure to stand for which names, and which pairs of names have to be asked about.

    Cameras are held apart by pixels (µm) and colours, telescopes by focal length (mm).

    Parameters
    ----------
    seen
        What headers name, counted; names as the headers have them.
    decided
        What was decided before.
    """
    rows = list(seen)
    joins, doubts = list[Join](), list[Doubt]()

    def settle(found: tuple[list[Join], list[Doubt]]) -> dict[str, str]:
        joins.extend(found[0])
        doubts.extend(found[1])
        return {j.spelled: j.name for j in found[0]}

    cameras = _before(decided, NameOf.CAMERA, "")
    cameras |= settle(_joined(NameOf.CAMERA, "", _cameras(rows), decided, cameras, decided.cameras()))
    by_camera: dict[str, list[Seen]] = defaultdict(list)
    for row in rows:
        by_camera[cameras.get(row.camera, row.camera)].append(row)
    for camera, of_camera in sorted(by_camera.items()):
        settle(_telescopes_joined(camera, of_camera, decided))
        before = _before(decided, NameOf.FILTER, camera)
        settle(_joined(NameOf.FILTER, camera, _filters(of_camera), decided, before, decided.codes(camera)))
    doubts.sort(key=lambda d: (-d.frames, d.join.about, d.join.spelled))
    return Proposal(tuple(joins), tuple(doubts))


def _before(decided: Decided, about: NameOf, camera: str) -> dict[str, str]:
    return {j.spelled: j.name for j in decided.joins if (j.about, j.camera) == (about, camera)}


def _collect(pairs: Iterable[tuple[str | None, Seen]]) -> list[_Name]:
    found: dict[str, _Name] = {}
    for text, row in pairs:
        if not text:
            continue
        name = found.setdefault(text, _Name(text, 0, set(), set(), set()))
        name.frames += row.frames
        assert name.focal_lengths_mm is not None and name.pixels_um is not None and name.colour is not None
        if row.focal_length_mm:
            name.focal_lengths_mm.add(row.focal_length_mm)
        if row.pixel_um:
            name.pixels_um.add(row.pixel_um)
        if row.kind is FrameKind.LIGHT:
            # Capped frames of a colour camera are often written without its pattern.
            name.colour.add(bool(row.bayer_pattern))
    # Of as many frames each, the one that is written as a person writes it.
    names = sorted(
        found.values(), key=lambda n: (-n.frames, n.text in (n.text.upper(), n.text.lower()), n.text)
    )
    return names[:MOST_NAMES]


def _cameras(rows: Sequence[Seen]) -> list[_Name]:
    return _collect((row.camera, row) for row in rows)


def _filters(rows: Sequence[Seen]) -> list[_Name]:
    through = (FrameKind.LIGHT, FrameKind.FLAT)
    return _collect((row.filter_name, row) for row in rows if row.kind in through)


def _telescopes(rows: Sequence[Seen]) -> list[_Name]:
    return _collect((row.telescope, row) for row in rows)


def _other_sensor(a: _Name, b: _Name) -> bool:
    """Whether two names are of cameras whose frames cannot be of one sensor."""
    if a.colour and b.colour and a.colour.isdisjoint(b.colour):
        return True
    return bool(a.pixels_um and b.pixels_um) and not _near(a.pixels_um, b.pixels_um, _PIXEL_SPLIT)


def _near(some: Collection[float] | None, others: Collection[float] | None, share: float) -> bool:
    return any(abs(a - b) <= share * b for a in some or () for b in others or ())


def _other_train(a: _Name, b: _Name) -> bool:
    """Whether both give focal lengths, and none that the two have in common: a reducer's name makes another train."""
    known = bool(a.focal_lengths_mm and b.focal_lengths_mm)
    return known and not _near(a.focal_lengths_mm, b.focal_lengths_mm, FOCAL_SPLIT)


def _likeness(about: NameOf, a: _Name, b: _Name) -> Alike:
    """How far two names of one kind mean one thing, by the names and by what their frames tell."""
    if about is NameOf.FILTER:
        return filters_alike(a.text, b.text)
    found = alike(a.text, b.text)
    against = _other_sensor(a, b) if about is NameOf.CAMERA else _other_train(a, b)
    if not against:
        return found
    if about is NameOf.TELESCOPE and found is Alike.SAME:
        # One telescope with and without its reducer: its trains are told apart by focal length.
        return found
    return Alike.MAYBE if found is Alike.SAME else Alike.OTHER


def _joined(
    about: NameOf,
    camera: str,
    names: Sequence[_Name],
    decided: Decided,
    before: Mapping[str, str],
    of_rigs: frozenset[str],
) -> tuple[list[Join], list[Doubt]]:
    """Spellings of one kind of thing that stand for a name, and pairs to ask about."""
    left = [n for n in names if n.text not in before]
    # What stands already comes first, then what most frames say.
    left.sort(key=lambda n: n.text not in of_rigs)
    groups: list[list[_Name]] = []
    for name in left:
        home = next((g for g in groups if all(_sure(about, camera, name, m, decided) for m in g)), None)
        if home is None or name.text in of_rigs:
            groups.append([name])
        else:
            home.append(name)
    joins = []
    for group in groups:
        own = group[0].text if group[0].text in of_rigs else _best_name(about, group)
        joins += [Join(about, camera, n.text, own) for n in group if n.text != own]
    doubts = []
    # 'One camera' is asked once of two, whatever spellings each has.
    for first, second in combinations(groups, 2):
        a, b = first[0], second[0]
        apart = (about, camera, frozenset((a.text, b.text))) in decided.apart
        if apart or _likeness(about, a, b) is Alike.OTHER:
            continue
        kept, spelled = (a, b) if a.text in of_rigs or a.frames >= b.frames else (b, a)
        join = Join(about, camera, spelled.text, kept.text)
        doubts.append(Doubt(join, spelled.frames, _why(about, kept, spelled)))
    return joins, doubts


def _sure(about: NameOf, camera: str, a: _Name, b: _Name, decided: Decided) -> bool:
    said_two = (about, camera, frozenset((a.text, b.text))) in decided.apart
    return not said_two and _likeness(about, a, b) is Alike.SAME


def _best_name(about: NameOf, group: Sequence[_Name]) -> str:
    """The name that a group goes by: a filter's usual code, else what most frames say."""
    if about is NameOf.FILTER and len(group) > 1:
        read = [read_filter_name(n.text) for n in group]
        if read[0].code and all(r.width_nm is None for r in read):
            return read[0].code
    return group[0].text


def _why(about: NameOf, kept: _Name, spelled: _Name) -> str:
    """What speaks for two names being one, in a sentence without its point."""
    if about is NameOf.FILTER:
        widths = [read_filter_name(n.text).width_nm for n in (kept, spelled)]
        if (widths[0] is None) != (widths[1] is None):
            return "only one of the names says how wide it is"
        if filters_alike(kept.text, spelled.text) is Alike.SAME:
            return "the names mean the same, and for each something is kept"
        return "the names are nearly the same"
    if alike(kept.text, spelled.text) is Alike.SAME:
        return (
            "the names are the same but for case and signs, the frames’ pixels or colours are not"
            if _other_sensor(kept, spelled)
            else "the names are the same but for case and signs, and each has a rig"
        )
    if about is NameOf.CAMERA and kept.pixels_um and spelled.pixels_um:
        return f"the names are nearly the same, and both have pixels of {min(kept.pixels_um):g} µm"
    if about is NameOf.TELESCOPE and kept.focal_lengths_mm and spelled.focal_lengths_mm:
        return f"the names are nearly the same, and both have {min(kept.focal_lengths_mm):g} mm"
    return "the names are nearly the same"


def _telescopes_joined(camera: str, rows: Sequence[Seen], decided: Decided) -> tuple[list[Join], list[Doubt]]:
    """The telescopes of a camera; lights and flats that name none belong to the one that all others name."""
    before = _before(decided, NameOf.TELESCOPE, camera)
    names = _telescopes(rows)
    joins, doubts = _joined(NameOf.TELESCOPE, camera, names, decided, before, decided.telescopes(camera))
    settled = {**before, **{j.spelled: j.name for j in joins}}
    own = {settled.get(n.text, n.text) for n in names}
    blank = [row for row in rows if not row.telescope and row.kind in (FrameKind.LIGHT, FrameKind.FLAT)]
    if not blank or "" in before or len(own) != 1:
        return joins, doubts
    join = Join(NameOf.TELESCOPE, camera, "", own.pop())
    if (join.about, camera, frozenset(("", join.name))) in decided.apart:
        return joins, doubts
    sure = _of_that_focal_length(blank, names)
    if any(there == camera and not telescope for there, telescope in decided.rigs):
        # There is a rig for them: what is to be done with it is asked.
        sure = None if sure else sure
    if sure:
        joins.append(join)
    elif sure is None:
        why = f"its other lights and flats all name {join.name}"
        doubts.append(Doubt(join, sum(row.frames for row in blank), why))
    return joins, doubts


def _of_that_focal_length(rows: Sequence[Seen], names: Sequence[_Name]) -> bool | None:
    """Whether frames have the focal length of named ones; None where either is not known."""
    theirs = {row.focal_length_mm for row in rows if row.focal_length_mm}
    known = {mm for n in names for mm in n.focal_lengths_mm or ()}
    if not theirs or not known:
        return None
    return all(_near([mm], known, FOCAL_SPLIT) for mm in theirs)
