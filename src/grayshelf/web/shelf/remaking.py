"""Making a master again: with other frames, or combined in another way."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.masters.combine import CombineSettings, may_leave_extremes
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet
from grayshelf.library.records import as_kept
from grayshelf.library.step_records import BuildJob
from grayshelf.web.common import in_words
from grayshelf.web.shelf.schemas import CombineIn
from grayshelf.work.build import FEWEST
from grayshelf.work.checked import FRAMES_BY_HAND
from grayshelf.work.jobs import JobRunner


def set_behind(session: Session, set_id: int) -> FrameSet:
    """The loose frames of a card: the set itself, or that of which its master was made.

    Raises
    ------
    NotFound
        Where there is no such card.
    Conflict
        Where the frames of a master are not in the library.
    """
    row = session.get(FrameSet, set_id)
    if row is None or row.kind == "light":
        raise NotFound("This is not on the shelf.")
    if not row.is_master:
        return row
    behind = session.scalar(select(FrameSet).where(FrameSet.master_set_id == row.id))
    if behind is None:
        raise Conflict(
            "The frames that it was made of are not in the library, or it was made anew since.",
            "Scan their folder, or open the newer master’s card.",
        )
    return behind


def say_of_frame(library: Library, set_id: int, frame_id: int, use: str) -> str:
    """Put a frame into the next master of its set, take it out, or leave it to the checks again; what was done, in
    words."""
    with library.db.session() as session:
        row = set_behind(session, set_id)
        frame = session.get(Frame, frame_id)
        if frame is None or frame.set_id != row.id:
            raise NotFound("This frame is not of this set.", "Open the card anew.")
        said = dict(row.said.get(FRAMES_BY_HAND) or {})
        said.pop(str(frame_id), None)
        if use != "as found":
            said[str(frame_id)] = use
        row.said = {**row.said, FRAMES_BY_HAND: said}
        name = frame.path.rsplit("/", 1)[-1]
    library.touched()
    words = {
        "in": f"{name} goes into the next master of this set.",
        "out": f"{name} is left out of the next master of this set.",
    }
    return words.get(use, f"Whether {name} is used is left to the checks again.")


def build_again(library: Library, runner: JobRunner, set_id: int, how: CombineIn) -> int:
    """Begin to combine a set anew; the number of the job."""
    settings = CombineSettings(how.method, how.kappa, how.rounds, how.spread)
    with library.db.session() as session:
        row = set_behind(session, set_id)
        if row.n_frames < FEWEST:
            raise Conflict(
                f"It has {in_words.several(row.n_frames, 'frame')}; a master needs {FEWEST} or more.",
                "Shoot more.",
            )
        if how.method == "mean without extremes" and not may_leave_extremes(row.n_kept):
            raise Conflict(
                f"Leaving out the lowest and the highest is for few frames, and this set has {row.n_kept}.",
                "Use the mean with outliers left out.",
            )
        job = BuildJob((row.id,), again=True, settings=settings)
        title = f"Combining {in_words.several(row.n_frames, row.kind)} anew"
    return runner.start("build", title, as_kept(job))
