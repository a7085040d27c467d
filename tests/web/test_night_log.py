"""The log of nights: notes and weather, months, lights kept or not, nights added, parted and joined."""

from __future__ import annotations

from datetime import datetime, timedelta

import numpy as np
import pytest

from grayshelf.library.models import NightLog
from tests.helpers import write_fits
from tests.web.test_run import gate_of, wait_for


def ok(answer):
    assert answer.status_code == 200, answer.text
    return answer.json


def shot(folder, name, at, **cards):
    base = {"INSTRUME": "Merl 7", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "GAIN": 10, "OFFSET": 20,
            "SET-TEMP": -10.0, "CCD-TEMP": -10.0, "IMAGETYP": "LIGHT", "EXPTIME": 600.0, "FILTER": "L",
            "OBJECT": "M 33", "DATE-OBS": at.strftime("%Y-%m-%dT%H:%M:%S")}  # fmt: skip
    pixels = np.random.default_rng(at.minute).normal(900, 20, (40, 60)).astype(np.uint16)
    write_fits(folder / name, {**base, **cards}, pixels)


@pytest.fixture
def nights(own, tmp_path):
    """Two nights of another program's frames, and where they lie; the rig's number."""
    folder = tmp_path / "frames"
    for i in range(6):
        shot(folder, f"M33_L_{i:03}.fits", datetime(2026, 10, 1, 19, 0) + timedelta(minutes=50 * i))
    for i in range(3):
        shot(folder, f"night2/Light M33 ({i}).fit", datetime(2026, 11, 2, 22, 10 * i), FILTER="R")
    own.scan(folder)
    return own, folder, own.get("/api/state")["rigs"][0]["id"]


def kept(own, rig):
    return {n["night"]: (n["kept"], n["taken"]) for n in own.get(f"/api/rigs/{rig}/nights")["nights"]}


def say(own, rig, night, **body):
    return ok(own.client.post(f"/api/rigs/{rig}/nights/{night}/kept", json=body))


def test_notes_and_weather_are_kept_and_a_night_without_lights_is_added(nights):
    own, _, rig = nights
    at = f"/api/rigs/{rig}/nights/2026-10-01"
    ok(own.client.put(f"{at}/log", json={"notes": "Dew. Große Mühe"}))
    ok(own.client.put(f"{at}/log", json={"weather": {"air_from_c": -3.5, "wind_m_s": 2}}))
    ok(own.client.put(f"{at}/log", json={"weather": {"wind_m_s": None}}))
    night = own.get(at)
    noted = {w["name"]: w["value"] for w in night["weather"] if w["value"] is not None}
    assert night["notes"] == "Dew. Große Mühe" and noted == {"air_from_c": -3.5}
    for wrong in ({"air_from_c": 400}, {"humidity_percent": -1}, {"rain": 1}):
        assert own.client.put(f"{at}/log", json={"weather": wrong}).status_code == 400, wrong
    ok(own.client.post(f"/api/rigs/{rig}/nights", json={"night": "2026-10-20"}))
    assert own.client.post(f"/api/rigs/{rig}/nights", json={"night": "2026-10-20"}).status_code == 409
    clouded = own.get(f"/api/rigs/{rig}/nights/2026-10-20")
    assert clouded["taken"] == 0 and clouded["sets"] == []
    # Months at a glance: hours are those of the lights that are kept (6 of 10 minutes: arithmetic).
    months = {m["name"]: m for m in own.get(f"/api/rigs/{rig}/nights")["months"]}
    assert list(months) == ["November 2026", "October 2026"]
    october = months["October 2026"]
    assert (october["count"], october["hours"], october["kept"], october["gaps"]) == (1, 1.0, 6, 1)
    assert [n["day"] for n in october["nights"]] == [1, 20]
    tables = {t: own.client.get(f"/api/rigs/{rig}/log/{t}.csv").text for t in ("nights", "frames", "weather")}
    assert "2026-10-20,,0.0,0,0" in tables["nights"] and "Große Mühe" in tables["nights"]
    assert tables["frames"].count("M 33") == 9 and "-3.5" in tables["weather"]
    assert own.client.get(f"/api/rigs/{rig}/log/moods.csv").status_code == 400
    ok(own.client.delete(f"/api/rigs/{rig}/nights/2026-10-20"))
    assert own.client.delete(at).status_code == 409, "one with lights is not taken out"
    assert "2026-10-20" not in kept(own, rig)


