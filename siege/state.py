"""What has to hold of a library after every attack."""

from __future__ import annotations

import atexit
import sqlite3
from contextlib import closing
from pathlib import Path

from tests.web.server import Server

from grayshelf.library.folders import NOT_ON_A_SHELF, looks_like_frame


def demo(folder: Path, frames: Path, rate: float = 400.0) -> Server:
    """A demo of its own on frames that were made once; not started yet."""
    (folder / "demo").mkdir()
    (folder / "demo" / "frames").symlink_to(frames)
    server = Server(folder / "demo", rate)
    # Whatever ends the siege, none of its servers goes on.
    atexit.register(lambda: server.process and server.process.kill())
    return server


def rows(library: Path, sql: str) -> list[tuple]:
    """Rows of a library's database."""
    with closing(sqlite3.connect(library / "grayshelf.db", timeout=20)) as connection:
        return connection.execute(sql).fetchall()


def harm_of_database(library: Path) -> list[str]:
    """What is wrong with the database itself."""
    harm = [str(r) for r in rows(library, "pragma integrity_check") if r != ("ok",)]
    return harm + [f"foreign key: {r}" for r in rows(library, "pragma foreign_key_check")]


def harm_done(library: Path, *, alive: bool = False) -> list[str]:
    """Rows without files, files without rows, rows twice, stuck jobs.

    Parameters
    ----------
    alive
        Whether something may be going on.
    """
    harm = harm_of_database(library)
    told = rows(
        library,
        "select folder.path, frame.path, state, missing_since is null from frame join folder on folder.id = folder_id "
        "where state in ('good', 'lacking', 'duplicate')",
    )
    harm += [f"no file: {r}" for r in told if r[3] and not (Path(r[0]) / r[1]).is_file()]
    known = {
        p
        for (p,) in rows(library, "select frame.path from frame join folder on folder.id = folder_id and own")
    }
    shots = {p for (p,) in rows(library, "select path from run_shot")}
    for path in library.rglob("*"):
        name = path.relative_to(library).as_posix()
        if not path.is_file() or not looks_like_frame(path.name):
            continue
        if name not in known | shots and name.split("/")[0] not in NOT_ON_A_SHELF:
            harm.append(f"no row: {name}")
    if not alive:
        stuck = rows(
            library,
            "select id, kind, state from job where state in ('queued', 'running', 'paused', 'waiting')",
        )
        harm += [f"stuck: {r}" for r in stuck]
    return harm


def pages_that_fail(server: Server, addresses: list[str]) -> list[str]:
    """Those of some addresses that do not answer."""
    failed = []
    for address in addresses:
        try:
            server.get(address)
        except Exception as error:
            failed.append(f"{address}: {error}")
    return failed


MAIN_PAGES = [
    "/api/state", "/api/jobs", "/api/intake", "/api/problems", "/api/sets",
    *(f"/api/rigs/{r}/{p}" for r in (1, 2) for p in ("shelf", "nights", "tonight", "fill", "flats", "bench/offset", "bench/gain")),
]  # fmt: skip
