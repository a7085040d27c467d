"""How a camera is set of which no lights are known yet: as the Bench and the flat sheets of its rigs have it."""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.settings import RowKey
from grayshelf.core.matching.model import CommonSettings
from grayshelf.library.camera_values import checked_offsets
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.library import Library
from grayshelf.library.models import FlatRow, FrameSet, Rig
from grayshelf.library.trains import standing_rigs


def told_rows(session: Session, rig: Rig) -> list[RowKey]:
    """Rows that a person put on a rig's flat sheet, in the order in which that was done."""
    rows = select(FlatRow).where(FlatRow.rig_id == rig.id, FlatRow.added, FlatRow.left_out.is_(False))
    return [
        RowKey(r.filter_code, r.gain, r.offset, r.binning) for r in session.scalars(rows.order_by(FlatRow.id))
    ]


def settings_of_row(session: Session, rig: Rig, row: RowKey) -> CommonSettings:
    """What lights of a row of a rig's flat sheet would have, as far as that is known."""
    width, height = _unbinned_size(session, rig.camera)
    return CommonSettings(
        rig.camera,
        width // row.binning,
        height // row.binning,
        binning=(row.binning, row.binning),
        gain=row.gain,
        offset=row.offset,
        telescope=rig.telescope,
        focal_length_mm=rig.told_focal_mm,
        filter_code=row.filter_code,
    )


def told_settings(library: Library, session: Session, rig: Rig) -> list[CommonSettings]:
    """Gains, offsets and binnings that a rig's camera is meant to be used at: offsets that were checked at a gain, then rows
    of flat sheets; each once, the newest last."""
    found: dict[tuple[float, float, int], CommonSettings] = {}
    for row in _rows(library, session, rig):
        key = row.gain, row.offset, row.binning
        found.pop(key, None)
        found[key] = settings_of_row(session, rig, row)
    return list(found.values())


def _rows(library: Library, session: Session, rig: Rig) -> Iterator[RowKey]:
    for gain, checked in sorted(checked_offsets(library, rig.camera).items()):
        yield RowKey("", gain, checked.chosen, 1)
    for one in session.scalars(standing_rigs().where(Rig.camera == rig.camera)):
        yield from told_rows(session, one)


def _unbinned_size(session: Session, camera: str) -> tuple[int, int]:
    """Width and height of a camera's newest frames, unbinned; 0 where it has none."""
    newest = select(FrameSet.facts).where(FrameSet.camera == camera).order_by(FrameSet.id.desc()).limit(1)
    facts = facts_if_sound(session.scalar(newest) or {})
    if facts is None:
        return 0, 0
    binning = facts.binning_x or 1
    return facts.width * binning, facts.height * binning
