"""The routes: parse, call, serialise."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

from apiflask import APIBlueprint, APIFlask
from flask import Response, jsonify
from sqlalchemy import select

from grayshelf import __version__
from grayshelf.core.errors import Conflict, GrayShelfError, NotFound
from grayshelf.core.frames.night import night_of_utc, site_zone
from grayshelf.core.matching.parts import answered
from grayshelf.library.counts import count_all
from grayshelf.library.grouping import RECOUNT, recount_nights
from grayshelf.library.left_out import left_out_in_words
from grayshelf.library.models import Folder, Frame, FrameSet, Job, Rig, RunShot
from grayshelf.library.pictures import picture_of
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_terms import rig_of, wishes_of
from grayshelf.library.step_records import BuildJob, RunJob, ScanJob
from grayshelf.web import schemas as s
from grayshelf.web.context import the_context
from grayshelf.web.exports import as_file, csv_response
from grayshelf.web.search import find
from grayshelf.web.views import intake, nights, shelf, tonight
from grayshelf.web.views import words as w
from grayshelf.web.views.jobs import job_out, jobs_page
from grayshelf.work.gates import answer_gate
from grayshelf.work.jobs import ALIVE
from grayshelf.work.run.choice import DEFAULT_FRAMES, SheetChoice
from grayshelf.work.run.tonight import Tonight, look_at_tonight

api = APIBlueprint("api", __name__, url_prefix="/api", tag="Gray Shelf")


def register(app: APIFlask) -> None:
    """Put the routes into the application."""
    app.register_blueprint(api)


def _tonight(rig_id: int, query: s.TonightQuery | None = None) -> Tonight:
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, rig_id))
    chosen = query or s.TonightQuery()
    wishes = SheetChoice(chosen.frames, frozenset(_keys(chosen.leave_out)), frozenset(_keys(chosen.add)))
    return look_at_tonight(context.library, rig_id, devices, wishes)


def _keys(text: str) -> list[str]:
    return [key for key in text.split(",") if key]


# -- everything -------------------------------------------------------------------------------------------------


@api.get("/state")
@api.output(s.StateOut)
def state() -> s.StateOut:
    """What every page needs to know."""
    context = the_context()
    library = context.library
    now = library.clock.now()
    clock = context.simulated_clock
    with library.db.session() as session:
        site, zone = library.site(session), library.zone(session)
        counts = count_all(library)
        rigs = [
            s.RigBrief(
                id=r.id,
                name=r.name,
                camera=r.camera,
                telescope=r.telescope,
                has_devices=context.starter.devices(r) is not None,
                n_sets=counts.sets_of.get(r.camera, 0),
            )
            for r in session.scalars(select(Rig).order_by(Rig.id))
        ]
        night = night_of_utc(now, zone)
        return s.StateOut(
            version=__version__,
            demo=context.demo,
            now=now,
            clock=w.clock(now, zone),
            night=night,
            night_title=w.long_day(night),
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
            usual_flats=DEFAULT_FRAMES,
            left_out=left_out_in_words(library),
        )


@api.post("/clock")
@api.input(s.ClockIn)
@api.output(s.Done)
def set_clock(json_data: s.ClockIn) -> s.Done:
    """Let the demo's waits pass faster than real ones, or not."""
    context = the_context()
    clock = context.simulated_clock
    if clock is None:
        raise Conflict("Your own library runs on this machine's clock.")
    clock.rate = context.fast_rate if json_data.fast else 1.0
    context.broker.publish("state")
    return s.Done(
        message=f"Waits pass {clock.rate:g} times as fast." if json_data.fast else "Waits take their time."
    )


@api.get("/jobs")
@api.output(s.JobsOut)
def jobs() -> s.JobsOut:
    """Work in progress, and what ended lately."""
    return jobs_page(the_context().library)


@api.post("/jobs/<int:job_id>/<string:action>")
@api.output(s.JobOut)
def change_job(job_id: int, action: str) -> s.JobOut:
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


