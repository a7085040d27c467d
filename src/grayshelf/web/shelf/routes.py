"""Routes of the Shelf."""

from __future__ import annotations

import numpy as np
from apiflask import APIBlueprint
from flask import Response

from grayshelf.core.errors import NotFound
from grayshelf.library.models import Frame, FrameSet, Job, RunShot
from grayshelf.library.pictures import picture_of
from grayshelf.web.common import in_words
from grayshelf.web.common.jobs import job_out
from grayshelf.web.common.schemas import Done, JobOut
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.shelf.card import card_page
from grayshelf.web.shelf.defects import defect_map, defects_of_card
from grayshelf.web.shelf.dust import dust_page
from grayshelf.web.shelf.newer import begin_to_hold
from grayshelf.web.shelf.remaking import build_again, say_of_frame
from grayshelf.web.shelf.schemas import (
    CardOut,
    CombineIn,
    DustOut,
    FrameUseIn,
    HoldIn,
    PictureQuery,
    ShelfOut,
)
from grayshelf.web.shelf.walls import shelf_page
from grayshelf.web.tonight.asked import tonight_as_asked
from grayshelf.web.tonight.schemas import TonightQuery
from grayshelf.work.still_good import forget_held

api = APIBlueprint("shelf", __name__, url_prefix="/api", tag="Gray Shelf")


@api.get("/rigs/<int:rig_id>/shelf")
@api.input(TonightQuery, location="query")
@api.output(ShelfOut)
def get_shelf(rig_id: int, query_data: TonightQuery) -> ShelfOut:
    """The shelf of a rig."""
    return shelf_page(the_context().library, rig_id, tonight_as_asked(rig_id, query_data))


@api.get("/rigs/<int:rig_id>/shelf.csv")
@api.doc(hide=True)
def shelf_csv(rig_id: int) -> Response:
    """The shelf as a table."""
    page = shelf_page(the_context().library, rig_id, tonight_as_asked(rig_id))
    rows: list[list[object]] = [["set", "kind", "what", "gain", "frames", "date", "age", "care", "master"]]
    rows += [
        [x.id, x.kind, x.title, x.gain, x.frames, x.date, x.age, "; ".join(x.care), x.is_master]
        for x in (*page.darks.spines, *page.flats.spines, *page.bias)
    ]
    rows += [
        [
            "",
            g.kind,
            g.title,
            g.gain,
            0,
            "",
            "",
            in_words.several(g.lights, "light waits", "lights wait"),
            False,
        ]
        for g in page.gaps
    ]
    return csv_response(rows, "shelf")


@api.get("/holdings/<int:set_id>")
@api.output(CardOut)
def holding(set_id: int) -> CardOut:
    """The card of a master or set."""
    return card_page(the_context().library, set_id)


@api.get("/holdings/<int:set_id>/inputs.csv")
@api.doc(hide=True)
def inputs_csv(set_id: int) -> Response:
    """The frames of a master, as CSV."""
    card = card_page(the_context().library, set_id)
    rows: list[list[object]] = [
        [
            "frame",
            "level_adu",
            "mean_adu",
            "noise_adu",
            "sensor_c",
            "used",
            "clipped_percent",
            "reason",
            "sha256",
        ]
    ]
    rows += [
        [i.name, i.level, i.mean, i.noise, i.temp, i.used, round(i.clipped_percent, 4), i.reason, i.sha256]
        for i in card.inputs
    ]
    return csv_response(rows, f"frames-of-{set_id}")


@api.post("/holdings/<int:set_id>/shelve/<string:where>")
@api.output(Done)
def shelve(set_id: int, where: str) -> Done:
    """Take a master off the shelf (its file stays), or put it back."""
    library = the_context().library
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.kind == "light" or where not in ("off", "back"):
            raise NotFound("This is not on the shelf.")
        row.taken_off = where == "off"
    library.touched()
    return Done(
        message="It is off the shelf; its file stays." if where == "off" else "It is back on the shelf."
    )


@api.get("/holdings/<int:set_id>/defects.csv")
@api.doc(hide=True)
def defects_csv(set_id: int) -> Response:
    """The hot and cold pixels of a master, the worst first."""
    defects, _ = defects_of_card(the_context().library, set_id)
    order = np.argsort(-np.abs(defects.value))
    rows: list[list[object]] = [["column", "row", "kind", "value"]]
    rows += [
        [
            int(defects.column[i]),
            int(defects.row[i]),
            "hot" if defects.hot[i] else "cold",
            round(float(defects.value[i]), 3),
        ]
        for i in order
    ]
    return csv_response(rows, f"defects-of-{set_id}")


