"""Where the headers of the newest lights say that they were taken: what is offered while nobody has said where the site
is."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.place import ELSEWHERE_KM, Place, apart_km, place_in
from grayshelf.core.frames.reader import HeaderReader
from grayshelf.core.rigs.train import PartKind
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.files import read_header
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import Frame, FrameSet, Rig
from grayshelf.library.rig_cards import change_sheet
from grayshelf.library.sites import has_place, site_card, site_of

#: One file of so many sets is opened, the newest first: a page waits for it.
_LOOKED_AT = 4
#: To about a hundred metres: more than the sun's course needs.
_DIGITS = 3


@dataclass(frozen=True)
class PlaceTold:
    """What a header tells of the site."""

    latitude_deg: float
    """North positive."""
    longitude_deg: float
    """East positive."""
    night: date | None
    """Of the lights that tell it."""


def told_of_rig(library: Library, rig: Rig) -> PlaceTold | None:
    """What the newest lights of a rig tell."""
    newest = light_sets(library, rig)[-_LOOKED_AT:]
    return _told(library, library.revision, tuple(s.row.id for s in reversed(newest)))


def told_elsewhere(library: Library, session: Session, rig: Rig) -> PlaceTold | None:
    """The same where it is another place than the one that the rig is said to stand at, or where that is not known of its
    own site."""
    site = site_of(library, session, rig)
    if not has_place(site) and not site_card(rig).is_own:
        # It is asked of the library's site.
        return None
    told = told_of_rig(library, rig)
    if told is None or not has_place(site):
        return told
    kept_place = Place(site["latitude"], site["longitude"])
    far = apart_km(Place(told.latitude_deg, told.longitude_deg), kept_place) > ELSEWHERE_KM
    return told if far else None


def told_of_all(library: Library, session: Session) -> PlaceTold | None:
    """What the newest lights of any rig tell."""
    newest = FrameSet.last_utc.desc().nulls_last()
    query = select(FrameSet.id).where(FrameSet.kind == "light").order_by(newest, FrameSet.id.desc())
    return _told(library, library.revision, tuple(session.scalars(query.limit(_LOOKED_AT))))


def keep_place(
    library: Library, session: Session, rig: Rig, latitude_deg: float, longitude_deg: float
) -> None:
    """Keep the place where a rig stands: with its own site where it has one, else with the library's."""
    place = {"latitude": latitude_deg, "longitude": longitude_deg}
    if site_card(rig).is_own:
        change_sheet(library, session, rig, PartKind.SITE.value, place)
    else:
        library.set_setting(session, "site", {**library.site(session), **place})


@kept(16)
def _told(library: Library, revision: int, set_ids: tuple[int, ...]) -> PlaceTold | None:
    """The place that the first of some sets tells; None where none tells one whole, or their files are out of reach."""
    with library.db.own_session() as session:
        for set_id in set_ids:
            frame = session.scalar(
                select(Frame)
                .where(Frame.set_id == set_id, Frame.state.in_(IN_SETS), Frame.missing_since.is_(None))
                .order_by(Frame.id)
                .limit(1)
            )
            place = None if frame is None else _place_of(library, session, frame)
            if frame is not None and place is not None and place.latitude_deg is not None:
                latitude, longitude = round(place.latitude_deg, _DIGITS), round(place.longitude_deg, _DIGITS)
                return PlaceTold(latitude, longitude, frame.night)
    return None


def _place_of(library: Library, session: Session, frame: Frame) -> Place | None:
    try:
        path = library.frame_path(session, frame)
        return place_in(HeaderReader(read_header(path).header, {}))
    except (GrayShelfError, OSError):
        return None
