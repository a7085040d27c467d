"""Fetching by itself, once a day after the night has ended, from each Gray Shelf that was asked to be fetched from so."""

from __future__ import annotations

import logging
import threading
from dataclasses import replace

from grayshelf.core.errors import GrayShelfError
from grayshelf.library.givers import givers, keep_giver
from grayshelf.library.library import Library
from grayshelf.library.records import as_kept
from grayshelf.work.fetching import FETCH, FetchJob
from grayshelf.work.giving import OtherShelf
from grayshelf.work.jobs import JobRunner

log = logging.getLogger(__name__)
#: How often it is looked whether the night has ended, seconds.
LOOK_EACH_S = 300.0
#: By the clock of the site: then the sun is up, or about to be, at most places and times of the year.
DAWN_HOUR, NOON_HOUR = 7, 12


def fetch_if_dawn(library: Library, runner: JobRunner) -> int:
    """Begin to fetch where that was not done today; how many were begun."""
    with library.db.session() as session:
        now = library.clock.now().astimezone(library.zone(session))
    if now.hour < DAWN_HOUR:
        return 0
    today, begun = now.date().isoformat(), 0
    for one in givers(library.root):
        if not one.at_dawn or one.fetched_on == today:
            continue
        # One that still sleeps is asked again at the next look; by noon the job itself says that nothing answers.
        if now.hour >= NOON_HOUR or OtherShelf(one).answers():
            runner.start(FETCH, f"Fetching from {one.name}", as_kept(FetchJob(giver=one.number)))
            keep_giver(library.root, replace(one, fetched_on=today))
            begun += 1
    return begun


class DawnFetch:
    """Looks now and then whether the night has ended, until it is told to end."""

    def __init__(self, library: Library, runner: JobRunner) -> None:
        self._library, self._runner = library, runner
        self._end = threading.Event()
        self._thread = threading.Thread(target=self._look, name="fetching", daemon=True)
        self._thread.start()

    def _look(self) -> None:
        while not self._end.wait(LOOK_EACH_S):
            try:
                fetch_if_dawn(self._library, self._runner)
            except GrayShelfError as error:
                log.warning("nothing is fetched at dawn: %s", error)

    def end(self) -> None:
        """No more is begun."""
        self._end.set()
        self._thread.join()
