"""Files to look at, in words."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from sqlalchemy import Boolean, ColumnElement, case, func, literal_column, select
from sqlalchemy.orm import joinedload

from grayshelf.library.library import Library
from grayshelf.library.models import Frame
from grayshelf.web.intake.schemas import CountOut, ProblemOut, ProblemsOut

PAGE = 100
TO_LOOK_AT = ("missing", "unreadable", "lacking", "duplicate")
#: A frame’s state as it is told: whatever it is in itself, while its file is missing it is missing.
STATE_TOLD = case((Frame.missing_since.is_not(None) & (Frame.state != "gone"), "missing"), else_=Frame.state)
#: As the index `ix_frame_to_look_at` has it, so that not every frame is read.
LOOKED_AT: ColumnElement[bool] = literal_column(
    "(frame.missing_since IS NOT NULL OR frame.state IN ('lacking', 'unreadable', 'duplicate')) "
    "AND frame.state != 'gone'",
    Boolean,
)


def problems_page(library: Library, page: int, state: str) -> ProblemsOut:
    """Files that could not be read, lack a value that matters, or are missing."""
    with library.db.session() as session:
        zone = library.zone(session)
        counts: dict[str, int] = dict(
            session.execute(select(STATE_TOLD, func.count()).where(LOOKED_AT).group_by(STATE_TOLD)).all()
        )
        where = LOOKED_AT & STATE_TOLD.in_((state,)) if state in TO_LOOK_AT else LOOKED_AT
        total = counts.get(state, 0) if state in TO_LOOK_AT else sum(counts.values())
        rows = session.scalars(
            select(Frame)
            .where(where)
            .order_by(STATE_TOLD.desc(), Frame.path)
            .offset((page - 1) * PAGE)
            .limit(PAGE)
        ).all()
        return ProblemsOut(
            items=[_problem_out(f, zone) for f in rows],
            total=total,
            page=page,
            pages=max(1, -(-total // PAGE)),
            counts=[CountOut(name=name, count=counts[name]) for name in TO_LOOK_AT if name in counts],
        )


def _problem_out(frame: Frame, zone: ZoneInfo) -> ProblemOut:
    state, reason, advice = frame.state, frame.reason, frame.advice
    if frame.missing_since is not None:
        state = "missing"
        reason = f"Not where it was since {frame.missing_since.astimezone(zone):%-d %b %Y, %H:%M}."
        advice = "It keeps its set and its master. Bring the file back and scan again, or let the missing go."
    return ProblemOut(
        id=frame.id, path=frame.path, folder_id=frame.folder_id, state=state, reason=reason, advice=advice
    )


def problem_csv_rows(library: Library) -> list[list[object]]:
    """All files to look at."""
    with library.db.session() as session:
        zone = library.zone(session)
        rows = session.scalars(
            select(Frame).where(LOOKED_AT).order_by(STATE_TOLD, Frame.path).options(joinedload(Frame.folder))
        )
        told = [(f.folder.path, _problem_out(f, zone)) for f in rows]
        return [
            ["folder", "file", "state", "reason", "advice"],
            *(list[object]((folder, p.path, p.state, p.reason, p.advice)) for folder, p in told),
        ]
