"""A master held against what was taken after it, and what came of that kept with it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import date
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.checks.dust import factor_looked_at
from grayshelf.core.checks.still_good import StillGood, capped_still_good, flat_still_good
from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.calibrate import NORM
from grayshelf.core.matching.cameras_alike import may_be_of
from grayshelf.core.matching.model import Tolerances
from grayshelf.core.matching.newer import is_newer, same_settings
from grayshelf.core.pictures.parts import Parts, Pixels, made_small
from grayshelf.library.cameras_alike import tells_apart
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.file_parts import parts_of
from grayshelf.library.holdings import HELD, common_settings, stock
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet
from grayshelf.library.records import read
from grayshelf.library.rig_terms import rig_of, tolerances_of
from grayshelf.library.shelf_levels import pedestal_level
from grayshelf.library.step_records import HoldJob, JobResult
from grayshelf.work.jobs import JobControl

#: So many are offered.
MOST = 60


@dataclass(frozen=True)
class Newer:
    """Something of the same settings that was taken after a master."""

    set_id: int
    frame_id: int
    night: date
    n_frames: int
    is_master: bool


def newer_than(library: Library, session: Session, row: FrameSet) -> list[Newer]:
    """Masters, and the last frame of loose sets, of the same settings that were taken after a master; the newest first."""
    kind, own = FrameKind(row.kind), common_settings(row, facts_from_json(row.facts))
    rig = rig_of(session, row)
    tolerances = tolerances_of(rig) if rig is not None else Tolerances()
    # Of two cameras of one name each has its own hot pixels.
    piece = tells_apart(library, row.camera, own.telescope)
    newer = [
        h
        for h in stock(library, row.camera or "").of(kind)
        if h.key != str(row.id)
        and h.settings.night is not None
        and is_newer(own, h.settings)
        and may_be_of(piece, h.settings.telescope)
        and same_settings(kind, own, h.settings, tolerances)
    ]
    newer.sort(key=lambda h: (h.settings.night or date.min, int(h.key)), reverse=True)
    newer = newer[:MOST]
    last = _last_frames(session, [int(h.key) for h in newer])
    return [
        Newer(int(h.key), last[int(h.key)], h.settings.night, h.n_frames, h.is_master)
        for h in newer
        if int(h.key) in last and h.settings.night is not None
    ]


def _last_frames(session: Session, set_ids: Sequence[int]) -> dict[int, int]:
    """Of each set the number of the last frame that can be read and is kept."""
    query = select(Frame.set_id, func.max(Frame.id)).where(
        Frame.set_id.in_(set_ids),
        Frame.state.in_(IN_SETS),
        Frame.rejected.is_(False),
        Frame.missing_since.is_(None),
    )
    return {s: f for s, f in session.execute(query.group_by(Frame.set_id)) if s is not None}


def hold_by_job(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job (`HoldJob`)."""
    asked = read(HoldJob, params)

    def so_far(share: float) -> None:
        control.check()
        control.report(share, "Comparing")

    found = hold_against(library, asked.set_id, asked.frame_id, so_far)
    return JobResult(f"{found.serves.value.capitalize()}: {found.line}.")


def chosen_newer(library: Library, session: Session, set_id: int, frame_id: int) -> tuple[FrameSet, Newer]:
    """A master, and what it is to be held against.

    Raises
    ------
    NotFound
        Where it is no master, or nothing of its settings was taken after it under this number.
    """
    row = session.get(FrameSet, set_id)
    if row is None or row.kind == "light" or not row.is_master or not row.frames or row.record is None:
        raise NotFound("There is no master here to hold against a newer one.")
    newer = next((n for n in newer_than(library, session, row) if n.frame_id == frame_id), None)
    if newer is None:
        raise NotFound(
            "Nothing of the same settings that was taken later has this number.", "Choose one from the list."
        )
    return row, newer


def hold_against(
    library: Library, set_id: int, frame_id: int, progress: Callable[[float], None] = lambda share: None
) -> StillGood:
    """Hold a master against a newer one or a fresh frame, and keep how it did.

    Parameters
    ----------
    progress
        Called with the share done, 0 … 1; may raise to stop.

    Raises
    ------
    NotFound
        See `chosen_newer`.
    GrayShelfError
        Where a file cannot be read.
    """
    with library.db.session() as session:
        row, newer = chosen_newer(library, session, set_id, frame_id)
        kind = FrameKind(row.kind)
        own = _Held(library, session, row, row.frames[0])
        other = session.get_one(FrameSet, newer.set_id)
        fresh = _Held(library, session, other, session.get_one(Frame, frame_id))
    progress(0.0)
    # Reading and comparing takes seconds: nobody waits for the database meanwhile.
    if kind is FrameKind.FLAT:
        found = _flats_held(library, own, fresh, progress)
    else:
        old, new, _ = _both(library, own, fresh)
        found = capped_still_good(old, new, kind, progress)
    with library.db.session() as session:
        record = session.get_one(FrameSet, set_id).record
        if record is not None:
            told = {
                **asdict(found),
                "frame_id": frame_id,
                "night": newer.night.isoformat(),
                "of": newer.set_id,
                "is_master": newer.is_master,
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


def _both(library: Library, own: _Held, fresh: _Held) -> tuple[Parts, Parts, tuple[int, int]]:
    """What light can reach of either, and the columns and rows before it.

    Raises
    ------
    GrayShelfError
        Where they differ in size.
    """
    one, other = (parts_of(held.path, library.root / "scratch") for held in (own, fresh))
    if (one.width, one.height) != (other.width, other.height):
        raise GrayShelfError("The two differ in size.", "Choose one of the same frame and binning.")
    lit = one.lit or other.lit
    return (one, other, (0, 0)) if lit is None else (lit.of(one), lit.of(other), (lit.left, lit.top))


def _flats_held(library: Library, own: _Held, fresh: _Held, progress: Callable[[float], None]) -> StillGood:
    """The newer flat over the older one, each without its pedestal and over its own level, and what that tells."""
    one, other, before = _both(library, own, fresh)
    pattern = own.facts.pixel_pattern
    factor = factor_looked_at(one.width, one.height, pattern)
    levels = [
        _less_pedestal(library, h, made_small(parts, factor)) for h, parts in ((own, one), (fresh, other))
    ]
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = levels[1] / levels[0]
    ratio = np.nan_to_num(ratio, nan=1.0, posinf=1.0, neginf=1.0).astype(np.float32)
    found = flat_still_good(ratio, factor, progress)
    return replace(found, shadows=tuple(shadow.moved(*before) for shadow in found.shadows))


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
