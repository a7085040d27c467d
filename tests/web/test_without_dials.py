"""The Bench for cameras that were made with one gain and one offset: their headers tell neither, and nobody is asked for them."""

from __future__ import annotations

from datetime import datetime, timedelta

import numpy as np
import pytest

from grayshelf.core.sensor.sorting import HandedIn, sort_out
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import traits_at
from tests.helpers import write_fits
from tests.waiting import asked_until

E_PER_ADU, NOISE_E, PEDESTAL = 1.4, 9.0, 1200.0
BASE = {"INSTRUME": "Guillemot 8", "TELESCOP": "Cask 80", "FOCALLEN": 480.0, "XBINNING": 1, "YBINNING": 1, "FILTER": "L",
        "SET-TEMP": -20.0, "CCD-TEMP": -20.0}  # fmt: skip
BEGUN = datetime(2026, 10, 17, 20)


def shoot(folder, kind, number, exposure, light=0.0, **more):
    rng = np.random.default_rng(number)
    electrons = rng.poisson(light, (120, 160)) + rng.normal(0.0, NOISE_E, (120, 160))
    when = (BEGUN + timedelta(minutes=number)).isoformat()
    cards = {**BASE, "IMAGETYP": kind, "EXPTIME": exposure, "DATE-OBS": when, **more}
    write_fits(
        folder / f"{kind}{number}.fits", cards, np.rint(electrons / E_PER_ADU + PEDESTAL).astype(np.uint16)
    )


@pytest.fixture
def night(own, tmp_path):
    """Its frames, scanned; and the Bench's page of its gain."""
    for i in range(12):
        shoot(tmp_path / "heap", "BIAS", i, 0.001)
        shoot(tmp_path / "heap", "FLAT", 100 + i, 1.0 + i // 4, 9_000.0 * (1 + i // 4))
    for i in range(2):
        shoot(tmp_path / "heap", "LIGHT", 200 + i, 600.0, 900.0, OBJECT="M 33")
    own.scan(tmp_path / "heap")
    return own.get("/api/rigs/1/bench/gain")


def test_its_gain_is_measured_from_frames_on_disk_and_counts_for_its_lights(own, night):
    (offer,) = night["disk"]
    assert offer["gain_text"] == "its one gain" and "12 flats at 3 levels, 12 bias frames" in offer["text"]
    begun = own.client.post("/api/rigs/1/bench/gain/disk", json={"set_ids": offer["set_ids"]}).json
    assert own.ended(begun["job_id"])["message"] == "Guillemot 8 at its one gain: read."
    page = own.get(f"/api/measurements/{begun['measurement_id']}")["gain"]
    ((channel,), offset) = page["gains"][0]["channels"], page["gains"][0]["offset_text"]
    # EMVA Standard 1288: the slope of the variance against the level.
    assert channel["e_per_adu"]["value"] == pytest.approx(E_PER_ADU, rel=0.03)
    assert channel["read_noise"]["value"] == pytest.approx(NOISE_E, rel=0.03)
    assert page["unity_text"] == offset == "" and page["suggestions"] == []
    kept = own.client.post(f"/api/measurements/{begun['measurement_id']}/accept", json={"gain": 0})
    assert kept.json["message"].endswith("is kept for its one gain.")
    with own.library.db.session() as session:
        traits = traits_at(own.library, session.get_one(Rig, 1), None)
    assert traits.electrons_per_adu == pytest.approx(E_PER_ADU, rel=0.03)
    assert own.get("/api/rigs/1/bench/gain")["accepted"][0]["value"].startswith("1.4")


def test_nobody_is_asked_for_a_gain_or_an_offset(own, night, tmp_path):
    assert night["one_gain"] and [g["text"] for g in night["gains"]] == ["its one gain"]
    none = own.get("/api/rigs/1/bench/offset")["none_to_set"]
    assert none["head"] == "No frame of Guillemot 8 tells an offset."
    (tmp_path / "camera").mkdir()
    asked = {"gains": [0], "folder": str(tmp_path / "camera"), "long_dark_s": 0}
    number = own.client.post("/api/rigs/1/bench/gain/shoot", json=asked).json["measurement_id"]
    gate = asked_until(lambda: own.get(f"/api/measurements/{number}"), lambda p: p["gate"])["gate"]
    own.client.post(f"/api/jobs/{gate['job_id']}/answer", json={"step_id": gate["step_id"], "answer": "done"})
    hand = asked_until(lambda: own.get(f"/api/measurements/{number}")["hand"], lambda h: h and h["line"])
    assert hand["line"] == "16 bias frames" and hand["dials"] == []
    assert own.client.post(f"/api/jobs/{gate['job_id']}/stop").status_code == 200


def test_frames_that_do_not_tell_are_left_out_where_others_of_their_camera_do():
    def handed(key, **more):
        return HandedIn(key, 10, "Guillemot 8", 160, 120, binning=1, sample_step=1, temp_c=None, **more)

    told, half, none = (
        handed(1, gain=100.0, offset=30.0),
        handed(2, gain=100.0, offset=None),
        handed(3, gain=None, offset=None),
    )
    assert sort_out([none], "Guillemot 8", by_offset=False).kept == (3,)
    assert sort_out([half], "Guillemot 8", by_offset=False).kept == (2,)
    assert sort_out([told, half, none], "Guillemot 8", by_offset=False).kept == (1,)
    # Where offsets are compared each has to be known.
    assert sort_out([half, none], "Guillemot 8").kept == ()


def test_what_lights_do_not_tell_is_said_where_it_is_missed_with_the_way_to_their_slip(own, night):
    (lights,) = (i for i, x in own.sets().items() if x["kind"] == "light")
    slip = {"night": "2026-10-17", "set_id": lights}
    sheet = own.get("/api/rigs/1/flats")
    assert sheet["rows"] == [] and "2 lights of this rig do not tell a gain" in sheet["untold"]["text"]
    tonight = own.get("/api/rigs/1/tonight")
    assert sheet["untold"]["slip"] == slip and slip in [o["slip"] for o in tonight["out_of_reach"]]
    assert {"gain", "offset"} <= {q["quantity"] for q in own.get(f"/api/lights/{lights}/slip")["questions"]}
    for quantity in ("gain", "offset"):
        said = own.client.put("/api/rigs/1/says", json={"quantity": quantity, "says": "fixed"})
        assert said.status_code == 200, said.text
    sheet = own.get("/api/rigs/1/flats")
    assert [r["key"]["filter_code"] for r in sheet["rows"]] == ["L"] and sheet["untold"] is None
    assert all(o["slip"] is None for o in own.get("/api/rigs/1/tonight")["out_of_reach"])


def test_a_camera_whose_gain_is_changed_is_not_said_to_have_one(own, night):
    for quantity in ("gain", "offset"):
        own.client.put("/api/rigs/1/says", json={"quantity": quantity, "says": "moves"})
    page = own.get("/api/rigs/1/bench/gain")
    assert not page["one_gain"] and page["gain_word"] == "gain"
    assert own.get("/api/rigs/1/bench/offset")["none_to_set"] is None
