"""A rig's history as one line of time: what was done to it, measured, found, shot and changed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.filter_words import named
from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.rigs.trains import train_of
from grayshelf.library.library import Library
from grayshelf.library.models import CameraValue, FlatSetting, FrameSet, PanelCurve, Rig
from grayshelf.library.rig_cards import ACCEPTED, HOUSE_RULES, JOINED, NAME, changes_of
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.trains import trains_in
from grayshelf.library.unreadable import readable
from grayshelf.web.common import in_words
from grayshelf.web.rigs.schemas import HistoryOut, YearMark

#: So much of it is sent: the newest.
MOST = 400


def rig_history(library: Library, session: Session, rig: Rig) -> list[HistoryOut]:
    """All of it, newest first."""
    zone, now = library.zone(session), library.clock.now()
    found = [
        *_events(rig, zone),
        *_measured(session, rig, gain_word(library, rig.camera), zone),
        *_settings(session, rig, zone),
        *_flats(session, rig, zone),
        *_changes(session, rig, zone),
    ]
    newest = sorted(found, key=lambda h: h.at, reverse=True)[:MOST]
    oldest = newest[-1].at if newest else now
    span = max((now - oldest).total_seconds(), 1.0)
    for one in newest:
        one.share = min(max((one.at - oldest).total_seconds() / span, 0.0), 1.0)
    return newest


def marks_of(history: Sequence[HistoryOut], now: datetime) -> list[YearMark]:
    """Months (or years) on the line, few enough to be read."""
    if not history:
        return []
    oldest = min(h.at for h in history)
    span = max((now - oldest).total_seconds(), 1.0)
    months = max(round(span / timedelta(days=30.4).total_seconds() / 8), 1)
    # A day may be of any year that can be typed.
    step = next((m for m in (1, 2, 3, 6, 12, 24, 60, 120) if months <= m), 1200 * -(-months // 1200))
    marks: list[YearMark] = []
    at = datetime(oldest.year, 1, 1, tzinfo=UTC)
    while at <= now:
        share = (at - oldest).total_seconds() / span
        if share >= 0.0:
            label = at.strftime("%b %Y") if (step < 12 and at.month == 1) or not marks else at.strftime("%b")
            marks.append(YearMark(share=share, label=label if step < 12 else at.strftime("%Y")))
        month = at.month - 1 + step
        at = datetime(at.year + month // 12, month % 12 + 1, 1, tzinfo=UTC)
    if len(marks) < 2:
        # Weeks, not months: the first day and this one.
        marks = [YearMark(share=0.0, label=in_words.short_day(oldest)), YearMark(share=1.0, label="today")]
    return marks


def _one(at: datetime, zone: ZoneInfo, **what: object) -> HistoryOut:
    when = in_words.day(at.astimezone(zone).date())
    return HistoryOut.model_validate({"at": at, "when": when, "share": 0.0, "detail": "", **what})


def _events(rig: Rig, zone: ZoneInfo) -> Iterator[HistoryOut]:
    for event in rig.entered_events:
        words = event.what[:1].upper() + event.what[1:]
        yield _one(event.at, zone, kind="event", words=words, event_id=event.id, taken_back=event.taken_back)


def _measured(session: Session, rig: Rig, word: str, zone: ZoneInfo) -> Iterator[HistoryOut]:
    for value in session.scalars(select(CameraValue).where(CameraValue.camera == rig.camera)):
        what = "Offset checked" if value.kind == "offset" else f"{word[0].upper()}{word[1:]} measured"
        yield _one(value.accepted_at, zone, kind="Bench", words=f"{what} at {word} {value.gain:g}")
    for curve in session.scalars(select(PanelCurve).where(PanelCurve.rig_id == rig.id)):
        yield _one(
            curve.made_at,
            zone,
            kind="Bench",
            words="The light’s brightness measured",
            detail=in_words.several(curve.shots, "shot"),
            taken_back=curve.taken_back,
        )


def _settings(session: Session, rig: Rig, zone: ZoneInfo) -> Iterator[HistoryOut]:
    for s in session.scalars(select(FlatSetting).where(FlatSetting.rig_id == rig.id)):
        at = f" at {s.brightness}" if s.brightness is not None else ""
        yield _one(
            s.found_at,
            zone,
            kind="setting",
            words=f"{named(s.filter_code)}: {in_words.seconds(s.exposure_s)}{at}",
            detail=f"{in_words.number(s.expected_adu)} ADU, {in_words.several(s.shots, 'shot')}",
            taken_back=s.taken_back,
        )


def _flats(session: Session, rig: Rig, zone: ZoneInfo) -> Iterator[HistoryOut]:
    # A set of which nobody can read what is kept is told of where the shelf is shown, and has no place here.
    facts, trains = readable(FrameSet.facts), trains_in(session)
    telescope, focal_length_mm = facts["telescope"].as_string(), facts["focal_length_mm"].as_float()
    built = select(FrameSet.master_set_id).where(FrameSet.master_set_id.is_not(None))
    query = (
        select(
            FrameSet.night,
            FrameSet.last_utc,
            facts["filter_code"].as_string(),
            FrameSet.n_frames,
            telescope,
            focal_length_mm,
        )
        .where(
            FrameSet.kind == "flat",
            FrameSet.camera == rig.camera,
            # A master built of a set here stands for frames that are told of already.
            FrameSet.id.not_in(built),
            FrameSet.last_utc.is_not(None),
        )
        .order_by(FrameSet.last_utc.desc())
        .limit(4 * MOST)
    )
    nights: dict[object, list[tuple[datetime, str, int]]] = {}
    for night, last, code, n, telescope, mm in session.execute(query):
        # What is kept as a time need not be one.
        if last is not None and train_of(trains, rig.camera, telescope, mm) == rig.id:
            nights.setdefault(night, []).append((last, code or "no filter", n))
    for sets in nights.values():
        codes = listed(sorted({code for _, code, _ in sets}))
        count = sum(n for _, _, n in sets)
        yield _one(
            max(last for last, _, _ in sets),
            zone,
            kind="flats",
            words=f"Flats in {codes}",
            detail=in_words.several(count, "frame"),
        )


_SHEET_WORDS = {HOUSE_RULES: "House rules", NAME: "Rig", ACCEPTED: "Rig", JOINED: "Names"}


def _changes(session: Session, rig: Rig, zone: ZoneInfo) -> Iterator[HistoryOut]:
    for change in changes_of(session, rig):
        about = _SHEET_WORDS.get(change.about, change.about[:1].upper() + change.about[1:])
        words = change.words if change.about == HOUSE_RULES else f"{about}: {change.words}"
        yield _one(
            change.at,
            zone,
            kind="sheet",
            words=words,
            detail=change.reason,
            change_id=change.id,
            taken_back=change.taken_back_at is not None,
        )
