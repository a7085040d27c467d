"""Flats on the twilight sky through the application: looked ahead at, shot at dawn and at dusk, cut short and gone on with."""

from __future__ import annotations

import math
from datetime import UTC, date, timedelta

import numpy as np
import pytest
from astropy.io import fits
from sqlalchemy import select

from grayshelf.clock import SimulatedClock
from grayshelf.core.flats.sky.sun import twilight_at
from grayshelf.demo.rigs import MODELS
from grayshelf.library.models import FlatSetting, Frame, FrameSet, Job, MasterRecord, Rig, RunShot, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import ShotStats
from tests.helpers import write_fits
from tests.pages import say_at
from tests.waiting import asked_until

GAINS = {"L": 100.0, "R": 100.0, "Ha": 200.0, "SII": 200.0}
FOUR = tuple(GAINS)
KEYS = {
    c: {"filter_code": c, "gain": g, "offset": 30.0, "binning": 1} for c, g in {**GAINS, "G": 100.0}.items()
}


def ok(answer):
    assert answer.status_code == 200, answer.text
    return answer.json


def look(client, rig=1, **asked):
    return ok(client.post(f"/api/rigs/{rig}/twilight", json=asked))


def rows(count, codes=FOUR):
    return [{"key": KEYS[c], "count": count} for c in codes]


def until(client, wanted, seconds=90):
    return asked_until(
        lambda: look(client),
        wanted,
        seconds,
        lambda page: f"{page['title']} {page['job']} {page['next_text']}",
    )


def begin(client, at, count, codes=FOUR):
    job = ok(client.post("/api/rigs/1/twilight/start", json={"at": at, "rows": rows(count, codes)}))["job_id"]
    gate = until(client, lambda p: p["gate"])["gate"]
    assert say_at(client, gate, "leave out").status_code == 409
    assert gate["sign"] == "sky" and "away from the sun" in gate["advice"]
    ok(say_at(client, gate))
    return job


def measured(shot):
    """What a shot measured."""
    return read(ShotStats, shot.stats)


def shots_of(context, job):
    with context.library.db.session() as session:
        steps = session.scalars(select(RunStep).where(RunStep.job_id == job, RunStep.kind == "sky"))
        return {s.filter_code: list(s.shots) for s in steps}


def test_the_next_twilight_is_laid_out_from_site_and_date(client):
    page = look(client)
    assert (page["at"], page["shows"], page["day"]) == ("dawn", "plan", "2026-10-19"), "it is 01:12"
    assert page["can_shoot"]
    assert page["rows"][0]["key"]["filter_code"] == "L", "at dawn the most sensitive comes first"
    assert page["rows"][-1]["key"]["filter_code"] in ("Ha", "OIII", "SII")
    assert all(r["planned"] == r["count"] == 25 for r in page["rows"])
    assert all(r["opens"] <= r["begins"] < r["ends"] <= r["shuts"] for r in page["rows"])
    starts = [r["begins"] for r in page["rows"]]
    assert starts == sorted(starts), "one after the other"
    # The Nautical Almanac's civil dawn at 53° north on this day is about 06:05 UTC, sunrise half an hour later.
    sun = {m["text"]: m["x"] for m in page["sun"]}
    assert 25 <= sun["sun rises"] - sun["−6°"] <= 45
    dusk = look(client, at="dusk")
    assert dusk["rows"][-1]["key"]["filter_code"] == "L"
    assert "fit" in dusk["under"]
    june = look(client, at="dusk", day="2027-06-21")
    assert june["title"] != dusk["title"] and not june["can_shoot"], "only the next one can be shot"
    some = look(client, at="dawn", rows=rows(7, ("L", "Ha")))
    assert len(some["rows"]) == 2 and {r["key"]["filter_code"] for r in some["others"]} >= {"R", "SII"}
    table = client.get("/api/rigs/1/twilight.csv").text
    assert table.count("\n") == 8 and "2026-10-19T05:" in table, "times are UTC"


def test_far_north_in_summer_the_sky_never_suits_a_sensitive_filter(client):
    site = client.get("/api/intake").json
    body = {"name": site["site"], "time_zone": site["time_zone"]}
    ok(client.put("/api/site", json={**body, "latitude": 78.0, "longitude": 0.95}))
    try:
        page = look(client, at="dusk", day="2027-06-21")
        assert page["title"].endswith("no flats")
        assert all(r["planned"] == 0 and r["plan_text"] == "the sky never suits it" for r in page["rows"])
    finally:
        ok(client.put("/api/site", json={**body, "latitude": 52.95, "longitude": 0.95}))
    assert look(client)["place"].endswith("52.95° N, 0.95° E")


