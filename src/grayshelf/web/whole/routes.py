"""Routes of what is not of one place."""

from __future__ import annotations

from apiflask import APIBlueprint

from grayshelf import __version__
from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.frames.night import night_of_utc
from grayshelf.library.counts import count_all
from grayshelf.library.left_out import left_out_in_words
from grayshelf.library.models import Job, Rig
from grayshelf.library.trains import standing_rigs
from grayshelf.web.common import in_words
from grayshelf.web.common.jobs import job_out, jobs_page
from grayshelf.web.common.schemas import AnswerIn, Done, JobOut, JobsOut
from grayshelf.web.context import the_context
from grayshelf.web.whole.schemas import ClockIn, FindsOut, RigBrief, SearchQuery, StateOut
from grayshelf.web.whole.search import find
from grayshelf.work.gates import answer_gate

api = APIBlueprint("whole", __name__, url_prefix="/api", tag="Gray Shelf")


@api.get("/state")
@api.output(StateOut)
def state() -> StateOut:
    """What every page needs to know."""
    context = the_context()
    library = context.library
    now = library.clock.now()
    clock = context.simulated_clock
    with library.db.session() as session:
        site, zone = library.site(session), library.zone(session)
        counts = count_all(library)
        rigs = [
            RigBrief(
                id=r.id,
                name=r.name,
                camera=r.camera,
                telescope=r.telescope,
                has_devices=context.starter.devices(r) is not None,
                n_sets=counts.sets_of.get(r.camera, 0),
                retired=r.retired_at is not None,
            )
            for r in session.scalars(
                standing_rigs().order_by(None).order_by(Rig.retired_at.is_not(None), Rig.id)
            )
        ]
        night = night_of_utc(now, zone)
        return StateOut(
            version=__version__,
            demo=context.demo,
            now=now,
            clock=in_words.clock(now, zone),
            night=night,
            night_title=in_words.long_day(night),
            site=site["name"],
            time_zone=site["time_zone"],
            rate=clock.rate if clock else None,
            fast_rate=context.fast_rate,
            fast=bool(clock and clock.rate > 1),
            rigs=rigs,
            n_frames=counts.frames,
            n_masters=counts.masters,
            n_folders=counts.folders,
            own_folder=str(library.root),
            left_out=left_out_in_words(library),
        )


@api.post("/clock")
@api.input(ClockIn)
@api.output(Done)
def set_clock(json_data: ClockIn) -> Done:
    """Let the demo's waits pass faster than real ones, or not."""
    context = the_context()
    clock = context.simulated_clock
    if clock is None:
        raise Conflict("Your own library runs on this machine's clock.")
    clock.rate = context.fast_rate if json_data.fast else 1.0
    context.broker.publish("state")
    return Done(
        message=f"Waits pass {clock.rate:g} times as fast." if json_data.fast else "Waits take their time."
    )


@api.get("/jobs")
@api.output(JobsOut)
def jobs() -> JobsOut:
    """Work in progress, and what ended lately."""
    return jobs_page(the_context().library)


@api.post("/jobs/<int:job_id>/<string:action>")
@api.output(JobOut)
def change_job(job_id: int, action: str) -> JobOut:
    """Stop, pause, go on with or resume a job."""
    context = the_context()
    runner = context.runner
    if action == "stop":
        runner.stop(job_id)
    elif action in ("pause", "go-on"):
        runner.pause(job_id, action == "pause")
    elif action == "resume":
        runner.resume(job_id)
    else:
        raise NotFound(f"A job cannot be told to ‘{action}’.")
    with context.library.db.session() as session:
        return job_out(session.get_one(Job, job_id), context.library)


@api.post("/jobs/<int:job_id>/answer")
@api.input(AnswerIn)
@api.output(Done)
def answer(job_id: int, json_data: AnswerIn) -> Done:
    """Answer the gate that waits, of whatever work."""
    context = the_context()
    answer_gate(context.library, context.runner, job_id, json_data.step_id, json_data.answer)
    return Done(message="Going on.")


@api.get("/search")
@api.input(SearchQuery, location="query")
@api.output(FindsOut)
def search(query_data: SearchQuery) -> FindsOut:
    """Frames, nights, targets and masters by a word."""
    return FindsOut(items=find(the_context().library, query_data.q))
