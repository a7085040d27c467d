"""Opening the library's database: SQLite in WAL mode, brought up to date by Alembic."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.orm import Session, sessionmaker


def _pragmas(connection: Any, _record: Any) -> None:
    cursor = connection.cursor()
    for pragma in ("journal_mode=WAL", "synchronous=NORMAL", "foreign_keys=ON", "busy_timeout=15000"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


class Database:
    """The database of one library."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self.engine: Engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 15})
        event.listen(self.engine, "connect", _pragmas)
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)

    def upgrade(self) -> None:
        """Bring the tables up to date; nothing that is there is lost."""
        config = Config()
        config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
        with self.engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session; committed at the end, rolled back where an error passes through."""
        with self._sessions() as session:
            try:
                yield session
                session.commit()
            except BaseException:
                session.rollback()
                raise
