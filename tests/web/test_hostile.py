"""Absurd headers, requests that nobody should send, and many at once: every page answers, and nothing is kept that cannot be."""

from __future__ import annotations

import csv
import gzip
import io
import json
import random
import time
import tracemalloc
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from grayshelf.core.frames.bounds import BOUNDS
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import Member, common_facts, group_into_sets
from grayshelf.core.matching.costs import left_in_light_e
from grayshelf.library.unreadable import Unreadable, json_or_unreadable
from grayshelf.web.app import create_app
from grayshelf.web.exports import csv_response
from tests.helpers import DARK, FLAT, LIGHT, facts_of, write_fits
from tests.pages import a_page_can_read, every_page

ABSURD = {
    "CCD-TEMP": 1e6, "SET-TEMP": -1e300, "EXPTIME": 1e300, "GAIN": -7, "OFFSET": 1e18, "XBINNING": 10**9,
    "FOCALLEN": -506.0, "APTDIA": 1e30, "XPIXSZ": -3.76, "EGAIN": 1e-300, "ROTATANG": 1e300, "FOCUSPOS": 1e300,
    "PEDESTAL": 1e300, "NCOMBINE": 10**18, "AMBTEMP": 1e9, "DATE-OBS": "9999-12-31T23:59:59", "DATE-LOC": "0001-01-01T00:00:00",
    "SITELONG": 1e300, "YBINNING": -3,
}  # fmt: skip
ODD_TEXTS = (
    "=cmd|'/c calc'!A1",
    "-2+3+cmd|' /C calc'!A0",
    "L" * 68,
    "Ha 3nm 36mm round mounted",
    "../../x",
    "<b>",
    " ",
)


@pytest.mark.parametrize("card", ABSURD)
def test_what_cannot_be_is_not_known_and_said(tmp_path, card):
    facts = facts_of(
        write_fits(tmp_path / "x.fits", {**LIGHT, "DATE-LOC": "2026-10-18T23:00:00", card: ABSURD[card]})
    )
    assert facts.complaints, card
    for name, bound in BOUNDS.items():
        value = getattr(facts, {"binning": "binning_x"}.get(name, name))
        assert value is None or name == "angle" or bound.lowest <= value <= bound.highest


#: Values at the very edges of what can be, and inside.
EDGES = {
    name: st.one_of(st.just(b.lowest), st.just(b.highest), st.floats(b.lowest, b.highest))
    for name, b in BOUNDS.items()
}


@given(
    st.lists(
        st.fixed_dictionaries(
            {
                n: EDGES[n]
                for n in (
                    "exposure_s",
                    "gain",
                    "offset",
                    "sensor_temp_c",
                    "set_temp_c",
                    "focal_length_mm",
                    "focus",
                )
            }
        ),
        min_size=1,
        max_size=6,
    )
)
def test_sums_hold_for_everything_that_can_be(values):
    members = [
        Member(i, FrameFacts(100, 80, 16, FrameKind.LIGHT, camera="Dunlin M24", **v))
        for i, v in enumerate(values)
    ]
    groups = group_into_sets(members)
    assert sum(len(g) for g in groups) == len(values)
    for group in groups:
        assert np.isfinite(common_facts([m.facts for m in group]).exposure_s)
    hot, cold = BOUNDS["sensor_temp_c"].highest, BOUNDS["sensor_temp_c"].lowest
    assert np.isfinite(left_in_light_e(1e6, cold, 86_400.0, hot, 86_400.0, cold))


def fuzzed(folder, n, seed=0):
    """Frames whose headers are damaged each in its own way."""
    rng, chance = np.random.default_rng(seed), random.Random(seed)
    kinds = [LIGHT, FLAT, DARK, {**DARK, "IMAGETYP": "Bias Frame"}, {**FLAT, "IMAGETYP": "Dark Flat"}]
    texts = (
        "FILTER",
        "OBJECT",
        "TELESCOP",
        "INSTRUME",
        "READOUTM",
        "BAYERPAT",
        "ROWORDER",
        "IMAGETYP",
        "PIERSIDE",
    )
    for i in range(n):
        cards = {
            **chance.choice(kinds),
            "DATE-OBS": f"2026-{chance.randint(1, 12):02d}-1{i % 10}T22:{i % 60:02d}:00",
        }
        for name in chance.sample(list(ABSURD), chance.randint(0, 4)):
            cards[name] = (
                ABSURD[name] if chance.random() < 0.5 else chance.choice((0, -1, 1e-9, 1e5, 7.3e4, True, "x"))
            )
        for name in chance.sample(texts, chance.randint(0, 2)):
            cards[name] = chance.choice(ODD_TEXTS)
        for name in chance.sample(list(cards), chance.randint(0, 2)):
            cards.pop(name)
        write_fits(folder / f"f{i:05d}.fits", cards, rng.normal(600, 9, (16, 16)).clip(0).astype(np.uint16))
    return folder


