"""Telling open pages what changed."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

#: Pages beyond this many poll instead; more may listen where this network is served, too.
MOST_LISTENERS, MOST_IN_NETWORK = 12, 40


class Broker:
    """Hands each event to every page that listens."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._queues: list[queue.Queue[dict[str, Any]]] = []
        self.most_listeners = MOST_LISTENERS
        self.changes = 0
        """Grows with whatever pages should look at again."""

    def note_change(self) -> None:
        """Something may be other than it was, whether pages are told or not."""
        with self._lock:
            self.changes += 1

    def publish(self, kind: str, **data: Any) -> None:
        """Tell all pages; one that does not keep up loses events, and asks again anyway."""
        with self._lock:
            self.changes += 1
            queues = list(self._queues)
        for q in queues:
            try:
                q.put_nowait({"type": kind, **data})
            except queue.Full:
                continue

    @contextmanager
    def listen(self) -> Iterator[queue.Queue[dict[str, Any]] | None]:
        """A queue of events while the page listens, or None where too many do."""
        with self._lock:
            if len(self._queues) >= self.most_listeners:
                q: queue.Queue[dict[str, Any]] | None = None
            else:
                q = queue.Queue(maxsize=200)
                self._queues.append(q)
        try:
            yield q
        finally:
            if q is not None:
                with self._lock:
                    self._queues.remove(q)