@pytest.mark.filterwarnings("ignore:.*dubious year")
def test_what_cannot_be_shot_is_refused_in_words(client):
    def start(choice, at="dawn", rig=1):
        return client.post(f"/api/rigs/{rig}/twilight/start", json={"at": at, "rows": choice})

    assert "No filter" in start([{"key": KEYS["L"], "count": 0}]).text
    assert "not in the wheel" in start([{"key": {**KEYS["L"], "filter_code": "Duo"}, "count": 5}]).text
    assert "binning" in start([{"key": {**KEYS["L"], "binning": 9}, "count": 5}]).text
    assert start([{"key": KEYS["L"], "count": 900}]).status_code == 422
    assert start([]).status_code == 422
    assert start(rows(5), at="noon").status_code == 422
    assert "No devices" in start(rows(5), rig=3).text
    assert "not going on" in say_at(client, {"job_id": 99, "step_id": 1}).text
    assert client.post("/api/rigs/99/twilight", json={}).status_code == 404
    for day in ("1899-12-31", "2101-01-01", "9999-12-31", "0001-01-01"):
        assert client.post("/api/rigs/1/twilight", json={"day": day}).status_code == 422
    assert look(client, at="dusk", day="1900-01-02")["day"] == "1900-01-02"
    assert client.get("/api/rigs/1/twilight.csv?choice=%7Bnonsense").status_code == 404


def test_a_dawn_of_four_filters_is_shot_as_it_should_be(client, context):
    job = begin(client, "dawn", 10)
    assert "busy" in client.post("/api/rigs/1/flats/find", json={"keys": [KEYS["L"]]}).text
    until(client, lambda p: p["job"] is None)
    page = look(client)
    assert page["shows"] == "run" and "40 of 40 flats" in page["title"], page["title"]
    target = 0.45 * 65535
    for code, shots in shots_of(context, job).items():
        flats = [s for s in shots if measured(s).counts]
        assert len(flats) == 10
        assert len(shots) <= 15, f"few frames are lost to finding the sky in {code}"
        for shot in flats:
            assert measured(shot).median == pytest.approx(target, rel=0.10), "within ±10 % of the target"
            assert measured(shot).saturated_fraction < 0.001, "none is saturated"
        assert len({s.exposure_s for s in flats}) > 5, "each with an exposure of its own"
    # The fade that the page tells of is that of the model, within 5 %.
    told = float(page["fade_text"].split("×")[1].split(" ")[0])
    truth = MODELS["heron"]("tiny").twilight.per_min
    assert math.log(told) == pytest.approx(truth, rel=0.05)
    with context.library.db.session() as session:
        sets = [s for s in session.scalars(select(FrameSet)) if s.facts.get("of_sky") and not s.is_master]
        assert sorted(s.facts["filter_code"] for s in sets) == ["Ha", "L", "R", "SII"]
        assert all(s.n_kept == 10 and s.master_set_id for s in sets)
        for row in sets:
            record = session.get_one(MasterRecord, row.master_set_id)
            taken_off = session.get_one(FrameSet, record.pedestal_set_id)
            assert taken_off.kind == "bias", "exposures differ: only a bias fits them all"
        frame = session.scalars(select(Frame).where(Frame.set_id == sets[0].id)).first()
        assert fits.getheader(context.library.root / frame.path)["IMAGETYP"] == "Sky Flat"
        assert session.scalar(select(FlatSetting)) is None, "nothing of the sky is kept as a setting"
    frames = client.get("/api/rigs/1/twilight/frames.csv").text
    assert frames.count("\nL,") + frames.count("\nHa,") >= 20
    after = look(client, at="dusk", rows=rows(9))
    assert "The light is as the twilight of" in after["known_text"]
    # Filters that it did not have are set right by those that it had.
    others = [{"key": {**KEYS["R"], "filter_code": code}, "count": 9} for code in ("G", "B")]
    told = look(client, at="dusk", rows=others)
    assert "set right by as much as the twilight of" in told["known_text"]
    both = look(client, at="dusk", rows=rows(9) + others)
    assert "of the others it is reckoned" in both["known_text"]
    width = {"R": 90.0, "G": 80.0, "B": 100.0}
    opens = {r["key"]["filter_code"]: r["opens"] for r in both["rows"] if r["key"]["filter_code"] in width}
    per_min = math.log(10) * 0.376 * 0.15
    for code in ("G", "B"):
        # Alike but in width: so much later as its light takes to fade by that.
        by_width = math.log(width[code] / width["R"]) / per_min
        assert opens[code] - opens["R"] == pytest.approx(by_width, abs=3.0)


