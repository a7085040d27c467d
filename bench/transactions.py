"""How long other work has to wait for the database: the longest transaction that writes, while a large folder is scanned,
scanned again, set to another time zone and taken off the list. The limit is 200 ms; reads never wait."""

from __future__ import annotations

import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy import event
from tests.helpers import DARK, write_fits
from tests.own import Own

from grayshelf.web.warm_up import Asked, warm_up

FRAMES = 50_000
LIMIT_MS = 200


class Watched:
    """Times every transaction of a library from its first writing statement to its end."""

    def __init__(self, engine) -> None:
        self.longest, self.said, self._lock = 0.0, "", threading.Lock()
        event.listen(engine, "before_cursor_execute", self._begins)
        event.listen(engine, "commit", self._ends)
        event.listen(engine, "rollback", self._ends)

    def _begins(self, connection, _cursor, statement, *_rest) -> None:
        if statement.lstrip()[:6].upper() in ("INSERT", "UPDATE", "DELETE") and "w" not in connection.info:
            connection.info["w"] = (time.perf_counter(), statement.split("\n")[0][:60])

    def _ends(self, connection) -> None:
        begun = connection.info.pop("w", None)
        if begun is not None:
            took = time.perf_counter() - begun[0]
            with self._lock:
                if took > self.longest:
                    self.longest, self.said = took, begun[1]


@contextmanager
def measured(own: Own, what: str) -> Iterator[None]:
    watched = own.watched = getattr(own, "watched", None) or Watched(own.library.db.engine)
    watched.longest, begun = 0.0, time.perf_counter()
    yield
    took = time.perf_counter() - begun
    print(
        f"{what:38} {took:6.1f} s, longest transaction that writes {1000 * watched.longest:4.0f} ms (limit {LIMIT_MS} ms)"
        f"   {watched.said if 1000 * watched.longest > LIMIT_MS else ''}"
    )


def many(folder: Path, count: int) -> Path:
    """So many darks, of 250 a night."""
    pattern = write_fits(folder / "pattern.fits", DARK)
    plain = pattern.read_bytes()
    at = plain.index(b"2026-10-18T22:00:00")
    pattern.unlink()
    for i in range(count):
        night, number = divmod(i, 250)
        month, day = divmod(night, 28)
        when = (
            f"{2019 + month // 12}-{month % 12 + 1:02d}-{day + 1:02d}T22:{number // 60:02d}:{number % 60:02d}"
        )
        path = folder / f"{night:04d}" / f"dark_{number:03d}.fits"
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(plain[:at] + when.encode() + plain[at + len(when) :])
    return folder


def ended(own: Own, job_id: int) -> None:
    while own.get("/api/jobs")["alive"]:
        time.sleep(0.2)


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = many(Path(name) / "frames", FRAMES)
        own = Own(Path(name) / "library")
        # As it is served: what was loaded at the start is not gone through by the collector again.
        warm_up(own.context, Asked(), wait_s=60)
        with measured(own, f"first scan of {FRAMES:,} frames"):
            ended(own, own.client.post("/api/folders", json={"path": str(folder)}).json["id"])
        with measured(own, "scan again, nothing new"):
            ended(own, own.client.post("/api/folders/2/scan").json["id"])
        folder.rename(folder.with_name("away"))
        folder.mkdir()
        with measured(own, "scan of its empty mount point"):
            ended(own, own.client.post("/api/folders/2/scan").json["id"])
        folder.rmdir()
        folder.with_name("away").rename(folder)
        with measured(own, "scan, all of it back"):
            ended(own, own.client.post("/api/folders/2/scan").json["id"])
        with measured(own, "another time zone"):
            own.client.put("/api/site", json={"name": "x", "time_zone": "Pacific/Auckland"})
        with measured(own, "taken off the list"):
            own.client.delete("/api/folders/2")
        own.close()
