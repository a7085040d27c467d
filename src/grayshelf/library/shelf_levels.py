"""Levels read from frames on the shelf: the pedestal at given settings, the sky of a set of lights."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from itertools import product
from pathlib import Path

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.flats.model import Pedestal
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.capped_levels import PEDESTAL_DRIFT_ADU
from grayshelf.core.matching.model import CommonSettings, Holding
from grayshelf.library.file_rows import middle_rows
from grayshelf.library.holdings import holdings
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, electrons_per_adu
from grayshelf.library.models import Folder, Frame

#: A dark longer than this has dark current in it, and is no pedestal.
SHORT_DARK_S = 30.0
#: Files that are asked for their level where none is known: a disk that is away answers for none of them.
MOST_FILES_ASKED = 6


@kept(4096)
def _middle_level(path: str, _modified_ns: int) -> float:
    """Median of the middle rows of a frame. A disk that is away is asked again: errors are not kept."""
    return float(np.median(middle_rows(Path(path), 32)))


def _set_level(session: Session, set_id: int) -> float | None:
    # Of a set of hundreds only the first frame is asked for.
    first = select(Folder.path, Frame.path, Frame.modified_ns).join(Frame.folder)
    found = session.execute(first.where(Frame.set_id == set_id).order_by(Frame.id).limit(1)).first()
    if found is None:
        return None
    folder, path, modified_ns = found
    try:
        return _middle_level(str(Path(folder) / path), modified_ns)
    except (UnreadableFrame, OSError):
        # Intake says what is wrong with the file; an estimate goes on without it.
        return None


def pedestal_level(
    library: Library, want: CommonSettings, *, but: Collection[int | None] = ()
) -> Pedestal | None:
    """Level of a capped frame at these settings, from a bias or else the shortest dark on the shelf; `but` are numbers of sets
    that are not asked."""
    capped = _capped(library, library.revision, want.camera or "")
    found: list[tuple[float, int, int, Holding]] = []
    # A row of the flat sheet has 0 where the camera has none to set: then frames name none.
    alike = product(_named(want.gain), _named(want.offset))
    of_these = [h for gain, offset in alike for h in capped.get((gain, offset, want.binning), ())]
    for number, holding in enumerate(of_these):
        have = holding.settings
        if (have.width, have.height) != (want.width, want.height):
            continue
        if want.sample_step == 1 and (have.sample_step or 1) > 1:
            # Another driver's: its levels are 4 or 16 times these.
            continue
        exposure = 0.0 if holding.kind is FrameKind.BIAS else have.exposure_s or 0.0
        if exposure <= SHORT_DARK_S and int(holding.key) not in but:
            night = have.night.toordinal() if have.night else 0
            found.append((exposure, -night, number, holding))
    asked = 0
    with library.db.own_session() as session:
        for *_, holding in sorted(found, key=lambda x: x[:3]):
            level = holding.level_adu
            if level is None and asked < MOST_FILES_ASKED:
                level, asked = _set_level(session, int(holding.key)), asked + 1
            if level is not None:
                taken = holding.settings.night
                day = f" of {taken:%-d %b %Y}" if taken else ""
                return Pedestal(level, PEDESTAL_DRIFT_ADU, f"{holding.kind.value}{day}")
    return None


def _named(setting: float | None) -> tuple[float | None, ...]:
    return (setting, None) if setting == 0 else (setting,)


_ReadOut = tuple[float | None, float | None, tuple[int, int] | None]


@kept(8)
def _capped(library: Library, revision: int, camera: str) -> dict[_ReadOut, list[Holding]]:
    """Bias, darks and dark flats that nothing speaks against, by gain, offset and binning."""
    found: dict[_ReadOut, list[Holding]] = defaultdict(list)
    for holding in holdings(library, camera):
        if holding.kind is not FrameKind.FLAT and not holding.care:
            have = holding.settings
            found[(have.gain, have.offset, have.binning)].append(holding)
    return found


def sky_electrons(session: Session, library: Library, lights: LightSet) -> float | None:
    """Sky background of a light above its pedestal, in electrons, where it can be measured."""
    gain = electrons_per_adu(library, lights)
    level = lights.row.level_adu
    if level is None:
        level = _set_level(session, lights.row.id)
    pedestal = pedestal_level(library, lights.want)
    if gain is None or level is None or pedestal is None:
        return None
    return max(level - pedestal.adu, 1.0) * gain
