"""Measurements of how a light follows its brightness: which of them still say something of a rig's light."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import NotFound
from grayshelf.core.flats.panel.response import LightPath, ResponsePoint
from grayshelf.core.matching.rig_events import RigEventKind
from grayshelf.library.models import PanelCurve, Rig, RigEvent


def curves_of(session: Session, source_id: int, rig: Rig) -> list[PanelCurve]:
    """Measurements of a light with a rig since its panel was last replaced, newest first."""
    return [c for c in newest_first(session, source_id, rig) if counts(c, rig)]


def last_outlived(session: Session, source_id: int, rig: Rig) -> PanelCurve | None:
    """The newest measurement that a panel put in its place has outlived."""
    return next((c for c in newest_first(session, source_id, rig) if _replaced_since(c, rig.events)), None)


def counts(curve: PanelCurve, rig: Rig) -> bool:
    """Whether a measurement still says something: it was not taken back, and no other panel has come."""
    return not (curve.taken_back or _replaced_since(curve, rig.events))


def take_curve_back(session: Session, rig: Rig, curve_id: int, taken_back: bool) -> None:
    """Let a measurement of the rig's light count no more, or again.

    Raises
    ------
    NotFound
        Where the rig has no such measurement.
    """
    curve = session.get(PanelCurve, curve_id)
    if curve is None or curve.rig_id != rig.id:
        raise NotFound("This measurement is not kept.")
    curve.taken_back = taken_back


def newest_first(session: Session, source_id: int, rig: Rig) -> list[PanelCurve]:
    """Every measurement of a light with a rig, also those that count no more."""
    query = select(PanelCurve).where(PanelCurve.source_id == source_id, PanelCurve.rig_id == rig.id)
    return list(session.scalars(query.order_by(PanelCurve.id.desc())))


def known_points(session: Session, source_id: int, rig: Rig) -> list[ResponsePoint]:
    """What measurements tell a search: the rig's newest, else the newest with another rig.

    Through another telescope only the shape holds, so its rates are in groups of their own.
    """
    own = curves_of(session, source_id, rig)
    if own:
        return curve_points(own[0])
    others = session.scalars(
        select(PanelCurve)
        .where(PanelCurve.source_id == source_id, PanelCurve.rig_id != rig.id)
        .order_by(PanelCurve.id.desc())
    )
    for curve in others:
        there = session.get_one(Rig, curve.rig_id)
        if counts(curve, there) and not _replaced_since(curve, rig.events):
            return [
                replace(p, group=path_of_point(p)._replace(telescope=there.name)) for p in curve_points(curve)
            ]
    return []


def _replaced_since(curve: PanelCurve, events: list[RigEvent]) -> bool:
    """Whether another panel has come since: it may follow another curve under the same name."""
    return any(RigEventKind(e.kind).ends_panel_curve and e.at > curve.made_at for e in events)


def curve_points(curve: PanelCurve) -> list[ResponsePoint]:
    """A measured curve in the words of the sums."""
    return [
        ResponsePoint(
            LightPath(p["filter_code"], float(p["gain"]), int(p["binning"])),
            int(p["brightness"]),
            float(p["rate"]),
        )
        for p in curve.points
    ]


def path_of_point(point: ResponsePoint) -> LightPath:
    """The way of the light on which a kept rate was measured."""
    assert isinstance(point.group, LightPath)
    return point.group


def points_as_json(points: Sequence[ResponsePoint]) -> list[dict[str, object]]:
    """What `curve_points` reads back."""
    kept = []
    for point in points:
        path = path_of_point(point)
        at = {"filter_code": path.filter_code, "gain": path.gain, "binning": path.binning}
        kept.append({**at, "brightness": point.brightness, "rate": point.rate})
    return kept
