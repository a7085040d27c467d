"""Who may ask, and in what form: only pages of this application on this machine, in JSON of a sane size and shape."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any
from urllib.parse import urlsplit

from apiflask import APIFlask
from flask import Response, request

from grayshelf.web.access.codes import Access
from grayshelf.web.access.gate import gate
from grayshelf.web.errors import problem

LOCAL_NAMES = ("localhost", "127.0.0.1", "[::1]")
#: The largest whole number that the database keeps.
LARGEST = 2**63 - 1
#: Deeper than anything that is asked for; Python's reader of JSON gives up somewhere beyond.
MOST_NESTED = 20
#: Where pieces of files come as they are.
BYTES_ARE_SENT_TO = "/api/sending/piece"
_CHANGING = ("POST", "PUT", "PATCH", "DELETE")


def guard(app: APIFlask, access: Access | None) -> None:
    """Look at each request before any route does.

    Parameters
    ----------
    access
        Who else may ask; None where only this machine is served.
    """

    @app.before_request
    def only_from_here() -> Response | None:
        return _from_elsewhere((*LOCAL_NAMES, *(access.addresses if access else ())))

    if access is not None:
        gate(app, access)

    @app.before_request
    def only_as_asked_for() -> Response | None:
        return _not_as_asked_for()

    @app.after_request
    def careful(response: Response) -> Response:
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers.setdefault("Referrer-Policy", "no-referrer")
        response.headers["Content-Security-Policy"] = (
            "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; "
            "frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
        )
        return response


def _from_elsewhere(names: Sequence[str]) -> Response | None:
    name = request.host.rsplit(":", 1)[0] if not request.host.endswith("]") else request.host
    if name.lower() not in names:
        return problem(403, "Not from here", f"This is served to this machine only, not to {name}.", "")
    origin = request.headers.get("Origin")
    if origin is not None and _host_of(origin) != request.host:
        return problem(403, "Not from here", "A page of another site may not use this library.", "")
    # A browser says where a request comes from, also where it sends no Origin.
    if request.method in _CHANGING and request.headers.get("Sec-Fetch-Site", "same-origin") not in (
        "same-origin",
        "none",
    ):
        return problem(403, "Not from here", "A page of another site may not use this library.", "")
    return None


def _host_of(origin: str) -> str | None:
    try:
        return urlsplit(origin).netloc
    except ValueError:
        return None


def _not_as_asked_for() -> Response | None:
    for value in (request.view_args or {}).values():
        if isinstance(value, int) and value > LARGEST:
            return problem(404, "Not in the library", "There is nothing of that number.", "")
    if request.method not in _CHANGING or not request.content_length:
        return None
    # Plain text and forms are what a page of another site can send without asking; bytes it cannot.
    if request.path == BYTES_ARE_SENT_TO and request.mimetype == "application/octet-stream":
        return None
    if not request.is_json:
        return problem(
            415, "This could not be understood", "What is sent must be JSON (application/json).", ""
        )
    try:
        body = json.loads(request.get_data(cache=True), parse_constant=_no_number)
    except (ValueError, RecursionError) as error:
        return problem(
            400, "This could not be understood", f"What was sent is no JSON ({_first(error)}).", ""
        )
    trouble = _trouble_in(body)
    return None if trouble is None else problem(422, "This could not be understood", trouble, "")


def _no_number(name: str) -> None:
    raise ValueError(f"{name} is no number")


def _first(error: Exception) -> str:
    return "too deeply nested" if isinstance(error, RecursionError) else str(error).splitlines()[0][:120]


def _trouble_in(value: Any, depth: int = 0) -> str | None:
    """What no route could keep: numbers beyond the database's, texts that are not text, a tower of brackets."""
    if depth > MOST_NESTED:
        return "What was sent is too deeply nested."
    if isinstance(value, int) and abs(value) > LARGEST:
        return "A number is larger than any that is kept."
    if isinstance(value, str) and any("\ud800" <= c <= "\udfff" for c in value):
        return "A text holds half a character."
    parts: list[Any] = []
    if isinstance(value, dict):
        parts = [*value.keys(), *value.values()]
    elif isinstance(value, list):
        parts = value
    return next((t for t in (_trouble_in(p, depth + 1) for p in parts) if t is not None), None)
