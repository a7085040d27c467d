"""Clocks: the machine's, and one for simulated devices on which waiting passes faster than time."""

from __future__ import annotations

import threading
import time
from datetime import UTC, datetime, timedelta
from typing import Protocol


class Interrupted(Exception):
    """A wait was cut short because somebody asked for it."""


class Clock(Protocol):
    """What time it is, and waiting."""

    def now(self) -> datetime:
        """The time, aware, UTC."""
        ...

    def sleep(self, seconds: float, cancel: threading.Event | None = None) -> None:
        """Let `seconds` pass on this clock; raises `Interrupted` as soon as `cancel` is set."""
        ...


class MachineClock:
    """The machine's own clock."""

    def now(self) -> datetime:
        """The time, aware, UTC."""
        return datetime.now(UTC)

    def sleep(self, seconds: float, cancel: threading.Event | None = None) -> None:
        """Wait; raises `Interrupted` as soon as `cancel` is set."""
        if cancel is None:
            time.sleep(seconds)
        elif cancel.wait(seconds):
            raise Interrupted


class SimulatedClock:
    """Runs at the pace of real time from a given start, but its waits pass `rate` times faster.

    Only waiting (exposing, cooling, moving) is shortened: while a person reads or answers, a second
    is a second.
    """

    def __init__(self, start: datetime, rate: float = 60.0) -> None:
        self._lock = threading.Lock()
        self._started = time.monotonic()
        self._start = start
        self._skipped = 0.0
        self.rate = rate

    def now(self) -> datetime:
        """The time, aware, UTC."""
        with self._lock:
            return self._start + timedelta(seconds=time.monotonic() - self._started + self._skipped)

    def sleep(self, seconds: float, cancel: threading.Event | None = None) -> None:
        """Let `seconds` pass on this clock; raises `Interrupted` as soon as `cancel` is set."""
        event = cancel or threading.Event()
        left = seconds
        while left > 1e-9:
            rate = max(self.rate, 1.0)
            tick = min(left, max(0.1 * rate, 0.01))
            begun = time.monotonic()
            interrupted = event.wait(tick / rate)
            took = time.monotonic() - begun
            with self._lock:
                self._skipped += max(tick - took, 0.0)
            left -= max(tick, took)
            if interrupted:
                raise Interrupted
