"""What flats that were shot with a setting measured, against what it promised."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.flats.drift import Drift, shot_with
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.pictures.colours import pattern_of_pixels
from grayshelf.core.rigs.trains import train_of
from grayshelf.core.sensor.statistics import flat_statistics, full_level
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.files import read_pixels
from grayshelf.library.kept import kept
from grayshelf.library.models import FlatSetting, Frame, FrameSet, Rig, RunShot
from grayshelf.library.trains import trains_in

#: Sets of flats since a setting was found that are looked through, newest first.
NEWEST_SETS = 60


def drift_of(session: Session, rig: Rig, key: RowKey, setting: FlatSetting | None) -> Drift | None:
    """What the newest flats shot with a setting measured; None where none were shot since.

    Flats of a run were measured when they were taken. Of those that came in from elsewhere one is read: their headers
    tell no brightness, so that of the setting is taken for theirs.
    """
    if setting is None:
        return None
    sets = session.scalars(
        select(FrameSet)
        .where(
            FrameSet.kind == "flat",
            FrameSet.camera == rig.camera,
            FrameSet.is_master.is_(False),
            FrameSet.measurement_id.is_(None),
            FrameSet.last_utc > setting.found_at,
        )
        .order_by(FrameSet.last_utc.desc())
        .limit(NEWEST_SETS)
    )
    trains = trains_in(session)
    for row in sets:
        facts = facts_if_sound(row.facts)
        if facts is None or not shot_with(facts, key, setting.exposure_s + setting.dark_s):
            continue
        whose = train_of(trains, facts.camera, facts.telescope, facts.focal_length_mm)
        if facts.telescope and rig.telescope and whose != rig.id:
            # A telescope that either side does not name is no difference.
            continue
        level = _level_of(session, row, setting)
        if level is not None and row.last_utc is not None:
            return Drift(level, setting.expected_adu, f"{row.last_utc:%-d %b %y}")
    return None


def _level_of(session: Session, row: FrameSet, setting: FlatSetting) -> float | None:
    """The level of a set of flats, in ADU; None where they were shot at another brightness, or cannot be read."""
    query = (
        select(RunShot.stats, RunShot.brightness)
        .join(Frame, Frame.id == RunShot.frame_id)
        .where(Frame.set_id == row.id)
    )
    shots = session.execute(query).all()
    if shots:
        levels = [float(s["median"]) for s, b in shots if b == setting.brightness and "median" in s]
        return statistics.median(levels) if levels else None
    good: Sequence[Frame] = [f for f in row.frames if f.state == "good"]
    if not good:
        return None
    frame = good[len(good) // 2]
    path = Path(frame.folder.path) / frame.path
    pattern = pattern_of_pixels(row.facts.get("bayer_pattern"), row.facts.get("binning_x"))
    try:
        return _read_level(str(path), frame.modified_ns, pattern)
    except (UnreadableFrame, OSError):
        # Intake says what is wrong with the file; the sheet goes on without it.
        return None


@kept(4096)
def _read_level(path: str, _modified_ns: int, pattern: str | None) -> float | None:
    """The level of a flat as a search would measure it; None where it is no raw frame. Errors are not kept."""
    pixels = read_pixels(Path(path))
    if pixels.dtype != np.uint16:
        return None
    return flat_statistics(pixels, full_level(pixels), pattern).median
