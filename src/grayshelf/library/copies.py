"""Files that are once more what the library has: for each of them another frame counts."""

from __future__ import annotations

from sqlalchemy import ColumnElement, Select, and_, exists, func, select
from sqlalchemy.orm import Session, aliased

from grayshelf.library.catalog import IN_SETS
from grayshelf.library.models import Frame
from grayshelf.library.unreadable import readable

DUPLICATE = "duplicate"
_Counted = aliased(Frame, name="counted")


def _is_master(frame: type[Frame]) -> ColumnElement[str]:
    return readable(frame.facts)["is_master"].as_string()


#: Byte for byte where a copy has a hash, else the same exposure, saved twice. Apart from one another, so that each is found
#: by an index.
_SAME = (
    Frame.sha256 == _Counted.sha256,
    and_(
        Frame.sha256.is_(None),
        Frame.camera == _Counted.camera,
        Frame.utc == _Counted.utc,
        Frame.kind == _Counted.kind,
        # A master bears the time of one of its frames.
        _is_master(Frame).is_not_distinct_from(_is_master(_Counted)),
    ),
)


def counted_for_copies() -> tuple[Select[int], ...]:
    """Queries for the numbers of the frames that count in place of copies, one for each way of being a copy; to be narrowed
    by what is asked of the copies (`Frame`). Of several that a copy could stand for, the one that was here first."""
    return tuple(
        select(func.min(_Counted.id))
        .select_from(Frame)
        .join(_Counted, same)
        .where(Frame.state == DUPLICATE, _Counted.state.in_(IN_SETS))
        .group_by(Frame.id)
        for same in _SAME
    )


def counted_elsewhere(session: Session, folder_id: int) -> list[int]:
    """The numbers of a folder's frames of which copies lie in other folders."""
    counted = {
        number
        for query in counted_for_copies()
        for number in session.scalars(
            query.where(Frame.folder_id != folder_id, _Counted.folder_id == folder_id)
        )
    }
    return sorted(counted)


def copies_of(session: Session, frame: Frame) -> list[Frame]:
    """The copies of a frame whose files are not missing: the same bytes first, then the same exposure, saved twice."""
    one_exposure = and_(
        Frame.sha256.is_(None),
        Frame.camera == (frame.camera or ""),
        Frame.utc == frame.utc,
        Frame.utc.is_not(None),
        Frame.kind == (frame.kind or ""),
    )
    query = select(Frame).where(
        (Frame.sha256 == (frame.sha256 or "")) | one_exposure,
        Frame.state == DUPLICATE,
        Frame.missing_since.is_(None),
    )
    return list(session.scalars(query.order_by(Frame.sha256.is_(None), Frame.id)))


def without_a_frame(session: Session, folder_id: int) -> set[str]:
    """The paths of a folder's copies for which no frame counts any more: they are to be read anew."""
    counts = [exists().where(same, _Counted.state.in_(IN_SETS)) for same in _SAME]
    copies = select(Frame.path).where(Frame.folder_id == folder_id, Frame.state == DUPLICATE)
    return set(session.scalars(copies.where(~counts[0], ~counts[1])))
