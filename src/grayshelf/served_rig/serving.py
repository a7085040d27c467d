"""Serving the simulated rigs, and answering those who look for devices."""

from __future__ import annotations

import json
import socket
import threading
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

import waitress

from grayshelf.clock import Clock, SimulatedClock
from grayshelf.core.errors import GrayShelfError
from grayshelf.demo.rigs import FOCUS, HERON_NOW, MODELS, SITE
from grayshelf.devices.alpaca.discovery import PORT, QUESTION
from grayshelf.devices.simulated.rig import SimulatedWorld, WorldState
from grayshelf.served_rig.app import make_app
from grayshelf.served_rig.around import ServedMount, ServedSafety, ServedSwitch, ServedWeather
from grayshelf.served_rig.camera import ServedCamera
from grayshelf.served_rig.device import Device, Faults
from grayshelf.served_rig.parts import ServedFocuser, ServedPanel, ServedRotator, ServedWheel

#: Requests at once: each device is asked by itself.
THREADS = 12


def make_worlds(size: str, clock: Clock, folder: Path | None = None) -> dict[str, SimulatedWorld]:
    """The simulated rigs by their names; kept in a folder, they stand as they stood after a new start."""
    starts = {
        "heron": WorldState(**{**vars(HERON_NOW), "faults": []}),
        "bittern": WorldState(focus=8_400.0, sensor_c=0.0, set_point_c=0.0),
        "wader": WorldState(),
    }
    return {
        name: SimulatedWorld(
            MODELS[name](size), clock, folder / f"rig-{name}.json" if folder else None, start
        )
        for name, start in starts.items()
    }


def make_devices(worlds: dict[str, SimulatedWorld], faults: Faults) -> list[Device]:
    """The devices that the rigs have; the same panel serves two of them."""
    devices: list[Device] = []
    for name, world in worlds.items():
        title = name.capitalize()
        devices.append(ServedCamera(world.model.sensor.name, world, faults))
        if name == "wader":
            continue
        devices.append(ServedPanel(f"Lumen tile at {title}", world, faults))
        devices.append(ServedFocuser(f"Focuser of {title}", world, faults))
        if name == "heron":
            devices.append(ServedWheel(f"Wheel of {title}", world, FOCUS, faults))
            devices.append(ServedRotator(f"Rotator of {title}", world, faults))
            devices.append(ServedMount(f"Mount of {title}", world, faults))
            devices.append(ServedSafety("Rain and wind", faults))
            devices.append(ServedWeather("Weather mast", world, faults))
            devices.append(ServedSwitch("Power ports", world, faults))
    return devices


class Answering(threading.Thread):
    """Answers the question of those who look for devices on this network."""

    def __init__(self, alpaca_port: int, everywhere: bool, port: int = PORT) -> None:
        super().__init__(name="discovery", daemon=True)
        self._answer = json.dumps({"AlpacaPort": alpaca_port}).encode()
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        # Several programs of one machine may answer.
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        self._socket.bind(("" if everywhere else "127.0.0.1", port))
        self.port: int = self._socket.getsockname()[1]

    def run(self) -> None:
        """Answer until it is ended."""
        with suppress(OSError):
            while True:
                asked, where = self._socket.recvfrom(1024)
                if asked.startswith(QUESTION[:-1]):
                    self._socket.sendto(self._answer, where)

    def end(self) -> None:
        """Answer no more."""
        with suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()


def serve_rig(port: int, size: str, rate: float, folder: Path, *, lan: bool, fresh: bool) -> None:
    """Serve the simulated rigs until it is ended.

    Raises
    ------
    GrayShelfError
        Where the port is in use.
    """
    folder.mkdir(parents=True, exist_ok=True)
    if fresh:
        for kept in folder.glob("rig-*.json"):
            kept.unlink()
    faults = Faults()
    worlds = make_worlds(size, SimulatedClock(datetime.now(UTC), rate), folder)
    app = make_app(make_devices(worlds, faults), faults, str(SITE["name"]))
    try:
        server = waitress.create_server(
            app, host="0.0.0.0" if lan else "127.0.0.1", port=port, threads=THREADS, ident=None
        )
    except OSError as error:
        raise GrayShelfError(
            f"Port {port} cannot be had ({error.strerror}), so no rig can be served there.",
            "Close what uses it, or name another --port.",
        ) from error
    answering = None
    try:
        answering = Answering(port, lan)
        answering.start()
    except OSError as error:
        print(f"It cannot be found by looking ({error.strerror}); give its address instead.")
    print(f"The simulated rigs are at http://127.0.0.1:{port}   (Ctrl+C ends it)", flush=True)
    try:
        server.run()
    finally:
        server.close()
        if answering is not None:
            answering.end()
