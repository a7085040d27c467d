"""Finding a thing again and taking it out: the search, the tables as files, and the news that open pages get."""

from __future__ import annotations

import csv
import io
import json
import threading
from contextlib import ExitStack

import pytest

from grayshelf.library.models import Frame
from grayshelf.work.events import MOST_LISTENERS, Broker
from tests.helpers import LIGHT, write_fits
from tests.web.test_intake import scan


def search(client, words):
    return client.get("/api/search", query_string={"q": words}).json["items"]


def table(client, address):
    """The rows of a table as dictionaries by its head."""
    answer = client.get(address)
    assert answer.status_code == 200, address
    assert answer.mimetype == "text/csv"
    assert answer.headers["Content-Disposition"].startswith("attachment; filename=")
    text = answer.get_data().decode("utf-8-sig")
    rows = list(csv.reader(io.StringIO(text)))
    assert all(len(row) == len(rows[0]) for row in rows), "every row is as wide as the head"
    assert len(set(rows[0])) == len(rows[0]), "no two columns share a name"
    return [dict(zip(rows[0], row, strict=True)) for row in rows[1:]]


def test_every_word_counts_in_any_order_and_case(client):
    lights = search(client, "ngc 6888 sii")
    assert lights[0]["kind"] == "lights"
    assert search(client, "SII  6888 Ngc")[0] == lights[0]
    assert not search(client, "sii nosuchtarget")
    masters = search(client, "master dark 300")
    assert masters and all("master" in m["kind"] for m in masters if m["kind"] != "file")
    assert {m["title"] for m in search(client, "18 october")} >= {lights[0]["title"]}, "a night by its date"
    assert not search(client, "   ")


def test_what_is_found_leads_to_where_it_is(client):
    found = [*search(client, "sii"), *search(client, "master flat"), *search(client, "bias")]
    assert {f["href"].split("?")[0].split("/")[1] for f in found} == {"nights", "shelf"}
    for item in found:
        place, number = item["href"].rsplit("=", 1)
        if place.startswith("/shelf"):
            assert client.get(f"/api/holdings/{number}").status_code == 200, item
        else:
            night = place.split("/")[2].split("?")[0]
            sets = client.get(f"/api/rigs/1/nights/{night}").json["sets"]
            assert int(number) in [s["id"] for s in sets], item


def test_signs_of_patterns_are_taken_as_they_are(client, context):
    """In SQL a percent sign matches all and an underline any one sign."""
    assert not search(client, "%")
    with context.library.db.session() as session:
        names = [f.path for f in session.query(Frame).limit(400)]
    some = next(n.rsplit("/", 1)[-1] for n in names if "_" in n)
    assert [f["title"] for f in search(client, some)][:1] == [some]
    assert not search(client, some.replace("_", "%"))
    many = search(client, "fits")
    assert 0 < len(many) <= 12, "as many as can be looked over"
    assert client.get("/api/search", query_string={"q": "x" * 5000}).status_code in (200, 400, 422)


@pytest.mark.parametrize("rig", [1, 2, 3])
def test_tables_hold_what_the_pages_show(client, rig):
    shelf = table(client, f"/api/rigs/{rig}/shelf.csv")
    assert {r["kind"] for r in shelf} <= {"dark", "flat", "dark flat", "bias"}
    for row in [r for r in shelf if r["set"]][:6]:
        shown = client.get(f"/api/holdings/{row['set']}").json
        frames = table(client, f"/api/holdings/{row['set']}/inputs.csv")
        assert [f["frame"] for f in frames] == [i["name"] for i in shown["inputs"]]
    nights = table(client, f"/api/rigs/{rig}/nights.csv")
    assert nights
    for night in {r["night"] for r in nights}:
        sets = client.get(f"/api/rigs/{rig}/nights/{night}").json["sets"]
        own = [r for r in nights if r["night"] == night]
        assert len(own) == len(sets)
        for one in sets:
            slip = client.get(f"/api/lights/{one['id']}/slip").json
            written = table(client, f"/api/lights/{one['id']}/slip.csv")
            assert slip["verdict"] in {r["slip"] for r in own}
            for line in slip["lines"]:
                rows = [r for r in written if r["line"] == line["kind"]]
                assert len(rows) == 1 + len(line["runners_up"])
                assert bool(rows[0]["what"]) == bool(line["chosen"])
                assert all(r["lost_on"] for r in rows if r["place"] == "next best")
            assert client.get(f"/api/lights/{one['id']}/slip.json").json["lines"]


def test_a_measurement_is_taken_out_whole(client):
    number = client.get("/api/rigs/1/bench/offset").json["measurements"][0]["id"]
    shown = client.get(f"/api/measurements/{number}").json
    frames = table(client, f"/api/measurements/{number}.csv")
    gains = table(client, f"/api/measurements/{number}/by-gain.csv")
    assert {float(r["gain"]) for r in frames} == {float(r["gain"]) for r in gains}
    for row, here in zip(gains, shown["offset"], strict=True):
        own = [f for f in frames if float(f["gain"]) == here["gain"]]
        assert len(own) == here["n_frames"] == int(row["frames"])
        for frame in own:
            assert float(frame["mean_adu"]) >= float(frame["darkest_1_percent_adu"])
            assert int(frame["good_pixels_at_zero"]) <= int(frame["pixels"])
    assert client.get("/api/measurements/987654.csv").status_code == 404


def test_a_name_that_a_spreadsheet_would_run_is_text(client, tmp_path):
    """Files from outside are hostile: a target that begins like a formula must not be one (CWE-1236)."""
    for i, name in enumerate(("=HYPERLINK(1)", "+1+1", "@SUM(1)", "-2+3")):
        write_fits(
            tmp_path / f"{i}.fits", {**LIGHT, "OBJECT": name, "DATE-OBS": f"2026-10-0{i + 1}T22:00:00"}
        )
    assert scan(client, tmp_path)["state"] == "done"
    cells = [cell for row in table(client, "/api/rigs/1/nights.csv") for cell in row.values()]
    told = [c for c in cells if "HYPERLINK" in c or "+1" in c or "SUM" in c or "2+3" in c]
    assert len(told) >= 4
    assert not [c for c in told if c[0] in "=+@"]


def test_open_pages_are_told_and_a_slow_one_holds_nobody_up():
    broker = Broker()
    with broker.listen() as quick, broker.listen() as slow:
        for i in range(500):
            broker.publish("shelf", number=i)
            while i < 200 and not quick.empty():
                assert quick.get_nowait()["type"] == "shelf"
        assert slow.full(), "the slow one keeps what fits, and asks again anyway"
        assert slow.get_nowait() == {"type": "shelf", "number": 0}
    with broker.listen() as again:
        assert again.empty(), "who left is not remembered"


def test_pages_beyond_a_dozen_are_sent_to_ask_by_themselves(client, context):
    with ExitStack() as doors:
        for _ in range(MOST_LISTENERS):
            assert doors.enter_context(context.broker.listen()) is not None
        assert b"event: full" in client.get("/api/events").get_data()
    stream = client.get("/api/events", buffered=False)
    news = iter(stream.response)
    assert b"hello" in _bytes(next(news))
    threading.Timer(0.05, lambda: context.broker.publish("shelf", why="a test")).start()
    assert json.loads(_bytes(next(news)).removeprefix(b"data: ")) == {"type": "shelf", "why": "a test"}
    stream.close()


def _bytes(chunk):
    return chunk if isinstance(chunk, bytes) else chunk.encode()
