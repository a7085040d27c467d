"""How much there is in a library."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import func, select

from grayshelf.library.catalog import IN_SETS
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, FrameSet


@dataclass(frozen=True)
class Counts:
    """Frames in sets, masters, folders on the list, and sets that are shown by camera."""

    frames: int
    masters: int
    folders: int
    sets_of: dict[str | None, int]


@kept(4)
def _counts(library: Library, revision: int, newest_frame: int, folders: int) -> Counts:
    with library.db.own_session() as session:
        frames = session.scalar(select(func.count()).select_from(Frame).where(Frame.state.in_(IN_SETS)))
        masters = session.scalar(select(func.count()).select_from(FrameSet).where(FrameSet.is_master))
        shown = (
            select(FrameSet.camera, func.count())
            .where(FrameSet.taken_off.is_(False), FrameSet.measurement_id.is_(None))
            .group_by(FrameSet.camera)
        )
        return Counts(frames or 0, masters or 0, folders, dict(session.execute(shown).all()))


def count_all(library: Library) -> Counts:
    """Counted anew where the shelf changed or frames came, as they do all through a scan."""
    with library.db.session() as session:
        newest = session.scalar(select(func.max(Frame.id))) or 0
        folders = session.scalar(select(func.count()).select_from(Folder).where(Folder.own.is_(False))) or 0
    return _counts(library, library.revision, newest, folders)
