"""Masters that came from elsewhere, looked at: what is wrong with them is known before lights use them."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import and_, func, not_, or_, select
from sqlalchemy.orm import Session

from grayshelf.core.checks.figures import Figure, master_figures
from grayshelf.core.checks.of_a_master import reasons_for_care, scale_of
from grayshelf.core.digits import several
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.lit_part import pattern_where_lit
from grayshelf.library.facts_json import facts_from_json, facts_if_sound
from grayshelf.library.file_parts import FileParts
from grayshelf.library.full_scale import SHARES
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet, Job, MasterRecord
from grayshelf.library.records import as_kept
from grayshelf.library.step_records import JobResult, LookJob
from grayshelf.library.unreadable import UnreadableValue, readable
from grayshelf.work.checked import as_json, looked_at
from grayshelf.work.jobs import ALIVE, JobControl, JobRunner

#: The kind of job in which masters are looked at.
LOOK = "look"
#: With what is kept of masters from elsewhere, so that they are looked at anew where a version before looked at them otherwise:
#: it did not ask for their unit, or held a colour sensor's pixels to those of all colours.
LOOKED_AS, AS_NOW = "looked as", 2


def figures_of_master(library: Library, session: Session, row: FrameSet, path: Path) -> list[Figure]:
    """Figures of a master: measured once, and kept with what is wrong with it.

    Parameters
    ----------
    path
        Its file.

    Raises
    ------
    GrayShelfError
        Where the file cannot be read.
    """
    record = row.record
    if record is not None and record.figures.get("list") and _was_looked_at(record):
        return [Figure(**f) for f in record.figures["list"]]
    parts = FileParts(path, library.root / "scratch")
    pattern = pattern_where_lit(facts_from_json(row.facts).pixel_pattern, parts.lit)
    figures = master_figures(parts.where_lit, FrameKind(row.kind), pattern)
    if record is not None:
        found = looked_at(library, session, row, parts, ())
        if parts.shares and figures and FrameKind(row.kind).capped:
            found += scale_of(figures[0].value, _levels_beside(session, row))
        told = {"list": [vars(f) for f in figures], "findings": as_json(found), SHARES: parts.shares}
        told[LOOKED_AS] = AS_NOW
        record.figures = {**record.figures, **told}
        care = [reason for reason in reasons_for_care(found) if reason not in (record.care or [])]
        if care:
            record.care = [*(record.care or []), *care]
        # Its level is known now, and of a flat whether its pedestal is gone.
        library.touched()
    return figures


def _was_looked_at(record: MasterRecord) -> bool:
    return "findings" in record.figures and (record.built_here or record.figures.get(LOOKED_AS) == AS_NOW)


def _levels_beside(session: Session, row: FrameSet) -> list[float]:
    """Levels of other frames behind the cap, of the same settings and as the camera gave them."""
    facts = facts_from_json(row.facts)
    capped = [kind.value for kind in FrameKind if kind not in (FrameKind.LIGHT, FrameKind.FLAT)]
    there = select(FrameSet.level_adu, FrameSet.facts).where(
        FrameSet.camera == row.camera, FrameSet.kind.in_(capped), FrameSet.level_adu.is_not(None)
    )
    names = ("gain", "offset", "binning_x", "read_mode")
    found = ((level, facts_if_sound(plain)) for level, plain in session.execute(there))
    return [
        level
        for level, other in found
        if level and other is not None and all(getattr(other, n) == getattr(facts, n) for n in names)
    ]


def look_at_masters(library: Library, control: JobControl) -> JobResult:
    """Work of a `LOOK` job: every master that nobody looked at, one after the other; a card that is pulled need not wait."""
    with library.db.session() as session:
        todo = _unseen(session)
    troubled, unread = 0, list[str]()
    for number, set_id in enumerate(todo):
        control.check()
        control.report(number / len(todo), f"{number:,} of {several(len(todo), 'master')} looked at")
        with library.db.session() as session:
            row = session.get(FrameSet, set_id)
            if row is None or row.record is None or not row.frames:
                continue
            name = row.frames[0].path
            try:
                path = library.frame_path(session, row.frames[0])
                figures_of_master(library, session, row, path)
                troubled += bool(row.record.care)
            except (GrayShelfError, OSError, UnreadableValue):
                # Its card says why; one bad row keeps nobody from looking at the others.
                unread.append(name)
    told = f"{len(todo):,} {'master' if len(todo) == 1 else 'masters'} looked at"
    return JobResult(
        f"{told}: {troubled:,} to be used with care" if troubled else f"{told}, nothing is wrong",
        tuple(f"{name} could not be read; its card says why." for name in unread),
    )


def look_when_new(library: Library, runner: JobRunner) -> int | None:
    """Begin to look at masters that nobody looked at, where there are any; the job's number."""
    with runner.changing:
        with library.db.session() as session:
            going = session.scalar(select(func.count()).where(Job.kind == LOOK, Job.state.in_(ALIVE)))
            todo = 0 if going else len(_unseen(session))
        if not todo:
            return None
        title = f"Looking at {todo:,} {'master' if todo == 1 else 'masters'} that came in"
        return runner.start(LOOK, title, as_kept(LookJob()))


def _unseen(session: Session) -> list[int]:
    """Masters on the shelf that nobody looked at and whose file is there."""
    figures = readable(MasterRecord.figures)
    as_now = or_(MasterRecord.built_here, func.coalesce(figures[LOOKED_AS].as_integer(), 0) == AS_NOW)
    seen = and_(figures["findings"].as_string().is_not(None), as_now)
    return list(
        session.scalars(
            select(FrameSet.id)
            .join(MasterRecord, MasterRecord.set_id == FrameSet.id)
            .join(Frame, Frame.set_id == FrameSet.id)
            .where(
                FrameSet.is_master, FrameSet.taken_off.is_(False), Frame.missing_since.is_(None), not_(seen)
            )
            .distinct()
            .order_by(FrameSet.id)
        )
    )
