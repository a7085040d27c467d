"""Two names that are one thing, two rigs that are one: joined, and parted again.

Every value that a join changes is written down with what it was (`Journal`), so that parting puts back just that, and
what was changed since stays. Frames follow by their headers' spellings (`tell_again`); no file is touched.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, GrayShelfError
from grayshelf.core.frames.night_moves import notes_joined
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.rigs.propose import Join, NameOf
from grayshelf.core.rigs.trains import same_train
from grayshelf.library.columns import Base
from grayshelf.library.library import Library
from grayshelf.library.models import (
    CameraRow,
    CameraValue,
    CardChange,
    FlatRow,
    FlatSetting,
    Job,
    KeptPlan,
    Measurement,
    NightLog,
    PanelCurve,
    Rig,
    RigEvent,
    RigFilter,
    Spelling,
)
from grayshelf.library.rig_cards import JOINED
from grayshelf.library.spellings import keep_joins
from grayshelf.library.trains import standing_rigs


def _row(session: Session, table: str, number: int) -> Any:
    """A row by its table's name."""
    tables = {mapper.class_.__tablename__: mapper.class_ for mapper in Base.registry.mappers}
    return session.get(tables[table], number)


@dataclass
class Journal:
    """What was changed in the database, in order."""

    lines: list[dict[str, Any]] = field(default_factory=list)

    def put(self, row: Any, name: str, value: Any) -> None:
        """Change one value of a row."""
        was = getattr(row, name)
        if was != value:
            self.lines.append(
                {"table": row.__tablename__, "id": row.id, "name": name, "was": was, "is": value}
            )
            setattr(row, name, value)

    def made(self, row: Any) -> None:
        """A row was made."""
        self.lines.append({"table": row.__tablename__, "id": row.id, "made": True})

    @staticmethod
    def take_back(session: Session, lines: Sequence[dict[str, Any]]) -> None:
        """Put back what was there, the last change first; what is another by now stays as it is."""
        for line in reversed(lines):
            row = _row(session, line["table"], line["id"])
            if row is None or _is_taken(session, line):
                continue
            if line.get("made"):
                session.delete(row)
            elif getattr(row, line["name"]) == line["is"]:
                setattr(row, line["name"], line["was"])
            session.flush()


def _is_taken(session: Session, line: dict[str, Any]) -> bool:
    """Whether a rig's name is another rig's by now."""
    if (line["table"], line.get("name")) != ("rig", "name"):
        return False
    return session.scalar(select(Rig.id).where(Rig.name == line["was"])) is not None


def join_rigs(library: Library, session: Session, rig: Rig, into: Rig) -> CardChange:
    """Say that a rig is another one in truth: its frames, settings, curves, events and notes are that one's.

    The names of its camera and telescope stand for those of the other from now on.

    Raises
    ------
    GrayShelfError
        Where it has devices, or is the same rig.
    """
    _check(rig, into)
    journal, words = Journal(), f"{rig.name} is this rig"
    joins = []
    if rig.camera != into.camera:
        joins.append(Join(NameOf.CAMERA, "", rig.camera, into.camera))
    if (rig.telescope or "") != (into.telescope or ""):
        joins.append(Join(NameOf.TELESCOPE, into.camera, rig.telescope or "", into.telescope or ""))
    for join in joins:
        _keep(library, session, journal, join, into)
    if rig.joined_to is None:
        _fold(session, journal, rig, into)
    return _change(library, session, into, words, journal, joins)


def join_names(library: Library, session: Session, join: Join) -> CardChange | None:
    """Say that a spelling stands for a name; rigs that are the same then are joined.

    Returns
    -------
    The change, by which it is taken back, with the rig that it is told of; None where no rig has the name.
    """
    if join.spelled == join.name:
        raise GrayShelfError("The two names are the same.")
    if not join.name or (not join.spelled and join.about is not NameOf.TELESCOPE):
        raise GrayShelfError(f"A {join.about} without a name cannot be told from others.")
    for rig in session.scalars(standing_rigs()):
        if _is_of(rig, join):
            _check(rig, None)
    journal = Journal()
    _keep(library, session, journal, join)
    into = next((r for r in session.scalars(standing_rigs()) if _named(r, join)), None)
    if into is None:
        return None
    words = (
        f"‘{join.spelled}’ in headers is {join.name}"
        if join.spelled
        else f"no {join.about} in headers is {join.name}"
    )
    return _change(library, session, into, words, journal, [join])


def part(library: Library, session: Session, change: CardChange) -> list[Join]:
    """Take a join back; return the joins that hold no more, for whose spellings frames are told anew.

    Raises
    ------
    Conflict
        Where a later join rests on it.
    """
    touched = _touched(change)
    later = select(CardChange).where(
        CardChange.about == JOINED, CardChange.taken_back_at.is_(None), CardChange.id > change.id
    )
    for other in session.scalars(later.order_by(CardChange.id.desc())):
        if touched & _touched(other):
            raise Conflict(f"‘{other.words}’ was said later and rests on it.", "Part that one first.")
    Journal.take_back(session, change.after["journal"])
    change.taken_back_at = library.clock.now()
    return joins_of(change)


