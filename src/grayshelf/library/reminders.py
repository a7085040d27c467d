"""The reminders that a person keeps with a rig."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from sqlalchemy.orm import Session

from grayshelf.core.planning.reminders import Reminder, checked
from grayshelf.library.models import Setting


def _place(rig_id: int) -> str:
    return f"reminders of rig {rig_id}"


def reminders_of(session: Session, rig_id: int) -> tuple[Reminder, ...]:
    """Those of a rig, in the order of a night."""
    row = session.get(Setting, _place(rig_id))
    kept = row.value.get("all", []) if row is not None else []
    return tuple(Reminder(str(one["when"]), str(one["text"])) for one in kept)


def keep_reminders(session: Session, rig_id: int, reminders: Sequence[Reminder]) -> tuple[Reminder, ...]:
    """Keep these in place of what was kept; as they are kept.

    Raises
    ------
    GrayShelfError
        See `checked`.
    """
    told = checked(reminders)
    value = {"all": [asdict(one) for one in told]}
    row = session.get(Setting, _place(rig_id))
    if row is None:
        session.add(Setting(key=_place(rig_id), value=value))
    else:
        row.value = value
    return told
