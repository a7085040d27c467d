"""Bringing a database up to date: in one transaction, after a checked copy, and mended first where it was left half made."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from functools import cache
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, create_engine, event
from sqlalchemy.pool import NullPool, StaticPool

from grayshelf.core.errors import LibraryUnusable
from grayshelf.library.up_to_date import (
    BACKUPS,
    MIGRATIONS,
    VERSION_TABLE,
    columns_of,
    names_of,
    not_whole,
    plain,
    tables_of,
    way_back,
)

#: Copies from before an upgrade that are kept; older ones make room for newer ones.
BACKUPS_KEPT = 5


def upgrade(path: Path, revision: str | None) -> Path | None:
    """Bring the database at `path` from a revision to the newest; return the copy made before, if one had to be made.

    Raises
    ------
    LibraryUnusable
        Where it is newer than this application, or holds half of a library. It is left as it was.
    """
    _refuse_newer(path, revision)
    there = path.exists() and path.stat().st_size > 0
    copy = _copy(path, revision or "the start") if there and tables_of(path) - {VERSION_TABLE} else None
    _migrate(path)
    return copy


def _config(connection: Connection | None = None) -> Config:
    config = Config()
    # The folder's name may hold a '%', which the configuration would read as its own.
    config.set_main_option("script_location", str(MIGRATIONS).replace("%", "%%"))
    if connection is not None:
        config.attributes["connection"] = connection
    return config


def _scripts() -> ScriptDirectory:
    return ScriptDirectory.from_config(_config())


def _refuse_newer(path: Path, revision: str | None) -> None:
    if revision is not None and revision not in {s.revision for s in _scripts().walk_revisions()}:
        raise LibraryUnusable(
            f"The library's database {path} was made by a newer Gray Shelf (revision {revision}). It was left as it is.",
            "Start that newer one, or name another --library.",
        )


def _copy(path: Path, revision: str) -> Path:
    """A copy by SQLite's own online backup, read back and checked before it has its name."""
    folder = path.parent / BACKUPS
    folder.mkdir(exist_ok=True)
    stem = f"{path.stem}-before-upgrade-{datetime.now(UTC):%Y%m%dT%H%M%S}-from-{revision.replace(' ', '-')}"
    target, part = folder / f"{stem}.db", folder / f"{stem}.part"
    part.unlink(missing_ok=True)
    try:
        with plain(path) as source, closing(sqlite3.connect(part)) as copy:
            source.backup(copy)
            copy.execute("PRAGMA journal_mode=DELETE")
        with plain(path) as source, closing(sqlite3.connect(part)) as copy:
            checked = copy.execute("PRAGMA integrity_check").fetchone()[0]
            if checked != "ok" or _counts(copy) != _counts(source):
                raise LibraryUnusable(
                    f"The copy of {path} that is made before an upgrade is not what it should be ({checked}). "
                    "Nothing was changed.",
                    "Check the disk, then start again.",
                )
        with part.open("rb") as stream:
            os.fsync(stream.fileno())
        part.replace(target)
    except (OSError, sqlite3.Error) as error:
        raise LibraryUnusable(
            f"The database could not be copied before it is brought up to date ({error}). Nothing was changed.",
            f"Make room on the disk of {path.parent}, then start again.",
        ) from error
    finally:
        part.unlink(missing_ok=True)
    copies = sorted(folder.glob(f"{path.stem}-before-upgrade-*.db"), key=lambda p: p.stat().st_mtime)
    for old in copies[:-BACKUPS_KEPT]:
        old.unlink()
    return target


def _counts(connection: sqlite3.Connection) -> dict[str, int]:
    return {
        name: connection.execute(f'SELECT count(*) FROM "{name}"').fetchone()[0]
        for name in names_of(connection, "table")
    }


def _migrate(path: Path) -> None:
    """Everything in one transaction: killed at any moment, the database is what it was before."""
    engine = create_engine("sqlite://", creator=lambda: _own_transactions(path), poolclass=NullPool)
    event.listen(engine, "begin", lambda connection: connection.exec_driver_sql("BEGIN EXCLUSIVE"))
    try:
        with engine.connect() as connection, connection.begin():
            _mend_half_made(connection, path)
            command.upgrade(_config(connection), "head")
            broken = connection.exec_driver_sql("PRAGMA foreign_key_check").fetchall()
            if broken:
                raise LibraryUnusable(
                    f"{len(broken)} rows of {path} refer to rows that are not there (the first in {broken[0][0]}), so it "
                    "was not brought up to date. Nothing was changed.",
                    way_back(path),
                )
    except sqlite3.Error as error:
        raise _not_migrated(path, error) from error
    except Exception as error:
        if isinstance(getattr(error, "orig", None), sqlite3.Error):
            raise _not_migrated(path, error.orig) from error  # type: ignore[attr-defined]
        raise
    finally:
        engine.dispose()


