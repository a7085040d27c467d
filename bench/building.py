"""Building masters through the server, as a person does it: how long it takes, what the process holds, and how long other
requests wait meanwhile.

24 frames of 60 MP (8 each of bias, darks, dark flats and flats) are scanned and built; pages are asked for all the while.
"""

from __future__ import annotations

import http.client
import json
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np

from grayshelf.core.frames.write import write_frame
from grayshelf.library.files import write_new

PORT, SHAPE, EACH = 8977, (6388, 9576), 8
#: What is asked for while a master is made.
PAGES = ("/api/jobs", "/api/rigs/1/nights", "/api/sets", "/api/rigs/1/shelf")
KINDS = (
    ("Bias Frame", 0.001, 500, 12),
    ("Dark Frame", 300.0, 510, 13),
    ("Dark Flat", 2.0, 501, 12),
    ("Flat", 2.0, 25_000, 160),
)


def _frames(folder: Path) -> None:
    from astropy.io import fits

    rng = np.random.default_rng(3)
    for kind, seconds, level, noise in KINDS:
        base = rng.normal(level, noise, SHAPE).clip(0, 65_535)
        fall = 1.0 if level < 20_000 else (1.0 - 0.3 * np.linspace(-1, 1, SHAPE[1]) ** 2)
        for i in range(EACH):
            pixels = (np.roll(base, 97 * i, axis=0) * fall).astype(np.uint16)
            header = fits.Header()
            header.update(IMAGETYP=kind, EXPTIME=seconds, GAIN=100, OFFSET=50, XBINNING=1, YBINNING=1)
            header.update({"INSTRUME": "Camera B", "CCD-TEMP": -10.0, "SET-TEMP": -10.0, "TELESCOP": "Tube"})
            header.update({"FILTER": "L", "DATE-OBS": f"2026-03-03T20:{len(kind):02}:{i:02}.000"})
            name = folder / f"{kind.replace(' ', '')}{i}.fits"
            write_new(name, lambda stream, p=pixels, h=header: write_frame(stream, p, h))


def _ask(path: str, body: Any = None) -> Any:
    link = http.client.HTTPConnection("127.0.0.1", PORT, timeout=120)
    try:
        headers = {"Content-Type": "application/json", "Origin": f"http://127.0.0.1:{PORT}"}
        method = "GET" if body is None else "POST"
        link.request(method, path, None if body is None else json.dumps(body), headers)
        answer = link.getresponse()
        text = answer.read()
        if answer.status != 200:
            raise RuntimeError(f"{path}: {answer.status} {text[:300]!r}")
        return json.loads(text)
    finally:
        link.close()


def _ended(job: int) -> dict[str, Any]:
    while True:
        jobs = _ask("/api/jobs")
        found = next(j for j in jobs["alive"] + jobs["ended"] if j["id"] == job)
        if found["state"] in ("done", "failed", "stopped"):
            return dict(found)
        time.sleep(0.2)


def _held_mb(pid: int, what: str = "VmHWM") -> float:
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return float(next(line.split()[1] for line in lines if line.startswith(what))) / 1e3


def _forget_peak(pid: int) -> None:
    Path(f"/proc/{pid}/clear_refs").write_text("5")


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        frames, library = Path(name) / "frames", Path(name) / "library"
        frames.mkdir()
        _frames(frames)
        server = subprocess.Popen(
            [str(Path(sys.executable).with_name("grayshelf")), "serve", "--new", "--library", str(library), "--port", str(PORT)],
            stdout=subprocess.DEVNULL,
        )  # fmt: skip
        try:
            _measure(server.pid, frames)
        finally:
            server.terminate()
            server.wait()


def _measure(pid: int, frames: Path) -> None:
    for _ in range(200):
        try:
            _ask("/api/jobs")
            break
        except OSError:
            time.sleep(0.1)
    scanned = _ended(_ask("/api/folders", {"path": str(frames)})["id"])
    print(f"scan: {scanned['state']}, {scanned['message']}; held {_held_mb(pid, 'VmRSS'):.0f} MB after it")
    waits: list[float] = []
    building = threading.Event()

    def ask_on() -> None:
        number = 0
        while not building.wait(0.05):
            begun = time.perf_counter()
            _ask(PAGES[number % len(PAGES)])
            waits.append(time.perf_counter() - begun)
            number += 1

    asking = threading.Thread(target=ask_on)
    asking.start()
    try:
        for sets in sorted(_ask("/api/sets")["items"], key=lambda s: s["kind"] == "flat"):
            _forget_peak(pid)
            begun = time.perf_counter()
            built = _ended(_ask("/api/builds", {"set_ids": [sets["id"]]})["id"])
            seconds = time.perf_counter() - begun
            print(
                f"  {EACH} frames of 60 MP, {sets['kind']}: {built['state']} in {seconds:.1f} s, "
                f"at most {_held_mb(pid):.0f} MB (limit: 512)"
            )
    finally:
        building.set()
        asking.join()
    half, most = np.quantile(waits, [0.5, 0.95])
    print(
        f"{len(waits)} other requests meanwhile: half within {1000 * half:.0f} ms, "
        f"95 % within {1000 * most:.0f} ms (limit: 150), the longest {1000 * max(waits):.0f} ms"
    )
