"""The routes of flats on the twilight sky: parse, call, serialise."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response, request
from pydantic import ValidationError

from grayshelf.core.errors import NotFound
from grayshelf.devices.ports import RigDevices
from grayshelf.library.place_told import keep_place
from grayshelf.library.sites import site_of
from grayshelf.web.common.schemas import Done, StartedOut
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.flats.rows import key_in
from grayshelf.web.twilight import page as view
from grayshelf.web.twilight import tables
from grayshelf.web.twilight.schemas import PlaceIn, StartTwilightIn, TwilightIn, TwilightOut
from grayshelf.work.beside_camera import set_by_rig

twilight = APIBlueprint("twilight", __name__, url_prefix="/api", tag="Twilight")


def _devices(rig_id: int) -> RigDevices | None:
    context = the_context()
    with context.library.db.session() as session:
        return context.twilight.devices(context.library.rig(session, rig_id))


@twilight.post("/rigs/<int:rig_id>/twilight")
@twilight.input(TwilightIn)
@twilight.output(TwilightOut)
def look_at_twilight(rig_id: int, json_data: TwilightIn) -> TwilightOut:
    """A dusk or dawn: when the sky suits each filter, in which order, how many flats fit; and the run that goes on."""
    context = the_context()
    devices = _devices(rig_id)
    with context.library.db.session() as session:
        beside = context.twilight.rigs.beside_camera(context.library.rig(session, rig_id))
    return view.twilight_page(context.library, rig_id, devices, json_data, set_by_rig(beside))


@twilight.put("/rigs/<int:rig_id>/place")
@twilight.input(PlaceIn)
@twilight.output(Done)
def put_place(rig_id: int, json_data: PlaceIn) -> Done:
    """Say where a rig stands: with its own site where it has one, else with the library's."""
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        keep_place(library, session, rig, json_data.latitude, json_data.longitude)
        name = site_of(library, session, rig)["name"]
    library.touched()
    return Done(message=f"The place of {name} is kept.")


@twilight.post("/rigs/<int:rig_id>/twilight/start")
@twilight.input(StartTwilightIn)
@twilight.output(StartedOut)
def start_twilight(rig_id: int, json_data: StartTwilightIn) -> StartedOut:
    """Shoot flats on the next dusk's or dawn's sky."""
    counts = {key_in(r.key): r.count for r in json_data.rows}
    job_id = the_context().twilight.start(
        rig_id, counts, dawn=json_data.at == "dawn", folder=json_data.folder
    )
    the_context().broker.publish("twilight")
    return StartedOut(job_id=job_id)


@twilight.get("/rigs/<int:rig_id>/twilight.csv")
@twilight.doc(hide=True)
def twilight_csv(rig_id: int) -> Response:
    """A layout as a table; `choice` is what the page sent to see it, as JSON."""
    try:
        asked = TwilightIn.model_validate_json(request.args.get("choice", "{}"))
    except ValidationError as error:
        raise NotFound("There is no such twilight.") from error
    return csv_response(
        *tables.plan_table(view.twilight_page(the_context().library, rig_id, _devices(rig_id), asked))
    )


@twilight.get("/rigs/<int:rig_id>/twilight/frames.csv")
@twilight.doc(hide=True)
def twilight_frames_csv(rig_id: int) -> Response:
    """Every frame of the newest twilight as a table."""
    return csv_response(*tables.shots_table(the_context().library, rig_id))