def _not_migrated(path: Path, error: Exception) -> LibraryUnusable:
    return LibraryUnusable(
        f"The database {path} could not be brought up to date ({error}). It is what it was before.",
        "Look whether its disk is full or may only be read, then start again.",
    )


def _own_transactions(path: Path) -> sqlite3.Connection:
    """A connection that begins and ends transactions only where it is told: the driver would end them at each DDL."""
    connection = sqlite3.connect(path, timeout=15.0, isolation_level=None)
    # Foreign keys are off while tables are made anew, and checked before the end.
    connection.execute("PRAGMA journal_mode=WAL")
    return connection


def _mend_half_made(connection: Connection, path: Path) -> None:
    """Take away what a migration that was cut short left behind, so that it can be done from its beginning.

    Earlier versions did not migrate in a transaction: a table, a column or an index of the next revision may be there
    already. What the recorded revision does not have is dropped where no row would be lost by it.
    """
    raw = connection.connection.driver_connection
    assert isinstance(raw, sqlite3.Connection)
    if not names_of(raw, "table"):
        return
    revision = None
    if VERSION_TABLE in names_of(raw, "table"):
        row = raw.execute(f"SELECT version_num FROM {VERSION_TABLE}").fetchone()
        revision = None if row is None else str(row[0])
    wanted = schema_at(revision)
    named = {name for _, names in wanted.values() for name in names}
    for trigger in sorted(names_of(raw, "trigger") - named):
        raw.execute(f'DROP TRIGGER "{trigger}"')
    # What a virtual table keeps for itself goes with it; it holds nothing that is not in another table.
    for table in sorted(_virtual_tables(raw) - wanted.keys()):
        raw.execute(f'DROP TABLE "{table}"')
    for table in sorted(names_of(raw, "table") - wanted.keys() - {VERSION_TABLE}):
        if raw.execute(f'SELECT 1 FROM "{table}" LIMIT 1').fetchone() is not None:
            raise not_whole(path, f"the table {table} holds rows, but no revision says what they are")
        raw.execute(f'DROP TABLE "{table}"')
    lost = sorted(wanted.keys() - names_of(raw, "table"))
    if lost:
        raise not_whole(path, f"the table {lost[0]} is not there")
    for index in sorted(names_of(raw, "index") - named):
        raw.execute(f'DROP INDEX "{index}"')
    for table, (columns, _) in wanted.items():
        have = columns_of(raw, table)
        for column in have:
            if column not in columns:
                # Just added, and filled with nothing but its default.
                raw.execute(f'ALTER TABLE "{table}" DROP COLUMN "{column}"')
        missing = [c for c in columns if c not in have]
        if missing:
            raise not_whole(path, f"{missing[0]} of {table} is not there")


def _virtual_tables(connection: sqlite3.Connection) -> set[str]:
    rows = connection.execute("SELECT name FROM sqlite_master WHERE sql LIKE 'CREATE VIRTUAL TABLE%'")
    return {str(row[0]) for row in rows}


def newest() -> dict[str, object]:
    """The newest revision and its tables with their columns, from the migrations themselves."""
    revision = _scripts().get_current_head()
    return {"revision": revision, "tables": {t: c for t, (c, _) in sorted(schema_at(revision).items())}}


@cache
def schema_at(revision: str | None) -> dict[str, tuple[list[str], set[str]]]:
    """Columns of each table at a revision, and names of its indexes and triggers, from the migrations themselves."""
    if revision is None:
        return {}
    engine = create_engine("sqlite://", poolclass=StaticPool)
    try:
        with engine.connect() as connection, connection.begin():
            command.upgrade(_config(connection), revision)
            raw = connection.connection.driver_connection
            assert isinstance(raw, sqlite3.Connection)
            return {
                table: (
                    columns_of(raw, table),
                    {
                        str(row[1])
                        for row in raw.execute(f'PRAGMA index_list("{table}")')
                        if not str(row[1]).startswith("sqlite_")
                    }
                    | names_of(raw, "trigger"),
                )
                for table in names_of(raw, "table") - {VERSION_TABLE}
            }
    finally:
        engine.dispose()
