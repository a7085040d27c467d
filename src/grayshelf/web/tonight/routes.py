"""Routes of Tonight."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime

from apiflask import APIBlueprint
from sqlalchemy import select

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.planning.reminders import Reminder
from grayshelf.core.planning.time_there_is import time_there_is
from grayshelf.library.models import Job
from grayshelf.library.records import as_kept, read
from grayshelf.library.reminders import keep_reminders
from grayshelf.library.rig_terms import gain_word, says_of, wishes_of
from grayshelf.library.step_records import RunJob
from grayshelf.web.common.rigs import passbands
from grayshelf.web.common.schemas import Done, StartedOut
from grayshelf.web.context import the_context
from grayshelf.web.tonight.asked import refuse_if_not_ready, tonight_as_asked
from grayshelf.web.tonight.more import more_out
from grayshelf.web.tonight.run import run_page
from grayshelf.web.tonight.schemas import (
    CurrentRunOut,
    EndIn,
    MoreIn,
    MoreListOut,
    RemindersIn,
    SeriesIn,
    StartIn,
    TickIn,
    TonightOut,
    TonightQuery,
)
from grayshelf.web.tonight.sheet import tonight_page
from grayshelf.work.beside_camera import set_by_rig
from grayshelf.work.jobs import ALIVE
from grayshelf.work.run.again import sheet_again
from grayshelf.work.run.changes import change_series, end_by, finish_early, going
from grayshelf.work.run.more import more_for, put_on_end
from grayshelf.work.run.starter import ByHand

api = APIBlueprint("tonight", __name__, url_prefix="/api", tag="Gray Shelf")


@api.get("/rigs/<int:rig_id>/tonight")
@api.input(TonightQuery, location="query")
@api.output(TonightOut)
def get_tonight(rig_id: int, query_data: TonightQuery) -> TonightOut:
    """The run sheet, its cost, and whether the rig is ready."""
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, rig_id))
    return tonight_page(context.library, rig_id, tonight_as_asked(rig_id, query_data), devices)


@api.put("/rigs/<int:rig_id>/reminders")
@api.input(RemindersIn)
@api.output(Done)
def put_reminders(rig_id: int, json_data: RemindersIn) -> Done:
    """Keep what a person wants to be told at the gates of a rig."""
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        keep_reminders(session, rig.id, [Reminder(r.when, r.text) for r in json_data.reminders])
    return Done(message="Kept.")


@api.post("/runs")
@api.input(StartIn)
@api.output(StartedOut)
def start_run(json_data: StartIn) -> StartedOut:
    """Start the sheet as it was shown."""
    query = TonightQuery(
        frames=json_data.frames,
        leave_out=",".join(json_data.leave_out),
        add=",".join(json_data.add),
        go=json_data.go,
    )
    sheet, starter = tonight_as_asked(json_data.rig_id, query), the_context().starter
    until = _by_the_clock(json_data.until)
    if json_data.by_hand:
        by_hand = ByHand(json_data.folder.strip() or None if json_data.folder else None)
        return StartedOut(job_id=starter.start(json_data.rig_id, sheet.sheet, by_hand, until))
    refuse_if_not_ready(sheet.ready)
    return StartedOut(
        job_id=starter.start(json_data.rig_id, sheet.sheet, until=until, sensor_then=json_data.sensor_then)
    )


def _by_the_clock(text: str | None) -> datetime | None:
    """The next time that the site's clock shows this; None where nothing is given."""
    if not text:
        return None
    library = the_context().library
    with library.db.session() as session:
        zone = library.zone(session)
    return time_there_is(library.clock.now(), zone, text).end


@api.post("/rigs/<int:rig_id>/runs/again")
@api.output(StartedOut)
def run_again(rig_id: int) -> StartedOut:
    """Start the last run once more, at the settings that were found then."""
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, rig_id))
    return StartedOut(job_id=context.starter.start(rig_id, sheet_again(context.library, rig_id, devices)))


