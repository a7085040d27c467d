"""Routes of handing over."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response, jsonify

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.library.calibrating import written_here
from grayshelf.library.handing_over import Gathered, gather
from grayshelf.library.lights import light_sets
from grayshelf.web.common.schemas import StartedOut
from grayshelf.web.context import the_context
from grayshelf.web.exports import as_file, csv_response
from grayshelf.web.handing.page import hand_over_page, handed_before
from grayshelf.web.handing.schemas import HandedListOut, HandOverIn, HandOverOut, HandOverQuery
from grayshelf.work.handing_over import COLUMNS, TABLE, begin, sources_of, table_of, table_text
from grayshelf.work.zip_stream import Source, zip_stream

api = APIBlueprint("handing", __name__, url_prefix="/api", tag="Gray Shelf")
NAME = "hand-over"


def _numbers(text: str) -> list[int]:
    try:
        return list(dict.fromkeys(int(part) for part in text.split(",") if part.strip()))
    except ValueError as error:
        raise GrayShelfError("Sets of lights are named by their numbers.") from error


def _sets(asked: HandOverQuery) -> list[int]:
    """The sets of lights that are meant."""
    if asked.sets or asked.rig_id is None:
        return _numbers(asked.sets)
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, asked.rig_id)
    found = [
        one.row.id
        for one in light_sets(library, rig)
        if asked.night in (None, one.row.night) and asked.target in (None, one.facts.target or "no target")
    ]
    if not found:
        raise NotFound("No such lights of this rig are in the library.", "Look at its nights.")
    return found


def _gathered(asked: HandOverQuery) -> Gathered:
    return gather(the_context().library, _sets(asked), asked.form, lights=asked.lights, pattern=asked.pattern)


@api.get("/hand-over")
@api.input(HandOverQuery, location="query")
@api.output(HandOverOut)
def look_at_hand_over(query_data: HandOverQuery) -> HandOverOut:
    """What would be handed over for sets of lights, under which names."""
    return hand_over_page(_gathered(query_data), query_data)


@api.post("/hand-over")
@api.input(HandOverIn)
@api.output(StartedOut)
def start_hand_over(json_data: HandOverIn) -> StartedOut:
    """Hand over into a folder that is empty, or not there yet."""
    context = the_context()
    job = begin(
        context.library, context.runner, _gathered(json_data), json_data.folder, json_data.way, json_data.form
    )
    return StartedOut(job_id=job)


@api.get("/hand-over.zip")
@api.input(HandOverQuery, location="query")
def hand_over_zip(query_data: HandOverQuery) -> Response:
    """The same as a zip, written while it is sent."""
    library, gathered = the_context().library, _gathered(query_data)
    # All is looked up before the first byte: what is missing is said, and not sent half.
    sources = sources_of(library, [i.file.frame_id for i in gathered.laid.items])
    files: list[tuple[str, Source]] = [
        (
            i.path,
            written_here(library, i.file.frame_id, i.recipe, i.crop, i.scaled) or sources[i.file.frame_id],
        )
        for i in gathered.laid.items
    ]
    text = table_text(table_of(library, gathered))
    return as_file(Response(zip_stream(files, [(TABLE, text)]), mimetype="application/zip"), f"{NAME}.zip")


@api.get("/hand-over.csv")
@api.input(HandOverQuery, location="query")
def hand_over_csv(query_data: HandOverQuery) -> Response:
    """The same as a list of paths."""
    return csv_response([COLUMNS, *table_of(the_context().library, _gathered(query_data))], NAME)


@api.get("/hand-over.json")
@api.input(HandOverQuery, location="query")
def hand_over_json(query_data: HandOverQuery) -> Response:
    """The same as a list of paths, for a script."""
    gathered = _gathered(query_data)
    rows = [dict(zip(COLUMNS, row, strict=True)) for row in table_of(the_context().library, gathered)]
    return as_file(jsonify({"files": rows, "said": list(gathered.said)}), f"{NAME}.json")


@api.get("/hand-overs")
@api.input(HandOverQuery, location="query")
@api.output(HandedListOut)
def hand_overs(query_data: HandOverQuery) -> HandedListOut:
    """What was handed over of these lights before, and what of it was renewed since."""
    return HandedListOut(handed=handed_before(the_context().library, _sets(query_data)))