def test_every_page_answers_whatever_the_headers_said(own, tmp_path):
    for i in range(6):
        for name, cards in (("l", LIGHT), ("f", FLAT), ("d", DARK), ("x", {**FLAT, "IMAGETYP": "Dark Flat"})):
            write_fits(tmp_path / "good" / f"{name}{i}.fits", {**cards, "DATE-OBS": f"2026-10-18T22:0{i}:00"})
    own.scan(tmp_path / "good")
    assert own.scan(fuzzed(tmp_path / "fuzzed", 80))["state"] == "done"
    failed = {}
    for address in every_page(own.client.application, own.library):
        answer = own.client.get(address)
        if answer.status_code not in (200, 404, 422) or not a_page_can_read(answer):
            failed[address] = (answer.status_code, answer.text[:200])
    assert not failed, (len(failed), list(failed.items())[:5])
    for line in csv.reader(io.StringIO(own.client.get("/api/problems.csv").text)):
        assert not any(
            cell.startswith(("=", "+", "@")) or (cell[:1] == "-" and "cmd" in cell) for cell in line
        )


def test_rigs_whose_parts_bear_each_others_names_are_told_apart(own, tmp_path):
    parts = [
        ("A", "B"),
        ("A", "B with C"),
        ("A with C", "B"),
        ("B", "A"),
        ("B with C", "A"),
        ("C", "A with C"),
        ("C", "A"),
    ]
    for i, (camera, telescope) in enumerate(parts):
        write_fits(tmp_path / "x" / f"l{i}.fits", {**LIGHT, "INSTRUME": camera, "TELESCOP": telescope})
    assert own.scan(tmp_path / "x")["state"] == "done"
    names = [r["name"] for r in own.get("/api/state")["rigs"]]
    assert len(names) == len(set(names)) == len(parts)


def test_requests_that_nobody_should_send_are_refused_in_words(own, tmp_path):
    client, huge = own.client, 2**63
    sent = [
        ("GET", f"/api/holdings/{huge}", {}), ("GET", f"/api/rigs/{10**30}/shelf", {}), ("GET", f"/api/problems?page={huge}", {}),
        ("GET", f"/api/sets?page={10**18}", {}), ("POST", f"/api/jobs/{huge}/stop", {}), ("DELETE", f"/api/folders/{huge}", {}),
        ("POST", "/api/builds", {"json": {"set_ids": [huge]}}), ("POST", "/api/builds", {"json": {"set_ids": [-(2**70)]}}),
        ("POST", "/api/folders", {"json": {"path": "~nobody/frames"}}), ("POST", "/api/folders", {"json": {"path": "/" + "a" * 4000}}),
        ("POST", "/api/folders", {"json": {"path": "/x\0y"}}), ("POST", "/api/folders", {"json": {"path": "/\ud800"}}),
        ("POST", "/api/folders", {"data": "[" * 50_000 + "]" * 50_000, "content_type": "application/json"}),
        ("POST", "/api/folders", {"data": '{"path": "/tmp"}', "content_type": "text/plain"}),
        ("POST", "/api/folders", {"json": {"path": "/tmp"}, "headers": {"Origin": "http://[::1"}}),
        ("POST", "/api/folders", {"json": {"path": "/tmp"}, "headers": {"Origin": "null"}}),
        ("POST", "/api/folders", {"json": {"path": "/tmp"}, "headers": {"Sec-Fetch-Site": "cross-site"}}),
        ("POST", "/api/folders/1/scan", {"headers": {"Sec-Fetch-Site": "same-site"}}),
        ("POST", "/api/sending/scan", {"json": {"into": "/" + "a" * 4000}}), ("POST", "/api/sending/scan", {"json": {"into": "/x\0y"}}),
        ("POST", "/api/sending", {"json": {"into": "/" + "a" * 4000, "files": []}}),
        ("POST", "/api/hand-over", {"json": {"sets": "1", "form": "masters", "folder": "/tmp/" + "a" * 300}}),
        ("PUT", "/api/site", {"data": '{"name": "x", "time_zone": "UTC", "latitude": NaN}', "content_type": "application/json"}),
    ]  # fmt: skip
    for method, address, how in sent:
        answer = client.open(address, method=method, **how)
        assert 400 <= answer.status_code < 500 or (answer.status_code == 200 and not answer.json["items"]), (
            address,
            how,
            answer.text[:300],
        )
        assert "sqlite" not in answer.text.lower()
        assert "Traceback" not in answer.text


def test_paths_that_are_none_hold_no_lights(own):
    paths = ["~nobody-here/x", "/x\0y", "\0", "/" + "a" * 5000, ""]
    answer = own.client.post("/api/match", json={"paths": paths})
    assert answer.status_code == 200, answer.text[:300]
    assert not answer.json["matched"] and len(answer.json["not_known"]) == len(paths)


