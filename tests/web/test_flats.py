"""The sheet of flat settings through the application: searches with the rig, at gates, and by a watched folder."""

from __future__ import annotations

import shutil
import time
from dataclasses import replace

import numpy as np
import pytest
from sqlalchemy import select

from grayshelf.library.models import MasterRecord, RunStep
from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.pages import say_at
from tests.waiting import asked_until
from tests.web.test_run import gate_of, wait_for

SII = {"filter_code": "SII", "gain": 200.0, "offset": 30.0, "binning": 1}
HA = {**SII, "filter_code": "Ha"}
LUM = {"filter_code": "L", "gain": 100.0, "offset": 30.0, "binning": 1}


@pytest.fixture
def page(client):
    """The sheet of Heron 92."""
    return lambda: client.get("/api/rigs/1/flats").json


@pytest.fixture
def until(page):
    """Wait until the sheet is as wanted; return it."""

    return lambda wanted, seconds=40: asked_until(
        page, wanted, seconds, lambda sheet: f"{sheet['headline']} {sheet['job']} {sheet['next']}"
    )


def row_of(sheet, key):
    return next(r for r in sheet["rows"] if r["key"] == key)


def ok(answer):
    assert answer.status_code == 200, answer.text
    return answer.json


def find(client, keys, **more):
    return ok(client.post("/api/rigs/1/flats/find", json={"keys": keys, **more}))["job_id"]


def answer(client, until, say="done"):
    sheet = until(lambda s: s["gate"])
    ok(say_at(client, sheet["gate"], say))
    return sheet["gate"]


def change(client, keys, **wishes):
    return client.post("/api/rigs/1/flats/rows", json={"keys": keys, "changes": wishes})


def test_a_whole_rig_is_found_and_one_filter_that_fails_does_not_stop_the_rest(client, page, until):
    sheet = page()
    assert [r["key"]["filter_code"] for r in sheet["rows"]] == ["L", "R", "G", "B", "Ha", "OIII", "SII"]
    assert all(r["state"] == "never" for r in sheet["rows"])
    find(client, [r["key"] for r in sheet["rows"]])
    assert answer(client, until)["sign"] == "panel"
    # L is too bright for this panel: said in stops, with what hangs at hand, while the others are found.
    gate = answer(client, until)
    assert gate["title"] == "Hang neutral film for L"
    sheet = until(lambda s: s["job"] is None)
    assert all(r["state"] == "found" and r["ruler"]["inside"] for r in sheet["rows"])
    assert row_of(sheet, LUM)["diffusers"] == "neutral film"
    assert max(r["shots"] for r in sheet["rows"]) <= 4
    assert all(r["banding"] for r in sheet["rows"]), "the chosen time says how deep the pulses band it"
    chart = ok(client.post("/api/rigs/1/flats/chart", json=SII))
    assert chart["answer_x"] and chart["line"] and chart["shots"]
    tonight = client.get("/api/rigs/1/tonight").json
    assert any(o["filter_code"] == "SII" for o in tonight["offers"])
    table = client.get("/api/rigs/1/flats.csv").text
    assert "neutral film" in table and table.count("\n") == 8
    assert "2.0" in str(row_of(page(), LUM)["history"]) or row_of(page(), LUM)["history"][0]["diffusers"]


def test_no_answer_says_how_much_and_a_widened_window_finds_it(client, page, until):
    light = next(s for s in page()["sources"] if s["name"] == "Lumen tile")
    ok(client.put("/api/rigs/1/sheets/light", json={**light, "diffusers": []}))
    found = row_of(page(), LUM)["history"][0]["id"]
    ok(client.post(f"/api/rigs/1/flats/settings/{found}/take-back"))
    assert row_of(page(), LUM)["state"] in ("never", "no answer")
    find(client, [LUM, SII])
    answer(client, until)
    sheet = until(lambda s: s["job"] is None)
    no = row_of(sheet, LUM)["no_answer"]
    assert no["direction"] == "too bright"
    assert "times too high" in no["message"] and "which stays" in no["message"]
    assert row_of(sheet, SII)["state"] == "found"
    ok(
        client.post(
            "/api/rigs/1/flats/again",
            json={"key": LUM, "changes": {"shortest_s": no["allow_changes"]["shortest_s"]}},
        )
    )
    answer(client, until)
    sheet = until(lambda s: s["job"] is None)
    assert row_of(sheet, LUM)["state"] == "found"
    assert row_of(sheet, LUM)["own"] == ["shortest_s"]
    ok(client.put("/api/rigs/1/sheets/light", json=light))


