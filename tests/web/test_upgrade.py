"""The library's database: killed while it is made or brought up to date, half made by an older version, or no database."""

from __future__ import annotations

import shutil
import sqlite3
import time
from contextlib import closing, contextmanager
from dataclasses import asdict

import pytest
from alembic import command
from sqlalchemy import URL, create_engine, event

from grayshelf.cli import main
from grayshelf.core.errors import LibraryUnusable
from grayshelf.core.flats.settings import RowKey
from grayshelf.library import upgrade
from grayshelf.library.database import Database
from grayshelf.library.library import Library
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import (
    BuildOutcome,
    GateParams,
    JobResult,
    RunJob,
    SearchJob,
    SearchOutcome,
    SearchParams,
    SheetParams,
    ShotStats,
    SkyOutcome,
)
from grayshelf.library.up_to_date import NEWEST, begin_check

#: Every so many statements the process is killed: often where all tables are made, seldom where a few are changed.
EVERY, EVERY_OF_FEW = 9, 23
#: Versions that knew no later revision did not migrate in one transaction; all later ones did.
LAST_IN_MANY_TRANSACTIONS = "d92a6e0b7f14"


@contextmanager
def opened(path):
    """A connection that is closed at its end."""
    with closing(sqlite3.connect(path)) as connection, connection:
        yield connection


def revisions():
    return [s.revision for s in reversed(list(upgrade._scripts().walk_revisions()))]


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """Databases as older versions left them, each made once."""
    folder = tmp_path_factory.mktemp("older")

    def copied(path, revision):
        once = folder / f"{revision}.db"
        if not once.exists():
            at_revision(once, revision)
        shutil.copy(once, path)

    return copied


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
def test_killed_at_any_statement_the_next_start_goes_on(tmp_path, monkeypatch, made, start):
    path = tmp_path / "work" / "grayshelf.db"
    path.parent.mkdir()
    if start:
        made(path, start)
    statements, copies = [0], []

    def killed_here(_statement):
        statements[0] += 1
        if statements[0] % (EVERY_OF_FEW if start else EVERY) == 1:
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


@pytest.mark.parametrize("start", [None, *revisions()[: revisions().index(LAST_IN_MANY_TRANSACTIONS)]])
def test_what_an_older_version_left_half_made_is_healed(tmp_path, made, start):
    """Older versions let the driver end the transaction at each statement that changes a table."""
    for cut_at in range(2, 60, 7):
        path = tmp_path / f"half {cut_at}.db"
        if start:
            made(path, start)
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
                command.upgrade(upgrade._config(connection), LAST_IN_MANY_TRANSACTIONS)
        except KeyboardInterrupt:
            pass
        engine.dispose()
        assert len(is_whole(path)) == (1 if start else 0), cut_at


def test_masters_that_a_scan_looked_at_as_at_frames_have_the_steps_of_their_frames_again(tmp_path, made):
    path = tmp_path / "before.db"
    made(path, "4b9e2d7fa016")
    with opened(path) as connection:
        columns = (
            "id, kind, is_master, n_frames, n_kept, facts, taken_off, sample_step, level_adu, master_set_id"
        )
        for row in (
            (1, "dark", 1, 6, 6, "{}", 0, 1, 501.3, None),
            (2, "dark", 0, 6, 6, "{}", 0, 16, 504.0, 1),
            # Of another program; built here, and its frames are gone.
            (3, "dark", 1, 9, 9, "{}", 0, 4, 700.0, None),
            (4, "flat", 1, 9, 9, "{}", 0, 1, 1.02, None),
        ):
            connection.execute(f"INSERT INTO frame_set ({columns}) VALUES ({', '.join('?' * 10)})", row)
        for master, built_here in ((1, 1), (3, 0), (4, 1)):
            told = (master, built_here, "mean", "[]", "{}")
            connection.execute(
                "INSERT INTO master_record (set_id, built_here, method, care, figures) VALUES (?, ?, ?, ?, ?)",
                told,
            )
    is_whole(path)
    with opened(path) as connection:
        found = connection.execute("SELECT id, sample_step, level_adu FROM frame_set ORDER BY id").fetchall()
    assert found == [(1, 16, None), (2, 16, 504.0), (3, 4, 700.0), (4, None, None)]


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


