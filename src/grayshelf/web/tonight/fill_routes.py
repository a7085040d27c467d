"""Routes of filling the shelf."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.ladder import MOST_RUNGS, ladder_of
from grayshelf.web.common.schemas import StartedOut
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.tonight.asked import refuse_if_not_ready
from grayshelf.web.tonight.fill_page import fill_page
from grayshelf.web.tonight.fill_schemas import FillIn, FillOut, FillQuery, LadderIn, LadderOut
from grayshelf.work.run.fill_keys import SetUp, key_of, step_of
from grayshelf.work.run.filling import Fill, FillChoice, look_at_fill
from grayshelf.work.run.starter import ByHand

api = APIBlueprint("fill", __name__, url_prefix="/api", tag="Gray Shelf")


def _look(rig_id: int, asked: FillQuery) -> Fill:
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, rig_id))
    counts = {}
    for one in _listed(asked.counts):
        key, _, number = one.rpartition("=")
        if not number.isdigit() or not 1 <= int(number) <= 1000:
            raise GrayShelfError("A series has 1 to 1,000 frames.", "Give it a whole number.")
        counts[key] = int(number)
    choice = FillChoice(
        asked.until or None,
        asked.hours,
        asked.battery_wh,
        asked.watts,
        asked.air_c,
        frozenset(_listed(asked.put_on)),
        frozenset(_listed(asked.left_out)),
        counts,
    )
    return look_at_fill(context.library, rig_id, devices, choice)


def _listed(text: str) -> list[str]:
    return [part for part in text.split(",") if part]


@api.get("/rigs/<int:rig_id>/fill")
@api.input(FillQuery, location="query")
@api.output(FillOut)
def get_fill(rig_id: int, query_data: FillQuery) -> FillOut:
    """Which darks and bias help most in the time there is."""
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, rig_id))
    return fill_page(context.library, rig_id, _look(rig_id, query_data), devices)


@api.post("/rigs/<int:rig_id>/fill")
@api.input(FillIn)
@api.output(StartedOut)
def start_fill(rig_id: int, json_data: FillIn) -> StartedOut:
    """Start it as it was shown; to be over by the time that was given."""
    fill, starter = _look(rig_id, json_data), the_context().starter
    if json_data.by_hand:
        folder = json_data.folder.strip() or None if json_data.folder else None
        return StartedOut(job_id=starter.start(rig_id, fill.sheet, ByHand(folder), fill.there_is.end))
    refuse_if_not_ready(fill.ready)
    return StartedOut(
        job_id=starter.start(rig_id, fill.sheet, until=fill.there_is.end, sensor_then=json_data.sensor_then)
    )


@api.post("/rigs/<int:rig_id>/fill/ladder")
@api.input(LadderIn)
@api.output(LadderOut)
def lay_ladder(rig_id: int, json_data: LadderIn) -> LadderOut:
    """What a ladder of exposures at some set points puts on the sheet."""
    exposures, temps = ladder_of(json_data.exposures), _temps(json_data.temps)
    base = step_of(f"dark:1s:{json_data.set_up}") if json_data.set_up else None
    if json_data.set_up and base is None:
        raise GrayShelfError("A ladder is laid at a gain and an offset.", "Type both.")
    set_up = base.set_up if base else SetUp(json_data.gain, json_data.offset, json_data.binning)
    if len(exposures) * len(temps) > MOST_RUNGS:
        raise GrayShelfError(
            f"{len(exposures)} exposures at {len(temps)} set points are {len(exposures) * len(temps)} darks: "
            f"{MOST_RUNGS} at most are laid at once.",
            "Lay fewer of either.",
        )
    keys = [key_of(FrameKind.DARK, set_up, s, temp) for temp in temps for s in exposures]
    return LadderOut(keys=keys)


def _temps(text: str) -> list[float] | list[None]:
    if not text.strip():
        return [None]
    words = (
        text.replace("°C", " ")
        .replace("−", "-")
        .replace("–", "-")
        .replace(";", " ")
        .replace(",", " ")
        .split()
    )
    try:
        temps = sorted({float(word) for word in words}, reverse=True)
    except ValueError as error:
        raise GrayShelfError(f"‘{text}’ are no set points.", "Write them like ‘−10, −5’.") from error
    if not temps or any(not -80.0 <= t <= 50.0 for t in temps):
        raise GrayShelfError("Set points lie between −80 and 50 °C.", "Give one or more, like ‘−10, −5’.")
    return temps


@api.get("/rigs/<int:rig_id>/fill.csv")
@api.input(FillQuery, location="query")
@api.doc(hide=True)
def fill_csv(rig_id: int, query_data: FillQuery) -> Response:
    """What is on the sheet, and what is not, as a table."""
    rows: list[list[object]] = [
        [
            "kind",
            "exposure_s",
            "set_point_c",
            "gain",
            "offset",
            "binning",
            "frames",
            "seconds",
            "lights",
            "why",
        ]
    ]
    for line in _look(rig_id, query_data).lines:
        s = line.offer.series
        seconds = round(line.offer.fillable.seconds(line.frames), 1) if line.frames else 0
        place = [s.kind.value, s.exposure_s, s.set_temp_c, s.gain, s.offset, s.binning]
        rows.append([*place, line.frames, seconds, line.offer.lights, line.offer.why])
    return csv_response(rows, "fill")
