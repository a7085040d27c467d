"""Building the masters of everything that a job has shot."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import DiskFull, GrayShelfError
from grayshelf.core.frames.sets import nominal_exposure
from grayshelf.library.grouping import regroup
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet, MasterRecord, RunShot, RunStep
from grayshelf.library.step_records import BuildOutcome, NotBuilt
from grayshelf.work.build import FEWEST, build_master
from grayshelf.work.jobs import JobControl


def group_new_frames(library: Library) -> None:
    """Put frames that have just been shot into their sets."""
    regroup(library)
    library.touched()


def build_masters_of_job(
    library: Library, control: JobControl, tell: Callable[[int, int, str], None]
) -> BuildOutcome:
    """Build what can be built of a job's frames: what lies in the dark first, then flats.

    Parameters
    ----------
    tell
        Called with the number of masters done, of how many, and what comes next.
    """
    group_new_frames(library)
    with library.db.session() as session:
        sets, anew = _sets_of_job(session, control.job_id)
    built: list[int] = []
    failed: list[NotBuilt] = []
    for number, (set_id, title) in enumerate(sets):
        control.check()
        tell(number, len(sets), title)
        try:
            built.append(build_master(library, set_id, lambda share: control.check(), again=set_id in anew))
        except DiskFull:
            raise
        except GrayShelfError as error:
            failed.append(NotBuilt(title, error.message, error.advice))
    tell(len(sets), len(sets), "")
    library.touched()
    return BuildOutcome(tuple(built), tuple(failed))


def _sets_of_job(session: Session, job_id: int) -> tuple[list[tuple[int, str]], set[int]]:
    """Sets to build, with their titles; and which of them have a master that is to be built anew."""
    shot: dict[int, set[int]] = {}
    for set_id, frame_id in session.execute(
        select(Frame.set_id, Frame.id)
        .join(RunShot, RunShot.frame_id == Frame.id)
        .join(RunStep, RunStep.id == RunShot.step_id)
        .where(RunStep.job_id == job_id, Frame.rejected.is_(False))
    ):
        if set_id is not None:
            shot.setdefault(set_id, set()).add(frame_id)
    rows = [
        row
        for row in session.scalars(
            select(FrameSet).where(FrameSet.id.in_(shot), FrameSet.is_master.is_(False)).order_by(FrameSet.id)
        )
        if row.master_set_id is None or _lacks(session, row.master_set_id, shot[row.id])
    ]
    first = {"bias": 0, "dark": 1, "dark flat": 2, "flat": 3}
    rows = [*rows, *_flats_that_waited(session, rows)]
    ordered = sorted(rows, key=lambda r: (first.get(r.kind, 9), r.id))
    titled = [(r.id, f"the master {r.kind} {r.facts.get('filter_code') or ''}".strip()) for r in ordered]
    return titled, {r.id for r in rows if r.master_set_id is not None}


def _lacks(session: Session, master_set_id: int, shot: set[int]) -> bool:
    """Whether a master built here was built without these frames: they joined its set later."""
    record = session.get(MasterRecord, master_set_id)
    return record is not None and record.built_here and not shot <= {i.frame_id for i in record.inputs}


def _flats_that_waited(session: Session, shot: Sequence[FrameSet]) -> list[FrameSet]:
    """Flats of earlier days at the exposures of the dark flats that this job shot: loose ones, and those whose master
    had something taken off it that was not as it should be (a dark flat with a light leak)."""
    dark_flats = [r for r in shot if r.kind == "dark flat"]
    if not dark_flats:
        return []
    flats = session.scalars(
        select(FrameSet).where(
            FrameSet.kind == "flat",
            FrameSet.is_master.is_(False),
            FrameSet.measurement_id.is_(None),
            FrameSet.camera.in_([r.camera for r in dark_flats]),
            FrameSet.id.not_in([r.id for r in shot]),
            FrameSet.n_kept >= FEWEST,
        )
    )
    waited = []
    for flat in flats:
        record = None if flat.master_set_id is None else session.get(MasterRecord, flat.master_set_id)
        if record is not None and not (
            record.pedestal_kind and any(c.startswith("its ") for c in record.care)
        ):
            continue
        if any(_of_one_exposure(flat, dark_flat) for dark_flat in dark_flats):
            waited.append(flat)
    return waited


def _of_one_exposure(flat: FrameSet, dark_flat: FrameSet) -> bool:
    a, b = flat.facts, dark_flat.facts
    same = all(a.get(name) == b.get(name) for name in ("camera", "gain", "offset", "binning_x"))
    long, short = (nominal_exposure(float(x.get("exposure_s") or 0.0)) for x in (a, b))
    return same and long == short
