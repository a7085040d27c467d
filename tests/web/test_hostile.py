"""Absurd headers, requests that nobody should send, and many at once: every page answers, and nothing is kept that cannot be."""

from __future__ import annotations

import csv
import gzip
import io
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
