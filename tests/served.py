"""The simulated rigs served over HTTP for a test: in a thread, on a port of its own, with faults at hand."""

from __future__ import annotations

import threading
import time

import waitress
from waitress import wasyncore

from grayshelf.served_rig.app import make_app
from grayshelf.served_rig.device import Faults
from grayshelf.served_rig.serving import THREADS, make_devices, make_worlds


class ServedRig:
    """A served rig that can be cut off and come again."""

    def __init__(self, clock, size: str = "tiny") -> None:
        self.faults = Faults()
        self.worlds = make_worlds(size, clock)
        self.port = 0
        self.start()

    @property
    def address(self) -> str:
        return f"127.0.0.1:{self.port}"

    def start(self) -> None:
        """Devices begin as after a new start of their program: not connected, with no picture."""
        self.devices = self.made()
        app = make_app(self.devices, self.faults, "nowhere")
        self._server = self._bound(app)
        self.port = self._server.effective_port
        threading.Thread(target=self._run, args=(self._server,), daemon=True).start()

    def made(self):
        """The devices; a test may serve others."""
        return make_devices(self.worlds, self.faults)

    def _bound(self, app):
        """On the same port again, which the system gives back a moment later."""
        give_up = time.monotonic() + 5.0
        while True:
            try:
                return waitress.create_server(
                    app, host="127.0.0.1", port=self.port, threads=THREADS, clear_untrusted_proxy_headers=True
                )
            except OSError:
                if time.monotonic() > give_up:
                    raise
                time.sleep(0.05)

    @staticmethod
    def _run(server) -> None:
        server.run()
        # Whoever still works on an answer wakes the server through a pipe. Closed before, its number may be another file's.
        server.task_dispatcher.shutdown()
        server.trigger.close()

    def cut_off(self) -> None:
        """Nothing answers any more, and what was on its way is lost."""
        server, over = self._server, threading.Event()
        if server is None:
            return

        def close() -> None:
            for channel in list(server.active_channels.values()):
                channel.handle_close()
            server.trigger.del_channel()
            wasyncore.dispatcher.close(server)
            over.set()

        # By the thread that takes connections in: one that came in between would go on with devices that are gone.
        server.trigger.pull_trigger(close)
        assert over.wait(10)
        self._server = None

    def chosen(self, kind: str, number: int = 0) -> dict:
        """A device as a person chooses it."""
        return {"address": self.address, "kind": kind, "number": number, "name": f"served {kind}"}


#: The parts of the scenario's first rig, and the kind of device that moves each.
HERON = {
    "camera": "camera",
    "filters": "filterwheel",
    "light": "covercalibrator",
    "rotator": "rotator",
    "focuser": "focuser",
}


def attach_all(client, rig_id: int, served: ServedRig) -> None:
    """Let the served rig's devices move all parts of a rig."""
    for part, kind in HERON.items():
        answer = client.put(f"/api/rigs/{rig_id}/devices/{part}", json=served.chosen(kind))
        assert answer.status_code == 200, answer.text
