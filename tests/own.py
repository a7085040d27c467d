"""A library of one's own, opened in this process: scanned, built from, closed and opened again."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory

from grayshelf.library.folders import DATABASE
from grayshelf.library.library import Library
from grayshelf.library.up_to_date import bring_up_to_date
from grayshelf.serving import open_context
from grayshelf.web.app import create_app
from tests.waiting import asked_until


@cache
def _empty_database() -> bytes:
    """The database of a library that was just begun."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / DATABASE
        bring_up_to_date(path)
        return path.read_bytes()


class Own:
    """A library, and a client of its application."""

    def __init__(self, root: Path, clock=None) -> None:
        self.root, self.clock = root, clock
        # Making the tables of one takes as long as all else here: they are made once.
        root.mkdir(parents=True, exist_ok=True)
        if not (root / DATABASE).exists():
            (root / DATABASE).write_bytes(_empty_database())
        self.open()

    def open(self) -> Own:
        """Open it, or open it again."""
        self.library = Library(self.root, self.clock)
        self.context = open_context(self.library)
        self.client = create_app(self.context).test_client()
        return self

    def close(self) -> None:
        """Let it go."""
        self.context.runner.shut_down()
        self.library.close()

    def again(self) -> Own:
        """As after a restart."""
        self.close()
        return self.open()

    def get(self, path: str):
        """JSON of an address that has to answer."""
        answer = self.client.get(path)
        assert answer.status_code == 200, (path, answer.status_code, answer.text[:400])
        return answer.json

    def ended(self, job_id: int):
        """A job, once it has ended."""

        # The first to combine anything on a fresh machine compiles what does it, which takes a busy one a minute.
        def job():
            jobs = self.get("/api/jobs")
            return next(j for j in jobs["alive"] + jobs["ended"] if j["id"] == job_id)

        return asked_until(job, lambda j: j["state"] not in ("queued", "running", "paused", "waiting"), 180)

    def wait_until_idle(self) -> None:
        """Wait until no job goes on, nor one that another began."""
        asked_until(lambda: self.get("/api/jobs")["alive"], lambda alive: not alive, 180)

    def scan(self, folder: Path):
        """Name a folder, or scan it again; the ended job."""
        answer = self.client.post("/api/folders", json={"path": str(folder)})
        assert answer.status_code == 200, answer.text
        return self.ended(answer.json["id"])

    def build(self, set_ids=None):
        """Build masters; the ended job."""
        answer = self.client.post("/api/builds", json={"set_ids": set_ids})
        assert answer.status_code == 200, answer.text
        return self.ended(answer.json["id"])

    def sets(self):
        """Every set that Intake lists, by number."""
        return {x["id"]: x for x in self.get("/api/sets")["items"]}

    def problems(self):
        """Every file to look at and every copy, by path."""
        lists = (self.get(f"/api/problems{which}")["items"] for which in ("", "?state=duplicate"))
        return {p["path"]: p for items in lists for p in items}

    def query(self, sql: str):
        """Rows of the database."""
        with self.library.db.session() as session:
            return session.connection().exec_driver_sql(sql).fetchall()

    def change(self, sql: str) -> None:
        """Change rows behind the application's back."""
        with self.library.db.session() as session:
            session.connection().exec_driver_sql(sql)
