"""Whether a master is still good: what it can be held against, and how it did."""

from __future__ import annotations

from datetime import date
from typing import Any

from sqlalchemy.orm import Session

from grayshelf.library.holdings import HELD
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet
from grayshelf.library.records import as_kept
from grayshelf.library.step_records import HoldJob
from grayshelf.web.common import in_words
from grayshelf.web.looking.view import title_of
from grayshelf.web.shelf.schemas import HeldOut, NewerOut, StillGoodOut
from grayshelf.work.jobs import JobRunner
from grayshelf.work.still_good import Newer, chosen_newer, newer_than


def still_good_out(library: Library, session: Session, row: FrameSet) -> HeldOut | None:
    """What a master can be held against, the newest first, and how it did last; None where it is no master."""
    if not row.is_master or not row.frames or row.record is None:
        return None
    return HeldOut(
        newer=[_newer_out(n) for n in newer_than(library, session, row)],
        held=_held_out(session, row.frames[0].id, row.record.figures.get(HELD)),
    )


def begin_to_hold(library: Library, runner: JobRunner, set_id: int, frame_id: int) -> int:
    """Begin to hold a master against something newer; the number of the job."""
    with library.db.session() as session:
        row, newer = chosen_newer(library, session, set_id, frame_id)
        title = f"{title_of(row)} held against {in_words.day(newer.night)}"
    return runner.start("held", title, as_kept(HoldJob(set_id, frame_id)))


def _newer_out(newer: Newer) -> NewerOut:
    frames = in_words.several(newer.n_frames, "frame")
    what = f"master of {frames}" if newer.is_master else f"the last of {frames}"
    return NewerOut(frame_id=newer.frame_id, title=in_words.day(newer.night), detail=what)


def _held_out(session: Session, own_frame_id: int, told: dict[str, Any] | None) -> StillGoodOut | None:
    if not told:
        return None
    what = "the master" if told.get("is_master") else "one frame"
    return StillGoodOut(
        serves=told["serves"],
        line=told["line"],
        against=f"{what} of {in_words.day(date.fromisoformat(told['night']))}",
        frame_id=told["frame_id"] if session.get(Frame, told["frame_id"]) is not None else None,
        own_frame_id=own_frame_id,
        shadows=[[s["x"], s["y"], s["diameter"], 100 * s["depth"]] for s in told.get("shadows") or []],
    )