@api.get("/search")
@api.input(s.SearchQuery, location="query")
@api.output(s.FindsOut)
def search(query_data: s.SearchQuery) -> s.FindsOut:
    """Frames, nights, targets and masters by a word."""
    return s.FindsOut(items=find(the_context().library, query_data.q))


# -- intake -----------------------------------------------------------------------------------------------------


@api.get("/intake")
@api.output(s.IntakeOut)
def get_intake() -> s.IntakeOut:
    """Folders and the site."""
    return intake.intake_page(the_context().library)


def _start_scan(folder_id: int) -> s.JobOut:
    context = the_context()
    with context.runner.changing:
        with context.library.db.session() as session:
            folder = session.get(Folder, folder_id)
            if folder is None:
                raise NotFound("This folder is not on the list.")
            going = session.scalars(select(Job).where(Job.kind == "scan", Job.state.in_(ALIVE))).all()
            if any(read(ScanJob, j.params).folder_id == folder_id for j in going):
                raise Conflict("This folder is being scanned already.")
            title = "A look through the library’s own folder" if folder.own else f"Scan of {folder.path}"
        job_id = context.runner.start("scan", title, as_kept(ScanJob(folder_id)))
    with context.library.db.session() as session:
        return job_out(session.get_one(Job, job_id), context.library)


@api.post("/folders")
@api.input(s.FolderIn)
@api.output(s.JobOut)
def add_folder(json_data: s.FolderIn) -> s.JobOut:
    """Name a folder on this machine and scan it in place."""
    return _start_scan(intake.add_folder(the_context().library, json_data.path))


@api.post("/folders/<int:folder_id>/scan")
@api.output(s.JobOut)
def scan_again(folder_id: int) -> s.JobOut:
    """Scan a folder again: only what is new or changed is read."""
    return _start_scan(folder_id)


@api.post("/folders/<int:folder_id>/let-go")
@api.output(s.Done)
def let_missing_go(folder_id: int) -> s.Done:
    """Let go of the frames of a folder whose files are missing."""
    count = intake.let_go(the_context().library, folder_id)
    return s.Done(
        message=f"{w.several(count, 'frame')} let go. Where their files come back, they are entered anew."
    )


@api.delete("/folders/<int:folder_id>")
@api.output(s.Done)
def forget_folder(folder_id: int) -> s.Done:
    """Take a folder off the list; its files are not touched."""
    path = intake.forget_folder(the_context().library, folder_id)
    return s.Done(
        message=f"{path} is off the list. Its files are as they were; name it again to bring it back."
    )


@api.put("/site")
@api.input(s.SiteIn)
@api.output(s.Done)
def set_site(json_data: s.SiteIn) -> s.Done:
    """Name the site and its time zone; frames are given their nights by it from the next scan on."""
    library = the_context().library
    site_zone(json_data.time_zone)
    with library.db.session() as session:
        library.set_setting(
            session, "site", {**library.site(session), **json_data.model_dump(exclude_unset=True)}
        )
        library.set_setting(session, RECOUNT, {"due": True})
    again = recount_nights(library)
    library.touched()
    return s.Done(message=f"Nights are counted at {json_data.time_zone}; {again:,} frames changed theirs.")


@api.get("/problems")
@api.input(s.PageQuery, location="query")
@api.output(s.ProblemsOut)
def problems(query_data: s.PageQuery) -> s.ProblemsOut:
    """Files that could not be read, or lack a value that matters."""
    return intake.problems_page(the_context().library, query_data.page, query_data.state)


@api.get("/problems.csv")
@api.doc(hide=True)
def problems_csv() -> Response:
    """All of them as CSV."""
    return csv_response(intake.problem_csv_rows(the_context().library), "files-to-look-at")


@api.get("/sets")
@api.input(s.PageQuery, location="query")
@api.output(s.SetsOut)
def sets(query_data: s.PageQuery) -> s.SetsOut:
    """The sets that frames fell into."""
    return intake.sets_page(the_context().library, query_data.page, query_data.kind)


