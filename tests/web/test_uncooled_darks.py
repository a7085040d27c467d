"""Darks of a sensor that no cooler holds: offered for tonight's lights, shot right after them, and found by their slips."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import numpy as np
import pytest

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.judge import judge_dark
from grayshelf.core.matching.model import CommonSettings, Holding
from grayshelf.core.planning.uncooled_darks import near_as_can_be, wanted_now
from tests.helpers import write_fits
from tests.other_program import HEADER, Program
from tests.own import Own
from tests.web.by_any_hands import begin, obey, run

UNCOOLED = {**HEADER, "SET-TEMP": None}


@pytest.fixture
def own(tmp_path):
    """A library at a site where it is night now, so that lights of this hour are tonight's."""
    library = Own(tmp_path / "library")
    ahead = (2 - datetime.now(UTC).hour + 12) % 24 - 12
    site = {"name": "Here", "time_zone": f"Etc/GMT{-ahead:+d}"}
    assert library.client.put("/api/site", json=site).status_code == 200
    (tmp_path / "camera").mkdir()
    yield library
    library.close()


def lights(folder, temps, hours_ago=0.5):
    """Lights of a camera that tells these temperatures of its sensor, or none."""
    for i, temp in enumerate(temps):
        at = datetime.now(UTC) - timedelta(hours=hours_ago, minutes=-3 * i)
        cards = {**UNCOOLED, "IMAGETYP": "LIGHT", "FILTER": "R", "OBJECT": "M 33", "CCD-TEMP": temp}
        pixels = np.random.default_rng(i).normal(900, 9, (60, 80)).astype(np.uint16)
        write_fits(folder / f"l{hours_ago:g}_{i}.fits", {**cards, "DATE-OBS": at.isoformat()[:-6]}, pixels)


def darks_offered(own):
    return [o for o in own.get("/api/rigs/1/tonight")["offers"] if o["kind"] == "dark"]


@pytest.mark.parametrize(
    ("temps", "dark_c", "verdict"),
    [
        ((12.4, 12.1, 11.8, 11.6), 11.4, "fits"),
        ((12.4, 12.1, 11.8, 11.6), 9.0, "fits with care"),
        ((None,) * 4, None, "fits with care"),
    ],
)
def test_shot_right_after_the_lights_they_serve_them(own, tmp_path, temps, dark_c, verdict):
    lights(tmp_path / "heap", temps)
    own.scan(tmp_path / "heap")
    (offer,) = darks_offered(own)
    assert "as warm as the sensor is now" in offer["title"] and offer["lights"] == 4, offer
    fill = own.get("/api/rigs/1/fill?hours=3")
    assert not fill["out_of_reach"] and any("darks of 120 s" in s["title"] for s in fill["steps"]), fill
    program = Program(tmp_path / "camera")
    program.set |= {"temp": dark_c, "cards": {"SET-TEMP": None}}
    sheet = own.get("/api/rigs/1/tonight")
    begin(own, str(program.folder), add=[offer["key"]], leave_out=[o["key"] for o in sheet["offers"] if o["kind"] != "dark"])  # fmt: skip
    asked = obey(own, program)
    assert not any("°C" in line for line in asked), asked
    assert own.ended(run(own)["job"]["id"])["state"] == "done"
    (light,) = (x["id"] for x in own.get("/api/sets?kind=light")["items"])
    line = next(x for x in own.get(f"/api/lights/{light}/slip")["lines"] if x["kind"] == "dark")
    assert line["verdict"] == verdict, line["chosen"]["reasons"]
    # Others of this night would be no nearer.
    assert not darks_offered(own)
    fill = own.get("/api/rigs/1/fill?hours=3")
    assert not any("darks of 120 s" in s["title"] for s in fill["steps"]), [s["title"] for s in fill["steps"]]


def test_lights_of_another_night_wait_until_it_is_as_warm_again(own, tmp_path):
    lights(tmp_path / "heap", (14.2, 14.0, 13.9), hours_ago=30)
    own.scan(tmp_path / "heap")
    assert not darks_offered(own)
    (told,) = (o["why"] for o in own.get("/api/rigs/1/tonight")["out_of_reach"] if o["kind"] == "dark")
    assert "when it is about 14 °C again" in told
    # And two nights of one temperature: only tonight's are counted.
    lights(tmp_path / "heap", (14.2, 14.0, 13.9))
    own.scan(tmp_path / "heap")
    (offer,) = darks_offered(own)
    assert offer["lights"] == 3


def test_only_tonight_is_as_warm_as_now():
    want = CommonSettings("Kite 9", 80, 60, sensor_temp_c=12.0)
    assert wanted_now(want, date(2026, 10, 18), date(2026, 10, 18)).sensor_temp_c is None
    assert wanted_now(want, date(2026, 10, 17), date(2026, 10, 18)) is None
    assert wanted_now(want, None, date(2026, 10, 18)) is None


@pytest.mark.parametrize(
    ("changes", "frames", "near"),
    [({"sensor_temp_c": 9.0}, 20, True), ({}, 6, False), ({"night": date(2026, 10, 17)}, 20, False), ({"exposure_s": 63.0}, 20, False)],
)  # fmt: skip
def test_darks_shot_right_after_the_lights_are_as_near_as_can_be(changes, frames, near):
    night = date(2026, 10, 18)
    want = CommonSettings(
        "Kite 9", 80, 60, exposure_s=60.0, gain=1.0, offset=1.0, sensor_temp_c=12.0, night=night
    )
    dark = Holding("", FrameKind.DARK, replace(want, **changes), frames)
    assert near_as_can_be(judge_dark(want, dark), night) is near
    assert not near_as_can_be(None, night)
