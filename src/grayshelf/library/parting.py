"""Parting a night in two, joining two, and taking that back: frames are told anew, no file is touched."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime, time, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, GrayShelfError, NotFound
from grayshelf.core.frames.night_moves import NightMove, notes_joined, notes_parted
from grayshelf.library.grouping import RECOUNT, regroup, tell_again
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, NightLog, Rig
from grayshelf.library.night_log import log_of
from grayshelf.library.nights_moved import NotesMoved, keep_moves, night_moves, notes_of_move
from grayshelf.library.sites import zone_of

#: After the last frame of a night: what comes in later and was begun before its end belongs to it.
_AFTER = timedelta(seconds=1)
#: Frames are moved by some days and not by years: a wrong clock is another matter.
MOST_DAYS = 7


def part_night(library: Library, rig: Rig, night: date, at: datetime, into: date) -> int:
    """Frames of a night from a moment on belong to another night; returns how many.

    Parameters
    ----------
    at
        UTC. The other part are frames that were begun at it or later.

    Raises
    ------
    NotFound, Conflict, GrayShelfError
        Where there is no such night, a part would be empty, or the other night lies too far away.
    """
    with library.db.session() as session:
        first, last = _span(session, rig, night)
        if not first < at <= last:
            raise Conflict(
                "Nothing would be parted: all of that night lies on one side of this time.",
                "Give a time between its first and its last frame.",
            )
        _near(night, into)
        move = NightMove(rig.camera, at, max(last + _AFTER, _noon(library, session, rig, night, 1)), into)
        _keep(library, session, [*night_moves(session), move])
    return _tell(library, move)


def join_nights(library: Library, rig: Rig, night: date, into: date) -> int:
    """All frames of a night belong to another from now on, with what was noted of it; returns how many frames.

    Raises
    ------
    NotFound, GrayShelfError
    """
    with library.db.session() as session:
        first, last = _span(session, rig, night)
        _near(night, into)
        begins = min(first, _noon(library, session, rig, night, 0))
        move = NightMove(rig.camera, begins, max(last + _AFTER, _noon(library, session, rig, night, 1)), into)
        _keep(library, session, [*night_moves(session), move], _join_logs(session, rig.id, night, move))
    return _tell(library, move)


def moves_of(session: Session, rig: Rig) -> list[NightMove]:
    """What a person parted or joined of a rig's camera, the newest last."""
    return [m for m in night_moves(session) if m.camera == rig.camera]


def take_move_back(library: Library, rig: Rig) -> int:
    """Take the newest move of a rig's camera back, with the notes that came with it; returns how many frames changed
    their night.

    Raises
    ------
    NotFound
    """
    with library.db.session() as session:
        mine = moves_of(session, rig)
        if not mine:
            raise NotFound("No night of this rig was parted or joined.")
        noted = notes_of_move(session, mine[-1])
        if noted is not None:
            _part_logs(session, noted)
        _keep(library, session, [m for m in night_moves(session) if m != mine[-1]])
    return _tell(library, mine[-1])


def _span(session: Session, rig: Rig, night: date) -> tuple[datetime, datetime]:
    first, last = session.execute(
        select(func.min(Frame.utc), func.max(Frame.utc)).where(
            Frame.camera == rig.camera, Frame.night == night, Frame.utc.is_not(None)
        )
    ).one()
    if first is None or last is None:
        raise NotFound("No frames of that night tell when they were taken.", "Nothing was changed.")
    return first, last


def _noon(library: Library, session: Session, rig: Rig, night: date, later: int) -> datetime:
    """The noon at which a night begins, or so many days later, UTC: frames that come in later belong to it, too."""
    zone = zone_of(library, session, rig)
    return datetime.combine(night + timedelta(days=later), time(12), tzinfo=zone).astimezone(UTC)


def _near(night: date, into: date) -> None:
    if into == night:
        raise GrayShelfError("That is the same night.", "Give another one.")
    if abs((into - night).days) > MOST_DAYS:
        raise GrayShelfError(f"Nights are parted and joined over {MOST_DAYS} days at most.")


def _keep(
    library: Library, session: Session, moves: Sequence[NightMove], notes: NotesMoved | None = None
) -> None:
    keep_moves(session, moves, notes)
    # Cut short from here on, it is done again when the library is opened.
    library.set_setting(session, RECOUNT, {"due": True})


def _tell(library: Library, move: NightMove) -> int:
    """Tell the frames between two times anew."""
    with library.grouping:
        which = (Frame.camera == move.camera) & (Frame.utc >= move.begins) & (Frame.utc < move.ends)
        keys, changed = tell_again(library, which)
        regroup(library, keys)
        with library.db.session() as session:
            library.set_setting(session, RECOUNT, {})
    library.touched()
    return changed


def _join_logs(session: Session, rig_id: int, night: date, move: NightMove) -> NotesMoved | None:
    """Put what is noted of a night with that of another; what it was before, None where nothing was noted."""
    log, other = log_of(session, rig_id, night), log_of(session, rig_id, move.night)
    if log is None:
        return None
    there = None if other is None else dict(other.conditions)
    before = NotesMoved(move, rig_id, night, log.notes, dict(log.conditions), there)
    if other is None:
        log.night = move.night
        return before
    other.notes = notes_joined(other.notes, log.notes)
    other.conditions = {**log.conditions, **other.conditions}
    session.delete(log)
    return before


def _part_logs(session: Session, noted: NotesMoved) -> None:
    """Give a night back what was noted of it; what was changed since stays where it is."""
    joined = log_of(session, noted.rig_id, noted.move.night)
    if joined is not None:
        joined.notes = notes_parted(joined.notes, noted.notes)
        came = noted.weather.items() - (noted.weather_there or {}).items()
        joined.conditions = {k: v for k, v in joined.conditions.items() if (k, v) not in came}
        if noted.weather_there is None and not joined.notes and not joined.conditions:
            session.delete(joined)
            session.flush()
    own = log_of(session, noted.rig_id, noted.night)
    if own is None:
        own = NightLog(rig_id=noted.rig_id, night=noted.night, conditions={}, notes="")
        session.add(own)
    own.notes = notes_joined(own.notes, noted.notes)
    own.conditions = {**noted.weather, **own.conditions}
