"""Whether a database is whole and up to date: all that a usual start needs of it, without what upgrades one."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from grayshelf.core.errors import LibraryUnusable

BACKUPS = "backups"
MIGRATIONS = Path(__file__).parent / "migrations"
VERSION_TABLE = "alembic_version"


@dataclass(frozen=True)
class TablesAt:
    """The tables of a database with their columns, at a revision."""

    revision: str
    tables: dict[str, list[str]]


#: As the migrations make it; a test holds the two together, and `tools/new_migration.py` writes it.
NEWEST = TablesAt(**json.loads((MIGRATIONS / "newest.json").read_text()))


def bring_up_to_date(path: Path) -> Path | None:
    """Bring the database at `path` to the newest revision; return the copy made before, if one had to be made.

    Raises
    ------
    LibraryUnusable
        Where the file is damaged, newer than this application, or holds half of a library. It is left as it was.
    """
    if path.exists() and path.stat().st_size > 0:
        _refuse_damaged(path)
        if _revision(path) == NEWEST.revision:
            _refuse_half(path)
            return None
    # Loaded when it is needed: it takes as long as a tenth of a start.
    from grayshelf.library.upgrade import upgrade

    return upgrade(path, _revision(path) if path.exists() else None)


@contextmanager
def plain(path: Path) -> Iterator[sqlite3.Connection]:
    """A connection of its own, closed at its end."""
    with closing(sqlite3.connect(path, timeout=15.0)) as connection:
        yield connection


#: Checks that were begun beforehand, with the stamp of the file then.
_begun: dict[Path, tuple[tuple[int, int], Future[list[str]]]] = {}


def begin_check(path: Path) -> None:
    """Look through a database beside what else a start has to do; `bring_up_to_date` takes what was found."""
    try:
        path = path.expanduser().resolve()
        stamp = _stamp(path)
    except (OSError, RuntimeError):
        # What is in the way is said where the library is opened.
        return
    checker = ThreadPoolExecutor(1, thread_name_prefix="check")
    _begun[path] = stamp, checker.submit(_look_through, path)
    checker.shutdown(wait=False)


def _stamp(path: Path) -> tuple[int, int]:
    stat = path.stat()
    return stat.st_size, stat.st_mtime_ns


def _look_through(path: Path) -> list[str]:
    with plain(path) as connection:
        return [str(row[0]) for row in connection.execute("PRAGMA quick_check(3)")]


def _faults(path: Path) -> list[str]:
    stamp, begun = _begun.pop(path.expanduser().resolve(), (None, None))
    found = begun.result() if begun is not None else None
    # Whatever wrote to it in the meantime may have damaged it.
    return found if found is not None and stamp == _stamp(path) else _look_through(path)


def _refuse_damaged(path: Path) -> None:
    try:
        found = _faults(path)
    except sqlite3.OperationalError as error:
        raise LibraryUnusable(
            f"The library's database {path} cannot be opened ({error}). Nothing was changed.",
            "Look whether its disk is full, may only be read, or belongs to another user.",
        ) from error
    except sqlite3.DatabaseError as error:
        found = [str(error)]
    if found != ["ok"]:
        raise LibraryUnusable(
            f"The library's database {path} is damaged ({found[0]}). It was left as it is; the frames and masters are "
            "files of their own, and are not touched by this.",
            way_back(path),
        )


def way_back(path: Path) -> str:
    """What a person can do who has a database that is not whole."""
    copies = sorted((path.parent / BACKUPS).glob("*.db"), key=lambda p: p.stat().st_mtime)
    begin = (
        "or move it away and begin with --new: what lies in the library's folder is found again by its files."
    )
    if copies:
        return f"Put the copy {copies[-1]} in its place, {begin}"
    return f"Put a copy of your own in its place, {begin}"


def _revision(path: Path) -> str | None:
    with plain(path) as connection:
        if VERSION_TABLE not in names_of(connection, "table"):
            return None
        row = connection.execute(f"SELECT version_num FROM {VERSION_TABLE}").fetchone()
        return None if row is None else str(row[0])


def names_of(connection: sqlite3.Connection, kind: str) -> set[str]:
    """Names of a kind: 'table', 'index' or 'trigger', SQLite's own left out."""
    rows = connection.execute(
        "SELECT name FROM sqlite_master WHERE type = ? AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'", (kind,)
    )
    return {str(row[0]) for row in rows}


def tables_of(path: Path) -> set[str]:
    """Tables of a database."""
    with plain(path) as connection:
        return names_of(connection, "table")


def _refuse_half(path: Path) -> None:
    with plain(path) as connection:
        lost = sorted(NEWEST.tables.keys() - names_of(connection, "table"))
        for table, columns in NEWEST.tables.items():
            if table not in lost:
                lost += [f"{table}.{c}" for c in columns if c not in columns_of(connection, table)]
    if lost:
        raise not_whole(path, f"{lost[0]} is not there")


def not_whole(path: Path, what: str) -> LibraryUnusable:
    """That a database lacks something, which nobody but a copy can bring back."""
    return LibraryUnusable(f"The database {path} is not whole: {what}. It was left as it is.", way_back(path))


def columns_of(connection: sqlite3.Connection, table: str) -> list[str]:
    """Columns of a table, in order."""
    return [str(row[1]) for row in connection.execute(f'PRAGMA table_info("{table}")')]