def test_lights_are_kept_by_a_list_of_names_and_by_hand_and_that_outlives_a_scan(nights):
    own, folder, rig = nights
    # As other programs write it: with folders, quotes, another suffix, remarks, and a name that is nowhere.
    names = '# kept\n"C:\\work\\M33_L_001.xisf"\n/data/m33_l_002.fits, M33_L_004\nM33_L_777.fits'
    told = say(own, rig, "2026-10-01", names=names, kept=True, others=True)
    assert told["not_found"] == ["M33_L_777.fits"] and len(told["changed"]) == 3
    assert kept(own, rig)["2026-10-01"] == (3, 6)
    frames = own.get(f"/api/rigs/{rig}/nights/2026-10-01/frames")["frames"]
    away = [f["name"] for f in frames if not f["kept"]]
    assert away == ["M33_L_000.fits", "M33_L_003.fits", "M33_L_005.fits"] and "said on" in frames[0]["why"]
    (folder / away[0]).touch()
    own.scan(folder)
    assert kept(own, rig)["2026-10-01"] == (3, 6), "what was said outlives another scan"
    assert own.get("/api/problems?state=set%20aside")["total"] == 0, "it is no trouble of Intake's"
    one = next(f["id"] for f in frames if f["name"] == away[0])
    say(own, rig, "2026-10-01", frames=[one], kept=True)
    assert kept(own, rig)["2026-10-01"] == (4, 6)
    blanks = say(own, rig, "2026-10-01", names="Light M33 (1).fit", kept=False, every_night=True)
    assert len(blanks["changed"]) == 1 and kept(own, rig)["2026-11-02"] == (2, 3)
    assert (
        own.client.post(
            f"/api/rigs/{rig}/nights/2026-10-01/kept", json={"names": " \n#x", "kept": True}
        ).status_code
        == 400
    )
    answer = own.client.get(f"/api/rigs/{rig}/log/frames.csv")
    assert answer.is_streamed, "a rig of years has more lights than are to be held at once"
    lines = answer.text.splitlines()
    assert sum(',0,"Not kept' in line for line in lines) == 3
    times = [line.split(",")[1] for line in lines[1:]]
    assert times == sorted(times) and len(times) == sum(taken for _, taken in kept(own, rig).values())


def test_a_night_is_parted_and_joined_and_both_are_taken_back(nights):
    own, folder, rig = nights
    before = kept(own, rig)
    at = f"/api/rigs/{rig}/nights/2026-10-01"
    ok(own.client.put(f"{at}/log", json={"notes": "first"}))
    said = ok(own.client.post(f"{at}/move", json={"into": "2026-10-02", "at": "21:00"}))
    assert "3 frames are" in said["message"]
    assert kept(own, rig) == {**before, "2026-10-01": (3, 3), "2026-10-02": (3, 3)}
    # A frame of that time that comes in later is in the parted night, too, and a restart changes nothing.
    shot(folder, "M33_L_late.fits", datetime(2026, 10, 2, 2, 50))
    own.scan(folder)
    own.again()
    assert kept(own, rig)["2026-10-02"] == (4, 4)
    assert "by hand" in own.get(f"/api/rigs/{rig}/nights/2026-10-02")["night_from"]
    other = f"/api/rigs/{rig}/nights/2026-10-02"
    ok(own.client.put(f"{other}/log", json={"notes": "fog\nat two", "weather": {"humidity_percent": 92}}))
    ok(own.client.post(f"{other}/move", json={"into": "2026-10-01"}))
    assert kept(own, rig)["2026-10-01"] == (7, 7) and "2026-10-02" not in kept(own, rig)
    assert own.get(at)["notes"] == "first\nfog\nat two"
    ok(own.client.put(f"{at}/log", json={"notes": "first\nfog\nat two\ndew", "weather": {"wind_m_s": 3}}))
    ok(own.client.post(f"/api/rigs/{rig}/nights/move/take-back"))
    # The notes go back with their night; what was written since stays where it was written.
    with own.library.db.session() as session:
        told = {str(log.night): (log.notes, log.conditions) for log in session.query(NightLog)}
    assert told == {
        "2026-10-01": ("first\ndew", {"wind_m_s": 3.0}),
        "2026-10-02": ("fog\nat two", {"humidity_percent": 92.0}),
    }
    ok(own.client.put(f"{at}/log", json={"notes": "first"}))
    ok(own.client.post(f"/api/rigs/{rig}/nights/move/take-back"))
    # A night of which something is noted is there, also where it has no lights any more.
    assert kept(own, rig) == {**before, "2026-10-01": (7, 7), "2026-10-02": (0, 0)}
    assert own.client.post(f"/api/rigs/{rig}/nights/move/take-back").status_code == 404
    assert "by hand" not in own.get(at)["night_from"] and own.get(at)["notes"] == "first"
    for wrong in (
        {"into": "2026-10-02", "at": "11:00"},
        {"into": "2026-10-01"},
        {"into": "2027-01-01"},
        {"into": "2026-10-02", "at": "late"},
    ):
        assert own.client.post(f"{at}/move", json=wrong).status_code in (400, 409), wrong
    assert (
        own.client.post(f"/api/rigs/{rig}/nights/2026-01-01/move", json={"into": "2026-01-02"}).status_code
        == 404
    )


def test_a_night_tells_what_its_runs_shot(client, context):
    context.library.clock.rate = 1e7
    asked = {"exposures": "1 s", "temps": "-5", "set_up": "g100:o30:b1"}
    keys = client.post("/api/rigs/1/fill/ladder", json=asked).json["keys"]
    body = {"hours": 0.5, "put_on": ",".join(keys), "counts": f"{keys[0]}=4"}
    job = ok(client.post("/api/rigs/1/fill", json=body))["job_id"]

    def run():
        return client.get("/api/rigs/1/run").json["run"]

    gate = gate_of(wait_for(context, run, gate_of))
    ok(client.post(f"/api/jobs/{job}/answer", json={"step_id": gate["id"], "answer": "done"}))
    wait_for(context, run, lambda r: r["job"]["state"] == "done")
    ok(client.post(f"/api/runs/{job}/put-away"))
    lines = client.get("/api/rigs/1/nights/2026-10-18").json["shot"]
    assert any("darks of 1 s" in x["what"] and x["how"] == "4 of 4" and not x["failed"] for x in lines)
