"""The Bench's exercises shot by another program, without devices: told what to shoot, taken from a folder as it comes in."""

from __future__ import annotations

import re
import shutil
import time
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from astropy.io import fits

from tests.helpers import write_fits
from tests.other_program import HEADER, write_lights
from tests.own import Own
from tests.waiting import asked_until

#: The sensor behind the program: 0.8 e⁻/ADU, 12 e⁻ of noise, a pedestal of 8 ADU a step of the offset.
E_PER_ADU, NOISE_E, PER_OFFSET, RATE_E_S = 0.8, 12.0, 8.0, 9_000.0


class Program:
    """Another program with a sensor of its own, which shares nothing with the demo's."""

    def __init__(self, folder, light=lambda: 1.0) -> None:
        """`light`: how bright it is before the telescope, in units of `RATE_E_S`."""
        self.folder, self.number, self.light = folder, 0, light
        folder.mkdir(exist_ok=True)

    def shoot(self, kind, gain, offset, exposure_s, **cards):
        self.number += 1
        rng = np.random.default_rng(self.number)
        light = RATE_E_S * self.light() * exposure_s if kind == "FLAT" else 0.0
        electrons = rng.poisson(light, (60, 80)) + rng.normal(0, NOISE_E, (60, 80))
        adu = np.clip(np.rint(electrons / E_PER_ADU + PER_OFFSET * offset), 0, 65535).astype(np.uint16)
        now = datetime.now(UTC) + timedelta(milliseconds=self.number)
        said = {
            **HEADER, "IMAGETYP": kind, "EXPOSURE": exposure_s, "GAIN": gain, "BLKLEVEL": offset, "FILTER": "R",
            "DATE-OBS": now.isoformat()[:-6], **cards,
        }  # fmt: skip
        path = self.folder / f"shot_{self.number:04d}.fits"
        write_fits(path.with_suffix(".part"), said, adu)
        path.with_suffix(".part").rename(path)
        return path


@pytest.fixture
def empty(tmp_path, monkeypatch):
    # A program that writes each file in one go need not be waited for as one that does not.
    monkeypatch.setattr("grayshelf.work.watched.FRESH_S", 0.08)
    monkeypatch.setattr("grayshelf.work.watched.POLL_S", 0.04)
    library = Own(tmp_path / "library")
    yield library
    library.close()


@pytest.fixture
def own(empty, tmp_path):
    write_lights(tmp_path / "lights")
    empty.scan(tmp_path / "lights")
    return empty


def begin(own, kind, folder, status=200, **more):
    body = {"gains": [120], "folder": str(folder), "long_dark_s": 0, **more}
    answer = own.client.post(f"/api/rigs/1/bench/{kind}/shoot", json=body)
    assert answer.status_code == status, answer.text
    return answer.json


def shoot_as_asked(own, program, number, *, until=lambda page: False, seconds=90.0):
    """Do what the page says, as many frames at a time as it asks for, until the measurement ends; returns its page."""
    deadline, shot_at = time.monotonic() + seconds, -1
    while time.monotonic() < deadline:
        page = own.get(f"/api/measurements/{number}")
        count = page["frames"]["count"]
        if page["gate"]:
            body = {"step_id": page["gate"]["step_id"], "answer": "done"}
            own.client.post(f"/api/jobs/{page['gate']['job_id']}/answer", json=body)
        elif page["job"] is None or until(page):
            return page
        elif page["hand"] and count > shot_at:
            line = page["hand"]["line"]
            dials = {d["name"]: d["copied"] for d in page["hand"]["dials"]}
            kind = "FLAT" if "flat" in line else "BIAS" if "bias" in line else "DARK"
            exposure_s = float(dials.get("exposure", 0.001))
            many = int((re.search(r"(\d+) (?:bias|dark|flat)", line) or [0, 1])[1])
            for _ in range(many):
                program.shoot(kind, float(dials["gain"]), float(dials["offset"]), exposure_s)
            shot_at = count + many - 1
        time.sleep(0.05)
    raise AssertionError((page["hand"], page["job"]))


