"""Levels read from frames on the shelf: the pedestal at given settings, the sky of a set of lights."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from sqlalchemy.orm import Session

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.flats.model import Pedestal
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import CommonSettings
from grayshelf.library.files import middle_rows
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet
from grayshelf.library.shelf import LightSet, electrons_per_adu, holdings

#: How far the pedestal of another day may be off, in ADU (common practice).
PEDESTAL_DRIFT_ADU = 15.0
#: A dark longer than this has dark current in it, and is no pedestal.
SHORT_DARK_S = 30.0


@kept(4096)
def _middle_level(path: str, _modified_ns: int) -> float:
    """Median of the middle rows of a frame. A disk that is away is asked again: errors are not kept."""
    return float(np.median(middle_rows(Path(path), 32)))


def _set_level(session: Session, set_id: int) -> float | None:
    row = session.get(FrameSet, set_id)
    if row is None or not row.frames:
        return None
    frame = row.frames[0]
    try:
        return _middle_level(str(Path(frame.folder.path) / frame.path), frame.modified_ns)
    except (UnreadableFrame, OSError):
        # Intake says what is wrong with the file; an estimate goes on without it.
        return None


def pedestal_level(library: Library, want: CommonSettings) -> Pedestal | None:
    """Level of a capped frame at these settings, from a bias or else the shortest dark on the shelf."""
    found: list[tuple[float, float, str]] = []
    with library.db.own_session() as session:
        for holding in holdings(library, want.camera or ""):
            have = holding.settings
            if holding.kind is FrameKind.FLAT or holding.care:
                continue
            if (have.gain, have.offset, have.binning) != (want.gain, want.offset, want.binning):
                continue
            if (have.width, have.height) != (want.width, want.height):
                continue
            if want.sample_step == 1 and (have.sample_step or 1) > 1:
                # Another driver's: its levels are 4 or 16 times these.
                continue
            exposure = 0.0 if holding.kind is FrameKind.BIAS else have.exposure_s or 0.0
            if exposure > SHORT_DARK_S:
                continue
            day = f" of {have.night:%-d %b %Y}" if have.night else ""
            found.append(
                (
                    exposure,
                    -(have.night.toordinal() if have.night else 0),
                    f"{holding.key}|{holding.kind.value}{day}",
                )
            )
        for _, _, name in sorted(found):
            key, title = name.split("|", 1)
            level = _set_level(session, int(key))
            if level is not None:
                return Pedestal(level, PEDESTAL_DRIFT_ADU, title)
    return None


def sky_electrons(session: Session, library: Library, lights: LightSet) -> float | None:
    """Sky background of a light above its pedestal, in electrons, where it can be measured."""
    gain = electrons_per_adu(library, lights)
    level = _set_level(session, lights.row.id)
    pedestal = pedestal_level(library, lights.want)
    if gain is None or level is None or pedestal is None:
        return None
    return max(level - pedestal.adu, 1.0) * gain
