"""Routes of Intake."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response
from sqlalchemy import select

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.frames.night import site_zone
from grayshelf.library.folder_list import name_folder
from grayshelf.library.folders import may_name_folders
from grayshelf.library.grouping import RECOUNT, recount_nights
from grayshelf.library.models import Folder, Job
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import BuildJob, ScanJob
from grayshelf.web.common import in_words
from grayshelf.web.common.jobs import job_out
from grayshelf.web.common.schemas import Done, JobOut, StartedOut
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.intake import folders
from grayshelf.web.intake import page as intake
from grayshelf.web.intake import problems as problems_view
from grayshelf.web.intake import sets as sets_view
from grayshelf.web.intake.schemas import (
    BackupIn,
    BuildIn,
    FolderIn,
    IntakeOut,
    NamesIn,
    PageQuery,
    ProblemsOut,
    SetsOut,
    SiteIn,
    WatchedIn,
)
from grayshelf.work.backups import BACKUP
from grayshelf.work.folder_watch import watch
from grayshelf.work.jobs import ALIVE
from grayshelf.work.verify import begin_verifying

api = APIBlueprint("intake", __name__, url_prefix="/api", tag="Gray Shelf")


@api.get("/intake")
@api.output(IntakeOut)
def get_intake() -> IntakeOut:
    """Folders and the site."""
    return intake.intake_page(the_context().library)


def start_scan(folder_id: int) -> JobOut:
    """Start to scan a folder; it is refused while that goes on."""
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
@api.input(FolderIn)
@api.output(JobOut)
def add_folder(json_data: FolderIn) -> JobOut:
    """Name a folder on this machine and scan it in place."""
    return start_scan(name_folder(the_context().library, json_data.path))


@api.post("/folders/<int:folder_id>/scan")
@api.output(JobOut)
def scan_again(folder_id: int) -> JobOut:
    """Scan a folder again: only what is new or changed is read."""
    return start_scan(folder_id)


@api.post("/folders/<int:folder_id>/let-go")
@api.output(Done)
def let_missing_go(folder_id: int) -> Done:
    """Let go of the frames of a folder whose files are missing."""
    count = folders.let_go(the_context().library, folder_id)
    return Done(
        message=f"{in_words.several(count, 'frame')} let go. Where their files come back, they are entered anew."
    )


@api.put("/folders/<int:folder_id>/watched")
@api.input(WatchedIn)
@api.output(Done)
def watch_folder(folder_id: int, json_data: WatchedIn) -> Done:
    """Watch a folder, or do so no more."""
    return Done(message=watch(the_context().library, folder_id, json_data.watched))


@api.delete("/folders/<int:folder_id>")
@api.output(Done)
def forget_folder(folder_id: int) -> Done:
    """Take a folder off the list; its files are not touched."""
    path = folders.forget_folder(the_context().library, folder_id)
    return Done(
        message=f"{path} is off the list. Its files are as they were; name it again to bring it back."
    )


@api.post("/verify")
@api.output(StartedOut)
def verify_library() -> StartedOut:
    """Read every file against what it was when it came in."""
    context = the_context()
    return StartedOut(job_id=begin_verifying(context.library, context.runner))


@api.post("/backup")
@api.input(BackupIn)
@api.output(StartedOut)
def back_up_database(json_data: BackupIn) -> StartedOut:
    """Copy the database."""
    runner = the_context().runner
    if json_data.to:
        may_name_folders()
    params = {"to": json_data.to} if json_data.to else {}
    return StartedOut(job_id=runner.start(BACKUP, "Copying the database", params))


@api.put("/site")
@api.input(SiteIn)
@api.output(Done)
def set_site(json_data: SiteIn) -> Done:
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
    return Done(
        message=f"Nights are counted at {json_data.time_zone}; {in_words.several(again, 'frame')} changed {in_words.named(again, 'its', 'theirs')}."
    )


@api.get("/problems")
@api.input(PageQuery, location="query")
@api.output(ProblemsOut)
def problems(query_data: PageQuery) -> ProblemsOut:
    """Files that could not be read, or lack a value that matters."""
    return problems_view.problems_page(the_context().library, query_data.page, query_data.state)


@api.post("/frames/<int:frame_id>/put-back")
@api.output(Done)
def put_frame_back(frame_id: int) -> Done:
    """Let a frame that was set aside count again."""
    return Done(message=problems_view.put_back(the_context().library, frame_id))


@api.get("/problems.csv")
@api.doc(hide=True)
def problems_csv() -> Response:
    """All of them as CSV."""
    return csv_response(problems_view.problem_csv_rows(the_context().library), "files-to-look-at")


@api.get("/sets")
@api.input(PageQuery, location="query")
@api.output(SetsOut)
def sets(query_data: PageQuery) -> SetsOut:
    """The sets that frames fell into."""
    return sets_view.sets_page(the_context().library, query_data.page, query_data.kind)


@api.put("/sets/<int:set_id>/names")
@api.input(NamesIn)
@api.output(Done)
def say_of_names(set_id: int, json_data: NamesIn) -> Done:
    """Say whether what the files' names say of a set is right."""
    return Done(message=sets_view.say_of_names(the_context().library, set_id, json_data.right))


@api.get("/sets.csv")
@api.doc(hide=True)
def sets_csv() -> Response:
    """All sets as CSV."""
    library = the_context().library
    rows: list[list[object]] = [["set", "kind", "what", "camera", "night", "frames", "state", "come since"]]
    page = 1
    while True:
        part = sets_view.sets_page(library, page, "")
        rows += [
            [x.id, x.kind, x.title, x.camera, x.night, x.n_frames, x.state, x.come_since] for x in part.items
        ]
        if page >= part.pages:
            return csv_response(rows, "sets")
        page += 1


@api.post("/builds")
@api.input(BuildIn)
@api.output(JobOut)
def build(json_data: BuildIn) -> JobOut:
    """Combine sets into masters."""
    context = the_context()
    ids = sets_view.sets_to_build(context.library, json_data.set_ids)
    # Of those that were named, what has a master has more frames by now.
    kept = as_kept(BuildJob(tuple(ids), again=json_data.set_ids is not None))
    job_id = context.runner.start("build", f"Building {in_words.several(len(ids), 'master')}", kept)
    with context.library.db.session() as session:
        return job_out(session.get_one(Job, job_id), context.library)
