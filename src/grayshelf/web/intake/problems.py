"""Files to look at, in words."""

from __future__ import annotations

from datetime import date, timedelta
from zoneinfo import ZoneInfo

from sqlalchemy import Boolean, ColumnElement, String, and_, case, func, literal_column, not_, select
from sqlalchemy.orm import Session, joinedload

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.matching.age import AHEAD, MAY_BE_AHEAD_DAYS
from grayshelf.library.catalog import FOLDERS_OF_REJECTS, IN_SETS, set_aside
from grayshelf.library.copies import DUPLICATE
from grayshelf.library.kept import kept
from grayshelf.library.kept_lights import what_its_header_says
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet
from grayshelf.library.not_lacking import lacks_nothing_asked_for
from grayshelf.web.intake.schemas import CountOut, ProblemOut, ProblemsOut

PAGE = 100
#: Frames that were found wrong when they were taken or came in: they are in no master.
SET_ASIDE = "set aside"
TO_LOOK_AT = ("missing", "unreadable", "lacking")
#: Copies of frames that count: nothing has to be done about them, so they are listed apart.
COPIES = DUPLICATE
#: A frame’s state as it is told: whatever it is in itself, while its file is missing it is missing.
STATE_TOLD = case((Frame.missing_since.is_not(None) & (Frame.state != "gone"), "missing"), else_=Frame.state)
#: As the index `ix_frame_to_look_at` has it, so that not every frame is read.
LOOKED_AT: ColumnElement[bool] = literal_column(
    "(frame.missing_since IS NOT NULL OR frame.state IN ('lacking', 'unreadable', 'duplicate')) "
    "AND frame.state != 'gone'",
    Boolean,
)


#: Named so, a state is not what SQLite finds rows by: nearly all frames are of one state.
_STATE: ColumnElement[str] = literal_column("+frame.state", String)
#: Not those that a person put into a folder of rejects: there is nothing to take back here. As `ix_frame_rejected` has it.
_ASIDE: ColumnElement[bool] = and_(
    # Without a type: a truth would be asked for as '= 1', which the index has not.
    literal_column("frame.rejected"),
    Frame.reason != "",
    # Lights that a person does not keep are told of with their night.
    Frame.kind != FrameKind.LIGHT.value,
    _STATE.in_(IN_SETS),
    *(
        not_(func.lower(Frame.path).like(pattern))
        for name in FOLDERS_OF_REJECTS
        for pattern in (f"{name}/%", f"%/{name}/%")
    ),
)


def _ahead(last_night: date) -> ColumnElement[bool]:
    """Frames that are good but for their night, which has not come. Their sets tell, of which there are few."""
    late = select(FrameSet.id).where(FrameSet.night > last_night)
    good = (_STATE == "good") & Frame.missing_since.is_(None)
    return Frame.set_id.in_(late) & (Frame.night > last_night) & good


def last_night(library: Library, session: Session) -> date:
    """The latest night that may be here and now."""
    return night_of_utc(library.clock.now(), library.zone(session)) + timedelta(days=MAY_BE_AHEAD_DAYS)


@kept(2)
def ahead_by_folder(library: Library, revision: int, last_night: date) -> dict[int, int]:
    """Frames that are dated ahead, by folder; counted anew where the shelf changed, or a night passed."""
    with library.db.own_session() as session:
        query = select(Frame.folder_id, func.count()).where(_ahead(last_night)).group_by(Frame.folder_id)
        return dict(session.execute(query).all())


