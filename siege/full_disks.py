"""A disk that is full while frames are filed onto it, moved to it, packed on it, dropped into it and handed over into it: it is
said, nothing is lost, and with room again it goes on to the end."""

from __future__ import annotations

import hashlib
import random
import shutil
import time
from pathlib import Path
from urllib.error import HTTPError

from siege.disks import fill_up, on_small_disk
from siege.handing import go_on
from siege.letting_go import _forms, heap_of_darks
from siege.state import demo, harm_of_database

SIZE_MB, FRAMES = 260, 150


def main(folder: Path, frames: Path) -> list[str]:
    """What was found to be harmed."""
    return on_small_disk(folder, SIZE_MB, lambda disk: _attack(disk, folder, frames))


def _attack(disk: Path, folder: Path, frames: Path) -> list[str]:
    chance, harm = random.Random(3), list[str]()
    heap, ballast = folder / "raw", disk / "ballast"
    heap_of_darks(heap, FRAMES, (400, 500))
    # One half lies on the small disk itself, where it is packed.
    small = disk / "small"
    small.mkdir()
    for path in sorted(heap.iterdir())[: FRAMES // 3]:
        shutil.move(path, small / path.name)
    names = {p: hashlib.sha256(p.read_bytes()).hexdigest() for p in [*heap.iterdir(), *small.iterdir()]}
    contents = set(names.values())
    server = demo(folder, frames).start()
    for one in (heap, small):
        server.post("/api/folders", {"path": str(one)})
        server.until(lambda: not server.get("/api/jobs")["alive"], 300)
    server.post("/api/builds", {"set_ids": None})
    server.until(lambda: not server.get("/api/jobs")["alive"], 300)
    waited = failed = 0
    for way in ("copy", "move", "pack", "hand over"):
        for left in (0, 300_000, 4_000_000):
            fill_up(disk, ballast, left)
            try:
                _begin(server, way, disk, heap)
            except HTTPError as refused:
                # Told before anything is touched.
                if refused.code not in (409, 507):
                    harm.append(f"{way}: {refused.code} {refused.read()[:200]!r}")
                refused.close()
                ballast.unlink()
                failed += 1
                continue
            time.sleep(chance.uniform(1.5, 3.0))
            told = server.get("/api/jobs")["alive"]
            waited += any("needed in" in j["message"] or j["state"] == "waiting" for j in told)
            lost = _lost(contents, heap, disk)
            if lost:
                harm.append(f"{way} with {left:,} bytes left: {len(lost)} frames are gone")
            ballast.unlink()
            go_on(server)
            server.until(lambda: not server.get("/api/jobs")["alive"], 120)
            # With room it can be begun again, and ends.
            for filed in server.get("/api/filing")["filed"] + server.get("/api/room")["filed"]:
                if filed["can_take_back"]:
                    try:
                        server.post(f"/api/filing/{filed['id']}/take-back")
                    except HTTPError as gone:
                        # It stands on both pages.
                        gone.close()
                    server.until(lambda: not server.get("/api/jobs")["alive"], 120)
            now = {p: hashlib.sha256(p.read_bytes()).hexdigest() for p in names if p.is_file()}
            if now != names:
                harm.append(
                    f"after {way}, {left:,} bytes left: {len(names) - len(now)} are not where they were"
                )
                break
    harm += harm_of_database(server.folder / "library")
    server.kill()
    print(
        f"   12 times on a full disk: work waited for room {waited} times, and was refused before it began {failed} times"
    )
    return harm


def _lost(contents: set[str], *folders: Path) -> set[str]:
    """What is in none of these folders, however often one looks: files move while they are read."""
    lost = contents
    for _ in range(4):
        try:
            lost = lost - set().union(*(_forms(folder) for folder in folders))
        except OSError:
            # Moved on between its listing and its reading.
            continue
    return lost


def _begin(server, way: str, disk: Path, heap: Path) -> None:
    if way == "hand over":
        ids = [i for n in server.get("/api/room")["nights"] for i in n["set_ids"]]
        server.post(
            "/api/hand-over",
            {
                "rig_id": 1,
                "form": "raw frames",
                "target": "IC 5146",
                "folder": str(disk / f"given {time.monotonic_ns()}"),
                "way": "copies",
            },
        )
        assert ids
        return
    if way == "pack":
        ids = [i for n in server.get("/api/room")["nights"] if n["night"] == "1 Sep 26" for i in n["set_ids"]]
        server.post("/api/room/let-go", {"set_ids": ids, "way": "pack"})
        return
    page = server.get("/api/filing")
    here = next(f["id"] for f in server.get("/api/intake")["folders"] if f["path"] == str(heap))
    wish = {"choice": {"folder_id": here}, "root": str(disk / "sorted"), "unknown": "unknown", "along": True, "way": way,
            "patterns": [{"sort": p["sort"], "text": p["text"]} for p in page["patterns"]]}  # fmt: skip
    server.post("/api/filing", wish)
