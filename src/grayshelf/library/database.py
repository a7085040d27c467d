"""The library's database: SQLite in WAL mode; one connection for each thread that asks."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import URL, Connection, Engine, create_engine, event
from sqlalchemy.orm import Session, sessionmaker

from grayshelf.library.unreadable import json_or_unreadable
from grayshelf.library.up_to_date import bring_up_to_date

#: Threads that may hold a connection at once: those of the server, of the rigs and of the heavy work, and some to spare.
CONNECTIONS = 128


def _pragmas(connection: Any, _record: Any) -> None:
    cursor = connection.cursor()
    for pragma in (
        "journal_mode=WAL",
        "synchronous=NORMAL",
        "foreign_keys=ON",
        "temp_store=MEMORY",
        "busy_timeout=15000",
    ):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def _write_from_here(connection: Connection, _name: str) -> None:
    """A part of a transaction that can be given up alone is for writing: what is read within it is read as the writer.

    Else SQLite would begin to read at its first question, and refuse to write, without waiting, where another wrote since.
    """
    driver: Any = connection.connection.driver_connection
    if not driver.in_transaction:
        driver.execute("BEGIN IMMEDIATE")


class Database:
    """The database of one library."""

    def __init__(self, path: Path) -> None:
        self.path = path
        # A path is a path: as part of an address, a '?' in it would begin the address's options.
        self.engine: Engine = create_engine(
            URL.create("sqlite", database=str(path)),
            connect_args={"timeout": 15},
            pool_size=CONNECTIONS,
            max_overflow=0,
            json_deserializer=json_or_unreadable,
        )
        event.listen(self.engine, "connect", _pragmas)
        event.listen(self.engine, "savepoint", _write_from_here)
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)
        self._open = threading.local()

    def upgrade(self) -> Path | None:
        """Bring the tables up to date, all or nothing; return the copy of the database that was made before.

        Raises
        ------
        LibraryUnusable
            Where this is no database, a newer one, or half of one. Nothing was changed.
        """
        return bring_up_to_date(self.path)

    def close(self) -> None:
        """Let all connections go."""
        self.engine.dispose()

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session; committed at the end, rolled back where an error passes through.

        Asked for again while one is open in the same thread, it is that one: it is committed where the first one
        ends. A thread never holds two connections, so that threads never wait for one another's second.
        """
        begun: Session | None = getattr(self._open, "session", None)
        if begun is not None:
            yield begun
            begun.flush()
            return
        with self._sessions() as session:
            self._open.session = session
            try:
                yield session
                session.commit()
            except BaseException:
                session.rollback()
                raise
            finally:
                self._open.session = None
                for told in self._open.__dict__.pop("afterwards", []):
                    told()

    @contextmanager
    def own_session(self) -> Iterator[Session]:
        """A session for what is kept beyond the end of this one: it reads, and another one's end leaves its rows alone."""
        with self._sessions() as session:
            yield session

    def when_written(self, tell: Callable[[], None]) -> None:
        """Call `tell` after this thread's open session is written down, or given up; not at all where none is open."""
        if getattr(self._open, "session", None) is not None:
            self._open.__dict__.setdefault("afterwards", []).append(tell)