@api.get("/rigs/<int:rig_id>/run")
@api.output(CurrentRunOut)
def current_run(rig_id: int) -> CurrentRunOut:
    """The run of a rig: the one going on, else the last one, until it is put away."""
    context = the_context()
    with context.library.db.session() as session:
        rig = context.library.rig(session, rig_id)
        job = session.scalar(
            select(Job).where(Job.kind == "run", Job.rig_id == rig_id).order_by(Job.id.desc()).limit(1)
        )
        wishes, bands = wishes_of(rig), passbands(rig)
    if job is None or read(RunJob, job.params).put_away:
        return CurrentRunOut(run=None)
    devices = context.starter.devices(rig)
    by_rig = set_by_rig(context.starter.rigs.beside_camera(rig))
    return CurrentRunOut(run=run_page(context.library, job.id, wishes, devices, bands, by_rig))


@api.post("/runs/<int:job_id>/tick")
@api.input(TickIn)
@api.output(Done)
def tick_step(job_id: int, json_data: TickIn) -> Done:
    """Tick a step of a run by hand off, or take that back."""
    the_context().starter.tick(job_id, json_data.step_id, done=json_data.done)
    the_context().broker.publish("run", id=job_id)
    return Done(message="Ticked off." if json_data.done else "It is open again.")


@api.post("/runs/<int:job_id>/series")
@api.input(SeriesIn)
@api.output(Done)
def change_a_series(job_id: int, json_data: SeriesIn) -> Done:
    """Give a series that has not begun another number of frames, leave it out, or take it in again."""
    change_series(the_context().runner, job_id, json_data.step_id, json_data.count, json_data.left_out)
    return _told(job_id, "It is left out." if json_data.left_out else "It is on the sheet.")


@api.get("/runs/<int:job_id>/more")
@api.output(MoreListOut)
def get_more(job_id: int) -> MoreListOut:
    """What can be put on the end of a run that goes on; nothing where it is over, as a page may ask that still shows it."""
    context = the_context()
    with context.library.db.session() as session:
        try:
            job, steps = going(session, job_id)
        except Conflict:
            return MoreListOut(offers=[])
        rig = context.library.rig(session, job.rig_id or 0)
        more = more_for(context.library, session, job, steps, context.starter.devices(rig))
        return MoreListOut(
            offers=more_out(more, gain_word(context.library, rig.camera), says_of(context.library, rig))
        )


@api.post("/runs/<int:job_id>/more")
@api.input(MoreIn)
@api.output(Done)
def put_more(job_id: int, json_data: MoreIn) -> Done:
    """Put a series on the end of a run that goes on."""
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, going(session, job_id)[0].rig_id or 0))
    title = put_on_end(context.library, context.runner, job_id, devices, json_data.key, json_data.frames)
    return _told(job_id, f"{title} is on the end.")


@api.post("/runs/<int:job_id>/finish")
@api.output(Done)
def finish(job_id: int) -> Done:
    """Shoot what is being shot to its end, with the dark flats of what is there, and stop."""
    finish_early(the_context().runner, job_id)
    return _told(job_id, "It ends after this one.")


@api.post("/runs/<int:job_id>/end-by")
@api.input(EndIn)
@api.output(Done)
def end_run_by(job_id: int, json_data: EndIn) -> Done:
    """Let a run be over by a time, or take that back."""
    end = _by_the_clock(json_data.until)
    end_by(the_context().runner, job_id, end, json_data.sensor_then)
    return _told(job_id, f"It is over by {json_data.until}." if end else "It goes on to its end.")


def _told(job_id: int, message: str) -> Done:
    the_context().broker.publish("run", id=job_id)
    return Done(message=message)


@api.post("/runs/<int:job_id>/put-away")
@api.output(Done)
def put_away(job_id: int) -> Done:
    """Put a run that has ended away, so that Tonight shows the next sheet."""
    context = the_context()
    with context.library.db.session() as session:
        job = session.get(Job, job_id)
        if job is None or job.kind != "run":
            raise NotFound("There is no such run.")
        if job.state in ALIVE:
            raise Conflict("This run goes on.", "Stop it first.")
        job.params = as_kept(replace(read(RunJob, job.params), put_away=True))
    context.runner.set_aside(job_id)
    return Done(message="The run is closed. Its frames and masters are on the shelf.")
