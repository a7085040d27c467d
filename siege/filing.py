"""kill -9 at random moments of filing and of taking it back: no byte is lost or doubled, and in the end the tree is as it was."""

from __future__ import annotations

import hashlib
import random
import shutil
import time
from pathlib import Path

from siege.handing import go_on
from siege.state import demo, harm_of_database

KILLS = 100
MOST_SECONDS = 600
#: Of a thousand small files; a kill comes within so many seconds.
FRAMES, WITHIN_S = 1000, 1.2


def _contents(*folders: Path) -> dict[str, int]:
    """How often each content is there."""
    counts: dict[str, int] = {}
    for folder in folders:
        for path in folder.rglob("*"):
            if path.is_file():
                digest = hashlib.sha256(path.read_bytes()).hexdigest()
                counts[digest] = counts.get(digest, 0) + 1
    return counts


def _heap(folder: Path, frames: Path) -> None:
    """Many files of one small frame, each of its own moment."""
    smallest = sorted(frames.rglob("*.fits"), key=lambda p: p.stat().st_size)
    data = next(d for p in smallest if b"DATE-OBS=" in (d := p.read_bytes()))
    at = data.index(b"DATE-OBS=")
    for i in range(FRAMES):
        card = f"DATE-OBS= '2026-09-{1 + i // 100:02d}T{i // 60 % 24:02d}:{i % 60:02d}:{i % 59:02d}.{i:03d}'"
        path = folder / f"heap {i // 40}" / f"frame {i}.fits"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data[:at] + card.ljust(80).encode() + data[at + 80 :])


def main(folder: Path, frames: Path) -> list[str]:
    chance, harm, caught = random.Random(11), [], 0
    heap, root = folder / "heap", folder / "sorted"
    shutil.rmtree(heap, ignore_errors=True)
    _heap(heap, frames)
    names = {p.relative_to(heap).as_posix(): p.read_bytes() for p in heap.rglob("*.fits")}
    contents = set(_contents(heap))
    server = demo(folder, frames).start()
    listed = server.post("/api/folders", {"path": str(heap)})
    server.until(lambda: not server.get("/api/jobs")["alive"], 600)
    folder_id = next(f["id"] for f in server.get("/api/intake")["folders"] if f["path"] == str(heap))
    page, ends, back = server.get("/api/filing"), time.monotonic() + MOST_SECONDS, False
    wish = {"choice": {"folder_id": folder_id}, "root": str(root), "unknown": "unknown", "along": True,
            "patterns": [{"sort": p["sort"], "text": p["text"]} for p in page["patterns"]]}  # fmt: skip
    number = 0
    for number in range(KILLS):
        if time.monotonic() > ends:
            print(f"   stopped for want of time after {number} kills")
            break
        if not server.get("/api/jobs")["alive"]:
            last = next(iter(server.get("/api/filing")["filed"]), None)
            back = last is not None and last["can_take_back"]
            if back:
                server.post(f"/api/filing/{last['id']}/take-back")
            else:
                here = next(f["id"] for f in server.get("/api/intake")["folders"] if f["path"] == str(heap))
                server.post(
                    "/api/filing",
                    {**wish, "choice": {"folder_id": here}, "way": "copy" if number % 3 == 2 else "move"},
                )
        go_on(server)
        time.sleep(chance.uniform(0.0, WITHIN_S))
        caught += any(j["state"] == "running" for j in server.get("/api/jobs")["alive"])
        server.kill()
        harm += harm_of_database(server.folder / "library")
        if not contents <= set(_contents(heap, root)):
            harm.append(f"bytes were lost at kill {number}")
            break
        server.start()
    go_on(server)
    server.until(lambda: not [j for j in server.get("/api/jobs")["alive"] if not j["can_resume"]], 300)
    for one in server.get("/api/filing")["filed"]:
        if one["can_take_back"]:
            server.post(f"/api/filing/{one['id']}/take-back")
            server.until(lambda: not server.get("/api/jobs")["alive"], 300)
    now = {p.relative_to(heap).as_posix(): p.read_bytes() for p in heap.rglob("*") if p.is_file()}
    if now != names:
        harm.append(f"{len(set(names) ^ set(now))} names are not as they were, {listed['title']}")
    left = [p for p in root.rglob("*") if p.is_file()]
    harm += [f"left behind: {p}" for p in left[:5]]
    server.kill()
    print(f"   {number + 1} kills, {caught} of them while files were brought")
    return harm
