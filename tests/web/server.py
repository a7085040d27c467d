"""A real server in a process of its own, for tests that kill it or open it in a browser."""

from __future__ import annotations

import atexit
import json
import multiprocessing
import os
import socket
import sys
import time
import urllib.request
from multiprocessing.process import BaseProcess
from pathlib import Path

from tests.waiting import asked_until

#: Where servers come from: a process that has loaded the application once and forks. Loading it takes longer than all else that
#: a start does. What the command itself does at its start, tests/web/test_server.py holds.
_LOADED = multiprocessing.get_context("forkserver")
_LOADED.set_forkserver_preload(["grayshelf.serving", "grayshelf.cli"])


def _serve(arguments: list[str], log: str) -> None:
    """The command, with what it says written to a file."""
    written = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND)
    os.dup2(written, 1)
    os.dup2(written, 2)
    from grayshelf.cli import main

    sys.exit(main(arguments))


class Server:
    """`grayshelf demo` on a free port."""

    def __init__(self, folder: Path, rate: float = 60.0) -> None:
        self.folder, self.rate = folder, rate
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.url = f"http://127.0.0.1:{self.port}"
        self.process: BaseProcess | None = None

    def asked(self) -> list[str]:
        """What is started: the demo, on very small sensors."""
        return ["demo", "--folder", str(self.folder), "--size", "tiny", "--rate", str(self.rate)]

    def start(self) -> Server:
        """Start it and wait until it answers."""
        log = self.folder.parent / "server.log"
        self.process = _LOADED.Process(
            target=_serve, args=([*self.asked(), "--port", str(self.port)], str(log))
        )
        self.process.start()
        # One that a failed test leaves behind must not be waited for at the end.
        atexit.register(self.process.kill)
        for _ in range(600):
            assert self.process.is_alive(), log.read_text()[-2000:]
            try:
                self.get("/api/state")
                return self
            except OSError:
                time.sleep(0.1)
        raise AssertionError("the server did not start")

    def kill(self) -> None:
        """kill -9."""
        assert self.process is not None
        self.process.kill()
        self.process.join()

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