def test_names_that_were_said_to_be_two_can_be_said_to_be_one(own, tmp_path):
    """Also by a page that does not know of it yet, in both orders, and of a name with itself."""
    write_fits(tmp_path / "x" / "l.fits", LIGHT)
    own.scan(tmp_path / "x")
    for spelled, name in (("heron 92", "Heron 92"), ("Heron 92", "heron 92"), ("", "")):
        said = {"about": "telescope", "camera": LIGHT["INSTRUME"], "spelled": spelled, "name": name}
        for way in ("two", "one", "two", "own", "own", "ask-again", "one"):
            answer = own.client.post(f"/api/names/{way}", json=said)
            assert answer.status_code < 500, (way, said, answer.text[:300])
            own.wait_until_idle()


def test_an_event_of_any_year_leaves_the_rigs_page_as_it_is(own, tmp_path):
    write_fits(tmp_path / "x" / "l.fits", LIGHT)
    own.scan(tmp_path / "x")
    rig = own.get("/api/state")["rigs"][0]["id"]
    for day in ("0001-01-01", "1026-10-18", "9999-12-31"):
        body = {"kind": "train", "what": "cleaned", "on": day}
        status = own.client.post(f"/api/rigs/{rig}/events", json=body).status_code
        assert status == (400 if day > "9000" else 200)
        assert 1 < len(own.get(f"/api/rigs/{rig}")["marks"]) < 20


def test_tables_are_saved_under_any_name_and_hold_no_formula():
    table = csv_response([["-2+3+cmd|' /C calc'!A0", "=1+1", " @x", "-10", -3.5, "Ha"]], "flats-Hα")
    # What waitress sends is Latin-1.
    assert b"flats-H%CE%B1.csv" in table.headers["Content-Disposition"].encode("latin-1")
    (cells,) = csv.reader(io.StringIO(table.get_data(as_text=True).lstrip("\ufeff")))
    assert cells == ["'-2+3+cmd|' /C calc'!A0", "'=1+1", "' @x", "-10", "-3.5", "Ha"]


def test_a_folder_whose_frames_were_measured_or_serve_a_master_can_be_taken_off(own, tmp_path):
    rng = np.random.default_rng(1)
    for i in range(8):
        cards = {
            **DARK,
            "IMAGETYP": "Bias Frame",
            "EXPTIME": 0.0,
            "DATE-OBS": f"2026-10-18T22:00:{i:02d}",
            "OFFSET": 10 + 10 * (i // 4),
        }
        write_fits(
            tmp_path / "bias" / f"b{i}.fits",
            cards,
            rng.normal(600 + 100 * (i // 4), 6, (64, 64)).astype(np.uint16),
        )
    own.scan(tmp_path / "bias")
    own.build()
    rig = own.get("/api/state")["rigs"][0]["id"]
    offered = own.get(f"/api/rigs/{rig}/bench/offset")["disk"]
    job = own.client.post(
        f"/api/rigs/{rig}/bench/offset/disk", json={"set_ids": [i for o in offered for i in o["set_ids"]]}
    )
    assert job.status_code == 200, job.text
    own.wait_until_idle()
    assert own.query("select count(*) from measurement_shot where frame_id is not null")[0][0] > 0
    answer = own.client.delete("/api/folders/2")
    assert answer.status_code == 200, answer.text
    assert own.query("select count(*) from measurement_shot")[0][0] > 0, "what was measured stays"


def test_a_file_that_unpacks_to_more_than_memory_holds_costs_no_more_than_its_frame(own, tmp_path):
    plain = write_fits(tmp_path / "plain.fits", DARK, size=64)
    folder = tmp_path / "packed"
    folder.mkdir()
    with gzip.open(folder / "bomb.fits.gz", "wb", compresslevel=1) as stream:
        stream.write(plain.read_bytes())
        for _ in range(300):
            stream.write(bytes(1 << 20))
    tracemalloc.start()
    own.scan(folder)
    frame_id = own.query("select id from frame")[0][0]
    picture = own.client.get(f"/api/frames/{frame_id}/picture.png")
    assert picture.data.startswith(b"\x89PNG")
    assert tracemalloc.get_traced_memory()[1] < 100e6
    tracemalloc.stop()


def test_many_readers_of_a_library_that_was_just_opened_are_all_answered(context):
    """As many as there are threads to answer them, on cold caches, while something is being written."""
    app = create_app(context)
    without = ("/nights/", "/flats", "picture")
    pages = [
        a for a in every_page(app, context.library) if "/rigs/" in a and not any(w in a for w in without)
    ]
    context.library.touched()

    def read(number):
        if number % 9 == 0:
            context.library.touched()
        started = time.monotonic()
        with app.test_client() as client:
            answer = client.get(pages[number % len(pages)])
        return answer.status_code, time.monotonic() - started

    with ThreadPoolExecutor(40) as pool:
        answers = list(pool.map(read, range(160)))
    assert {code for code, _ in answers} == {200}
    assert context.library.db.engine.pool.checkedout() == 0


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
