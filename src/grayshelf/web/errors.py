"""Errors as problem JSON (RFC 9457)."""

from __future__ import annotations

import json
import logging
from typing import Any

from apiflask import APIFlask
from apiflask.exceptions import HTTPError
from flask import Response, request
from werkzeug.exceptions import HTTPException

from grayshelf.core.errors import GrayShelfError
from grayshelf.library.log import LOG_FILE
from grayshelf.library.room import as_disk_full

log = logging.getLogger(__name__)


def problem(status: int, title: str, detail: str, advice: str = "", **more: Any) -> Response:
    """A problem document."""
    body = {
        "type": "about:blank",
        "status": status,
        "title": title,
        "detail": detail,
        "advice": advice,
        **more,
    }
    return Response(json.dumps(body), status, mimetype="application/problem+json")


def register_errors(app: APIFlask) -> None:
    """Turn every error into a problem document; nothing is swallowed."""

    @app.errorhandler(GrayShelfError)
    def told(error: GrayShelfError) -> Response:
        return problem(error.status, error.title, error.message, error.advice)

    @app.errorhandler(HTTPException)
    def http(error: HTTPException) -> Response:
        return problem(error.code or 500, error.name, error.description or "", "")

    @app.errorhandler(Exception)
    def unforeseen(error: Exception) -> Response:
        log.exception("unforeseen at %s %s", request.method, request.path)
        full = as_disk_full(error, app.extensions["grayshelf"].library.root)
        if full is not None:
            return problem(full.status, full.title, full.message, full.advice)
        return problem(
            500,
            "Something nobody foresaw",
            f"This could not be answered ({type(error).__name__}). No frame was changed by it.",
            f"Try again. What happened is in the log, {LOG_FILE} in the library’s folder.",
        )

    @app.error_processor
    def refused(error: HTTPError) -> tuple[dict[str, Any], int, dict[str, str]]:
        detail = error.message
        if error.detail:
            places = [
                f"{name}: {'; '.join(map(str, said))}"
                for part in error.detail.values()
                if isinstance(part, dict)
                for name, said in part.items()
            ]
            detail = ". ".join(places) or detail
        body = {
            "type": "about:blank",
            "status": error.status_code,
            "title": "This could not be understood",
            "detail": detail,
            "advice": "",
        }
        return body, error.status_code, {"Content-Type": "application/problem+json"}
