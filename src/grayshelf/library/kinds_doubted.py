"""Frames whose headers say another kind than the folder that they lie in, by folder: a person says which is right."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import PurePath
from typing import Any

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from grayshelf.core.frames.folder_names import folders_above
from grayshelf.core.frames.kind_doubted import LONGEST_BIAS_S, MAY_BE, doubted_by_folder
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.choosing import Choice, chosen
from grayshelf.library.folders_of_sets import ends_of_sets, folders_of
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet
from grayshelf.library.unreadable import readable


@dataclass(frozen=True)
class DoubtedKind:
    """Frames below one folder that say one kind where the folder is named for another."""

    folder_id: int
    folder: str
    below: str
    """The folder that is named for a kind, by its path below the one on the list."""
    told: FrameKind
    by_folder: FrameKind
    frames: int = 0
    example: str = ""
    """The name of one of them."""


@kept(2)
def doubted_kinds(library: Library, revision: int) -> tuple[DoubtedKind, ...]:
    """All of them, the largest first; those of which a person said the kind are in no doubt any more."""
    with library.db.own_session() as session:
        kinds = FrameSet.kind.in_([k.value for k in MAY_BE])
        # Of each folder once: sets of years lie in few.
        lie_in = {
            (i, folder, path.rpartition("/")[0], k) for i, folder, path, k, _ in ends_of_sets(session, kinds)
        }
        found = {_doubt(*one) for one in lie_in} - {None}
        counted = [_counted(session, doubt) for doubt in found if doubt is not None]
    there = [doubt for doubt in counted if doubt is not None]
    return tuple(sorted(there, key=lambda d: (-d.frames, d.folder, d.below, d.told)))


def _doubt(folder_id: int, folder: str, within: str, told: str | None) -> DoubtedKind | None:
    if told is None:
        return None
    kind = FrameKind(told)
    doubt = doubted_by_folder(kind, folders_above(PurePath(folder) / within / "x"))
    if doubt is None:
        return None
    by_folder, place = doubt
    parts = PurePath(within).parts
    below = parts[: max(len(parts) - place, 0)]
    return DoubtedKind(folder_id, folder, "/".join(below), kind, by_folder)


def _counted(session: Session, doubt: DoubtedKind) -> DoubtedKind | None:
    """With how many frames it is of; None where a person said of any what they are, or they are too long for a bias."""
    choice = Choice(doubt.folder_id, doubt.below, kind=doubt.told.value)
    said: ColumnElement[Any] = readable(Frame.facts)["said"]["kind"].as_string().is_not(None)
    too_long: ColumnElement[Any] = readable(Frame.facts)["exposure_s"].as_float() > LONGEST_BIAS_S
    count, example, longest, any_said = session.execute(
        select(func.count(), func.min(Frame.path), func.max(too_long), func.max(said)).where(
            chosen(choice), Frame.missing_since.is_(None)
        )
    ).one()
    if not count or any_said or (doubt.by_folder is FrameKind.BIAS and longest):
        return None
    # What is said of a folder is said of all below it: where some of them lie in a folder of their own kind, nothing is
    # proposed.
    for path in folders_of(session, choice):
        found = doubted_by_folder(doubt.told, folders_above(PurePath(doubt.folder) / path / "x"))
        if found is None or found[0] is not doubt.by_folder:
            return None
    return DoubtedKind(
        doubt.folder_id, doubt.folder, doubt.below, doubt.told, doubt.by_folder, count, example
    )
