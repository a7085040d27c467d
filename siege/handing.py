"""kill -9 at random moments of handing over: in the end every file is there once, whole, and the same as its original."""

from __future__ import annotations

import csv
import hashlib
import random
import time
import urllib.error
from pathlib import Path

from siege.state import demo, harm_of_database

KILLS, FOLDERS = 100, 10
MOST_SECONDS = 600
#: Small files go so fast that a kill would come after the last: it comes within so many seconds.
WITHIN_S = 0.8


def _digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def _harm_of(folder: Path) -> list[str]:
    """What is wrong with a folder that was handed over into."""
    table = folder / "what-is-what.csv"
    if not table.exists():
        return [f"{folder.name}: no table"]
    rows = list(csv.DictReader(table.open()))
    harm = [
        f"{folder.name}: {row['path']} is not its original"
        for row in rows
        if not (folder / row["path"]).is_file() or _digest(folder / row["path"]) != _digest(Path(row["from"]))
    ]
    there = {p.relative_to(folder).as_posix() for p in folder.rglob("*") if p.is_file()}
    return harm + [
        f"{folder.name}: {name} is too many" for name in there - {r["path"] for r in rows} - {table.name}
    ]


def main(folder: Path, frames: Path) -> list[str]:
    chance, harm, caught = random.Random(5), [], 0
    before = {p: _digest(p) for p in frames.rglob("*.fits")}
    server = demo(folder, frames).start()
    query = {"rig_id": 1, "form": "raw frames", "target": "IC 5146"}
    ends, given = time.monotonic() + MOST_SECONDS, list[Path]()
    for number in range(KILLS):
        if time.monotonic() > ends:
            print(f"   stopped for want of time after {number} kills")
            break
        if number % (KILLS // FOLDERS) == 0:
            given.append(folder / f"given {len(given)}")
            server.post("/api/hand-over", {**query, "folder": str(given[-1]), "way": "copies"})
        go_on(server)
        time.sleep(chance.uniform(0.0, WITHIN_S))
        caught += any(j["state"] == "running" for j in server.get("/api/jobs")["alive"])
        server.kill()
        harm += harm_of_database(server.folder / "library")
        server.start()
    go_on(server)
    server.until(lambda: not [j for j in server.get("/api/jobs")["alive"] if not j["can_resume"]], 300)
    for one in given:
        harm += _harm_of(one)
    server.kill()
    harm += [f"{path} was changed" for path, was in before.items() if _digest(path) != was]
    print(f"   {number + 1} kills, {caught} of them while files were written, into {len(given)} folders")
    return harm


def go_on(server) -> None:
    """Go on with whatever can be gone on with."""
    for job in server.get("/api/jobs")["alive"]:
        if job["can_resume"]:
            try:
                server.post(f"/api/jobs/{job['id']}/resume")
            except urllib.error.HTTPError as error:
                # It goes on already.
                if error.code != 409:
                    raise
