"""Disks and folders that go away, in a scan and between scans, and come back."""

from __future__ import annotations

import random
import threading
import time
from pathlib import Path

from tests.own import Own
from tests.web.nights_on_disk import a_night

ROUNDS = 30


def _known(own: Own) -> list[tuple]:
    return own.query("select id, set_id, path, state from frame order by id")


def main(folder: Path, frames: Path) -> list[str]:
    chance, harm, failed = random.Random(3), [], 0
    own, disk = Own(folder / "library"), a_night(folder / "disk", 60)
    own.scan(disk)
    own.build()
    masters = own.query("select id, master_set_id from frame_set order by id")
    before = _known(own)
    for number in range(ROUNDS):
        what = chance.choice([disk, disk / "flat", disk / "dark"])
        away = folder / "away"

        def go(what: Path = what, away: Path = away) -> None:
            time.sleep(chance.uniform(0.0, 0.25))
            what.rename(away)
            if chance.random() < 0.5:
                what.mkdir()

        for path in chance.sample(sorted(disk.rglob("*.fits")), 80):
            # Looks changed, so that it is read again.
            path.touch()
        thread = threading.Thread(target=go)
        thread.start()
        job = own.ended(own.client.post("/api/folders/2/scan").json["id"])
        failed += job["state"] == "failed"
        thread.join()
        own.ended(own.client.post("/api/folders/2/scan").json["id"])
        if what.is_dir():
            what.rmdir()
        away.rename(what)
        own.ended(own.client.post("/api/folders/2/scan").json["id"])
        if _known(own) != before:
            harm.append(f"round {number}: frames are not what they were")
            before = _known(own)
        if own.query("select id, master_set_id from frame_set order by id") != masters:
            harm.append(f"round {number}: sets or masters are not what they were")
            masters = own.query("select id, master_set_id from frame_set order by id")
    own.close()
    print(f"   {ROUNDS} rounds; {failed} scans were told as one event, all came back")
    return harm
