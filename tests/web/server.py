"""A real server in a process of its own, for tests that kill it or open it in a browser."""

from __future__ import annotations

import json
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

from tests.waiting import asked_until


class Server:
    """`grayshelf demo` on a free port."""

    def __init__(self, folder: Path, rate: float = 60.0) -> None:
        self.folder, self.rate = folder, rate
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.url = f"http://127.0.0.1:{self.port}"
        self.process: subprocess.Popen | None = None

    def asked(self) -> list[str]:
        """What is started: the demo, on very small sensors."""
        return ["demo", "--folder", str(self.folder), "--size", "tiny", "--rate", str(self.rate)]

    def start(self) -> Server:
        """Start it and wait until it answers."""
        log = (self.folder.parent / "server.log").open("ab")
        command = [sys.executable, "-m", "grayshelf.cli", *self.asked(), "--port", str(self.port)]
        self.process = subprocess.Popen(command, stdout=log, stderr=log)
        for _ in range(600):
            assert self.process.poll() is None, (self.folder.parent / "server.log").read_text()[-2000:]
            try:
                self.get("/api/state")
                return self
            except OSError:
                time.sleep(0.1)
        raise AssertionError("the server did not start")

    def kill(self) -> None:
        """kill -9."""
        assert self.process is not None
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()

    def get(self, path: str):
        """JSON of an address."""
        with urllib.request.urlopen(self.url + path, timeout=60) as answer:
            return json.loads(answer.read())

    def post(self, path: str, body=None):
        """JSON of what posting gives."""
        request = urllib.request.Request(
            self.url + path,
            json.dumps(body or {}).encode(),
            {"Content-Type": "application/json"},
            method="POST",
        )
        with urllib.request.urlopen(request, timeout=60) as answer:
            return json.loads(answer.read())

    def job(self, job_id: int):
        """A job by its number."""
        jobs = self.get("/api/jobs")
        return next(j for j in jobs["alive"] + jobs["ended"] if j["id"] == job_id)

    def until(self, what, seconds: float = 90.0, rest: float = 4.0):
        """Wait until `what()` is true; return it."""
        return asked_until(what, bool, seconds, rest=rest)


class OwnServer(Server):
    """`grayshelf serve` of a library of one's own, begun where there is none."""

    def asked(self) -> list[str]:
        """What is started."""
        return ["serve", "--library", str(self.folder), "--new"]
