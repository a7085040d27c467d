"""A twilight of a rig without devices: another program shoots what it is told, and each frame tells the sky."""

from __future__ import annotations

import math
import re
import time
from datetime import UTC, date, datetime, timedelta

import numpy as np
import pytest
from astropy.io import fits

from grayshelf.clock import SimulatedClock
from grayshelf.core.flats.sky.sun import twilight_at
from grayshelf.library.models import Frame, RunShot
from grayshelf.library.records import read
from grayshelf.library.step_records import ShotStats
from tests.helpers import write_fits
from tests.own import Own
from tests.served import ServedRig
from tests.waiting import asked_until

SITE = {"name": "A roof", "time_zone": "Europe/Madrid", "latitude": 40.4, "longitude": -3.7}
BASE = {"INSTRUME": "Merl 7", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "GAIN": 56, "OFFSET": 18,
        "XBINNING": 1, "YBINNING": 1, "SET-TEMP": -5.0, "CCD-TEMP": -5.0}  # fmt: skip
PEDESTAL = 600.0
#: The true sky: so many ADU a second when its window opens, and its fading by the second.
RATE, FADES = 9_000.0, 1 / 140.0


def ok(answer):
    assert answer.status_code == 200, answer.text
    return answer.json


@pytest.fixture
def dusk(tmp_path):
    """A library of another program's lights at dusk: it, its folder, the rig, and how bright the sky is at a moment."""
    sun = twilight_at(40.4, -3.7, date(2026, 11, 14), dawn=False)
    clock = SimulatedClock(sun.time(-600.0), 1e9)
    own, folder = Own(tmp_path / "library", clock), tmp_path / "frames"
    rng = np.random.default_rng(1)
    pixels = rng.normal(900, 20, (60, 90)).astype(np.uint16)
    for i in range(3):
        at = datetime(2026, 11, 13, 22, 5 * i)
        cards = {**BASE, "IMAGETYP": "LIGHT", "EXPTIME": 90.0, "FILTER": "Lum", "OBJECT": "M 33"}
        write_fits(folder / f"l{i}.fits", {**cards, "DATE-OBS": at.isoformat()}, pixels)
    for i in range(12):
        cards = {**BASE, "IMAGETYP": "BIAS", "EXPTIME": 0.0, "DATE-OBS": f"2026-11-13T21:00:{i:02}"}
        write_fits(folder / f"b{i}.fits", cards, rng.normal(PEDESTAL, 8, (60, 90)).astype(np.uint16))
    ok(own.client.put("/api/site", json=SITE))
    own.scan(folder)
    own.build()

    rig = own.get("/api/state")["rigs"][0]["id"]
    row = ok(own.client.post(f"/api/rigs/{rig}/twilight", json={"at": "dusk"}))["rows"][0]
    middle = sun.time(60.0 * row["opens"] + 40.0)
    clock.sleep((middle - clock.now()).total_seconds())

    def rate(when: datetime) -> float:
        return RATE * math.exp(-FADES * (when - middle).total_seconds())

    yield own, folder, rig, rate
    own.close()


