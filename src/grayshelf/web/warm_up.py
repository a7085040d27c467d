"""What pages rest on, worked out before anybody asks for it."""

from __future__ import annotations

import gc
import logging
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

from flask import Flask

from grayshelf.library.library import Library
from grayshelf.library.over_restart import Others, keep
from grayshelf.library.raw_sets import raw_sets, room_taken
from grayshelf.library.slips import slips
from grayshelf.library.trains import standing_rigs
from grayshelf.web.context import Context
from grayshelf.web.whole import search
from grayshelf.work.run.tonight import look_at_tonight

#: What the pages add to the slips is worked out once nobody has asked for so long, or after `MOST_WAIT_S`.
QUIET_S, MOST_WAIT_S = 2.0, 30.0

log = logging.getLogger(__name__)


class Asked:
    """When this server was asked last: what is worked out ahead of the pages waits while somebody asks for them."""

    def __init__(self, quiet_s: float = QUIET_S, most_wait_s: float = MOST_WAIT_S) -> None:
        """As asked at this moment."""
        self._quiet_s, self._most_wait_s = quiet_s, most_wait_s
        self._last = time.monotonic()

    def put_around(self, app: Flask) -> None:
        """See each request come and be answered."""
        app.before_request(self._now)
        app.teardown_request(lambda _: self._now())

    def _now(self) -> None:
        self._last = time.monotonic()

    def wait_for_quiet(self) -> None:
        """Until nobody has asked for a while; pages that are always open may ask without end, so not for ever."""
        end = time.monotonic() + self._most_wait_s
        while (now := time.monotonic()) < min(end, self._last + self._quiet_s):
            time.sleep(min(end, self._last + self._quiet_s) - now)


def kept_beside(library: Library) -> list[Others[search.Findable]]:
    """What the pages make of rows, and is kept over a restart beside what the library makes of them."""
    return [Others("search", search.sets_made(library), search.Findable)]


def warm_up(context: Context, asked: Asked, wait_s: float = 0.0) -> None:
    """Work out what pages rest on before anybody asks, so that the first page is there at once.

    Parameters
    ----------
    wait_s
        For so long it is waited for; a large library goes on with it while it is served.
    """
    unpacked = threading.Event()

    def warm() -> None:
        try:
            _go_through(context, asked, unpacked)
        finally:
            unpacked.set()
            _spare_the_collector()

    threading.Thread(target=warm, daemon=True, name="warm-up").start()
    unpacked.wait(wait_s)


def _spare_the_collector() -> None:
    """Let the garbage collector pass over what is there by now: it stays for long."""
    gc.freeze()
    gc.enable()


def _go_through(context: Context, asked: Asked, unpacked: threading.Event) -> None:
    """Write slips and sheets of all rigs; `unpacked` is set where those of the last process are there again."""
    library = context.library
    with library.db.session() as session:
        rigs = list(session.scalars(standing_rigs()))
    if context.put_back:
        for rig in rigs:
            with _logged(rig.name):
                slips(library, rig.id)
        unpacked.set()
        _spare_the_collector()
        # The little that each page adds to them: whoever asks at once comes first.
        asked.wait_for_quiet()
    for rig in rigs:
        with _logged(rig.name):
            look_at_tonight(library, rig.id, context.starter.devices(rig))
    with _logged("What is searched for"):
        search.find(library, "light")
    with _logged("Room on the disks"):
        raw_sets(library)
        room_taken(library)
    if not context.put_back:
        # A process that is killed keeps nothing at its end.
        keep(library, kept_beside(library))


@contextmanager
def _logged(what: str) -> Iterator[None]:
    """What fails is told of by its own page; the rest is warmed up all the same."""
    try:
        yield
    except Exception:
        log.exception("%s could not be looked at beforehand", what)