def test_the_offset_is_found_by_what_another_program_shoots(own, tmp_path):
    program = Program(tmp_path / "camera")
    assert own.get("/api/rigs/1/bench/offset")["by_folder"]
    refused = begin(own, "offset", tmp_path / "nowhere", 400)
    assert "nowhere" in refused["detail"]
    assert "lower" in begin(own, "offset", program.folder, 400, offset_from=9, offset_to=3)["detail"]
    number = begin(own, "offset", program.folder, offset_from=0, offset_to=60)["measurement_id"]
    # All that were shot so far are in: nothing is on its way that would count below.
    page = shoot_as_asked(
        own, program, number, until=lambda p: p["hand"] and p["frames"]["count"] == program.number >= 2
    )
    asked = page["hand"]
    assert (
        "bias frames" in asked["line"]
        and asked["before"].startswith("Cap on")
        and asked["folder"] == str(program.folder)
    )
    dials = {d["name"]: d["copied"] for d in asked["dials"]}
    assert "°C" not in page["conditions"], "nobody knows how warm it is"
    # What is not as asked is told at once, and enters nothing.
    before = page["frames"]["count"]
    slip = program.shoot("BIAS", 200, float(dials["offset"]), 0.001)
    program.shoot("LIGHT", 120, float(dials["offset"]), 30.0)
    program.shoot("BIAS", 120, float(dials["offset"]) + 1, 0.001)
    # Nor does one that is there already: saved twice, or moved by the program into a folder of its own.
    first, second = sorted(program.folder.glob("*.fits"))[:2]
    shutil.copy(first, program.folder / "copy.fits")
    (program.folder / "sorted").mkdir()
    second.rename(program.folder / "sorted" / second.name)
    told = asked_until(
        lambda: own.get(f"/api/measurements/{number}")["hand"]["refused"], lambda refused: len(refused) >= 4
    )
    said = " ".join(r["why"] for r in told)
    assert f"It is {first.name} once more" in said and second.name not in said
    assert "Set the gain to 120" in said and "not a bias frame" in said and "Set it to" in said
    assert own.get(f"/api/measurements/{number}")["frames"]["count"] == before
    # Its header put right, it counts.
    fits.setval(slip, "GAIN", value=120)
    asked_until(lambda: own.get(f"/api/measurements/{number}")["frames"]["count"], lambda n: n == before + 1)
    # Stopped and gone on with, after a restart: nothing is shot, or counted, twice.
    job = page["job"]["id"]
    came_in = own.query("SELECT json_extract(settings, '$.came_in') FROM measurement")[0][0]
    assert f"sorted/{second.name}" in came_in, "known by its new name, also after a restart"
    assert own.client.post(f"/api/jobs/{job}/stop").status_code == 200
    own.ended(job)
    own.again()
    assert own.client.post(f"/api/jobs/{job}/resume").status_code == 200
    page = shoot_as_asked(own, program, number)
    result = page["offset"][0]
    assert result["state"] == "done" and result["confirmed"], result["headline"]
    # The darkest of 4,800 pixels in a hundred frames lies some 5 σ of 15 ADU below; the margin is 30 ADU.
    level = PER_OFFSET * result["answer"]["offset"]
    assert 5 * NOISE_E / E_PER_ADU + 20 < level < 6.5 * NOISE_E / E_PER_ADU + 30 + 2 * PER_OFFSET
    paths = [r[0] for r in own.query("SELECT path FROM measurement_shot")]
    assert len(paths) == len(set(paths)) == result["n_frames"]
    assert len(list(program.folder.rglob("shot*.fits"))) == program.number, "its own files are left alone"


def test_the_gain_is_found_by_what_another_program_shoots(own, tmp_path):
    program = Program(tmp_path / "camera")
    number = begin(own, "gain", program.folder)["measurement_id"]
    page = shoot_as_asked(own, program, number, seconds=150)
    gain = page["gain"]["gains"][0]
    assert gain["state"] == "done", gain
    values = own.client.post(f"/api/measurements/{number}/accept", json={"gain": 120})
    assert values.status_code == 200, values.text
    kept = own.query(
        "SELECT json_extract(\"values\", '$.e_per_adu'), json_extract(\"values\", '$.read_noise_e') FROM camera_value"
    )
    assert kept[0][0] == pytest.approx(E_PER_ADU, rel=0.05) and kept[0][1] == pytest.approx(NOISE_E, rel=0.1)


def test_a_camera_that_the_library_has_no_frame_of(empty, tmp_path):
    """One frame that lies where its program writes tells how large they are; nothing has to be scanned before."""
    rig = {"name": "New", "camera": HEADER["INSTRUME"], "telescope": "T", "focal_length_mm": 500}
    assert empty.client.post("/api/rigs", json=rig).status_code == 200
    program = Program(tmp_path / "camera")
    refused = begin(empty, "offset", program.folder, 409, offset_from=0, offset_to=60)
    assert "No frame of" in refused["detail"] and str(program.folder) in refused["advice"]
    other = program.shoot("LIGHT", 120, 30, 1.0, INSTRUME="Quite Another")
    refused = begin(empty, "offset", program.folder, 409, offset_from=0, offset_to=60)
    assert "Quite Another" in refused["detail"] and "Rigs" in refused["advice"]
    other.unlink()
    program.shoot("LIGHT", 120, 30, 1.0)
    number = begin(empty, "offset", program.folder, offset_from=0, offset_to=60)["measurement_id"]
    page = shoot_as_asked(empty, program, number, until=lambda p: p["frames"]["count"] >= 2)
    assert page["frames"]["count"] >= 2
    empty.client.post(f"/api/jobs/{page['job']['id']}/stop", json={})
