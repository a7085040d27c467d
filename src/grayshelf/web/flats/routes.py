"""The routes of the sheet of flat settings: parse, call, serialise."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response, request

from grayshelf.core.errors import NotFound
from grayshelf.core.flats.settings import RowKey, wishes_from
from grayshelf.core.frames.night import event_moment
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_settings import take_back_setting
from grayshelf.library.flat_sheet import add_row, change_rows, copy_wishes, leave_out, source_of
from grayshelf.library.library import Library
from grayshelf.library.models import RigEvent
from grayshelf.library.panel_curves import take_curve_back
from grayshelf.web.common.schemas import Done, StartedOut
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.flats import chart, panel
from grayshelf.web.flats.rows import key_in
from grayshelf.web.flats.schemas import (
    AgainIn,
    ChangeRowsIn,
    CopyRowIn,
    EventIn,
    FindIn,
    FlatChartOut,
    FlatKeyIn,
    FlatSheetOut,
    RowKeysIn,
)
from grayshelf.web.flats.sheet import sheet_page
from grayshelf.work.beside_camera import set_by_rig
from grayshelf.work.flats.conditions import panel_range

flats = APIBlueprint("flats", __name__, url_prefix="/api", tag="Flats")


def _library() -> Library:
    return the_context().library


def _devices(rig_id: int) -> RigDevices | None:
    context = the_context()
    with context.library.db.session() as session:
        return context.flats.devices(context.library.rig(session, rig_id))


def _changed(said: str) -> Done:
    the_context().broker.publish("flats")
    return Done(message=said)


@flats.get("/rigs/<int:rig_id>/flats")
@flats.output(FlatSheetOut)
def flat_sheet(rig_id: int) -> FlatSheetOut:
    """The sheet of a rig's flat settings, with the search that goes on."""
    context = the_context()
    with context.library.db.session() as session:
        beside = context.starter.rigs.beside_camera(context.library.rig(session, rig_id))
    return sheet_page(context.library, rig_id, _devices(rig_id), set_by_rig(beside))


@flats.get("/rigs/<int:rig_id>/flats.csv")
@flats.doc(hide=True)
def flat_sheet_csv(rig_id: int) -> Response:
    """The sheet as a table."""
    return csv_response(*chart.as_table(_library(), rig_id))


@flats.get("/rigs/<int:rig_id>/flats/panel.csv")
@flats.doc(hide=True)
def panel_csv(rig_id: int) -> Response:
    """What was measured of the rig's light."""
    library, devices = _library(), _devices(rig_id)
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        source = source_of(session, rig, wishes_from(rig.wishes), panel_range(devices))
        return csv_response(*panel.as_table(session, rig, source))


@flats.post("/rigs/<int:rig_id>/flats/chart")
@flats.input(FlatKeyIn)
@flats.output(FlatChartOut)
def flat_chart(rig_id: int, json_data: FlatKeyIn) -> FlatChartOut:
    """The newest search of one row."""
    return chart.chart_page(_library(), rig_id, _devices(rig_id), key_in(json_data))


@flats.get("/rigs/<int:rig_id>/flats/shots.csv")
@flats.doc(hide=True)
def flat_shots_csv(rig_id: int) -> Response:
    """The test shots of one row's newest search."""
    q = request.args
    try:
        key = RowKey(q["filter_code"], float(q["gain"]), float(q["offset"]), int(q["binning"]))
    except (KeyError, ValueError) as error:
        raise NotFound("There is no such row.") from error
    return csv_response(*chart.shots_table(_library(), rig_id, key))


@flats.post("/rigs/<int:rig_id>/flats/rows")
@flats.input(ChangeRowsIn)
@flats.output(Done)
def change_flat_rows(rig_id: int, json_data: ChangeRowsIn) -> Done:
    """Give rows wishes of their own."""
    with _library().db.session() as session:
        rig = _library().rig(session, rig_id)
        changes = json_data.changes.model_dump(exclude_unset=True)
        change_rows(_library(), session, rig, [key_in(k) for k in json_data.keys], changes)
    return _changed("Kept.")


@flats.post("/rigs/<int:rig_id>/flats/copy")
@flats.input(CopyRowIn)
@flats.output(Done)
def copy_flat_row(rig_id: int, json_data: CopyRowIn) -> Done:
    """Give rows the wishes of another row."""
    with _library().db.session() as session:
        rig = _library().rig(session, rig_id)
        copy_wishes(session, rig, key_in(json_data.source), [key_in(k) for k in json_data.keys])
    return _changed("Copied.")


@flats.post("/rigs/<int:rig_id>/flats/add")
@flats.input(FlatKeyIn)
@flats.output(Done)
def add_flat_row(rig_id: int, json_data: FlatKeyIn) -> Done:
    """Put a row on the sheet."""
    with _library().db.session() as session:
        add_row(_library(), session, _library().rig(session, rig_id), key_in(json_data))
    return _changed("It is on the sheet.")


