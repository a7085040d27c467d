"""Days and times of the database that are none: taken as not known, and told anew from the files at the next scan."""

from __future__ import annotations

from sqlalchemy import ColumnElement, and_, func, or_, select, update
from sqlalchemy.orm import InstrumentedAttribute, Session

from grayshelf.library.models import Frame, FrameSet


def _is_none(column: InstrumentedAttribute[object]) -> ColumnElement[bool]:
    """Something is kept, and it is no day or time (SQLite's own reading of one)."""
    return and_(column.is_not(None), or_(func.typeof(column) != "text", func.julianday(column).is_(None)))


def read_anew(session: Session, folder_id: int) -> set[str]:
    """Let a scan read the frames of a folder anew whose day or time is none; returns the keys of sets of which the same
    is to be told anew."""
    broken = or_(_is_none(Frame.utc), _is_none(Frame.night), _is_none(Frame.missing_since))
    of_folder = Frame.folder_id == folder_id
    # A file is known as the same by its time of change: without it, it is another one.
    session.execute(update(Frame).where(of_folder, broken).values(modified_ns=0, missing_since=None))
    sets = or_(_is_none(FrameSet.night), _is_none(FrameSet.first_utc), _is_none(FrameSet.last_utc))
    keys = select(Frame.group_key).join(FrameSet, FrameSet.id == Frame.set_id).where(of_folder, sets)
    return {key for key in session.scalars(keys.distinct()) if key}
