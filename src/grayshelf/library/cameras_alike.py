"""Which names of cameras stand for more than one, by frames of two telescopes that were exposed at once."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from datetime import datetime
from itertools import islice
from typing import NamedTuple

from sqlalchemy import String, cast, select
from sqlalchemy.orm import Session

from grayshelf.core.matching.cameras_alike import LEAST_AT_ONCE, exposed_at_once, may_be_of
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.matching.stock import Stock
from grayshelf.library.holdings import stock
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet, Rig
from grayshelf.library.trains import standing_rigs
from grayshelf.library.unreadable import readable

#: Pairs of sets of which the frames are looked at: one camera that changes its telescope has none.
MOST_PAIRS = 100


class _Span(NamedTuple):
    """From when to when a set was shot, as the database writes it: its text stands in the order of the times."""

    first: str
    last: str
    set_id: int
    telescope: str | None


def shelf_of(library: Library, rig: Rig) -> Stock:
    """What stands on the shelf of a rig's camera; of several cameras of its name, without what is of another telescope."""
    own, of_the_name = tells_apart(library, rig.camera, rig.telescope), stock(library, rig.camera)
    if own is None:
        return of_the_name
    return Stock(h for h in of_the_name.holdings if may_be_of(own, h.settings.telescope))


def tells_apart(library: Library, camera: str | None, telescope: str | None) -> str | None:
    """The telescope, as a plain name, that tells a camera from others of its name; none where there is one of that name."""
    return plain_name(telescope) if camera in cameras_alike(library) else None


def cameras_alike(library: Library) -> frozenset[str]:
    """Names that more than one camera has."""
    return _cameras_alike(library, library.revision)


@kept(1)
def _cameras_alike(library: Library, revision: int) -> frozenset[str]:
    with library.db.own_session() as session:
        telescopes: dict[str, set[str | None]] = defaultdict(set)
        for rig in session.scalars(standing_rigs()):
            telescopes[rig.camera].add(plain_name(rig.telescope))
        return frozenset(
            camera for camera, names in telescopes.items() if len(names) > 1 and _is_several(session, camera)
        )


def _is_several(session: Session, camera: str) -> bool:
    facts = readable(FrameSet.facts)
    telescope = facts["telescope"].as_string()
    query = (
        select(cast(FrameSet.first_utc, String), cast(FrameSet.last_utc, String), FrameSet.id, telescope)
        .where(
            FrameSet.camera == camera,
            FrameSet.is_master.is_(False),
            FrameSet.first_utc.is_not(None),
            FrameSet.last_utc.is_not(None),
            telescope.is_not(None),
            # A copy that another program made of an exposure may name the telescope otherwise.
            facts["calibrated"].as_string().is_(None),
        )
        .order_by(FrameSet.first_utc, FrameSet.id)
    )
    rows = session.execute(query).all()
    # A library has many sets and few telescopes.
    plain = {name: plain_name(name) for name in {name for *_, name in rows}}
    spans = [_Span(first, last, set_id, plain[name]) for first, last, set_id, name in rows]
    return any(
        exposed_at_once(_frames(session, one), _frames(session, other)) >= LEAST_AT_ONCE
        for one, other in islice(_at_once(spans), MOST_PAIRS)
    )


def _at_once(spans: Sequence[_Span]) -> Iterator[tuple[int, int]]:
    """Sets of two telescopes that were shot at the same time; the spans are in the order of their beginnings."""
    open_ones: list[_Span] = []
    for span in spans:
        open_ones = [one for one in open_ones if one.last > span.first]
        yield from ((one.set_id, span.set_id) for one in open_ones if one.telescope != span.telescope)
        open_ones.append(span)


def _frames(session: Session, set_id: int) -> list[tuple[datetime, float]]:
    exposure_s = readable(Frame.facts)["exposure_s"].as_float()
    query = select(Frame.utc, exposure_s).where(Frame.set_id == set_id, Frame.utc.is_not(None))
    return [(utc, float(seconds or 0.0)) for utc, seconds in session.execute(query) if utc is not None]