@flats.post("/rigs/<int:rig_id>/flats/leave-out")
@flats.input(RowKeysIn)
@flats.output(Done)
def leave_flat_rows_out(rig_id: int, json_data: RowKeysIn) -> Done:
    """Take rows off the sheet; what was found for them is kept."""
    with _library().db.session() as session:
        leave_out(session, _library().rig(session, rig_id), [key_in(k) for k in json_data.keys])
    return _changed("Off the sheet; what was found is kept.")


@flats.post("/rigs/<int:rig_id>/flats/find")
@flats.input(FindIn)
@flats.output(StartedOut)
def find_flats(rig_id: int, json_data: FindIn) -> StartedOut:
    """Start a search, or measure how the panel follows its brightness."""
    job_id = the_context().flats.start(
        rig_id,
        [key_in(k) for k in json_data.keys],
        mode=json_data.mode,
        exposure_s=json_data.exposure_s,
        shared=json_data.shared,
        response=json_data.response,
        folder=json_data.folder,
    )
    _changed("")
    return StartedOut(job_id=job_id)


@flats.post("/rigs/<int:rig_id>/flats/again")
@flats.input(AgainIn)
@flats.output(StartedOut)
def find_flat_again(rig_id: int, json_data: AgainIn) -> StartedOut:
    """Look for one row again, with other wishes where some are given."""
    key = key_in(json_data.key)
    if json_data.changes is not None:
        with _library().db.session() as session:
            changes = json_data.changes.model_dump(exclude_none=True)
            change_rows(_library(), session, _library().rig(session, rig_id), [key], changes)
    asks_for_more = json_data.changes is not None and json_data.changes.mode is not None
    job_id = the_context().flats.again(rig_id, key, as_wished=asks_for_more)
    _changed("")
    return StartedOut(job_id=job_id)


@flats.post("/rigs/<int:rig_id>/flats/skip")
@flats.input(FlatKeyIn)
@flats.output(Done)
def skip_flat_row(rig_id: int, json_data: FlatKeyIn) -> Done:
    """Leave a row out whose test flats are waited for in a folder."""
    the_context().flats.leave_out(rig_id, key_in(json_data))
    return _changed("Left out; the others go on.")


@flats.post("/rigs/<int:rig_id>/flats/settings/<int:setting_id>/<string:what>")
@flats.output(Done)
def flat_setting(rig_id: int, setting_id: int, what: str) -> Done:
    """Let a found setting count no more ('take-back'), or again ('use')."""
    if what not in ("take-back", "use"):
        raise NotFound("There is no such action.")
    with _library().db.session() as session:
        take_back_setting(session, rig_id, setting_id, what == "take-back")
    return _changed("Taken back." if what == "take-back" else "It counts again.")


@flats.post("/rigs/<int:rig_id>/flats/curves/<int:curve_id>/<string:what>")
@flats.output(Done)
def panel_curve(rig_id: int, curve_id: int, what: str) -> Done:
    """Let a measurement of the rig's light count no more ('take-back'), or again ('use')."""
    if what not in ("take-back", "use"):
        raise NotFound("There is no such action.")
    with _library().db.session() as session:
        take_curve_back(session, _library().rig(session, rig_id), curve_id, what == "take-back")
    return _changed("Taken back." if what == "take-back" else "It counts again.")


@flats.post("/rigs/<int:rig_id>/events")
@flats.input(EventIn)
@flats.output(Done)
def enter_event(rig_id: int, json_data: EventIn) -> Done:
    """Enter what was done to the train, the panel or the driver; what it makes stale says so."""
    library = _library()
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        at = event_moment(json_data.on, library.clock.now(), library.zone(session))
        rig.entered_events.append(RigEvent(at=at, what=json_data.what.strip(), kind=json_data.kind.value))
    _rules_changed(library)
    return _changed("Entered. Settings and flats from before it say so.")


@flats.post("/rigs/<int:rig_id>/events/<int:event_id>/<string:what>")
@flats.output(Done)
def event_taken_back(rig_id: int, event_id: int, what: str) -> Done:
    """Let an event that was entered by mistake count no more ('take-back'), or again ('use')."""
    if what not in ("take-back", "use"):
        raise NotFound("There is no such action.")
    library = _library()
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        event = next((e for e in rig.entered_events if e.id == event_id), None)
        if event is None:
            raise NotFound("This event is not entered.")
        event.taken_back = what == "take-back"
    _rules_changed(library)
    return _changed("Taken back." if what == "take-back" else "It counts again.")


def _rules_changed(library: Library) -> None:
    library.touched()
    the_context().broker.publish("state")