def test_many_rows_are_changed_at_once_and_bad_wishes_are_refused(client, page):
    keys = [r["key"] for r in page()["rows"]]
    ok(change(client, keys, level_percent=None, level_adu=20000, tolerance_adu=500))
    assert {r["target"].split("\u2009")[0] for r in page()["rows"]} == {"20,000"}
    for bad in (
        {"shortest_s": 40},
        {"level_percent": 99},
        {"n_flats": -1},
        {"exposure_s": 0},
        {"level_adu": 1},
    ):
        refused = change(client, keys, **bad)
        assert refused.status_code == 400, bad
        assert refused.json["detail"]
    assert row_of(page(), SII)["target"].startswith("20,000"), "what is refused changes nothing"
    ok(change(client, [SII], n_flats=40, longest_s=60))
    ok(client.post("/api/rigs/1/flats/copy", json={"source": SII, "keys": [HA]}))
    assert row_of(page(), HA)["wishes"]["n_flats"] == 40
    # Electrons need e⁻/ADU: the headers of the lights tell it, until the Bench does; no light has gain 120.
    ok(change(client, [HA], level_electrons=3000))
    assert "3,000\u2009e⁻ by the headers" in row_of(page(), HA)["target_more"]
    ok(change(client, [HA], level_electrons=7000))
    assert "more than a pixel gives" in row_of(page(), HA)["target_more"]
    refused = client.post("/api/rigs/1/flats/find", json={"keys": [SII, HA]})
    assert refused.status_code == 409 and refused.json["detail"].startswith("Ha at gain 200"), (
        "which row it is"
    )
    lone = {**HA, "gain": 120.0}
    ok(client.post("/api/rigs/1/flats/add", json=lone))
    ok(change(client, [lone], level_electrons=3000))
    assert "electrons" in row_of(page(), lone)["target_more"], (
        "said on the row; the rest of the sheet is there"
    )
    ok(client.post("/api/rigs/1/flats/leave-out", json={"keys": [lone]}))
    names = list(row_of(page(), SII)["wishes"])
    ok(client.post("/api/rigs/1/flats/rows", json={"keys": keys, "changes": dict.fromkeys(names)}))
    assert all(r["own"] == [] for r in page()["rows"])
    # A row of binning 2 that no light asks for, and one that is left out and put back.
    two = {**SII, "binning": 2}
    ok(client.post("/api/rigs/1/flats/add", json=two))
    assert row_of(page(), two)["added"]
    assert client.post("/api/rigs/1/flats/add", json=two).status_code == 409
    ok(client.post("/api/rigs/1/flats/leave-out", json={"keys": [two, HA]}))
    assert all(r["key"] not in (two, HA) for r in page()["rows"])
    ok(client.post("/api/rigs/1/flats/add", json=HA))
    assert row_of(page(), HA)["state"] == "found", "what was found for it is kept"


def test_an_event_makes_settings_stale_and_can_be_taken_back(client, page):
    ok(client.post("/api/rigs/1/events", json={"kind": "panel", "what": "another panel"}))
    sheet = page()
    assert all("another panel since" in r["stale"] for r in sheet["rows"] if r["state"] == "found")
    ok(client.post(f"/api/rigs/1/events/{sheet['events'][0]['id']}/take-back"))
    assert not any(r["stale"] for r in page()["rows"])
    ok(client.post("/api/rigs/1/events", json={"kind": "train", "what": "the camera was turned"}))
    sheet = page()
    assert not any(r["stale"] for r in sheet["rows"]), "an angle changes no exposure"
    ok(client.post(f"/api/rigs/1/events/{sheet['events'][0]['id']}/take-back"))


