"""Twenty phones that watch a run: what the desk's requests take, and how long the run takes, with them and without."""

from __future__ import annotations

import http.client
import tempfile
import threading
import time
from pathlib import Path

from tests.web.server import Server

from grayshelf.demo.generate import generate

PHONES, LIMIT_S, FRAMES = 20, 0.15, 10
#: A page gathers what it is told for so long before it asks again.
GATHERED_S = 0.25


class _Lan(Server):
    def asked(self) -> list[str]:
        return ["demo", "--folder", str(self.folder), "--size", "small", "--rate", "60", "--lan"]


def _watch(port: int, over: threading.Event) -> None:
    """A phone's page: it listens, and asks again for the run and the work when it is told of something."""
    asking = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
    listening = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
    listening.request("GET", "/api/events")
    told, last = listening.getresponse(), 0.0
    while not over.is_set() and (line := told.readline()):
        if line.startswith(b"data") and time.monotonic() - last > GATHERED_S:
            last = time.monotonic()
            for path in ("/api/rigs/1/run", "/api/jobs"):
                asking.request("GET", path)
                asking.getresponse().read()


def _run(phones: int, frames: Path, folder: Path) -> tuple[float, list[float]]:
    """How long a run took, and each of the desk's requests, in seconds."""
    (folder / "demo").mkdir(parents=True)
    (folder / "demo" / "frames").symlink_to(frames)
    server, over, desk = _Lan(folder / "demo").start(), threading.Event(), []
    server.until(lambda: not server.get("/api/jobs")["alive"], 120)
    for _ in range(phones):
        threading.Thread(target=_watch, args=(server.port, over), daemon=True).start()
    job = server.post("/api/runs", {"rig_id": 1, "frames": FRAMES, "leave_out": [], "add": []})["job_id"]
    begun = time.perf_counter()
    while True:
        asked = time.perf_counter()
        run = server.get("/api/rigs/1/run")["run"]
        desk.append(time.perf_counter() - asked)
        gate = next((s for s in run["steps"] if s["state"] == "waiting"), None)
        if gate is not None:
            say = "leave out" if gate["title"].startswith("Diffuser") else "done"
            server.post(f"/api/jobs/{job}/answer", {"step_id": gate["id"], "answer": say})
        if run["job"]["state"] == "done":
            break
        time.sleep(0.3)
    took = time.perf_counter() - begun
    over.set()
    server.kill()
    return took, desk


def main() -> None:
    """Print both, side by side."""
    with tempfile.TemporaryDirectory() as name:
        frames = Path(name) / "frames"
        generate(frames, "small", lambda done, total: None)
        for phones in (0, PHONES):
            took, desk = _run(phones, frames, Path(name) / str(phones))
            p95 = sorted(desk)[int(len(desk) * 0.95)]
            print(
                f"{phones:2d} phones: the run took {took:.1f} s; the desk's requests p95 {1000 * p95:.0f} ms, limit {1000 * LIMIT_S:.0f}"
            )


if __name__ == "__main__":
    main()