@api.put("/sets/<int:set_id>/names")
@api.input(s.NamesIn)
@api.output(s.Done)
def say_of_names(set_id: int, json_data: s.NamesIn) -> s.Done:
    """Say whether what the files' names say of a set is right."""
    return s.Done(message=intake.say_of_names(the_context().library, set_id, json_data.right))


@api.get("/sets.csv")
@api.doc(hide=True)
def sets_csv() -> Response:
    """All sets as CSV."""
    library = the_context().library
    rows: list[list[object]] = [["set", "kind", "what", "camera", "night", "frames", "state"]]
    page = 1
    while True:
        part = intake.sets_page(library, page, "")
        rows += [[x.id, x.kind, x.title, x.camera, x.night, x.n_frames, x.state] for x in part.items]
        if page >= part.pages:
            return csv_response(rows, "sets")
        page += 1


@api.post("/builds")
@api.input(s.BuildIn)
@api.output(s.JobOut)
def build(json_data: s.BuildIn) -> s.JobOut:
    """Combine sets into masters."""
    context = the_context()
    ids = intake.sets_to_build(context.library, json_data.set_ids)
    job_id = context.runner.start(
        "build", f"Building {w.several(len(ids), 'master')}", as_kept(BuildJob(tuple(ids)))
    )
    with context.library.db.session() as session:
        return job_out(session.get_one(Job, job_id), context.library)


# -- shelf ------------------------------------------------------------------------------------------------------


@api.get("/rigs/<int:rig_id>/shelf")
@api.input(s.TonightQuery, location="query")
@api.output(s.ShelfOut)
def get_shelf(rig_id: int, query_data: s.TonightQuery) -> s.ShelfOut:
    """The shelf of a rig."""
    return shelf.shelf_page(the_context().library, rig_id, _tonight(rig_id, query_data))


@api.get("/rigs/<int:rig_id>/shelf.csv")
@api.doc(hide=True)
def shelf_csv(rig_id: int) -> Response:
    """The shelf as a table."""
    page = shelf.shelf_page(the_context().library, rig_id, _tonight(rig_id))
    rows: list[list[object]] = [["set", "kind", "what", "gain", "frames", "date", "age", "care", "master"]]
    rows += [
        [x.id, x.kind, x.title, x.gain, x.frames, x.date, x.age, "; ".join(x.care), x.is_master]
        for x in (*page.darks.spines, *page.flats.spines, *page.bias)
    ]
    rows += [["", g.kind, g.title, g.gain, 0, "", "", f"{g.lights} lights wait", False] for g in page.gaps]
    return csv_response(rows, "shelf")


@api.get("/holdings/<int:set_id>")
@api.output(s.CardOut)
def holding(set_id: int) -> s.CardOut:
    """The card of a master or set."""
    return shelf.card_page(the_context().library, set_id)


@api.get("/holdings/<int:set_id>/inputs.csv")
@api.doc(hide=True)
def inputs_csv(set_id: int) -> Response:
    """The frames of a master, as CSV."""
    card = shelf.card_page(the_context().library, set_id)
    rows: list[list[object]] = [["frame", "level_adu", "used", "clipped_percent", "reason", "sha256"]]
    rows += [[i.name, i.level, i.used, round(i.clipped_percent, 4), i.reason, i.sha256] for i in card.inputs]
    return csv_response(rows, f"frames-of-{set_id}")


@api.post("/holdings/<int:set_id>/shelve/<string:where>")
@api.output(s.Done)
def shelve(set_id: int, where: str) -> s.Done:
    """Take a master off the shelf (its file stays), or put it back."""
    library = the_context().library
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.kind == "light" or where not in ("off", "back"):
            raise NotFound("This is not on the shelf.")
        row.taken_off = where == "off"
    library.touched()
    return s.Done(
        message="It is off the shelf; its file stays." if where == "off" else "It is back on the shelf."
    )