def run_tonight(client, context, codes):
    """Dark flats shot for each of these filters, and what was taken off their master flats."""

    def run():
        return client.get("/api/rigs/1/run").json["run"]

    sheet = client.get("/api/rigs/1/tonight?frames=5").json
    keys = [o["key"] for o in sheet["offers"] if o["filter_code"] in codes]
    others = [o["key"] for o in sheet["offers"] if o["filter_code"] not in codes]
    asked = {"frames": 5, "leave_out": others, "add": keys}
    sheet = client.get(f"/api/rigs/1/tonight?frames=5&add={','.join(keys)}&leave_out={','.join(others)}").json
    assert sheet["shared"].startswith("One set of dark flats serves ")
    assert sum(s["kind"] == "dark flats" for s in sheet["steps"]) == 1
    job = ok(client.post("/api/runs", json={"rig_id": 1, **asked}))["job_id"]
    gate = wait_for(context, run, gate_of)
    # Those that serve all three are left out: another row's serve then.
    serving = [s for s in gate["steps"] if s["kind"] == "dark flats" and s["state"] == "to do"]
    assert len(serving) == 1
    ok(client.post(f"/api/runs/{job}/series", json={"step_id": serving[0]["id"], "left_out": True}))
    while (now := wait_for(context, run, lambda r: gate_of(r) or r["job"]["state"] == "done"))["job"][
        "state"
    ] != "done":
        client.post(f"/api/jobs/{job}/answer", json={"step_id": gate_of(now)["id"], "answer": "done"})
    client.post(f"/api/runs/{job}/put-away")
    with context.library.db.session() as session:
        steps = session.scalars(select(RunStep).where(RunStep.job_id == job)).all()
        built = [session.get_one(MasterRecord, m) for s in steps for m in s.outcome.get("masters", [])]
        shot = [s.done for s in steps if s.kind == "dark flats"]
        assert next(s.done for s in steps if s.id == serving[0]["id"]) == 0
        return shot, [m.pedestal_kind for m in built if m.set.kind == "flat"]


def test_one_exposure_for_all_and_the_panel_measured_once(client, page, until, context):
    narrow = [HA, {**SII, "filter_code": "OIII"}, SII]
    for row in narrow:
        for item in row_of(page(), row)["history"]:
            ok(client.post(f"/api/rigs/1/flats/settings/{item['id']}/take-back"))
    find(client, narrow, response=True)
    answer(client, until)
    sheet = until(lambda s: s["job"] is None)
    assert sheet["panel"]["now"]["shots"] <= 8
    find(client, narrow, shared=True)
    answer(client, until)
    sheet = until(lambda s: s["job"] is None)
    assert len({row_of(sheet, k)["exposure"] for k in narrow}) == 1
    assert sheet["shared"][0]["text"].startswith(row_of(sheet, HA)["exposure"])
    assert all(code in sheet["shared"][0]["text"] for code in ("Ha", "OIII", "SII"))
    assert "50 frames" in sheet["shared"][0]["saved"]
    # Tonight shoots one set of dark flats for all three, and all three masters have it taken off.
    context.library.clock.rate = 1e7
    shot, pedestals = run_tonight(client, context, ("Ha", "OIII", "SII"))
    assert sorted(shot) == [0, 0, 5] and pedestals == ["dark flat"] * 3
    # The second measurement says how the panel changed.
    find(client, narrow, response=True)
    answer(client, until)
    sheet = until(lambda s: s["job"] is None)
    assert "as bright as" in sheet["panel"]["change"]
    # A panel that gives a tenth less light, and as much less in every filter.
    world = context.flats.rigs["heron"].camera._world
    new = world.model
    world.model = replace(new, panel=replace(new.panel, e_s_at_full=0.9 * new.panel.e_s_at_full))
    find(client, narrow, response=True)
    answer(client, until)
    sheet = until(lambda s: s["job"] is None)
    world.model = new
    share = float(sheet["panel"]["change"].split(" % faded since")[0])
    assert share == pytest.approx(10.0, abs=0.5)
    lines = [dict(map(tuple, sheet["panel"][which]["line"])) for which in ("now", "before")]
    assert all(then / lines[0][b] == pytest.approx(1 / 0.9, rel=0.02) for b, then in lines[1].items())


def test_one_thing_at_a_time_and_going_on_after_a_stop(client, page, until, context):
    job = find(client, [HA, SII])
    assert client.post("/api/rigs/1/flats/find", json={"keys": [HA]}).status_code == 409
    until(lambda s: s["gate"])
    ok(client.post(f"/api/jobs/{job}/stop"))
    sheet = until(lambda s: s["job"] and s["job"]["state"] == "stopped")
    assert sheet["job"]["can_resume"]
    assert context.starter.rigs["heron"].panel.brightness() == 0, "the panel does not stay on"
    ok(client.post(f"/api/jobs/{job}/resume"))
    asked = answer(client, until)
    until(lambda s: s["job"] is None)
    assert say_at(client, asked).status_code == 409
    for wrong, said in (
        ({**HA, "filter_code": "X"}, "X is not in the wheel"),
        ({**HA, "gain": 9000.0}, "gain from 0 to 400"),
        ({**HA, "binning": 9}, "binning from 1 to 4"),
    ):
        refused = client.post("/api/rigs/1/flats/find", json={"keys": [HA, wrong]})
        assert refused.status_code == 409
        assert said in refused.json["detail"], (
            "said before anything is shot, so that it does not stop the rest"
        )
    assert client.post("/api/rigs/1/flats/find", json={"keys": [HA], "folder": "nowhere"}).status_code == 400
    assert (
        client.post("/api/rigs/1/flats/find", json={"keys": [HA], "folder": "/nowhere/at all"}).status_code
        == 400
    )