def problems_page(library: Library, page: int, state: str) -> ProblemsOut:
    """Files that could not be read, lack a value that matters, or are missing, and frames that are dated ahead; on demand
    those of one `state`, of frames that were set aside, or of copies."""
    with library.db.session() as session:
        zone, latest = library.zone(session), last_night(library, session)
        to_look_at = LOOKED_AT & not_(lacks_nothing_asked_for(session))
        counts: dict[str, int] = dict(
            session.execute(select(STATE_TOLD, func.count()).where(to_look_at).group_by(STATE_TOLD)).all()
        )
        lists: dict[str, ColumnElement[bool]] = {
            name: to_look_at & STATE_TOLD.in_((name,)) for name in (*TO_LOOK_AT, COPIES)
        }
        looked_at = "looked at"
        lists |= {looked_at: to_look_at & (STATE_TOLD != COPIES), AHEAD: _ahead(latest), SET_ASIDE: _ASIDE}
        for name in (AHEAD, SET_ASIDE):
            counts[name] = session.scalar(select(func.count()).select_from(Frame).where(lists[name])) or 0
        told = {**counts, looked_at: sum(counts.get(name, 0) for name in TO_LOOK_AT)}
        wanted = [state] if state in (*TO_LOOK_AT, AHEAD, SET_ASIDE, COPIES) else [looked_at, AHEAD]
        items: list[ProblemOut] = []
        start = (page - 1) * PAGE
        # One after the other, not in one query: each has an index of its own.
        for name in wanted:
            there, room = told.get(name, 0), PAGE - len(items)
            if start < there and room:
                query = select(Frame).where(lists[name]).order_by(STATE_TOLD.desc(), Frame.path)
                rows = session.scalars(query.offset(start).limit(room))
                items += [_dated_ahead(f, f.night) if name == AHEAD else _problem_out(f, zone) for f in rows]
            start = max(start - there, 0)
        total = sum(told.get(name, 0) for name in wanted)
        return ProblemsOut(
            items=items,
            total=total,
            page=page,
            pages=max(1, -(-total // PAGE)),
            counts=[
                CountOut(name=name, count=counts[name])
                for name in (*TO_LOOK_AT, AHEAD, SET_ASIDE, COPIES)
                if counts.get(name)
            ],
        )


def put_back(library: Library, frame_id: int) -> str:
    """Let a frame that was set aside count again; return what to say of it.

    Raises
    ------
    NotFound
        Where there is no such frame, or it was not set aside.
    """
    with library.db.session() as session:
        frame = session.get(Frame, frame_id)
        if frame is None or not frame.rejected or frame.state not in IN_SETS:
            raise NotFound("This frame is not set aside.", "Look at the list again.")
        if set_aside(frame.path):
            raise Conflict("It lies in a folder of rejects.", "Move the file out of it and scan again.")
        frame.rejected, frame.reason = False, what_its_header_says(frame)
        name, frame_set = frame.path.rpartition("/")[2], frame.set
        if frame_set is not None:
            frame_set.n_kept = sum(not f.rejected for f in frame_set.frames)
        combined = frame_set is not None and frame_set.master_set_id is not None
    library.touched()
    again = " Its master was built without it: build it again to have it in." if combined else ""
    return f"{name} counts again.{again}"


def _problem_out(frame: Frame, zone: ZoneInfo) -> ProblemOut:
    state, reason, advice = frame.state, frame.reason, frame.advice
    if frame.rejected and frame.state in IN_SETS and not set_aside(frame.path):
        state, advice = SET_ASIDE, "It is in no master."
    if frame.missing_since is not None:
        state = "missing"
        reason = f"Not where it was since {frame.missing_since.astimezone(zone):%-d %b %Y, %H:%M}."
        advice = "It keeps its set and its master. Bring the file back and scan again, or let the missing go."
    return ProblemOut(
        id=frame.id, path=frame.path, folder_id=frame.folder_id, state=state, reason=reason, advice=advice
    )


def _dated_ahead(frame: Frame, night: date | None) -> ProblemOut:
    told = "" if night is None else f", {night:%-d %b %Y},"
    return ProblemOut(
        id=frame.id,
        path=frame.path,
        folder_id=frame.folder_id,
        state=AHEAD,
        reason=f"Its night{told} has not come yet.",
        advice="The clock that dated it was ahead, or the one here is behind: say by how much (‘Say what is lacking or wrong’, above).",
    )


def problem_csv_rows(library: Library) -> list[list[object]]:
    """All files to look at, and copies."""
    with library.db.session() as session:
        zone = library.zone(session)
        of_folders = select(Frame).options(joinedload(Frame.folder))
        rows = session.scalars(
            of_folders.where(LOOKED_AT, not_(lacks_nothing_asked_for(session))).order_by(
                STATE_TOLD, Frame.path
            )
        )
        told = [(f.folder.path, _problem_out(f, zone)) for f in rows]
        ahead = session.scalars(of_folders.where(_ahead(last_night(library, session))).order_by(Frame.path))
        told += [(f.folder.path, _dated_ahead(f, f.night)) for f in ahead]
        return [
            ["folder", "file", "state", "reason", "advice"],
            *(list[object]((folder, p.path, p.state, p.reason, p.advice)) for folder, p in told),
        ]
