"""A light that is lit for a set time within the exposure: what is looked for is its time, in the dark the shutter moves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from astropy.io import fits
from sqlalchemy import select

from grayshelf.clock import SimulatedClock
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.model import Bound
from grayshelf.core.flats.search.window import CameraTraits, permitted
from grayshelf.core.flats.timed_light import TimedLight, exposure_of, light_of
from grayshelf.demo.rigs import MODELS, START
from grayshelf.devices.simulated.rig import SimulatedWorld, devices_of
from grayshelf.library.models import FlatSetting, MeasurementShot, RunStep
from tests.web import test_bench as bench
from tests.web import test_by_hand as by_hand
from tests.web.test_run import gate_of, start, wait_for

own = by_hand.own
TIMED = {"before_s": 0.6, "after_s": 0.4, "shortest_lit_s": 0.01}
PANEL = {"kind": "panel", "dimmable": True, "lowest": 18, "highest": 255, "diffusers": []}


def test_the_shutter_is_out_of_the_picture_and_out_of_the_window():
    timed = TimedLight(0.5, 0.5, 0.01)
    assert (exposure_of(timed, 0.2), light_of(timed, 1.2), exposure_of(None, 0.2)) == (1.2, 0.2, 0.2)
    low, high = Bound(0.05, "mine"), Bound(30.0, "mine")
    slow = CameraTraits(repeatable_from_s=1.02, shutter="slow")
    assert permitted(low, high, slow).shortest.exposure_s == 3.0
    assert permitted(low, high, slow, timed=timed).shortest.exposure_s == 0.05
    # The whole exposure still has to be one that the camera repeats.
    assert permitted(low, high, replace(slow, repeatable_from_s=1.4), timed=timed).shortest.exposure_s == (
        pytest.approx(0.4)
    )
    for wrong in ((0.0, 0.5, 0.01), (0.5, 90.0, 0.01), (0.5, 0.5, 0.0), (float("nan"), 0.5, 0.01)):
        with pytest.raises(GrayShelfError):
            TimedLight(*wrong)

    # A leaf shutter that takes 60 ms to the corner: a fifth of 0.3 s is lost there, and nothing under a timed light.
    model = MODELS["heron"]("tiny")
    model = replace(model, sensor=replace(model.sensor, shutter_travel_s=0.06))
    world = SimulatedWorld(model, SimulatedClock(START, 1e9))
    devices = devices_of(world)
    world.change(panel_in_place=True)
    devices.wheel.move(model.filters.index("OIII"))
    devices.panel.set_brightness(60)

    def falloff(exposure_s, lit_s=None):
        if lit_s is not None:
            devices.panel.light_within(0.5, lit_s)
        pixels = devices.camera.expose(exposure_s, 100, 30, 1).pixels - float(model.sensor.pedestal(30))
        height, width = pixels.shape
        middle = np.median(pixels[height // 2 - 8 : height // 2 + 8, width // 2 - 8 : width // 2 + 8])
        return float(np.median(pixels[:12, :12]) / middle), float(middle)

    (true, level), (shaded, _), (timed_corner, timed_level) = falloff(10.0), falloff(0.3), falloff(1.3, 0.3)
    assert shaded < true * 0.85
    assert timed_corner == pytest.approx(true, rel=0.04)
    assert timed_level == pytest.approx(level * 0.03, rel=0.05), "and it is lit for so long, not longer"
    assert falloff(1.3)[1] > 3 * timed_level, "the next exposure is under a steady light again"


def test_a_run_looks_for_the_time_of_light_and_its_dark_flats_have_the_whole_exposure(client, context):
    def page():
        return client.get("/api/rigs/1/run").json["run"]

    sheet = client.get("/api/rigs/1/flats").json
    known = next(light for light in sheet["sources"] if light["name"] == sheet["source"])
    answer = client.put("/api/rigs/1/sheets/light", json={**known, **TIMED, "after_s": 0.0})
    assert answer.status_code == 400 and "dark before and after" in answer.json["detail"]
    assert client.put("/api/rigs/1/sheets/light", json={**known, **TIMED}).status_code == 200
    told = next(p for p in client.get("/api/rigs/1").json["parts"] if p["kind"] == "light")
    assert "lit within the exposure" in str(told)
    job_id = start(client, ["OIII"], frames=4)
    while (run := wait_for(context, page, lambda r: gate_of(r) or r["job"]["state"] == "done"))["job"][
        "state"
    ] != "done":
        said = {"step_id": gate_of(run)["id"], "answer": "done"}
        assert client.post(f"/api/jobs/{job_id}/answer", json=said).status_code == 200
    with context.library.db.session() as session:
        steps = {s.kind: s for s in session.scalars(select(RunStep).where(RunStep.job_id == job_id))}
        shot = {kind: [(x.path, x.why, x.stats["median"]) for x in s.shots] for kind, s in steps.items()}
        setting = session.scalars(select(FlatSetting).order_by(FlatSetting.id.desc())).first()
        assert setting.dark_s == 1.0
        light_s, expected = setting.exposure_s, setting.expected_adu
    assert len(shot["flats"]) == 4 and not any(why for _, why, _ in shot["flats"])
    assert all(level == pytest.approx(expected, rel=0.02) for _, _, level in shot["flats"])
    cards = [
        fits.getheader(context.library.root / path)
        for kind in ("flats", "dark flats")
        for path, _, _ in shot[kind]
    ]
    assert all(h["EXPTIME"] == pytest.approx(light_s + 1.0) for h in cards)
    assert [h.get("GSLIT") for h in cards] == [pytest.approx(light_s)] * 4 + [None] * 4
    # Once more: the last setting says the time of light, and its confirming shot is the first flat.
    row = next(r for r in client.get("/api/rigs/1/flats").json["rows"] if r["key"]["filter_code"] == "OIII")
    assert (
        row["history"][0]["text"].startswith(f"{light_s:.3g}"[:3])
        and "of light in" in row["history"][0]["text"]
    )
    slips = client.get("/api/rigs/1/tonight?frames=4").json["offers"]
    assert all(o["filter_code"] != "OIII" or not o["hole"] for o in slips), "what was shot serves the lights"


def test_another_program_lights_it_within_the_exposure(own):
    program = own.program
    light = {
        "name": "Strobe",
        **PANEL,
        "kind": "wall",
        "dimmable": False,
        "pulse_hz": None,
        "duty": None,
        **TIMED,
    }
    assert own.client.put("/api/rigs/1/sheets/light", json=light).status_code == 200
    by_hand.begin(own, str(program.folder))
    hand = by_hand.until(own, lambda p: p["hand"] and "test flat of" in p["hand"]["what"])["hand"]
    assert "lit for" in hand["what"] and "0.6 s after it begins" in hand["what"]
    program.shoot("FLAT", 0.9, filter=next(d["copied"] for d in hand["dials"] if d["name"] == "filter"))
    said = by_hand.until(own, lambda p: p["hand"]["refused"])["hand"]["refused"][0]["why"]
    assert "nothing of it is lit" in said
    asked = by_hand.obey(own, program)
    assert own.ended(by_hand.run(own)["job"]["id"])["state"] == "done"
    # 21,000 ADU/s in R from a pedestal of 800 to 45 % of 65,535: 1.366 s of light, in an exposure 1 s longer.
    of_r = [line for line in asked if line.startswith("R") and "flats of 2.3" in line]
    assert of_r and "lit for 1.3" in of_r[0], asked
    assert any("dark flats of 2.3" in line and "lit" not in line for line in asked), asked


def test_the_gain_exercise_measures_under_it(client, context):
    """Straight over the time of light, though its exposures are all a second longer, and the conversion is the sensor's."""
    rig = 1
    sheet = client.get(f"/api/rigs/{rig}/flats").json
    known = next(light for light in sheet["sources"] if light["name"] == sheet["source"])
    assert client.put(f"/api/rigs/{rig}/sheets/light", json={**known, **TIMED}).status_code == 200
    number, _ = bench.shoot(client, rig, "gain", gains=[100], filter_code="Ha")
    page = bench.until(client, number, bench.ended)
    channel = page["gain"]["gains"][0]["channels"][0]
    true = MODELS["heron"]("tiny").sensor.e_per_adu(100)
    assert (
        channel["e_per_adu"]["value"] == pytest.approx(true, rel=0.03)
        and not page["gain"]["gains"][0]["findings"]
    )
    with context.library.db.session() as session:
        shots = session.scalars(select(MeasurementShot).where(MeasurementShot.measurement_id == number)).all()
        cards = [fits.getheader(context.library.root / s.path) for s in shots if s.role in ("flat", "test")]
    assert len(cards) > 20
    assert all(h["EXPTIME"] == pytest.approx(h["GSLIT"] + 1.0) for h in cards)
