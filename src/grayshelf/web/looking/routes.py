"""Routes of pictures that are looked at closely."""

from __future__ import annotations

import math

import numpy as np
from apiflask import APIBlueprint
from flask import Response

from grayshelf.core.errors import NotFound
from grayshelf.core.pictures.profiles import Profile, profile_of
from grayshelf.library.views import Opened, View, open_view
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.looking.schemas import (
    BesideOut,
    FrameSheetOut,
    HistogramOut,
    ProfileOut,
    ProfileQuery,
    TileQuery,
    ViewOut,
    ViewQuery,
)
from grayshelf.web.looking.sheet import frame_sheet
from grayshelf.web.looking.view import beside_page, histogram_out, set_frames, view_out

api = APIBlueprint("looking", __name__, url_prefix="/api", tag="Gray Shelf")


def _opened(frame_id: int, asked: ViewQuery) -> Opened:
    library = the_context().library
    view = View(
        frame_id,
        asked.how,
        asked.other,
        dark=asked.dark,
        flat=asked.flat,
        bias=asked.bias,
        share=asked.share,
        colour=asked.colour,
    )
    with library.db.session() as session:
        return open_view(library, session, view)


@api.get("/frames/<int:frame_id>/view")
@api.input(ViewQuery, location="query")
@api.output(ViewOut)
def view(frame_id: int, query_data: ViewQuery) -> ViewOut:
    """A picture that can be looked at closely."""
    opened = _opened(frame_id, query_data)
    library = the_context().library
    with library.db.session() as session:
        return view_out(library, session, opened)


@api.get("/frames/<int:frame_id>/histogram")
@api.input(ViewQuery, location="query")
@api.output(HistogramOut)
def histogram(frame_id: int, query_data: ViewQuery) -> HistogramOut:
    """How often each level occurs in it."""
    return histogram_out(_opened(frame_id, query_data))


@api.get("/frames/<int:frame_id>/histogram.csv")
@api.input(ViewQuery, location="query")
@api.doc(hide=True)
def histogram_csv(frame_id: int, query_data: ViewQuery) -> Response:
    """The same, as CSV."""
    found = _opened(frame_id, query_data).histogram
    rows: list[list[object]] = [["from", "to", "pixels"], ["", found.first, found.below]]
    rows += [
        [found.first + i * found.step, found.first + (i + 1) * found.step, n]
        for i, n in enumerate(found.counts)
    ]
    return csv_response([*rows, [found.last, "", found.above]], f"levels-of-{frame_id}")


@api.get("/frames/<int:frame_id>/tile")
@api.input(TileQuery, location="query")
@api.doc(hide=True)
def tile(frame_id: int, query_data: TileQuery) -> Response:
    """One tile of it: levels as 32-bit numbers, lowest byte first, row after row."""
    opened = _opened(frame_id, query_data)
    try:
        pixels = opened.tile(query_data.level, query_data.column, query_data.row)
    except IndexError as error:
        raise NotFound("The picture does not reach that far.") from error
    response = Response(np.ascontiguousarray(pixels, "<f4").tobytes(), mimetype="application/octet-stream")
    response.headers["X-Width"], response.headers["X-Height"] = str(pixels.shape[1]), str(pixels.shape[0])
    # Its address holds the version of its files.
    response.headers["Cache-Control"] = "private, max-age=86400, immutable"
    return response


def _profile(frame_id: int, asked: ProfileQuery) -> Profile:
    opened = _opened(frame_id, asked)
    return profile_of(opened.parts, opened.overview, asked.along, asked.place, asked.band)


@api.get("/frames/<int:frame_id>/profile")
@api.input(ProfileQuery, location="query")
@api.output(ProfileOut)
def profile(frame_id: int, query_data: ProfileQuery) -> ProfileOut:
    """Levels along a row, a column, or from the middle outwards."""
    found = _profile(frame_id, query_data)
    levels = [None if math.isnan(v) else v for v in found.level]
    return ProfileOut(at=list(found.at), level=levels, step=found.step)


@api.get("/frames/<int:frame_id>/profile.csv")
@api.input(ProfileQuery, location="query")
@api.doc(hide=True)
def profile_csv(frame_id: int, query_data: ProfileQuery) -> Response:
    """The same, as CSV."""
    found = _profile(frame_id, query_data)
    rows: list[list[object]] = [["pixel", "level"]]
    rows += [[at, level] for at, level in zip(found.at, found.level, strict=True)]
    return csv_response(rows, f"profile-of-{frame_id}-{query_data.along}")


@api.get("/frames/<int:frame_id>/beside")
@api.output(BesideOut)
def beside(frame_id: int) -> BesideOut:
    """What it can be held against."""
    return beside_page(the_context().library, frame_id)


@api.get("/frames/<int:frame_id>/sheet")
@api.output(FrameSheetOut)
def sheet(frame_id: int) -> FrameSheetOut:
    """All that is known of a frame: what was read of it, and its header."""
    return frame_sheet(the_context().library, frame_id)


@api.get("/frames/<int:frame_id>/header.csv")
@api.doc(hide=True)
def header_csv(frame_id: int) -> Response:
    """A frame's header, as CSV."""
    cards = frame_sheet(the_context().library, frame_id).cards
    rows: list[list[object]] = [["keyword", "value", "comment"]]
    return csv_response([*rows, *([c.keyword, c.value, c.comment] for c in cards)], f"header-of-{frame_id}")


@api.get("/sets/<int:set_id>/frames")
@api.output(BesideOut)
def frames_of_set(set_id: int) -> BesideOut:
    """The frames of a set, to be looked at."""
    return set_frames(the_context().library, set_id)