def test_a_watched_folder_answers_each_test_flat(client, page, until, tmp_path):
    """A camera run by any other program: wrong frames are told why, a half-written one is waited for."""
    change(client, [SII], mode="time")
    for item in row_of(page(), SII)["history"]:
        ok(client.post(f"/api/rigs/1/flats/settings/{item['id']}/take-back"))
    write_fits(tmp_path / "old.fits", {**FLAT, "EXPTIME": 1.0})
    time.sleep(1.2)
    find(client, [SII], folder=str(tmp_path))
    first = until(lambda s: s["next"] and s["next"]["line"].startswith("Shoot"))["next"]
    assert "SII, gain 200, offset 30, binning 1" in first["detail"]

    def flat(name, exposure, level, **cards):
        pixels = np.random.default_rng(1).normal(level, 30, (60, 80)).clip(0, 65535).astype(np.uint16)
        return write_fits(tmp_path / name, {**FLAT, "EXPTIME": exposure, **cards}, pixels)

    wrong = (
        ("light.fits", {**LIGHT}, "a light, not a flat"),
        ("dark.fits", {**DARK}, "a dark, not a flat"),
        ("oiii.fits", {**FLAT, "FILTER": "OIII"}, "taken in OIII"),
        ("gain.fits", {**FLAT, "GAIN": 100}, "at gain 100"),
        ("bin.fits", {**FLAT, "XBINNING": 2, "YBINNING": 2}, "at binning 2"),
        ("other.fits", {**FLAT, "INSTRUME": "Dunlin C14"}, "with Dunlin C14"),
    )
    for name, cards, said in wrong:
        write_fits(tmp_path / name, cards)
        refused = until(lambda s, n=name: s["next"] and any(r["name"] == n for r in s["next"]["refused"]))
        assert said in next(r["why"] for r in refused["next"]["refused"] if r["name"] == name)
    # Half of a frame, then the rest of it: nothing fails, and it is read when it is whole.
    whole = flat("../whole.fits", 20.0, 65535)
    data = whole.read_bytes()
    with (tmp_path / "full.fits").open("wb") as stream:
        stream.write(data[:4000])
        stream.flush()
        time.sleep(1.0)
        assert row_of(page(), SII)["shots"] == 0
        stream.write(data[4000:])
    sheet = until(lambda s: row_of(s, SII)["shots"] == 1)
    assert "was full" in until(lambda s: s["next"] and "full" in s["next"]["why"])["next"]["why"]
    rate = 4800.0
    for number in range(4):
        sheet = page()
        if sheet["next"] is None:
            break
        asked = float(sheet["next"]["line"].split("of ")[1].split("\u2009")[0])
        before = row_of(sheet, SII)["shots"]
        flat(f"t{number}.fits", asked, min(500 + rate * asked, 65535))
        until(lambda s, n=before: s["job"] is None or row_of(s, SII)["shots"] > n)
    sheet = until(lambda s: s["job"] is None)
    row = row_of(sheet, SII)
    assert row["state"] == "found"
    assert 500 + rate * float(row["exposure"].split("\u2009")[0]) == pytest.approx(29491, rel=0.02)
    assert sorted(p.name for p in tmp_path.iterdir() if p.name.startswith("old")) == ["old.fits"], (
        "nothing is touched"
    )
    # A folder that vanishes stops the search with a sentence, and it goes on when the folder is back. The last frame has to be
    # older than the search, as above: what is written as it begins may be its answer.
    time.sleep(1.2)
    find(client, [SII], folder=str(tmp_path))
    until(lambda s: s["next"])
    shutil.rmtree(tmp_path)
    assert "is gone" in until(lambda s: s["job"] and s["job"]["state"] == "failed")["job"]["message"]


def test_a_rig_without_devices_has_its_sheet_too(client, context):
    sheet = client.get("/api/rigs/3/flats").json
    assert not sheet["can_shoot"]
    assert sheet["source"] == "Lit wall"
    assert sheet["rows"][0]["mode_text"] == "time"
    with context.library.db.session() as session:
        assert session.query(RunStep).filter(RunStep.state == "waiting").count() == 0
