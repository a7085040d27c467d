"""Files that are once more what the library has: for each of them another frame counts."""

from __future__ import annotations

from sqlalchemy import Select, and_, func, select
from sqlalchemy.orm import aliased

from grayshelf.library.catalog import IN_SETS
from grayshelf.library.models import Frame

DUPLICATE = "duplicate"
_Counted = aliased(Frame, name="counted")
#: Byte for byte where a copy has a hash, else the same exposure, saved twice. Apart from one another, so that each is found
#: by an index.
_SAME = (
    Frame.sha256 == _Counted.sha256,
    and_(
        Frame.sha256.is_(None),
        Frame.camera == _Counted.camera,
        Frame.utc == _Counted.utc,
        Frame.kind == _Counted.kind,
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