def _touched(change: CardChange) -> set[tuple[str, int]]:
    return {(line["table"], line["id"]) for line in change.after["journal"]}


def joins_of(change: CardChange) -> list[Join]:
    """The joins that a change made."""
    return [Join(NameOf(j["about"]), j["camera"], j["spelled"], j["name"]) for j in change.after["joins"]]


def _change(
    library: Library, session: Session, into: Rig, words: str, journal: Journal, joins: Sequence[Join]
) -> CardChange:
    session.flush()
    change = CardChange(
        rig_id=into.id,
        about=JOINED,
        at=library.clock.now(),
        words=words,
        reason="",
        before={},
        after={
            "journal": journal.lines,
            "joins": [
                {"about": j.about.value, "camera": j.camera, "spelled": j.spelled, "name": j.name}
                for j in joins
            ],
        },
    )
    session.add(change)
    session.flush()
    return change


def _check(rig: Rig, into: Rig | None) -> None:
    if into is not None and (rig.id == into.id or into.joined_to is not None):
        raise GrayShelfError("A rig cannot be joined with itself.")
    if rig.devices:
        raise GrayShelfError(
            f"Devices are connected to {rig.name}: joined with another rig it would lose them.",
            "Join the other one with it.",
        )


def _is_of(rig: Rig, join: Join) -> bool:
    """Whether a rig goes by a spelling."""
    if join.about is NameOf.CAMERA:
        return rig.camera == join.spelled
    return (
        join.about is NameOf.TELESCOPE and rig.camera == join.camera and (rig.telescope or "") == join.spelled
    )


def _named(rig: Rig, join: Join) -> bool:
    """Whether a rig goes by what the spelling stands for."""
    if join.about is NameOf.CAMERA:
        return rig.camera == join.name
    by_name = join.about is not NameOf.TELESCOPE or (rig.telescope or "") == join.name
    return rig.camera == join.camera and by_name


def _keep(library: Library, session: Session, journal: Journal, join: Join, into: Rig | None = None) -> None:
    """Keep a join, with all that goes by its spelling. Rigs that are one by it are the oldest, or `into`."""
    _keep_spelling(library, session, journal, join)
    if join.about is NameOf.FILTER:
        _rename_filter(session, journal, join)
        return
    # Those that were joined before go with the one that they are.
    for rig in session.scalars(select(Rig)):
        if _is_of(rig, join):
            name = "camera" if join.about is NameOf.CAMERA else "telescope"
            journal.put(rig, name, join.name or None)
    if join.about is NameOf.CAMERA:
        _join_cameras(session, journal, join)
    session.flush()
    rigs = sorted(
        session.scalars(standing_rigs()), key=lambda rig: (rig is not into, not rig.devices, rig.id)
    )
    for number, rig in enumerate(rigs):
        first = next((r for r in rigs[:number] if r.joined_to is None and _one(r, rig)), None)
        if first is not None and (_named(rig, join) or _named(first, join)):
            _fold(session, journal, rig, first)


def _one(a: Rig, b: Rig) -> bool:
    same = a.camera == b.camera and plain_name(a.telescope) == plain_name(b.telescope)
    return same and b.joined_to is None and same_train(a.told_focal_mm, b.told_focal_mm)


def _keep_spelling(library: Library, session: Session, journal: Journal, join: Join) -> None:
    # What is gone or renamed is written down by comparing: a join may change what other spellings stand for.
    before = {r.id: (r.name, r.camera, r.apart) for r in session.scalars(select(Spelling))}
    keep_joins(library, session, [join], by_hand=True)
    if join.about is NameOf.CAMERA:
        for row in session.scalars(select(Spelling).where(Spelling.camera == join.spelled)):
            row.camera = join.name
    session.flush()
    for row in session.scalars(select(Spelling)):
        if row.id not in before:
            journal.made(row)
            continue
        for name, was in zip(("name", "camera", "apart"), before[row.id], strict=True):
            now = getattr(row, name)
            if now != was:
                journal.lines.append({"table": "spelling", "id": row.id, "name": name, "was": was, "is": now})


def _join_cameras(session: Session, journal: Journal, join: Join) -> None:
    """The Bench's values of a camera are the other's, and what was typed of it where nothing was of that."""
    for table in (Measurement, CameraValue):
        for row in session.scalars(select(table).where(table.camera == join.spelled)):
            journal.put(row, "camera", join.name)
    rows = {
        r.name: r
        for r in session.scalars(select(CameraRow).where(CameraRow.name.in_((join.spelled, join.name))))
    }
    if join.name not in rows:
        rows[join.name] = CameraRow(name=join.name, traits={})
        session.add(rows[join.name])
        session.flush()
        journal.made(rows[join.name])
    if join.spelled in rows:
        own, other = rows[join.name], rows[join.spelled]
        journal.put(own, "traits", {**other.traits, **own.traits})