def _picture(path_of: Frame | str, size: int) -> Response:
    library = the_context().library
    with library.db.session() as session:
        if isinstance(path_of, Frame):
            path = library.frame_path(session, session.merge(path_of))
        else:
            path = library.permitted(session).permit(library.root / path_of)
    picture = picture_of(path, size)
    response = Response(picture.png, mimetype="image/png", headers={"Cache-Control": "private, max-age=3600"})
    response.headers["X-Black"], response.headers["X-White"] = f"{picture.black:.6g}", f"{picture.white:.6g}"
    return response


@api.get("/frames/<int:frame_id>/picture.png")
@api.input(s.PictureQuery, location="query")
@api.doc(hide=True)
def frame_picture(frame_id: int, query_data: s.PictureQuery) -> Response:
    """A frame, stretched."""
    with the_context().library.db.session() as session:
        frame = session.get(Frame, frame_id)
    if frame is None:
        raise NotFound("This frame is not in the library.")
    return _picture(frame, query_data.size)


@api.get("/shots/<int:shot_id>/picture.png")
@api.input(s.PictureQuery, location="query")
@api.doc(hide=True)
def shot_picture(shot_id: int, query_data: s.PictureQuery) -> Response:
    """A shot of a run, stretched."""
    with the_context().library.db.session() as session:
        shot = session.get(RunShot, shot_id)
    if shot is None:
        raise NotFound("This shot is not in the library.")
    return _picture(shot.path, query_data.size)


# -- nights -----------------------------------------------------------------------------------------------------


@api.get("/rigs/<int:rig_id>/nights")
@api.output(s.NightsOut)
def get_nights(rig_id: int) -> s.NightsOut:
    """The nights of a rig."""
    return nights.nights_page(the_context().library, rig_id)


@api.get("/rigs/<int:rig_id>/nights.csv")
@api.doc(hide=True)
def nights_csv(rig_id: int) -> Response:
    """The log of all nights."""
    return csv_response(nights.night_csv_rows(the_context().library, rig_id), "nights")


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError as error:
        raise GrayShelfError(f"‘{text}’ is not a night.", "Write it as 2026-10-18.") from error


@api.get("/rigs/<int:rig_id>/nights/<string:night>")
@api.output(s.NightOut)
def get_night(rig_id: int, night: str) -> s.NightOut:
    """One night."""
    return nights.night_page(the_context().library, rig_id, _day(night))


@api.put("/rigs/<int:rig_id>/nights/<string:night>/notes")
@api.input(s.NotesIn)
@api.output(s.Done)
def put_notes(rig_id: int, night: str, json_data: s.NotesIn) -> s.Done:
    """Keep what is noted of a night."""
    with the_context().library.db.session() as session:
        nights.set_notes(session, rig_id, _day(night), json_data.notes)
    return s.Done(message="Noted.")


def _slip(set_id: int) -> s.SlipOut:
    context = the_context()
    with context.library.db.session() as session:
        row = session.get(FrameSet, set_id)
        rig = rig_of(session, row) if row is not None else None
        rig_ids = [] if rig is None else [rig.id]
    return nights.slip_page(context.library, set_id, {rig_id: _tonight(rig_id) for rig_id in rig_ids})


@api.put("/rigs/<int:rig_id>/says")
@api.input(s.PartIn)
@api.output(s.Done)
def say_of_rig(rig_id: int, json_data: s.PartIn) -> s.Done:
    """Keep what a person says of a part that no header tells of, or take it back."""
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        said = {q: word for q, word in (rig.says or {}).items() if q != json_data.quantity}
        rig.says = said if json_data.says is None else {**said, json_data.quantity: json_data.says}
    library.touched()
    if json_data.says is None:
        return s.Done(message=f"What was said of the {json_data.quantity} is taken back.")
    return s.Done(message=f"Kept for this rig. {answered(json_data.quantity, json_data.says)}.")


