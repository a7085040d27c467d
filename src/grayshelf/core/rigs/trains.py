"""Trains: a camera on a telescope with its reducer or extender. Which one took a frame, and which are not there yet."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.rulers import plain_name

#: Focal lengths further apart than this, as a share, are of two trains: the weakest reducers in use shorten by a tenth
#: (common practice). Nearer ones may be one train that was measured twice.
REDUCED_BY = 0.08


@dataclass(frozen=True)
class Train:
    """A rig's train, by which frames are told to be its own."""

    number: int
    """Of its rig; of the one that it was joined with, where it was."""
    camera: str
    telescope: str | None
    focal_length_mm: float | None


def train_of(
    trains: Sequence[Train], camera: str | None, telescope: str | None, focal_length_mm: float | None
) -> int | None:
    """The rig that took a frame: of those of its camera and telescope, the one whose focal length in mm is nearest.

    A frame that gives no focal length belongs to the oldest of them; a focal length that no train has, to the nearest,
    so that none is without a rig. None where no rig has this camera and telescope.
    """
    plain = plain_name(telescope)
    same = [t for t in trains if t.camera == camera and plain_name(t.telescope) == plain]
    if not same:
        return None
    known = [t for t in same if t.focal_length_mm]
    if not focal_length_mm or not known:
        return same[0].number
    near = min(known, key=lambda t: abs(math.log((t.focal_length_mm or 1.0) / focal_length_mm)))
    other = [t for t in same if not t.focal_length_mm]
    if other and _apart(near.focal_length_mm or 1.0, focal_length_mm):
        return other[0].number
    return near.number


def _apart(one_mm: float, other_mm: float) -> bool:
    return abs(one_mm - other_mm) > REDUCED_BY * max(one_mm, other_mm)


def same_train(one_mm: float | None, other_mm: float | None) -> bool:
    """Whether two focal lengths, in mm, may be of one train; one that is not known may be any."""
    return not one_mm or not other_mm or not _apart(one_mm, other_mm)


@dataclass(frozen=True)
class SeenTrain:
    """Frames of one camera, telescope and focal length."""

    camera: str
    telescope: str | None
    kind: FrameKind
    focal_length_mm: float | None = None
    aperture_mm: float | None = None
    frames: int = 1


@dataclass(frozen=True)
class NewTrain:
    """A train that frames tell of and no rig has yet."""

    camera: str
    telescope: str | None
    focal_length_mm: float | None
    aperture_mm: float | None
    reduced: bool = False
    """Its telescope has a rig already, of another focal length."""


def _usual_first(rows: Sequence[SeenTrain]) -> list[SeenTrain]:
    """Trains of lights before those of flats alone, then those of most frames: the first of a telescope has its name."""

    def about(row: SeenTrain) -> tuple[str, str | None, float]:
        return row.camera, plain_name(row.telescope), round(row.focal_length_mm or 0.0, -1)

    frames: dict[tuple[str, str | None, float], int] = defaultdict(int)
    for row in rows:
        frames[about(row)] += row.frames
    return sorted(rows, key=lambda row: (row.kind is FrameKind.FLAT, -frames[about(row)]))


def new_trains(
    seen: Iterable[SeenTrain], trains: Sequence[Train], one_train: Collection[int] = ()
) -> list[NewTrain]:
    """Trains that are not there yet: one for each camera and telescope that lights or flats name, and for each focal length,
    in mm, that a reducer must have made. A camera of capped frames alone has one, too.

    Parameters
    ----------
    one_train
        Rigs of which a person said that all frames are of one train, whatever their headers say.
    """
    rows = list(seen)
    there = _There(trains, one_train)
    through = [row for row in rows if row.kind in (FrameKind.LIGHT, FrameKind.FLAT)]
    made = [train for row in _usual_first(through) if (train := there.new(row)) is not None]
    for row in rows:
        if row.kind.capped and row.camera not in there.cameras:
            there.cameras.add(row.camera)
            made.append(NewTrain(row.camera, None, None, None))
    return made


class _There:
    """The trains that are there, and those that were found just now."""

    def __init__(self, trains: Sequence[Train], one_train: Collection[int]) -> None:
        self.cameras = {t.camera for t in trains}
        self._lengths_mm: dict[tuple[str, str | None], list[float]] = {}
        self._takes_any = set[tuple[str, str | None]]()
        for train in trains:
            key = train.camera, plain_name(train.telescope)
            lengths = self._lengths_mm.setdefault(key, [])
            if train.focal_length_mm:
                lengths.append(train.focal_length_mm)
            if train.number in one_train or not train.focal_length_mm:
                # What focal length it has is not known: frames of any may be its own.
                self._takes_any.add(key)

    def new(self, row: SeenTrain) -> NewTrain | None:
        """The train of some frames, where it is none that is there."""
        key, mm = (row.camera, plain_name(row.telescope)), row.focal_length_mm
        lengths = self._lengths_mm.get(key)
        if lengths is not None:
            if not mm or key in self._takes_any:
                return None
            if not lengths:
                # Its first frames gave no focal length: it is the train of these.
                lengths.append(mm)
                return None
            if not all(_apart(mm, other) for other in lengths):
                return None
        self.cameras.add(row.camera)
        self._lengths_mm.setdefault(key, []).extend([mm] if mm else [])
        return NewTrain(row.camera, row.telescope, mm, row.aperture_mm, reduced=lengths is not None)
