"""Devices as pages look at them: what they last said. No page waits for the network."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Generic, TypeVar

from grayshelf.core.errors import DeviceError
from grayshelf.devices.ports import Camera, CameraFacts, CoolerState, Exposed, FilterWheel

T = TypeVar("T")

#: What was heard longer ago is asked for again, beside the page; the first time a page waits so long for it.
OLD_S, FIRST_S = 4.0, 0.4
#: What is older than this is not told as being so now.
STALE_S = 60.0


@dataclass
class Heard(Generic[T]):
    """What a device last said, asked for again in a thread of its own."""

    ask: Callable[[], T]
    said: T | None = None
    trouble: str = ""
    """Why it does not answer; empty where it does."""
    _at: float = -1e9
    _asking: threading.Thread | None = None
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def last(self) -> T | None:
        """What it last said; None where that is too long ago, or it never did."""
        with self._lock:
            first = self._at < 0
            if time.monotonic() - self._at > OLD_S and (self._asking is None or not self._asking.is_alive()):
                self._asking = threading.Thread(target=self._ask, name="device asked", daemon=True)
                self._asking.start()
            asking = self._asking
        if first and asking is not None:
            asking.join(FIRST_S)
        return self.said if time.monotonic() - self._at < STALE_S else None

    def _ask(self) -> None:
        try:
            said = self.ask()
        except DeviceError as error:
            self.trouble = error.message
            # A page that comes again is not held up again by one that does not answer.
            self._at = max(self._at, 0.0)
            return
        self.said, self.trouble, self._at = said, "", time.monotonic()


class HeardCamera:
    """A camera of which pages ask how warm it is."""

    def __init__(self, camera: Camera) -> None:
        self.facts: CameraFacts = camera.facts
        self._camera = camera
        self._cooler = Heard(camera.cooler)

    @property
    def trouble(self) -> str:
        """Why it does not answer."""
        self._cooler.last()
        return self._cooler.trouble

    def cooler(self) -> CoolerState:
        """As it last said."""
        return self._cooler.last() or CoolerState(None, None, 0.0)

    def expose(
        self,
        exposure_s: float,
        gain: float,
        offset: float,
        binning: int,
        cancel: threading.Event | None = None,
        *,
        shutter_open: bool = True,
    ) -> Exposed:
        """No page exposes."""
        raise NotImplementedError

    def set_temperature(self, set_point_c: float) -> None:
        """No page cools."""
        raise NotImplementedError

    def cooler_off(self) -> None:
        """No page warms."""
        raise NotImplementedError


class HeardWheel:
    """A wheel of which pages ask what is in."""

    def __init__(self, wheel: FilterWheel) -> None:
        self.filters = wheel.filters
        self._position = Heard(wheel.position)

    def position(self) -> int:
        """As it last said; the first place where it did not."""
        return max(self._position.last() or 0, 0)

    def move(self, index: int) -> None:
        """No page turns it."""
        raise NotImplementedError
