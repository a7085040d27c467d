"""Where rigs stand: at the library's site, or at one of their own."""

from __future__ import annotations

from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy.orm import Session

from grayshelf.core.frames.night import site_zone
from grayshelf.core.rigs.cards import SiteCard
from grayshelf.core.rigs.train import PartKind
from grayshelf.library.library import Library
from grayshelf.library.models import Rig
from grayshelf.library.trains import standing_rigs


def site_card(rig: Rig) -> SiteCard:
    """What was typed of the place where a rig stands; nothing where that is the library's site."""
    typed = rig.parts.get(PartKind.SITE.value, {})
    return SiteCard(typed.get("name", ""), typed.get("latitude"), typed.get("longitude"), rig.time_zone or "")


def site_of(library: Library, session: Session, rig: Rig) -> dict[str, Any]:
    """Name, latitude, longitude (degrees north and east, or None) and time_zone of the place where a rig stands."""
    card, site = site_card(rig), library.site(session)
    zone = card.time_zone or site["time_zone"]
    if not card.is_own:
        return {**site, "time_zone": zone}
    return {
        "name": card.name or site["name"],
        "latitude": card.latitude,
        "longitude": card.longitude,
        "time_zone": zone,
    }


def has_place(site: dict[str, Any]) -> bool:
    """Whether somebody entered where a site is."""
    return site.get("latitude") is not None and site.get("longitude") is not None


def zone_of(library: Library, session: Session, rig: Rig) -> ZoneInfo:
    """The time zone of the place where a rig stands."""
    return site_zone(rig.time_zone) if rig.time_zone else library.zone(session)


def own_sites(session: Session) -> list[SiteCard]:
    """The places of rigs that stand elsewhere, each once."""
    found: dict[str, SiteCard] = {}
    for rig in session.scalars(standing_rigs()):
        card = site_card(rig)
        if card.is_own and card.name:
            found.setdefault(card.name, card)
    return list(found.values())
