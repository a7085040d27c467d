"""Where the frames of sets lie: the folders of all of them, or of the first and the last of each set, since to look at all of
a library of years takes a second."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from grayshelf.library.choosing import Choice, chosen
from grayshelf.library.kept import in_parts
from grayshelf.library.models import Folder, Frame, FrameSet

#: The path without the file's name, with '/' at its end: what is left once all behind the last '/' is cut off.
_FOLDER = func.rtrim(Frame.path, func.replace(Frame.path, "/", ""))


def ends_of_sets(session: Session, which: ColumnElement[bool]) -> list[Any]:
    """The number and path of the folder on the list, the path below it, the kind and the camera of the first and
    the last frame of each of these sets; masters and measurements are none of them."""
    sets = select(FrameSet.id).where(which, ~FrameSet.is_master, FrameSet.measurement_id.is_(None))
    ends = select(func.min(Frame.id), func.max(Frame.id)).where(Frame.set_id.in_(sets)).group_by(Frame.set_id)
    ids = sorted({i for pair in session.execute(ends) for i in pair})
    rows: list[Any] = []
    for part in in_parts(ids):
        query = select(Frame.folder_id, Folder.path, Frame.path, Frame.kind, Frame.camera)
        rows += session.execute(query.join(Folder).where(Frame.id.in_(part)))
    return rows


def folders_of_sets(session: Session, which: ColumnElement[bool]) -> list[Any]:
    """The same of all frames, each folder once: the number and path of the folder on the list, the path below it, and the
    camera."""
    sets = select(FrameSet.id).where(which, ~FrameSet.is_master, FrameSet.measurement_id.is_(None))
    query = select(Frame.folder_id, Folder.path, _FOLDER, Frame.camera).join(Folder)
    return list(session.execute(query.where(Frame.set_id.in_(sets)).distinct()))


def folders_of(session: Session, choice: Choice) -> list[str]:
    """The folders in which the frames that are chosen lie, by their paths below the one on the list; '' is that one."""
    return [
        folder.rstrip("/") for folder in session.scalars(select(_FOLDER).where(chosen(choice)).distinct())
    ]
