"""Routes of File."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response

from grayshelf.library.filing import keep_from_now_on
from grayshelf.web.common.schemas import Done, StartedOut
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.filing.page import (
    choice_in_words,
    filing_page,
    journal_csv_rows,
    preview_filing,
    wishes_of,
)
from grayshelf.web.filing.schemas import FilingIn, FilingOut, FilingPreviewOut, FromNowOnIn
from grayshelf.web.mending.page import frames_meant
from grayshelf.work.filing import start_filing, start_taking_back

api = APIBlueprint("filing", __name__, url_prefix="/api", tag="Gray Shelf")


@api.get("/filing")
@api.output(FilingOut)
def get_filing() -> FilingOut:
    """How frames are filed, and what was filed."""
    return filing_page(the_context().library)


@api.post("/filing/preview")
@api.input(FilingIn)
@api.output(FilingPreviewOut)
def look_at_filing(json_data: FilingIn) -> FilingPreviewOut:
    """What would go where; nothing is changed."""
    return preview_filing(the_context().library, json_data)


@api.post("/filing")
@api.input(FilingIn)
@api.output(StartedOut)
def file_frames(json_data: FilingIn) -> StartedOut:
    """File these frames."""
    context = the_context()
    choice = frames_meant(json_data.choice)
    job_id = start_filing(
        context.library,
        context.runner,
        choice,
        wishes_of(context.library, json_data),
        choice_in_words(context.library, choice),
    )
    return StartedOut(job_id=job_id)


@api.put("/filing/from-now-on")
@api.input(FromNowOnIn)
@api.output(Done)
def file_from_now_on(json_data: FromNowOnIn) -> Done:
    """Say from which folders what comes in is filed by itself."""
    return Done(message=keep_from_now_on(the_context().library, json_data.folder_ids))


@api.post("/filing/<int:filing_id>/take-back")
@api.output(StartedOut)
def take_filing_back(filing_id: int) -> StartedOut:
    """Bring all files of a filing back to where they were."""
    context = the_context()
    return StartedOut(job_id=start_taking_back(context.library, context.runner, filing_id))


@api.get("/filing/<int:filing_id>.csv")
@api.doc(hide=True)
def journal_csv(filing_id: int) -> Response:
    """Every file of a filing, as CSV."""
    return csv_response(journal_csv_rows(the_context().library, filing_id), f"filed-{filing_id}")
