"""A database in which something makes no sense: no page goes down, what can be is read anew, nothing is lost."""

from __future__ import annotations

import json
import time
from concurrent.futures import ThreadPoolExecutor

import pytest
from hypothesis import given
from hypothesis import strategies as st

from grayshelf.library.unreadable import Unreadable, json_or_unreadable
from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.pages import every_page

#: How a fault of ours, or of the disk, could leave a set's row: a word where a number belongs, text that is no JSON.
DAMAGE = {
    "a word for a day": ("facts = json_set(facts, '$.night', 'not a day')", "not a day"),
    "cut facts": ("facts = substr(facts, 1, 40)", "no value that can be read"),
    "cut words": ("said = '{\"gai'", "no value that can be read"),
}


@pytest.mark.parametrize(
    ("kind", "damage"), [*(("light", each) for each in DAMAGE), ("flat", "cut facts"), ("dark", "cut words")]
)
def test_a_set_that_makes_no_sense_is_left_out_and_told_and_takes_no_other_down(own, tmp_path, kind, damage):
    for name, header in (("l", LIGHT), ("f", FLAT), ("d", DARK)):
        for night in (17, 18):
            for i in range(2):
                when = {"DATE-OBS": f"2026-10-{night}T22:0{i}:00"}
                write_fits(tmp_path / "frames" / f"{name}{night}{i}.fits", {**header, **when})
    own.scan(tmp_path / "frames")
    before = own.sets()
    broken = next(i for i, x in before.items() if x["kind"] == kind)
    column, traced = DAMAGE[damage]
    own.change(f"UPDATE frame_set SET {column} WHERE id = {broken}")
    own.again()

    def failed():
        """Addresses that answer with an error of ours."""
        return [
            a for a in every_page(own.client.application, own.library) if own.client.get(a).status_code >= 500
        ]

    assert [a for a in failed() if f"/{broken}" not in a] == [], "only its own pages may say that it is so"
    assert set(own.sets()) >= set(before) - {broken}
    told = own.get("/api/state")["left_out"]
    assert f"{kind} {broken}" in told and "files are untouched" in told and "grayshelf.log" in told
    assert traced in (own.root / "logs" / "grayshelf.log").read_text()
    shelf, nights = own.get("/api/rigs/1/shelf"), own.get("/api/rigs/1/nights")["nights"]
    spines = shelf["darks"]["spines"] + shelf["flats"]["spines"]
    assert len(spines) + sum(len(n["marks"]) for n in nights) == len(before) - 1
    # As the bar advises: its folder scanned again mends it, under the same number.
    assert own.scan(tmp_path / "frames")["state"] == "done"
    assert failed() == []
    assert own.get("/api/state")["left_out"] == ""
    assert own.sets() == before


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.floats() | st.text(),
        lambda one: st.lists(one) | st.dictionaries(st.text(), one),
    )
)
def test_what_the_database_kept_is_read_as_it_was_written(told):
    written = json.dumps(told)
    assert repr(json_or_unreadable(written)) == repr(json.loads(written))
    assert type(json_or_unreadable(written + "]")) is Unreadable


def test_frames_that_make_no_sense_in_the_database_are_read_anew(own, tmp_path):
    for i in range(6):
        write_fits(tmp_path / "frames" / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-17T22:0{i}:00"})
    own.scan(tmp_path / "frames")
    before = own.sets()
    own.change("UPDATE frame SET facts = '{\"kind' WHERE id < 3")
    own.again()
    more = write_fits(tmp_path / "frames" / "d9.fits", {**DARK, "DATE-OBS": "2026-10-17T22:09:00"})
    assert own.scan(tmp_path / "frames")["state"] == "done"
    assert own.scan(tmp_path / "frames")["state"] == "done"
    more.unlink()
    assert {i: x["n_frames"] for i, x in own.sets().items()} == dict.fromkeys(before, 7)
    assert own.problems() == {}


def test_days_and_times_that_are_none_take_no_page_down_and_are_read_anew(own, tmp_path):
    """A word, a month that there is not, a number: as a fault of ours or of the disk could leave them."""
    for name, header in (("l", LIGHT), ("f", FLAT), ("d", DARK)):
        for i in range(6):
            when = {"DATE-OBS": f"2026-10-{17 + i // 3}T22:0{i}:00"}
            write_fits(tmp_path / "frames" / f"{name}{i}.fits", {**header, **when})
    own.scan(tmp_path / "frames")
    own.build()
    before, kept = own.sets(), own.query("SELECT path, utc, night FROM frame ORDER BY id")
    for table, column, broken in (
        ("frame_set", "night", "2026-13-45"),
        ("frame_set", "first_utc", "soon"),
        ("frame_set", "last_utc", "7"),
        ("frame", "utc", "2026-10-17 22:61:00"),
        ("frame", "night", "x"),
        ("frame", "missing_since", "never"),
        ("job", "created_at", ""),
        ("job", "ended_at", "now"),
        ("folder", "scanned_at", "yesterday"),
        ("folder", "added_at", "0"),
    ):
        own.change(f"UPDATE {table} SET {column} = '{broken}' WHERE id % 2 = 0 OR '{table}' != 'frame'")
    own.again()
    pages = every_page(own.client.application, own.library)
    assert [a for a in pages if own.client.get(a).status_code >= 500] == []
    intake = own.get("/api/intake")
    for folder in (*intake["folders"], intake["own"]):
        job = own.client.post(f"/api/folders/{folder['id']}/scan", json={}).json["id"]
        assert own.ended(job)["state"] == "done"
    assert own.sets() == before
    assert own.query("SELECT path, utc, night FROM frame ORDER BY id") == kept


def test_a_sheet_is_kept_while_another_writes(own):
    """What is read within a change is not outrun by another writer, who waits until it is kept."""
    database = own.library.db

    def write() -> None:
        with database.session() as session:
            own.library.set_setting(session, "b", {"kept": True})

    with ThreadPoolExecutor(1) as other:
        with database.session() as session, session.begin_nested():
            own.library.setting(session, "a", {})
            waiting = other.submit(write)
            time.sleep(0.3)
            own.library.set_setting(session, "a", {"kept": True})
        waiting.result(10)
    with database.session() as session:
        assert [own.library.setting(session, name, {}) for name in "ab"] == [{"kept": True}] * 2
