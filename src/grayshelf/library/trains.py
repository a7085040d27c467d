"""The trains of a library's rigs, by which frames are told to be of a rig."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.rigs.trains import SeenTrain, Train, new_trains, train_of
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import CameraRow, FrameSet, Rig, counts_once

#: Answers on a slip by which all frames of a rig are of one train, whatever their headers say.
_ONE_TRAIN = ("focal length", "telescope")


def standing_rigs() -> Select[Rig]:
    """Rigs that were not joined with another, oldest first."""
    return select(Rig).where(Rig.joined_to.is_(None)).order_by(Rig.id)


def trains_in(session: Session) -> list[Train]:
    """The trains of all rigs, oldest first; those of a rig that was joined with another are that one's."""
    rows = session.execute(
        select(Rig.id, Rig.joined_to, Rig.camera, Rig.telescope, Rig.told_focal_mm).order_by(Rig.id)
    ).all()
    joined = {number: into for number, into, *_ in rows if into is not None}

    def own(number: int) -> int:
        seen = set[int]()
        while number in joined and number not in seen:
            seen.add(number)
            number = joined[number]
        return number

    return [Train(own(number), camera, telescope, mm) for number, _, camera, telescope, mm in rows]


class OfTrain(Protocol):
    """What tells of the train that took it: frames' facts, common settings, a row of them."""

    @property
    def camera(self) -> str | None:
        """As headers name it."""
        ...

    @property
    def telescope(self) -> str | None:
        """As headers name it."""
        ...

    @property
    def focal_length_mm(self) -> float | None:
        """As headers tell it."""
        ...


class Sorter:
    """Tells whose frames are whose; the same answer is worked out once."""

    def __init__(self, trains: Sequence[Train]) -> None:
        """`trains` of all rigs."""
        self._trains = trains
        self._found: dict[tuple[str | None, str | None, float | None], int | None] = {}

    def of(self, facts: OfTrain) -> int | None:
        """The number of the rig that took a light or a flat."""
        key = facts.camera, facts.telescope, facts.focal_length_mm
        if key not in self._found:
            self._found[key] = train_of(self._trains, *key)
        return self._found[key]


@kept(4)
def _sorter(library: Library, revision: int) -> Sorter:
    with library.db.own_session() as session:
        return Sorter(trains_in(session))


def sorter(library: Library) -> Sorter:
    """By the trains as they are on the shelf now."""
    return _sorter(library, library.revision)


def make_rigs(session: Session) -> list[str]:
    """Propose a rig for every train that lights or flats tell of and that none is yet."""
    rows = session.execute(
        select(FrameSet.camera, FrameSet.kind, FrameSet.facts, FrameSet.n_frames)
        .where(FrameSet.camera.is_not(None), counts_once())
        .order_by(FrameSet.kind.desc(), FrameSet.id)
    )
    seen = []
    for camera, kind, kept_facts, frames in rows:
        facts = facts_if_sound(kept_facts)
        if facts is not None:
            seen.append(
                SeenTrain(
                    camera, facts.telescope, FrameKind(kind), facts.focal_length_mm, facts.aperture_mm, frames
                )
            )
    rigs = session.scalars(select(Rig).order_by(Rig.id)).all()
    one_train = {r.id for r in rigs if any((r.says or {}).get(q) == "fixed" for q in _ONE_TRAIN)}
    made: list[str] = []
    for train in new_trains(seen, trains_in(session), one_train):
        name = _free_name(
            session, train.telescope, train.camera, train.focal_length_mm if train.reduced else None
        )
        if session.scalar(select(CameraRow.id).where(CameraRow.name == train.camera)) is None:
            session.add(CameraRow(name=train.camera))
        session.add(
            Rig(
                name=name,
                camera=train.camera,
                telescope=train.telescope,
                aperture_mm=train.aperture_mm,
                focal_length_mm=train.focal_length_mm,
                told_focal_mm=train.focal_length_mm,
                proposed=True,
            )
        )
        session.flush()
        made.append(name)
    return made


def _free_name(session: Session, telescope: str | None, camera: str, reduced_mm: float | None) -> str:
    """A name that no rig has: the telescope's, with the focal length where that tells it from another."""
    taken = set(session.scalars(select(Rig.name)))
    name = telescope or camera
    if reduced_mm:
        name = f"{name} at {reduced_mm:g} mm"
    if name in taken:
        name = f"{name} with {camera}"
    number, plain = 2, name
    while name in taken:
        name, number = f"{plain} ({number})", number + 1
    return name
