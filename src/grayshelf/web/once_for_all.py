"""Answers that many pages ask for at the same moment are reckoned once: twenty phones that watch a run cost no more than one.

An answer serves until anything is told to the pages, or is asked to be changed, and half a second at most, since clocks and
coolers go on without being told.
"""

from __future__ import annotations

import re
import threading
import time
from dataclasses import dataclass

from apiflask import APIFlask
from flask import Response, g, request

from grayshelf.library.library import Library
from grayshelf.work.events import Broker

#: What pages ask for again at every event; none of it depends on who asks.
_ASKED_BY_ALL = re.compile(r"/api/(jobs|state|rigs/\d+/run)")
LASTS_S = 0.5
#: So long one waits for the answer that another is given.
_WAITS_S = 10.0
_MOST_KEPT = 64


@dataclass(frozen=True)
class _Kept:
    body: bytes
    kind: str
    change: tuple[int, int]
    until: float


class OnceForAll:
    """Keeps answers for the moment."""

    def __init__(self, broker: Broker, library: Library) -> None:
        self._broker, self._library = broker, library
        self._lock = threading.Lock()
        self._kept: dict[str, _Kept] = {}
        self._busy: dict[str, threading.Lock] = {}

    def put_before(self, app: APIFlask) -> None:
        """Answer before any route does where that is possible; after the guard."""
        app.before_request(self._before)
        app.after_request(self._after)
        app.teardown_request(self._end)

    def _before(self) -> Response | None:
        if request.method != "GET" or not _ASKED_BY_ALL.fullmatch(request.path):
            return None
        key = request.full_path
        kept = self._fresh(key)
        if kept is not None:
            return Response(kept.body, mimetype=kept.kind)
        with self._lock:
            if len(self._busy) > _MOST_KEPT:
                self._kept, self._busy = {}, {}
            busy = self._busy.setdefault(key, threading.Lock())
        if not busy.acquire(timeout=_WAITS_S):
            return None
        kept = self._fresh(key)
        if kept is not None:
            busy.release()
            return Response(kept.body, mimetype=kept.kind)
        # Asked for before it is reckoned: what changes meanwhile is not in it, and the next asks anew.
        g.once_for_all = (key, busy, self._now())
        return None

    def _now(self) -> tuple[int, int]:
        return self._broker.changes, self._library.revision

    def _fresh(self, key: str) -> _Kept | None:
        kept = self._kept.get(key)
        if kept is None or kept.change != self._now() or time.monotonic() > kept.until:
            return None
        return kept

    def _after(self, response: Response) -> Response:
        if request.method != "GET":
            self._broker.note_change()
        mine = g.get("once_for_all")
        if mine is not None and response.status_code == 200 and not response.direct_passthrough:
            body, kind = response.get_data(), response.mimetype or "application/json"
            self._kept[mine[0]] = _Kept(body, kind, mine[2], time.monotonic() + LASTS_S)
        return response

    def _end(self, _: BaseException | None) -> None:
        mine = g.pop("once_for_all", None)
        if mine is not None:
            mine[1].release()
