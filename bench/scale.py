"""How a library of years is to use: its start, its memory, a scan of an unchanged tree, and every page: at first, after a
change of the shelf, and warm."""

from __future__ import annotations

import json
import os
import socket
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path
from typing import Any, NamedTuple

from bench.large import fill
from grayshelf.library.library import Library

#: Of the whole library; a smaller one shows how things grow.
SHARE = 1.0
LIMIT_WARM_S, LIMIT_FIRST_S, LIMIT_START_S, LIMIT_SCAN_S, LIMIT_MB = 0.15, 0.5, 3.0, 5.0, 500
WARM_TIMES = 20


class Page(NamedTuple):
    """What is asked of the server."""

    path: str
    body: Any = None


class Served:
    """`grayshelf serve` of a library, in a process of its own."""

    def __init__(self, folder: Path) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        self.url = f"http://127.0.0.1:{port}"
        begun = time.perf_counter()
        command = [
            sys.executable,
            "-m",
            "grayshelf.cli",
            "serve",
            "--library",
            str(folder),
            "--port",
            str(port),
        ]
        # As a person starts it: what is compiled of it is kept from one start to the next.
        kept_compiled = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
        self.process = subprocess.Popen(command, stdout=subprocess.DEVNULL, env=kept_compiled)
        while True:
            try:
                self.ask("/api/state")
                break
            except OSError as error:
                if self.process.poll() is not None:
                    raise RuntimeError("the server did not start") from error
                time.sleep(0.02)
        self.start_s = time.perf_counter() - begun

    def ask(self, path: str, body: Any = None, method: str = "GET") -> Any:
        """JSON (or text) of an address."""
        data = None if body is None else json.dumps(body).encode()
        headers = {"Content-Type": "application/json"}
        with urllib.request.urlopen(
            urllib.request.Request(self.url + path, data, headers, method=method), timeout=60
        ) as answer:
            text = answer.read().decode()
        return json.loads(text) if answer.headers["Content-Type"].startswith("application/json") else text

    def took(self, page: Page) -> float:
        """Seconds until a page has answered."""
        begun = time.perf_counter()
        self.ask(page.path, page.body, "GET" if page.body is None else "POST")
        return time.perf_counter() - begun

    def memory_mb(self) -> float:
        """Resident memory."""
        status = Path(f"/proc/{self.process.pid}/status").read_text()
        return int(status.split("VmRSS:")[1].split()[0]) / 1024

    def stop(self) -> None:
        """End it."""
        self.process.terminate()
        self.process.wait()


def addresses(served: Served) -> dict[str, Page]:
    """The pages, by what they are called here."""
    nights = served.ask("/api/rigs/2/nights")["nights"]
    night = nights[len(nights) // 2]["night"]
    lights = served.ask(f"/api/rigs/2/nights/{night}")["sets"][0]["id"]
    holding = served.ask("/api/sets")["items"][0]["id"]
    last = served.ask("/api/rigs/2/plans")["last"]
    paths = {
        "state": "/api/state",
        "Tonight": "/api/rigs/2/tonight",
        "filling the shelf": "/api/rigs/2/fill?hours=8",
        "plans": "/api/rigs/2/plans",
        "Shelf": "/api/rigs/2/shelf",
        "a card": f"/api/holdings/{holding}",
        "Nights": "/api/rigs/2/nights",
        "one night": f"/api/rigs/2/nights/{night}",
        "a slip": f"/api/lights/{lights}/slip",
        "Intake": "/api/intake",
        "sets": "/api/sets",
        "files to look at": "/api/problems",
        "room on the disks": "/api/room",
        "filing": "/api/filing",
        "mending": "/api/mend",
        "flat sheet": "/api/rigs/2/flats",
        "Bench, offset": "/api/rigs/2/bench/offset",
        "Bench, gain": "/api/rigs/2/bench/gain",
        "Rigs": "/api/rigs/2",
        "search: a target": "/api/search?q=Target%2017",
        "search: a file": "/api/search?q=004711",
    }
    return {
        **{name: Page(path) for name, path in paths.items()},
        "a plan priced": Page("/api/rigs/2/plans/price", {"plans": [last]}),
    }


def measure(folder: Path) -> None:
    """Print the figures of a library."""
    served = Served(folder)
    try:
        pages = addresses(served)
        # 'At first' is after a restart; what a library has never been asked is worked out once.
        for page in pages.values():
            served.took(page)
    finally:
        served.stop()
    at_first = {name: _cold(folder, page) for name, page in pages.items()}
    served = Served(folder)
    print(f"start {served.start_s:.1f} s (limit {LIMIT_START_S:.0f} s)")
    print(f"{'':20} {'at first':>9} {'changed':>9} {'warm p95':>9}")
    try:
        for name, page in pages.items():
            changed = _changed(served, page)
            served.took(page)
            warm = [served.took(page) for _ in range(WARM_TIMES)]
            p95 = statistics.quantiles(warm, n=20)[-1]
            over = at_first[name] > LIMIT_FIRST_S or changed > LIMIT_FIRST_S or p95 > LIMIT_WARM_S
            print(
                f"{name:20} {at_first[name]:7.3f} s {changed:7.3f} s {p95:7.3f} s{'   over' if over else ''}"
            )
        print(f"limits: {LIMIT_FIRST_S} s at first and after a change, {LIMIT_WARM_S} s warm")
        first, again = _scan(served), _scan(served)
        print(f"scan of the unchanged tree {again:.1f} s (limit {LIMIT_SCAN_S:.0f} s)")
        print(
            f"  the first by other rules of reading, which looks for what they may understand: {first:.1f} s"
        )
        print(f"resident memory {served.memory_mb():.0f} MB (limit {LIMIT_MB} MB)")
    finally:
        served.stop()


def _scan(served: Served) -> float:
    begun = time.perf_counter()
    served.ask("/api/folders/2/scan", {}, "POST")
    while served.ask("/api/jobs")["alive"]:
        time.sleep(0.05)
    return time.perf_counter() - begun


def _cold(folder: Path, page: Page) -> float:
    served = Served(folder)
    try:
        return served.took(page)
    finally:
        served.stop()


def _changed(served: Served, page: Page) -> float:
    """After a master was taken off the shelf and put back."""
    served.took(page)
    masters = [x["id"] for x in served.ask("/api/sets?kind=dark")["items"] if x["state"] == "master"]
    number = masters[len(masters) // 2]
    served.ask(f"/api/holdings/{number}/shelve/off", {}, "POST")
    took = served.took(page)
    served.ask(f"/api/holdings/{number}/shelve/back", {}, "POST")
    return took


def main() -> None:
    """A library of years, made and measured."""
    with tempfile.TemporaryDirectory() as name:
        library = Library(Path(name) / "library")
        counts = fill(library, Path(name) / "frames", SHARE)
        library.close()
        print(", ".join(f"{n:,} {what}" for what, n in counts.items()))
        measure(Path(name) / "library")


if __name__ == "__main__":
    # Of a library that is there already.
    measure(Path(sys.argv[1]))
