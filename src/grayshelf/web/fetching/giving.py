"""Routes by which this library gives its frames to another Gray Shelf that has its code."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from apiflask import APIBlueprint
from flask import Response, jsonify, send_file

from grayshelf.library.sharing import file_of, hash_of, shared
from grayshelf.web.context import the_context

api = APIBlueprint("giving", __name__, url_prefix="/api/share", tag="Gray Shelf")


@api.get("")
@api.doc(hide=True)
def get_shared() -> Response:
    """All frames that are given, with nights' logs and values of the Bench."""
    library = the_context().library
    with library.db.session() as session:
        told: dict[str, Any] = asdict(shared(library, session))
    return jsonify(told)


@api.get("/frames/<string:key>")
@api.doc(hide=True)
def get_frame(key: str) -> Response:
    """The file of a frame; a part of it where that is asked for."""
    with the_context().library.db.session() as session:
        path, _ = file_of(session, key)
    return send_file(path, mimetype="application/octet-stream", conditional=True, max_age=0)


@api.get("/frames/<string:key>/sha256")
@api.doc(hide=True)
def get_hash(key: str) -> Response:
    """Hash of a frame's file."""
    return jsonify({"sha256": hash_of(the_context().library, key)})
