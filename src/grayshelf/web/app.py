"""The application: everything wired together, and served to this machine only."""

from __future__ import annotations

import json
import mimetypes
import queue
from collections.abc import Iterator
from pathlib import Path

from apiflask import APIFlask
from flask import Response, g, request, send_from_directory

from grayshelf import __version__
from grayshelf.library.left_out import left_out_in_words
from grayshelf.web.access.routes import api as access
from grayshelf.web.attaching.routes import api as attaching
from grayshelf.web.bench.routes import bench
from grayshelf.web.context import Context, put_context
from grayshelf.web.errors import problem, register_errors
from grayshelf.web.fetching.giving import api as giving
from grayshelf.web.fetching.routes import api as fetching
from grayshelf.web.filing.routes import api as filing
from grayshelf.web.flats.routes import flats
from grayshelf.web.guard import guard
from grayshelf.web.handing.routes import api as handing
from grayshelf.web.intake.routes import api as intake
from grayshelf.web.intake.sending import api as sending
from grayshelf.web.looking.routes import api as looking
from grayshelf.web.mending.routes import api as mending
from grayshelf.web.nights.log_routes import api as night_log
from grayshelf.web.nights.routes import api as nights
from grayshelf.web.once_for_all import OnceForAll
from grayshelf.web.openapi import name_schemas_plainly
from grayshelf.web.rigs.routes import api as rigs
from grayshelf.web.room.routes import api as room
from grayshelf.web.shelf.routes import api as shelf
from grayshelf.web.tonight.fill_routes import api as filling
from grayshelf.web.tonight.plan_routes import api as plans
from grayshelf.web.tonight.routes import api as tonight
from grayshelf.web.twilight.routes import twilight
from grayshelf.web.whole.routes import api as whole

STATIC = Path(__file__).parent / "static"
#: Seconds of silence after which a listening page is sent a sign of life.
HEARTBEAT_S = 10.0
#: The largest that anybody has to send.
MOST_BODY_BYTES = 1_000_000


def create_app(context: Context) -> APIFlask:
    """The Flask application."""
    app = APIFlask(__name__, title="Gray Shelf", version=__version__, static_folder="none", docs_path=None)
    app.config["MAX_CONTENT_LENGTH"] = MOST_BODY_BYTES
    app.config["VALIDATION_ERROR_STATUS_CODE"] = 422
    put_context(app, context)
    register_errors(app)
    for place in (
        whole,
        tonight,
        filling,
        plans,
        shelf,
        looking,
        nights,
        night_log,
        bench,
        flats,
        twilight,
        intake,
        rigs,
        filing,
        handing,
        mending,
        room,
        sending,
        access,
        attaching,
        giving,
        fetching,
    ):
        app.register_blueprint(place)
    name_schemas_plainly(app)
    guard(app, context.access)
    OnceForAll(context.broker, context.library).put_before(app)
    _events(app, context)
    _tell_of_sets_left_out(app, context)
    _front_end(app)
    return app


def _tell_of_sets_left_out(app: APIFlask, context: Context) -> None:
    """A set that is found to make no sense is told of on every page, also on those that are open already."""
    told = ""

    @app.after_request
    def tell(response: Response) -> Response:
        nonlocal told
        now = left_out_in_words(context.library)
        if now != told:
            told = now
            context.broker.publish("state")
        return response


def _events(app: APIFlask, context: Context) -> None:
    @app.get("/api/events")
    @app.doc(hide=True)
    def events() -> Response:
        """Server-sent events; a page that gets none polls."""

        number, access = g.get("session"), context.access

        def ended() -> bool:
            return number is not None and access is not None and not access.is_open(number)

        def stream() -> Iterator[str]:
            with context.broker.listen() as q:
                if q is None:
                    yield "event: full\ndata: {}\n\n"
                    return
                yield 'retry: 2000\ndata: {"type": "hello"}\n\n'
                while True:
                    try:
                        told = f"data: {json.dumps(q.get(timeout=HEARTBEAT_S))}\n\n"
                    except queue.Empty:
                        told = ": still here\n\n"
                    if ended():
                        # It asks for what is there now, and is told that its session has ended.
                        yield 'data: {"type": "state"}\n\n'
                        return
                    yield told

        headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
        return Response(stream(), mimetype="text/event-stream", headers=headers)


def _front_end(app: APIFlask) -> None:
    @app.get("/")
    @app.get("/<path:name>")
    @app.doc(hide=True)
    def front_end(name: str = "index.html") -> Response:
        """The page, and its files; places of the page are all the same file."""
        if name.startswith("api/"):
            return problem(404, "No such address", f"There is nothing at /{name}.", "")
        if not STATIC.is_dir():
            return problem(503, "The page is not built", "The front end was not built yet.", "Run make demo.")
        if not (STATIC / name).is_file():
            name = "index.html"
        packed = request.accept_encodings.best_match(["gzip"]) and (STATIC / f"{name}.gz").is_file()
        response = send_from_directory(STATIC, f"{name}.gz" if packed else name)
        if packed:
            response.headers["Content-Encoding"] = "gzip"
            response.mimetype = mimetypes.guess_type(name)[0] or "application/octet-stream"
        response.headers["Vary"] = "Accept-Encoding"
        unchanging = name.startswith("assets/")
        response.headers["Cache-Control"] = (
            "public, max-age=31536000, immutable" if unchanging else "no-cache"
        )
        return response
