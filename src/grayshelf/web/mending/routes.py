"""Routes of Mend."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response

from grayshelf.web.common.schemas import StartedOut
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.mending.page import frames_meant, mend_page, preview_page, said_csv_rows, said_of
from grayshelf.web.mending.schemas import MendIn, MendOut, MendPreviewOut, SaidCopiesIn
from grayshelf.work.mending import begin_mending, take_back
from grayshelf.work.said_copies import start_said_copies

api = APIBlueprint("mending", __name__, url_prefix="/api", tag="Gray Shelf")


@api.get("/mend")
@api.output(MendOut)
def get_mend() -> MendOut:
    """What headers lack, and what was said before."""
    return mend_page(the_context().library)


@api.post("/mend/preview")
@api.input(MendIn)
@api.output(MendPreviewOut)
def look_at_mending(json_data: MendIn) -> MendPreviewOut:
    """What saying this of these frames would change."""
    return preview_page(the_context().library, json_data)


@api.post("/mend")
@api.input(MendIn)
@api.output(StartedOut)
def say(json_data: MendIn) -> StartedOut:
    """Say it of these frames; no file is touched."""
    context = the_context()
    told, words = said_of(context.library, json_data)
    job_id = begin_mending(
        context.library, context.runner, frames_meant(json_data.choice), told, json_data.kept, words
    )
    return StartedOut(job_id=job_id)


@api.post("/mend/<int:mending_id>/take-back")
@api.output(StartedOut)
def take_what_was_said_back(mending_id: int) -> StartedOut:
    """Take back what was said: the frames are told as they were."""
    context = the_context()
    return StartedOut(job_id=take_back(context.library, context.runner, mending_id))


@api.post("/mend/<int:mending_id>/copies")
@api.input(SaidCopiesIn)
@api.output(StartedOut)
def write_into_copies(mending_id: int, json_data: SaidCopiesIn) -> StartedOut:
    """Write what was said into the headers of copies, in a folder of its own."""
    context = the_context()
    job_id = start_said_copies(context.library, context.runner, mending_id, json_data.folder)
    return StartedOut(job_id=job_id)


@api.get("/mend/said.csv")
@api.doc(hide=True)
def said_csv() -> Response:
    """All that was said, as CSV."""
    return csv_response(said_csv_rows(the_context().library), "said-by-hand")
