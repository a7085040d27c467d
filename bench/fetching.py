"""Fetching from another Gray Shelf on this machine, verified, beside a plain HTTP download of the same bytes; and what it holds.

`python -m bench.fetching 500` does so with as many frames, as files with holes: their bytes come, and take room here alone.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from datetime import datetime, timedelta
from pathlib import Path

import httpx
import numpy as np
from astropy.io import fits

from grayshelf.library.library import Library
from grayshelf.serving import open_context
from grayshelf.web.app import create_app

PORT, FRAMES, SIDE, LEAST = 11_334, 40, (5000, 5000), 0.8


def _heap(folder: Path, count: int) -> int:
    """Frames of 50 MB; bytes in all."""
    folder.mkdir()
    rng = np.random.default_rng(1)
    pixels = rng.normal(500, 6, SIDE).astype(np.uint16)
    begun = datetime(2026, 9, 2, 20)
    for i in range(count):
        pixels[0, :8] = i
        cards = {"IMAGETYP": "Light Frame", "INSTRUME": "Cam 4", "EXPTIME": 60.0, "GAIN": 100, "OFFSET": 30,
                 "FILTER": "L", "DATE-OBS": (begun + timedelta(minutes=i)).isoformat()}  # fmt: skip
        path = folder / f"d{i:03d}.fits"
        if count > FRAMES:
            header = fits.PrimaryHDU(pixels, fits.Header(cards)).header.tostring().encode()
            path.write_bytes(header)
            os.truncate(path, len(header) + -(-pixels.nbytes // 2880) * 2880)
        else:
            fits.PrimaryHDU(pixels, fits.Header(cards)).writeto(path)
    return sum(p.stat().st_size for p in folder.iterdir())


def _plain(keys: list[str], into: Path) -> float:
    """Download them one after the other, as any client would; seconds."""
    begun = time.perf_counter()
    with httpx.Client(trust_env=False) as client:
        for key in keys:
            with (
                client.stream("GET", f"http://127.0.0.1:{PORT}/api/share/frames/{key}") as answer,
                (into / key).open("wb") as stream,
            ):
                for piece in answer.iter_raw(1 << 20):
                    stream.write(piece)
    subprocess.run(["sync", str(into)], check=True)
    return time.perf_counter() - begun


def _memory_mb() -> float:
    status = Path("/proc/self/status").read_text()
    return int(status.split("VmRSS:")[1].split()[0]) / 1024


def main() -> None:
    """Print both, and the ratio."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        size = _heap(folder / "heap", int(sys.argv[1]) if sys.argv[1:] and sys.argv[1].isdigit() else FRAMES)
        command = [
            sys.executable,
            "-m",
            "grayshelf.cli",
            "serve",
            "--library",
            str(folder / "giving"),
            "--new",
        ]
        with subprocess.Popen([*command, "--port", str(PORT)], stdout=subprocess.DEVNULL) as giving:
            try:
                _measure(folder, size)
            finally:
                giving.terminate()


def _measure(folder: Path, size: int) -> None:
    there = httpx.Client(base_url=f"http://127.0.0.1:{PORT}", trust_env=False, timeout=30)
    for _ in range(200):
        try:
            there.get("/api/state")
            break
        except httpx.HTTPError:
            time.sleep(0.1)
    there.post("/api/folders", json={"path": str(folder / "heap")})
    while there.get("/api/jobs").json()["alive"]:
        time.sleep(0.1)
    keys = [f["key"] for f in there.get("/api/share").json()["frames"]]
    (folder / "plain").mkdir()
    plain = _plain(keys, folder / "plain")
    shutil.rmtree(folder / "plain")
    context = open_context(Library(folder / "fetching", begin=True))
    client = create_app(context).test_client()
    giver = client.post("/api/fetching/givers", json={"address": f"127.0.0.1:{PORT}", "code": ""}).json[
        "number"
    ]
    held, begun = _memory_mb(), time.perf_counter()
    job, most = client.post("/api/fetching/fetch", json={"giver": giver}).json["id"], 0.0
    while any(
        j["id"] == job and "Entering" not in j["message"] for j in client.get("/api/jobs").json["alive"]
    ):
        most = max(most, _memory_mb())
        time.sleep(0.05)
    fetched = time.perf_counter() - begun
    context.runner.shut_down()
    context.library.close()
    print(f"{len(keys)} frames of {size / len(keys) / 1e6:.0f} MB")
    print(f"plain download, synced       {size / plain / 1e6:6.0f} MB/s")
    print(
        f"fetched, hashed, read back   {size / fetched / 1e6:6.0f} MB/s, {plain / fetched:.2f} of it, at least {LEAST}"
    )
    print(f"memory while it came         {most - held:6.0f} MB more than before")


if __name__ == "__main__":
    main()
