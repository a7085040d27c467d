"""What was found for the rows of a flat sheet, and whether it still holds."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.errors import NotFound
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.matching.rig_events import RigEventKind
from grayshelf.library.models import FlatSetting, RigEvent


def settings_by_row(session: Session, rig_id: int) -> dict[RowKey, list[FlatSetting]]:
    """All that was found for a rig, newest first: a sheet of hundreds of rows is not hundreds of questions."""
    query = select(FlatSetting).where(FlatSetting.rig_id == rig_id)
    found: dict[RowKey, list[FlatSetting]] = {}
    for setting in session.scalars(query.order_by(FlatSetting.id.desc())):
        found.setdefault(_row_of(setting), []).append(setting)
    return found


def newest_settings(session: Session, rig_id: int) -> dict[RowKey, FlatSetting]:
    """The setting that counts for each row of a rig; rows that have none are left out."""
    row = FlatSetting.filter_code, FlatSetting.gain, FlatSetting.offset, FlatSetting.binning
    counts = FlatSetting.rig_id == rig_id, FlatSetting.taken_back.is_(False)
    newest = select(func.max(FlatSetting.id)).where(*counts).group_by(*row)
    found = session.scalars(select(FlatSetting).where(FlatSetting.id.in_(newest)))
    return {_row_of(setting): setting for setting in found}


def newest_of(history: Sequence[FlatSetting]) -> FlatSetting | None:
    """The setting of a row that counts, of all that was found for it, newest first."""
    return next((s for s in history if not s.taken_back), None)


def _row_of(setting: FlatSetting) -> RowKey:
    return RowKey(setting.filter_code, setting.gain, setting.offset, setting.binning)


def take_back_setting(session: Session, rig_id: int, setting_id: int, taken_back: bool) -> FlatSetting:
    """Let a found setting count no more, or again."""
    row = session.get(FlatSetting, setting_id)
    if row is None or row.rig_id != rig_id:
        raise NotFound("This setting is not kept.")
    row.taken_back = taken_back
    return row


def stale_reason(setting: FlatSetting | None, events: Sequence[RigEvent]) -> str:
    """What was done since a setting was found that it may not have outlived; empty where nothing was."""
    if setting is None:
        return ""
    since = [e for e in events if RigEventKind(e.kind).unsettles_exposures and e.at > setting.found_at]
    return f"{since[-1].what} since ({since[-1].at:%-d %b %y})" if since else ""