@api.get("/holdings/<int:set_id>/defects.fits")
@api.doc(hide=True)
def defects_fits(set_id: int) -> Response:
    """A map of the hot and cold pixels of a master, as FITS: 1 where hot, 2 where cold."""
    defects, shape = defects_of_card(the_context().library, set_id)
    response = Response(defect_map(defects, shape), mimetype="application/fits")
    response.headers["Content-Disposition"] = f'attachment; filename="defects-of-{set_id}.fits"'
    return response


@api.put("/holdings/<int:set_id>/held")
@api.input(HoldIn)
@api.output(JobOut)
def hold(set_id: int, json_data: HoldIn) -> JobOut:
    """Hold a master against something newer of its settings; how it did is kept."""
    context = the_context()
    job_id = begin_to_hold(context.library, context.runner, set_id, json_data.frame_id)
    with context.library.db.session() as session:
        return job_out(session.get_one(Job, job_id), context.library)


@api.delete("/holdings/<int:set_id>/held")
@api.output(Done, 200)
def forget_hold(set_id: int) -> Done:
    """Take back how it did: its age counts by the calendar again."""
    context = the_context()
    forget_held(context.library, set_id)
    context.broker.publish("state")
    return Done(message="Taken back; its age counts by the calendar again.")


@api.get("/holdings/<int:set_id>/dust")
@api.output(DustOut)
def dust(set_id: int) -> DustOut:
    """The dust on a master flat, and how its light falls."""
    return dust_page(the_context().library, set_id)


@api.get("/holdings/<int:set_id>/dust.csv")
@api.doc(hide=True)
def dust_csv(set_id: int) -> Response:
    """The shadows of dust on a master flat, as CSV."""
    rows: list[list[object]] = [
        ["number", "column", "row", "diameter_px", "depth_percent", "distance", "surface", "why", "since"]
    ]
    rows += [
        [
            s.number,
            round(s.x, 1),
            round(s.y, 1),
            round(s.diameter, 1),
            round(s.depth_percent, 2),
            s.distance_text,
            s.surface,
            s.why,
            s.since,
        ]
        for s in dust_page(the_context().library, set_id).shadows
    ]
    return csv_response(rows, f"dust-of-{set_id}")


@api.put("/holdings/<int:set_id>/frames/<int:frame_id>")
@api.input(FrameUseIn)
@api.output(Done)
def use_frame(set_id: int, frame_id: int, json_data: FrameUseIn) -> Done:
    """Put a frame into the next master of its set, or take it out."""
    return Done(message=say_of_frame(the_context().library, set_id, frame_id, json_data.use))


@api.post("/holdings/<int:set_id>/again")
@api.input(CombineIn)
@api.output(JobOut)
def combine_again(set_id: int, json_data: CombineIn) -> JobOut:
    """Combine a set anew; the former master comes off the shelf when the new one is there."""
    context = the_context()
    job_id = build_again(context.library, context.runner, set_id, json_data)
    with context.library.db.session() as session:
        return job_out(session.get_one(Job, job_id), context.library)


def _picture(path_of: Frame | str, size: int) -> Response:
    library = the_context().library
    with library.db.session() as session:
        if isinstance(path_of, Frame):
            path = library.frame_path(session, session.merge(path_of))
        else:
            path = library.permitted(session).permit(library.root / path_of)
    picture = picture_of(path, library.root / "scratch", size)
    response = Response(picture.png, mimetype="image/png", headers={"Cache-Control": "private, max-age=3600"})
    response.headers["X-Black"], response.headers["X-White"] = f"{picture.black:.6g}", f"{picture.white:.6g}"
    return response


@api.get("/frames/<int:frame_id>/picture.png")
@api.input(PictureQuery, location="query")
@api.doc(hide=True)
def frame_picture(frame_id: int, query_data: PictureQuery) -> Response:
    """A frame, stretched."""
    with the_context().library.db.session() as session:
        frame = session.get(Frame, frame_id)
    if frame is None:
        raise NotFound("This frame is not in the library.")
    return _picture(frame, query_data.size)


@api.get("/shots/<int:shot_id>/picture.png")
@api.input(PictureQuery, location="query")
@api.doc(hide=True)
def shot_picture(shot_id: int, query_data: PictureQuery) -> Response:
    """A shot of a run, stretched."""
    with the_context().library.db.session() as session:
        shot = session.get(RunShot, shot_id)
        frame = session.get(Frame, shot.frame_id) if shot is not None and shot.frame_id is not None else None
    if shot is None:
        raise NotFound("This shot is not in the library.")
    return _picture(frame or shot.path, query_data.size)