def test_a_dusk_that_is_stopped_goes_on_where_it_was(client, context):
    clock = context.library.clock
    assert isinstance(clock, SimulatedClock)
    job = begin(client, "dusk", 10, ("SII", "L"))
    # At dusk SII is first: it is stopped after a few, and gone on with while the sky is still there.
    page = until(client, lambda p: sum(r["done"] for r in p["rows"]) >= 3)
    assert page["rows"][0]["key"]["filter_code"] == "SII"
    ok(client.post(f"/api/jobs/{job}/stop"))
    stopped = until(client, lambda p: p["job"] and p["job"]["state"] == "stopped")
    done = sum(r["done"] for r in stopped["rows"])
    assert done >= 3 and stopped["job"]["can_resume"]
    ok(client.post(f"/api/jobs/{job}/resume"))
    until(client, lambda p: p["job"] is None)
    shots = shots_of(context, job)
    for own in shots.values():
        assert sum(measured(s).counts for s in own) == 10
        assert len({s.path for s in own}) == len(own)
        exposures = [s.exposure_s for s in own if measured(s).counts]
        assert exposures == sorted(exposures), "the sky fades: each longer than the one before"


def test_a_sky_that_is_gone_is_told(client, context, tmp_path):
    # Near the end of the window: what is left does not suffice.
    clock = context.library.clock
    page = look(client, at="dawn", rows=rows(60, ("SII",)))
    sky = twilight_at(52.95, 0.95, date.fromisoformat(page["day"]), dawn=True)
    late = sky.time(page["rows"][0]["shuts"] * 60.0) - timedelta(minutes=9)
    rate, clock.rate = clock.rate, 1e9
    clock.sleep((late - clock.now()).total_seconds())
    clock.rate = rate
    job = begin(client, "dawn", 200, ("SII",))
    until(client, lambda p: p["job"] is None)
    page = look(client, at="last")
    row = page["rows"][0]
    assert row["state"] == "short" and 0 < row["done"] < 200
    assert row["plan_text"] == "the sky grew too bright"
    assert "the sky grew too bright" in page["under"]
    with context.library.db.session() as session:
        assert session.get_one(Job, job).state == "done"
        kept = session.scalars(
            select(RunShot).join(RunStep).where(RunStep.job_id == job, RunShot.frame_id.is_not(None))
        ).all()
        set_aside = [s for s in kept if not measured(s).counts]
        assert all(session.get_one(Frame, s.frame_id).rejected for s in set_aside)
    # What it did not bring is picked at the next one where nobody chooses.
    for at in ("dusk", "dawn"):
        next_one = look(client, at=at)
        assert [(r["key"]["filter_code"], r["count"]) for r in next_one["rows"]] == [
            ("SII", 200 - row["done"])
        ]
        assert f"{200 - row['done']} in SII" in next_one["missed_text"]
    # What was shot of them since, by whatever program and light, is not missed any more.
    with context.library.db.session() as session:
        camera = session.get_one(Rig, 1).camera
    key, at = page["rows"][0]["key"], clock.now().astimezone(UTC).replace(tzinfo=None)
    for i in range(5):
        cards = {
            "INSTRUME": camera,
            "IMAGETYP": "Flat Field",
            "EXPTIME": 2.0,
            "FILTER": "S2",
            "GAIN": key["gain"],
        }
        cards |= {"OFFSET": key["offset"], "DATE-OBS": (at + timedelta(seconds=9 * i)).isoformat()}
        write_fits(
            tmp_path / f"{i}.fits", cards, np.random.default_rng(i).integers(9e3, 1e4, (40, 60), np.uint16)
        )
    scan = client.post("/api/folders", json={"path": str(tmp_path)}).json["id"]
    asked_until(lambda: client.get("/api/jobs").json["ended"], lambda jobs: scan in [j["id"] for j in jobs])
    next_one = look(client, at="dusk")
    assert next_one["rows"][0]["count"] == 195 - row["done"], next_one["missed_text"]
