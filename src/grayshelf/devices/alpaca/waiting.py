"""Waiting until a device on the network is where it should be, within a time and through short losses of the network."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Any

from grayshelf.clock import Interrupted
from grayshelf.core.errors import DeviceError
from grayshelf.devices.alpaca.errors import NotAnswering

#: How often it is asked, at first and later: what is short is noticed soon, and what is long is not asked too often.
ASKED_FIRST_S, ASKED_MOST_S = 0.02, 0.5
#: So long may a device not answer while it moves or exposes.
MAY_BE_SILENT_S = 20.0


def wait_until(
    there: Callable[[], Any], within_s: float, too_late: DeviceError, cancel: threading.Event | None = None
) -> None:
    """Ask until `there` says so.

    Raises
    ------
    DeviceError
        `too_late` where it does not come in time; what went wrong where it stopped answering.
    Interrupted
        Where it is called off.
    """
    began = heard = time.monotonic()
    pause_s = ASKED_FIRST_S
    event = cancel or threading.Event()
    while True:
        try:
            if there():
                return
            heard = time.monotonic()
        except NotAnswering:
            if time.monotonic() - heard > MAY_BE_SILENT_S:
                raise
        if time.monotonic() - began > within_s:
            raise too_late
        if event.wait(pause_s):
            raise Interrupted
        pause_s = min(pause_s * 1.4, ASKED_MOST_S)
