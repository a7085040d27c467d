"""What a person notes of a night, and nights that had no lights."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.frames.weather import checked_weather
from grayshelf.library.models import NightLog


def log_of(session: Session, rig_id: int, night: date) -> NightLog | None:
    """What is noted of a night."""
    return session.scalar(select(NightLog).where(NightLog.rig_id == rig_id, NightLog.night == night))


def logs_of(session: Session, rig_id: int) -> list[NightLog]:
    """All nights of which something is noted, the oldest first."""
    return list(session.scalars(select(NightLog).where(NightLog.rig_id == rig_id).order_by(NightLog.night)))


def keep_log(
    session: Session,
    rig_id: int,
    night: date,
    notes: str | None = None,
    weather: Mapping[str, float | None] | None = None,
) -> NightLog:
    """Keep what is noted of a night; what is not given stays. A night that was not there is added.

    Raises
    ------
    GrayShelfError
        See `checked_weather`.
    """
    log = log_of(session, rig_id, night)
    if log is None:
        log = NightLog(rig_id=rig_id, night=night, conditions={}, notes="")
        session.add(log)
    if notes is not None:
        log.notes = notes
    if weather is not None:
        log.conditions = checked_weather(weather, dict(log.conditions))
    return log
