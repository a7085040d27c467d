"""The library's database: killed while it is made or brought up to date, half made by an older version, or no database."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing, contextmanager

import pytest
from alembic import command
from sqlalchemy import URL, create_engine, event

from grayshelf.cli import main
from grayshelf.core.errors import LibraryUnusable
from grayshelf.library import upgrade
from grayshelf.library.database import Database
from grayshelf.library.library import Library

#: Every so many statements the process is killed.
EVERY = 9


@contextmanager
def opened(path):
    """A connection that is closed at its end."""
    with closing(sqlite3.connect(path)) as connection, connection:
        yield connection


def revisions():
    return [s.revision for s in reversed(list(upgrade._scripts().walk_revisions()))]


def at_revision(path, revision):
    """A database as an older version left it, with a site in it."""
    engine = create_engine(URL.create("sqlite", database=str(path)))
    with engine.begin() as connection:
        command.upgrade(upgrade._config(connection), revision)
        connection.exec_driver_sql(
            "insert into setting (key, value) values ('site', '{\"name\": \"Heath\"}')"
        )
    engine.dispose()
    return path


def is_whole(path):
    database = Database(path)
    database.upgrade()
    database.close()
    with opened(path) as connection:
        assert connection.execute("pragma integrity_check").fetchone() == ("ok",)
        assert connection.execute("pragma foreign_key_check").fetchall() == []
        return connection.execute("select value from setting").fetchall()


@pytest.mark.parametrize("start", [None, *revisions()[:-1]])
def test_killed_at_any_statement_the_next_start_goes_on(tmp_path, monkeypatch, start):
    path = tmp_path / "work" / "grayshelf.db"
    path.parent.mkdir()
    if start:
        at_revision(path, start)
    statements, copies = [0], []

    def killed_here(_statement):
        statements[0] += 1
        if statements[0] % EVERY == 1:
            # What lies on the disk at this moment is what a kill leaves.
            copies.append(shutil.copytree(path.parent, tmp_path / f"killed {statements[0]}"))

    plain = upgrade._own_transactions

    def watched(where):
        connection = plain(where)
        connection.set_trace_callback(killed_here)
        return connection

    monkeypatch.setattr(upgrade, "_own_transactions", watched)
    Database(path).upgrade()
    monkeypatch.undo()
    assert len(copies) >= 2
    for copy in copies:
        assert len(is_whole(copy / "grayshelf.db")) == (1 if start else 0)


@pytest.mark.parametrize("start", [None, *revisions()[:-1]])
def test_what_an_older_version_left_half_made_is_healed(tmp_path, start):
    """Older versions let the driver end the transaction at each statement that changes a table."""
    for cut_at in range(2, 60, 7):
        path = tmp_path / f"half {cut_at}.db"
        if start:
            at_revision(path, start)
        engine = create_engine(URL.create("sqlite", database=str(path)))
        counted = [0]

        @event.listens_for(engine, "before_cursor_execute")
        def cut(_c, _k, statement, *_rest, counted=counted, cut_at=cut_at):
            counted[0] += (
                statement.lstrip().upper().startswith(("CREATE", "ALTER", "INSERT", "UPDATE", "DROP"))
            )
            if counted[0] > cut_at:
                raise KeyboardInterrupt

        try:
            with engine.begin() as connection:
                command.upgrade(upgrade._config(connection), "head")
        except KeyboardInterrupt:
            pass
        engine.dispose()
        assert len(is_whole(path)) == (1 if start else 0), cut_at


def test_a_copy_is_made_and_checked_before_an_upgrade(tmp_path):
    root = tmp_path / "is it? 100%"
    root.mkdir()
    at_revision(root / "grayshelf.db", revisions()[1])
    library = Library(root)
    with library.db.session() as session:
        assert library.site(session)["name"] == "Heath"
    assert library.copied_to is not None
    with opened(library.copied_to) as copy:
        assert copy.execute("select version_num from alembic_version").fetchone() == (revisions()[1],)
    library.close()
    again = Library(root, begin=False)
    assert again.copied_to is None
    again.close()


def test_what_cannot_be_opened_is_said_in_a_sentence_and_left_as_it_was(tmp_path, capsys):
    newer, corrupt, half = (tmp_path / name for name in ("newer", "corrupt", "half"))
    for root in (newer, corrupt, half):
        root.mkdir()
        Database(root / "grayshelf.db").upgrade()
    with opened(newer / "grayshelf.db") as connection:
        connection.execute("update alembic_version set version_num = 'ffff00001111'")
    with (corrupt / "grayshelf.db").open("r+b") as stream:
        stream.seek(0)
        stream.write(b"\xa5" * 9000)
    with opened(half / "grayshelf.db") as connection:
        connection.execute("drop table panel_curve")
    lost = tmp_path / "lost"
    (lost / "masters").mkdir(parents=True)
    (tmp_path / "mount point").mkdir()
    (tmp_path / "a file").write_text("notes")
    for root, words in (
        (newer, "newer Gray Shelf"),
        (corrupt, "is damaged"),
        (half, "panel_curve is not there"),
        (lost, "lost its database"),
        (tmp_path / "mount point", "is empty"),
        (tmp_path / "nowhere", "no folder"),
        (tmp_path / "a file" / "library", "no folder"),
    ):
        before = {p: p.read_bytes() for p in root.rglob("*") if p.suffix == ".db"} if root.is_dir() else {}
        assert main(["serve", "--library", str(root), "--port", "0"]) == 1
        said = capsys.readouterr().err
        assert words in said, said
        assert "Traceback" not in said
        assert {p: p.read_bytes() for p in before} == before
    assert not (tmp_path / "nowhere").exists(), "a library that is not there is not begun anew"


def test_a_library_is_open_in_one_process_and_the_second_says_who_has_it(tmp_path):
    first = Library(tmp_path / "library")
    first.lock.says("http://127.0.0.1:8417/")
    with pytest.raises(LibraryUnusable, match=r"process \d+ on .*8417"):
        Library(tmp_path / "library")
    first.close()
    Library(tmp_path / "library").close()
