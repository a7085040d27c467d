"""Routes of Room."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response

from grayshelf.web.common.schemas import StartedOut
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.room.page import preview_letting_go, room_csv_rows, room_page, sets_in_words
from grayshelf.web.room.schemas import LetGoIn, LetGoPreviewOut, RoomOut
from grayshelf.work.letting_go import start_deleting, start_letting_go

api = APIBlueprint("room", __name__, url_prefix="/api", tag="Gray Shelf")


@api.get("/room")
@api.output(RoomOut)
def get_room() -> RoomOut:
    """What takes how much room, and which raw frames may go."""
    return room_page(the_context().library)


@api.get("/room.csv")
@api.doc(hide=True)
def room_csv() -> Response:
    """Room by kind and night, as CSV."""
    return csv_response(room_csv_rows(the_context().library), "room")


@api.post("/room/preview")
@api.input(LetGoIn)
@api.output(LetGoPreviewOut)
def look_at_letting_go(json_data: LetGoIn) -> LetGoPreviewOut:
    """What would become of these raw frames, and what is lost by it; nothing is changed."""
    return preview_letting_go(the_context().library, json_data)


@api.post("/room/let-go")
@api.input(LetGoIn)
@api.output(StartedOut)
def let_raw_frames_go(json_data: LetGoIn) -> StartedOut:
    """Pack these raw frames, move them to another disk, or throw them away."""
    context = the_context()
    words = sets_in_words(context.library, json_data.set_ids)
    return StartedOut(
        job_id=start_letting_go(
            context.library, context.runner, set(json_data.set_ids), json_data.way, json_data.root, words
        )
    )


@api.post("/room/<int:filing_id>/delete")
@api.output(StartedOut)
def delete_thrown_away(filing_id: int) -> StartedOut:
    """Delete for good what was thrown away."""
    context = the_context()
    return StartedOut(job_id=start_deleting(context.library, context.runner, filing_id))
