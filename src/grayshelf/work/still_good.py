"""A master held against what was taken after it, and what came of that kept with it."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from datetime import date
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.checks.dust import factor_looked_at
from grayshelf.core.checks.still_good import StillGood, capped_still_good, flat_still_good
from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.flats.channels import in_colours
from grayshelf.core.frames.angle import angle_between
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.parts import Pixels, made_small
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.facts_json import facts_from_json, facts_if_sound
from grayshelf.library.file_parts import parts_of
from grayshelf.library.files import read_pixels
from grayshelf.library.holdings import HELD, common_settings
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet
from grayshelf.library.shelf_levels import pedestal_level
from grayshelf.library.views import NORM

#: Darks are held against one another within so many percent of exposure and so many °C; flats within so many degrees.
EXPOSURE_PERCENT, TEMPERATURE_C, ANGLE_DEG = 2.0, 3.0, 2.0
#: So many are offered.
MOST = 60


@dataclass(frozen=True)
class Newer:
    """Something of the same settings that was taken after a master."""

    frame: Frame
    row: FrameSet
    night: date


def newer_than(session: Session, row: FrameSet) -> list[Newer]:
    """Masters, and the last frame of loose sets, of the same settings that were taken after a master; the newest first."""
    own = facts_from_json(row.facts)
    behind = session.scalar(select(FrameSet.id).where(FrameSet.master_set_id == row.id))
    found = []
    for other in session.scalars(
        select(FrameSet).where(
            FrameSet.camera == row.camera,
            FrameSet.kind == row.kind,
            FrameSet.id.not_in([row.id, *([behind] if behind else [])]),
            FrameSet.measurement_id.is_(None),
        )
    ):
        facts = facts_if_sound(other.facts)
        frames = [
            f for f in other.frames if f.state in IN_SETS and not f.rejected and f.missing_since is None
        ]
        if facts is None or not frames or other.night is None or other.master_set_id is not None:
            continue
        if _after(other, row) and _same(facts, own, FrameKind(row.kind)):
            found.append(Newer(frames[-1], other, other.night))
    return sorted(found, key=lambda n: (n.night, n.row.id), reverse=True)[:MOST]


def _after(other: FrameSet, row: FrameSet) -> bool:
    if other.last_utc is not None and row.last_utc is not None:
        return other.last_utc > row.last_utc
    return other.night is not None and row.night is not None and other.night > row.night


def _same(one: FrameFacts, other: FrameFacts, kind: FrameKind) -> bool:
    names = ["width", "height", "binning_x", "gain", "offset", "read_mode"]
    if kind is FrameKind.FLAT:
        # Gain does not change how the light falls.
        names = ["width", "height", "binning_x", "filter_code", "telescope", "focal_length_mm"]
    if any(getattr(one, n) != getattr(other, n) for n in names):
        return False
    if kind is FrameKind.FLAT:
        turned = angle_between(one.angle, other.angle)
        return turned is None or abs(turned) <= ANGLE_DEG
    if kind is FrameKind.BIAS:
        return True
    if one.exposure_s is None or other.exposure_s is None:
        return False
    near = abs(one.exposure_s - other.exposure_s) <= EXPOSURE_PERCENT / 100 * other.exposure_s
    warm = one.sensor_temp_c, other.sensor_temp_c
    return near and (
        None in warm
        or abs((warm[0] or 0.0) - (warm[1] or 0.0)) <= TEMPERATURE_C
        or kind is FrameKind.DARK_FLAT
    )


def hold_against(library: Library, set_id: int, frame_id: int) -> StillGood:
    """Hold a master against a newer one or a fresh frame, and keep how it did.

    Raises
    ------
    NotFound
        Where it is no master, or nothing of its settings was taken after it under this number.
    GrayShelfError
        Where a file cannot be read.
    """
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.kind == "light" or not row.is_master or not row.frames or row.record is None:
            raise NotFound("There is no master here to hold against a newer one.")
        newer = next((n for n in newer_than(session, row) if n.frame.id == frame_id), None)
        if newer is None:
            raise NotFound(
                "Nothing of the same settings that was taken later has this number.",
                "Choose one from the list.",
            )
        own, fresh = (
            _Held(library, session, row, row.frames[0]),
            _Held(library, session, newer.row, newer.frame),
        )
    # Reading and comparing takes seconds: nobody waits for the database meanwhile.
    kind = FrameKind(row.kind)
    if kind is FrameKind.FLAT:
        ratio, factor = _ratio(library, own, fresh)
        found = flat_still_good(ratio, factor)
    else:
        found = capped_still_good(own.pixels(), fresh.pixels(), kind)
    with library.db.session() as session:
        record = session.get_one(FrameSet, set_id).record
        if record is not None:
            told = {
                **asdict(found),
                "frame_id": frame_id,
                "night": newer.night.isoformat(),
                "of": newer.row.id,
                "is_master": newer.row.is_master,
            }
            record.figures = {**record.figures, HELD: told}
    library.touched()
    return found


def forget_held(library: Library, set_id: int) -> None:
    """Take back what a master was found to be: its age counts by the calendar again."""
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.record is None or HELD not in row.record.figures:
            raise NotFound("This master was not held against a newer one.")
        row.record.figures = {name: told for name, told in row.record.figures.items() if name != HELD}
    library.touched()


class _Held:
    """One of the two that are held against each other."""

    def __init__(self, library: Library, session: Session, row: FrameSet, frame: Frame) -> None:
        self.path = library.frame_path(session, frame)
        self.facts = facts_from_json(frame.facts)
        self.settings = common_settings(row, facts_from_json(row.facts))
        record = row.record
        self.taken_off = bool(row.is_master and record is not None and record.pedestal_kind)

    def pixels(self) -> NDArray[Any]:
        """All of it, shape (h, w)."""
        return read_pixels(self.path)


def _ratio(library: Library, own: _Held, fresh: _Held) -> tuple[Pixels, int]:
    """The newer flat over the older one, each without its pedestal and over its own level; and how small it was made."""
    colours = in_colours(own.facts.bayer_pattern, own.facts.binning_x)
    one, other = (parts_of(h.path, library.root / "scratch") for h in (own, fresh))
    if (one.width, one.height) != (other.width, other.height):
        raise GrayShelfError("The two flats differ in size.", "Choose one of the same frame and binning.")
    factor = factor_looked_at(one.width, one.height, colours=colours)
    levels = [
        _less_pedestal(library, h, made_small(parts, factor)) for h, parts in ((own, one), (fresh, other))
    ]
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = levels[1] / levels[0]
    return np.nan_to_num(ratio, nan=1.0, posinf=1.0, neginf=1.0).astype(np.float32), factor


def _less_pedestal(library: Library, held: _Held, small: Pixels) -> Pixels:
    level = float(np.nanmedian(small))
    if held.taken_off or level < NORM:
        return np.asarray(small / np.float32(level or 1.0), np.float32)
    known = pedestal_level(library, held.settings)
    if known is None:
        raise GrayShelfError(
            f"The pedestal of {held.path.name} is not known, and would look like a change of its light.",
            "Shoot or bring in a bias of its gain and offset first.",
        )
    return np.asarray((small - np.float32(known.adu)) / np.float32(level - known.adu), np.float32)