#: As the version before this one wrote them, copied from a library of its.
KEPT_BEFORE = {
    RunJob: {
        "rows": [
            {"filter_code": "SII", "gain": 200.0, "offset": 30.0, "binning": 1, "n_flats": 25, "n_dark_flats": 25,
             "lights": 17, "focus": 12140.0, "angle_deg": 91.2, "brightness": 60, "prior_exposure_s": None, "stack": [],
             "stack_stops": 0.0, "wheel_position": 6, "targets": ["NGC 6888"], "hole": True}
        ],
        "put_away": True,
    },
    SearchJob: {"shared": False, "response": False, "folder": "/home/x/flats", "since": 1.5},
    GateParams: {
        "gate": "diffuser", "stops": 1.5, "needs_person": True, "seconds": 120.0, "advice": "Too bright. Hang it.",
        "answer": "It hangs: try L again", "leave_out": "Leave L out",
    },
    SheetParams: {
        "exposure_s": 6.5, "exposure_known": True, "seconds": 200.0, "needs_person": False,
        "target": {"level_adu": 16_384.0, "tolerance_adu": 1_638.0, "white_adu": 65_535, "brightest_limit_adu": 6e4},
        "window": {"shortest": {"exposure_s": 0.5, "reason": "bands"}, "longest": {"exposure_s": 30, "reason": "limit"},
                   "probe_s": 0.02},
    },
    SearchParams: {
        "key": {"filter_code": "L", "gain": 100, "offset": 30, "binning": 1}, "stack": ["cloth"], "group": "tile|cloth",
        "tried": [""], "brightness": None,
    },
    SearchOutcome: {
        "next": None,
        "no_answer": {
            "direction": "too bright", "stops": 1.5, "at_least": False, "bound": {"exposure_s": 0.5, "reason": "bands"},
            "message": "It is too bright.", "advice": "Add 1.5 stops.", "brightness": 20, "level_adu": 81_000.0,
            "filter": "L", "stack": [], "widened": 0.17, "hang": ["cloth"], "short_by": 0.0, "sentence": "Hang it.",
        },
        "refused": [{"name": "a.fits", "why": "It is a light."}],
    },
    SkyOutcome: {"place": "frames/x", "next": {"until": "2026-10-18T17:20:00+00:00", "why": "too bright yet"}},
    ShotStats: {
        "n_pixels": 9, "minimum": 1, "maximum": 9, "mean": 5.0, "median": 5.0, "spread": 1.0, "zeros": 0,
        "brightest_permille": 9.0, "saturated_fraction": 0.0, "weakest_median": None, "signal": 4.0,
        "brightest_signal": 8.0, "test": False, "counts": False, "read": True,
    },
    BuildOutcome: {"masters": [4, 5], "failed": [{"title": "the master flat", "message": "No.", "advice": "Go on."}]},
    JobResult: {"message": "done", "afterwards": ["Take the panel down."], "rigs": [], "states": {"good": 3}},
}  # fmt: skip


#: And what each of them has to say now.
TOLD = {
    RunJob: lambda r: r.put_away and r.rows[0].targets == ("NGC 6888",) and r.rows[0].begin_s is None,
    SearchJob: lambda r: r.folder == "/home/x/flats" and r.mode is None,
    GateParams: lambda r: r.may_leave_out and r.total is None and r.stops == 1.5,
    SheetParams: lambda r: (
        r.window.longest.exposure_s == 30.0 and r.target.tolerance_adu == 1_638.0 and r.stack is None
    ),
    SearchParams: lambda r: r.key == RowKey("L", 100.0, 30.0, 1) and r.stack == ("cloth",) and r.mode is None,
    SearchOutcome: lambda r: (
        r.no_answer.bound.exposure_s == 0.5 and r.refused[0].name == "a.fits" and r.found is None
    ),
    SkyOutcome: lambda r: r.next.until.hour == 17 and r.place == "frames/x",
    ShotStats: lambda r: not r.counts and r.read and r.signal == 4.0,
    BuildOutcome: lambda r: r.masters == (4, 5) and r.failed[0].advice == "Go on.",
    JobResult: lambda r: r.afterwards == ("Take the panel down.",) and r.failed == (),
}


@pytest.mark.parametrize("kind", KEPT_BEFORE)
def test_what_the_version_before_kept_of_its_work_is_read(kind):
    record = read(kind, KEPT_BEFORE[kind])
    assert TOLD[kind](record)
    assert read(kind, as_kept(record)) == record, "and as it is written now"


def test_what_a_start_takes_for_the_newest_schema_is_what_the_migrations_make():
    assert upgrade.newest() == asdict(NEWEST), "run tools/new_migration.py"


def test_a_check_that_was_begun_beforehand_counts_only_for_the_file_as_it_was(tmp_path):
    path = tmp_path / "library.db"
    Database(path).upgrade()
    begin_check(path)
    assert Database(path).upgrade() is None
    begin_check(path)
    time.sleep(0.2)
    damaged = bytearray(path.read_bytes())
    damaged[4096:12_288] = bytes(8_192)
    path.write_bytes(damaged)
    with pytest.raises(LibraryUnusable, match=r"damaged|not whole"):
        Database(path).upgrade()