def _rename_filter(session: Session, journal: Journal, join: Join) -> None:
    """What was found and typed for a filter's spelling is its name's."""
    rigs = session.scalars(select(Rig).where(Rig.camera == join.camera)).all()
    numbers = [rig.id for rig in rigs]
    for row in session.scalars(
        select(FlatSetting).where(FlatSetting.rig_id.in_(numbers), FlatSetting.filter_code == join.spelled)
    ):
        journal.put(row, "filter_code", join.name)
    for rig in rigs:
        codes = {f.code: f for f in rig.filters}
        if join.spelled not in codes:
            continue
        if join.name in codes:
            _fill_in(journal, codes[join.name], codes[join.spelled])
        else:
            journal.put(codes[join.spelled], "code", join.name)
    taken = {
        (r.rig_id, r.gain, r.offset, r.binning)
        for r in session.scalars(select(FlatRow).where(FlatRow.filter_code == join.name))
    }
    for flat_row in session.scalars(
        select(FlatRow).where(FlatRow.rig_id.in_(numbers), FlatRow.filter_code == join.spelled)
    ):
        if (flat_row.rig_id, flat_row.gain, flat_row.offset, flat_row.binning) not in taken:
            journal.put(flat_row, "filter_code", join.name)
    session.flush()


def _fill_in(journal: Journal, into: RigFilter, other: RigFilter) -> None:
    """What was typed of a filter under another spelling, or on another rig, where nothing was under this one."""
    for name in ("name", "passband_nm", "width_nm", "gain", "focus", "brightness"):
        if getattr(into, name) in (None, "") and getattr(other, name) not in (None, ""):
            journal.put(into, name, getattr(other, name))


def _fold(session: Session, journal: Journal, rig: Rig, into: Rig) -> None:
    """All that is kept with a rig is kept with another from now on, and it stands nowhere any more."""
    for table in (FlatSetting, RigEvent, PanelCurve, Job, KeptPlan):
        for row in session.scalars(select(table).where(table.rig_id == rig.id)):
            journal.put(row, "rig_id", into.id)
    nights = {x.night: x for x in session.scalars(select(NightLog).where(NightLog.rig_id == into.id))}
    for log in session.scalars(select(NightLog).where(NightLog.rig_id == rig.id)):
        if (other := nights.get(log.night)) is None:
            journal.put(log, "rig_id", into.id)
        else:
            journal.put(other, "notes", notes_joined(other.notes, log.notes))
            journal.put(other, "conditions", {**log.conditions, **other.conditions})
    rows = {_row_key(r) for r in session.scalars(select(FlatRow).where(FlatRow.rig_id == into.id))}
    for flat_row in session.scalars(select(FlatRow).where(FlatRow.rig_id == rig.id)):
        if _row_key(flat_row) not in rows:
            journal.put(flat_row, "rig_id", into.id)
    codes = {f.code: f for f in into.filters}
    for one in list(rig.filters):
        if one.code in codes:
            _fill_in(journal, codes[one.code], one)
        else:
            copy = RigFilter(
                rig_id=into.id,
                position=len(codes),
                code=one.code,
                name=one.name,
                passband_nm=one.passband_nm,
                width_nm=one.width_nm,
                gain=one.gain,
                focus=one.focus,
                brightness=one.brightness,
            )
            session.add(copy)
            session.flush()
            journal.made(copy)
            codes[one.code] = copy
    for name in ("aperture_mm", "focal_length_mm", "source_id", "time_zone"):
        if getattr(into, name) is None:
            journal.put(into, name, getattr(rig, name))
    said = {**(rig.says or {}), **(into.says or {})}
    if not same_train(rig.told_focal_mm, into.told_focal_mm):
        # Their headers give two focal lengths, and the person says that they are one train.
        said["focal length"] = "fixed"
    journal.put(into, "says", said)
    # Its name is free for another; it has it again where they are parted.
    journal.put(rig, "name", f"{rig.name} (rig {rig.id})")
    journal.put(rig, "joined_to", into.id)
    session.flush()
    session.expire(into, ["filters", "entered_events"])


def _row_key(row: FlatRow) -> tuple[str, float, float, int]:
    return row.filter_code, row.gain, row.offset, row.binning


def part_spelling(library: Library, session: Session, join: Join) -> list[Join]:
    """Say that a spelling is a name of its own: it stands for nothing else, and is not joined again by itself.

    A join that a person made is taken back whole, with what came with it. Returns the joins that hold no more.
    """
    parted = [join]
    for change in session.scalars(
        select(CardChange)
        .where(CardChange.about == JOINED, CardChange.taken_back_at.is_(None))
        .order_by(CardChange.id.desc())
    ):
        if any(
            (j.about, j.camera, j.spelled) == (join.about, join.camera, join.spelled)
            for j in joins_of(change)
        ):
            parted += part(library, session, change)
    keep_joins(library, session, [Join(join.about, join.camera, join.spelled, join.spelled)], by_hand=True)
    return parted
