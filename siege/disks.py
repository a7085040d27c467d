"""A disk that fills while something is shot, built or scanned, and is freed again."""

from __future__ import annotations

import os
import random
import subprocess
import time
import urllib.error
from collections.abc import Callable
from pathlib import Path

from siege.kills import KINDS, _answer_gates, _begin, _finish
from siege.state import MAIN_PAGES, demo, harm_done, pages_that_fail

MOMENTS = 20
SIZE_MB = 500


def main(folder: Path, frames: Path) -> list[str]:
    return on_small_disk(folder, SIZE_MB, lambda disk: _fill(disk, frames, folder))


def on_small_disk(folder: Path, size_mb: int, attack: Callable[[Path], list[str]]) -> list[str]:
    """Attack on a disk of its own that can be filled."""
    disk = folder / "disk"
    disk.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={size_mb}m", "tmpfs", str(disk)], capture_output=True
    )
    if mounted.returncode:
        print("   left out: a small disk to fill can be mounted by root only")
        return []
    try:
        return attack(disk)
    finally:
        subprocess.run(["umount", "-l", str(disk)], check=False)


def _free(disk: Path) -> int:
    stat = os.statvfs(disk)
    return stat.f_bavail * stat.f_frsize


def fill_up(disk: Path, ballast: Path, left: int) -> None:
    try:
        with ballast.open("wb") as stream:
            for _ in range(max(_free(disk) - left, 0) // 65_536):
                stream.write(bytes(65_536))
            while not left:
                stream.write(bytes(4096))
    except OSError:
        # Full: that was the point.
        return


def _fill(disk: Path, frames: Path, folder: Path) -> list[str]:
    chance, harm, waited = random.Random(5), [], 0
    server = demo(disk, frames).start()
    ballast = disk / "ballast"
    for number in range(MOMENTS):
        kind = [k for k in KINDS if k not in ("site", "throw away")][number % 6]
        try:
            _begin(server, kind, chance, folder)
        except urllib.error.HTTPError as error:
            if error.code != 409:
                harm.append(f"{kind}: {error.code} {error.read()[:200]!r}")
        until = time.monotonic() + chance.uniform(0.0, 1.5)
        while time.monotonic() < until:
            _answer_gates(server)
            time.sleep(0.05)
        left = chance.choice((0, 40_000, 3_000_000))
        fill_up(disk, ballast, left)
        time.sleep(1.5)
        harm += [f"on a full disk: {f}" for f in pages_that_fail(server, MAIN_PAGES)]
        waited += any("needed in" in j["message"] for j in server.get("/api/jobs")["alive"])
        ballast.unlink(missing_ok=True)
        time.sleep(0.2)
    _finish(server)
    server.until(lambda: not server.get("/api/jobs")["alive"], 180)
    failed = [j["message"] for j in server.get("/api/jobs")["ended"] if j["state"] == "failed"]
    harm += [f"failed: {m}" for m in failed if "nobody foresaw" in m]
    server.post("/api/folders/1/scan")
    server.until(lambda: not server.get("/api/jobs")["alive"], 120)
    harm += harm_done(server.folder / "library") + pages_that_fail(server, MAIN_PAGES)
    server.kill()
    print(f"   {_free(disk) / 1e6:.0f} MB were free at the end")
    print(f"   filled at {MOMENTS} moments; work waited for room, and said how much, at {waited} of them")
    return harm