def test_another_program_is_told_each_exposure_and_its_flats_are_in_the_master(dusk):
    own, folder, rig, rate = dusk
    rng, clock = np.random.default_rng(5), own.library.clock

    def page(**asked):
        return ok(own.client.post(f"/api/rigs/{rig}/twilight", json=asked))

    ahead = page(at="dusk")
    assert not ahead["can_shoot"] and ahead["by_folder"] and "your own program" in ahead["cannot"]
    body = {"at": "dusk", "rows": [{"key": ahead["rows"][0]["key"], "count": 6}]}
    assert own.client.post(f"/api/rigs/{rig}/twilight/start", json=body).status_code == 409
    nowhere = {**body, "folder": str(folder / "nowhere")}
    assert own.client.post(f"/api/rigs/{rig}/twilight/start", json=nowhere).status_code in (400, 404)
    job = ok(own.client.post(f"/api/rigs/{rig}/twilight/start", json={**body, "folder": str(folder)}))[
        "job_id"
    ]

    def shoot(name, exposure_s, **cards):
        now = clock.now()
        level = PEDESTAL + rate(now) * exposure_s
        pixels = rng.normal(level, math.sqrt(level), (60, 90)).clip(0, 65535).astype(np.uint16)
        facts = {**BASE, "IMAGETYP": "FLAT", "FILTER": "Lum", "EXPTIME": round(exposure_s, 4)}
        at = (now - timedelta(seconds=0.5)).astimezone(UTC).replace(tzinfo=None)
        write_fits(folder / name, {**facts, "DATE-OBS": at.isoformat(), **cards}, pixels)

    def until(wanted, seconds=20.0):
        return asked_until(
            lambda: page(at="last"), wanted, seconds, lambda p: f"{p['job']} {p['rows'][0]['shots']}"
        )

    # A light and a flat at another gain are told, and are no part of it.
    until(lambda p: p["job"] and re.search(r"of [\d.]+ s", p["job"]["message"]))
    shoot("a light.fits", 1.0, IMAGETYP="LIGHT")
    until(lambda p: "a light.fits is left alone: it is no flat" in p["job"]["message"])
    shoot("other gain.fits", 1.0, GAIN=99)
    until(lambda p: "gain 99 and not 56" in p["job"]["message"])
    shots = 0
    while (now := page(at="last"))["job"] is not None and shots < 14:
        told = re.search(r", ([\d.]+)\s*s$", now["next_text"])
        if told is None:
            time.sleep(0.1)
            continue
        shots += 1
        shoot(f"sky {shots}.fits", float(told[1]))
        until(lambda p, n=shots: p["job"] is None or len(p["rows"][0]["shots"]) >= n)
        # Whoever shoots reads the next exposure first.
        time.sleep(0.5)
    assert own.ended(job)["state"] == "done"
    row = page(at="last")["rows"][0]
    assert row["done"] == 6 and shots <= 9, "one or two looks, then every frame is a flat"
    with own.library.db.session() as session:
        kept = [s for s in session.query(RunShot) if read(ShotStats, s.stats).counts]
        frames = [session.get_one(Frame, s.frame_id) for s in kept]
        assert len(frames) == 6 and len({f.set_id for f in frames}) == 1, "one set, each at its own exposure"
        assert len({f.facts["exposure_s"] for f in frames}) > 1 and all(f.facts["of_sky"] for f in frames)
        assert frames[0].set.master_set_id is not None
    assert (folder / "sky 1.fits").exists() and not (folder / "sky 1.fits").is_symlink()

    # Another program writes into its headers later (where the mount pointed): it is read again, and of the sky still.
    for path in sorted(folder.glob("sky *.fits")):
        with fits.open(path, mode="update") as hdus:
            hdus[0].header["OBJCTALT"] = 71.5
    own.scan(folder)
    with own.library.db.session() as session:
        again = [session.get_one(Frame, f.id) for f in frames]
        assert all(f.facts["of_sky"] for f in again) and len({f.set_id for f in again}) == 1


def test_what_is_attached_beside_the_camera_faces_the_sky_and_brings_the_filter_in(dusk):
    own, folder, rig, _ = dusk
    served = ServedRig(own.library.clock)
    mount, wheel = (next(d for d in served.devices if d.kind == k) for k in ("telescope", "filterwheel"))
    try:
        served.faults.begin("not safe")
        stood = mount.get_altitude()
        for part, kind in (("filters", "filterwheel"), ("mount", "telescope"), ("safety", "safetymonitor")):
            ok(own.client.put(f"/api/rigs/{rig}/devices/{part}", json=served.chosen(kind)))
        ahead = ok(own.client.post(f"/api/rigs/{rig}/twilight", json={"at": "dusk"}))
        body = {"at": "dusk", "folder": str(folder), "rows": [{"key": ahead["rows"][0]["key"], "count": 6}]}
        job = ok(own.client.post(f"/api/rigs/{rig}/twilight/start", json=body))["job_id"]
        asked_until(lambda: own.get("/api/jobs")["alive"][0], lambda j: j["state"] == "waiting")
        assert mount.get_altitude() == stood, "not while it is not safe"
        served.faults.end("not safe")
        now = asked_until(
            lambda: ok(own.client.post(f"/api/rigs/{rig}/twilight", json={"at": "last"})),
            lambda page: "itself" in page["next_text"],
            tell=lambda page: page["job"],
        )
        assert now["next_text"].endswith("; the rig sets this itself: L"), now["next_text"]
        assert wheel.get_names()[wheel.get_position()] == "L"
        assert mount.get_altitude() > max(stood, 60.0), "away from the sun, near the zenith"
        ok(own.client.post(f"/api/jobs/{job}/stop"))
        own.wait_until_idle()
    finally:
        served.cut_off()
