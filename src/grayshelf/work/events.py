"""Telling open pages what changed."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

#: Pages beyond this many poll instead.
MOST_LISTENERS = 12


class Broker:
    """Hands each event to every page that listens."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._queues: list[queue.Queue[dict[str, Any]]] = []

    def publish(self, kind: str, **data: Any) -> None:
        """Tell all pages; one that does not keep up loses events, and asks again anyway."""
        with self._lock:
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
            if len(self._queues) >= MOST_LISTENERS:
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