@api.put("/rigs/<int:rig_id>/time-zone")
@api.input(s.RigZoneIn)
@api.output(s.Done)
def set_rig_zone(rig_id: int, json_data: s.RigZoneIn) -> s.Done:
    """Say in which time zone a rig stands; its frames that name no place get their nights anew."""
    library = the_context().library
    if json_data.time_zone is not None:
        site_zone(json_data.time_zone)
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        rig.time_zone = json_data.time_zone
        library.set_setting(session, RECOUNT, {"due": True})
        name = rig.name
    again = recount_nights(library)
    library.touched()
    return s.Done(message=f"{name}: {again:,} frames changed their night.")


@api.get("/lights/<int:set_id>/slip")
@api.output(s.SlipOut)
def get_slip(set_id: int) -> s.SlipOut:
    """The pull slip of a set of lights."""
    return _slip(set_id)


@api.get("/lights/<int:set_id>/slip.csv")
@api.doc(hide=True)
def slip_csv(set_id: int) -> Response:
    """The slip as CSV."""
    return csv_response(nights.slip_csv_rows(_slip(set_id)), f"slip-{set_id}")


@api.get("/lights/<int:set_id>/slip.json")
@api.doc(hide=True)
def slip_json(set_id: int) -> Response:
    """The slip as JSON."""
    response = jsonify(_slip(set_id).model_dump(mode="json"))
    as_file(response, f"slip-{set_id}.json")
    return response


# -- tonight ----------------------------------------------------------------------------------------------------


@api.get("/rigs/<int:rig_id>/tonight")
@api.input(s.TonightQuery, location="query")
@api.output(s.TonightOut)
def get_tonight(rig_id: int, query_data: s.TonightQuery) -> s.TonightOut:
    """The run sheet, its cost, and whether the rig is ready."""
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, rig_id))
    return tonight.tonight_page(context.library, rig_id, _tonight(rig_id, query_data), devices)


@api.post("/runs")
@api.input(s.StartIn)
@api.output(s.StartedOut)
def start_run(json_data: s.StartIn) -> s.StartedOut:
    """Start the sheet as it was shown."""
    query = s.TonightQuery(
        frames=json_data.frames, leave_out=",".join(json_data.leave_out), add=",".join(json_data.add)
    )
    sheet = _tonight(json_data.rig_id, query)
    stopping = [r for r in sheet.ready if r.stops]
    if stopping:
        raise Conflict(
            f"The run cannot start: {stopping[0].what}, {stopping[0].text}.", "Put it right first."
        )
    return s.StartedOut(job_id=the_context().starter.start(json_data.rig_id, sheet.sheet))


@api.get("/rigs/<int:rig_id>/run")
@api.output(s.CurrentRunOut)
def current_run(rig_id: int) -> s.CurrentRunOut:
    """The run of a rig: the one going on, else the last one, until it is put away."""
    context = the_context()
    with context.library.db.session() as session:
        rig = context.library.rig(session, rig_id)
        job = session.scalar(
            select(Job).where(Job.kind == "run", Job.rig_id == rig_id).order_by(Job.id.desc()).limit(1)
        )
        wishes, bands = wishes_of(rig), nights.passbands(rig)
    if job is None or read(RunJob, job.params).put_away:
        return s.CurrentRunOut(run=None)
    devices = context.starter.devices(rig)
    return s.CurrentRunOut(run=tonight.run_page(context.library, job.id, wishes, devices, bands))


@api.post("/jobs/<int:job_id>/answer")
@api.input(s.AnswerIn)
@api.output(s.Done)
def answer(job_id: int, json_data: s.AnswerIn) -> s.Done:
    """Answer the gate that waits, of whatever work."""
    context = the_context()
    answer_gate(context.library, context.runner, job_id, json_data.step_id, json_data.answer)
    return s.Done(message="Going on.")


@api.post("/runs/<int:job_id>/put-away")
@api.output(s.Done)
def put_away(job_id: int) -> s.Done:
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
    return s.Done(message="The run is closed. Its frames and masters are on the shelf.")
