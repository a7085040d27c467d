"""Routes of the log: notes and weather, lights kept or not, nights added, parted and joined, tables."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from datetime import date, datetime, time, timedelta

from apiflask import APIBlueprint
from flask import Response

from grayshelf.core.errors import Conflict, GrayShelfError
from grayshelf.core.frames.name_list import names_in
from grayshelf.core.planning.time_there_is import clock_in
from grayshelf.library.catalog import NOT_KEPT
from grayshelf.library.kept_lights import keep_frames, keep_named
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.night_log import keep_log, log_of
from grayshelf.library.parting import join_nights, part_night, take_move_back
from grayshelf.library.sites import zone_of
from grayshelf.web.common import in_words
from grayshelf.web.common.schemas import Done
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.nights.asked import night_in
from grayshelf.web.nights.log_page import frames_csv_rows, night_frames, totals_csv_rows, weather_csv_rows
from grayshelf.web.nights.schemas import AddNightIn, KeptIn, KeptTold, LogIn, MoveIn, NightFramesOut

api = APIBlueprint("log", __name__, url_prefix="/api", tag="Gray Shelf")


@api.put("/rigs/<int:rig_id>/nights/<string:night>/log")
@api.input(LogIn)
@api.output(Done)
def put_log(rig_id: int, night: str, json_data: LogIn) -> Done:
    """Keep what is noted of a night: words, weather, or both."""
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        keep_log(session, rig.id, night_in(night), json_data.notes, json_data.weather)
    return Done(message="Noted.")


@api.post("/rigs/<int:rig_id>/nights")
@api.input(AddNightIn)
@api.output(Done)
def add_night(rig_id: int, json_data: AddNightIn) -> Done:
    """Add a night that had no lights, to note something of it."""
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        if log_of(session, rig.id, json_data.night) is not None:
            raise Conflict("This night is in the log already.", "Open it.")
        keep_log(session, rig.id, json_data.night)
    return Done(message=f"The night of {in_words.short_day(json_data.night)} is in the log.")


@api.delete("/rigs/<int:rig_id>/nights/<string:night>")
@api.output(Done)
def take_night_out(rig_id: int, night: str) -> Done:
    """Take a night without lights out of the log, with what was noted of it."""
    library, day = the_context().library, night_in(night)
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        if any(s.row.night == day for s in light_sets(library, rig)):
            raise Conflict("This night has lights.", "Only one without lights is taken out.")
        log = log_of(session, rig.id, day)
        if log is not None:
            session.delete(log)
    return Done(message="The night is out of the log.")


@api.post("/rigs/<int:rig_id>/nights/<string:night>/move")
@api.input(MoveIn)
@api.output(Done)
def move_night(rig_id: int, night: str, json_data: MoveIn) -> Done:
    """Part a night in two, or join it to another. No file is touched, and it can be taken back."""
    library, day = the_context().library, night_in(night)
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        zone = zone_of(library, session, rig)
    if json_data.at is None:
        frames = join_nights(library, rig, day, json_data.into)
    else:
        wall = clock_in(json_data.at)
        # Before noon by the clock is the day after the evening that names the night.
        later = day + timedelta(days=1) if wall < time(12) else day
        frames = part_night(library, rig, day, datetime.combine(later, wall, tzinfo=zone), json_data.into)
    return _moved(frames, f"in the night of {in_words.short_day(json_data.into)} now")


@api.post("/rigs/<int:rig_id>/nights/move/take-back")
@api.output(Done)
def take_back(rig_id: int) -> Done:
    """Take the newest parting or joining back."""
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
    return _moved(take_move_back(library, rig), "in their own night again")


def _moved(frames: int, where: str) -> Done:
    the_context().broker.publish("state")
    return Done(message=f"{in_words.several(frames, 'frame')} {'is' if frames == 1 else 'are'} {where}.")


@api.get("/rigs/<int:rig_id>/nights/<string:night>/frames")
@api.output(NightFramesOut)
def get_frames(rig_id: int, night: str) -> NightFramesOut:
    """The lights of a night, one by one."""
    return night_frames(the_context().library, rig_id, night_in(night))


@api.post("/rigs/<int:rig_id>/nights/<string:night>/kept")
@api.input(KeptIn)
@api.output(KeptTold)
def say_kept(rig_id: int, night: str, json_data: KeptIn) -> KeptTold:
    """Say which lights are kept, by hand or by a list of names."""
    library, day = the_context().library, night_in(night)
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        said = f"{NOT_KEPT} {_today(rig_id)}."
        if json_data.frames is not None:
            told = keep_frames(library, session, rig, json_data.frames, kept=json_data.kept, said=said)
        else:
            names = names_in(json_data.names or "")
            if not names:
                raise GrayShelfError("No name is in the list.", "Paste names, one a line.")
            of_night = None if json_data.every_night else day
            told = keep_named(
                library,
                session,
                rig,
                of_night,
                names,
                kept=json_data.kept,
                others=json_data.others,
                said=said,
            )
    library.touched()
    the_context().broker.publish("state")
    parts = [f"{in_words.several(len(told.changed), 'light')} changed"]
    if told.not_found:
        parts.append(f"{in_words.several(len(told.not_found), 'name')} not among the lights")
    if told.in_rejects:
        parts.append(f"{told.in_rejects} lie in a folder of rejects, which counts")
    return KeptTold(
        message=f"{', '.join(parts)}.", changed=list(told.changed), not_found=list(told.not_found[:200])
    )


def _today(rig_id: int) -> str:
    library = the_context().library
    with library.db.session() as session:
        zone = zone_of(library, session, library.rig(session, rig_id))
    today: date = library.clock.now().astimezone(zone).date()
    return in_words.day(today)


@api.get("/rigs/<int:rig_id>/log/<string:table>.csv")
@api.doc(hide=True)
def log_csv(rig_id: int, table: str) -> Response:
    """The log as a table: nights, frames, or weather."""
    tables: dict[str, Callable[[Library, int], Iterable[Sequence[object]]]]
    tables = {"nights": totals_csv_rows, "frames": frames_csv_rows, "weather": weather_csv_rows}
    if table not in tables:
        raise GrayShelfError(f"There is no table ‘{table}’ of the log.")
    return csv_response(tables[table](the_context().library, rig_id), f"log-{table}")
