"""Rigs that stand elsewhere, that cannot cool so far, whose devices cannot be read, and of the version before."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing

import pytest

from grayshelf.library.database import Database
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import camera_of, house_rules_of
from tests.helpers import LIGHT, write_fits
from tests.web.rigs_of_lights import (
    own,  # noqa: F401
    put,
    rigs,
)
from tests.web.test_upgrade import at_revision

BEFORE = "d92a6e0b7f14"


def test_a_dark_that_the_cooler_cannot_hold_is_out_of_reach_and_why(own, tmp_path):  # noqa: F811
    """Lights in air of 14 °C, of a camera that is held 20 °C below it."""
    for i in range(3):
        warm = {
            **LIGHT,
            "DATE-OBS": f"2026-10-19T22:0{i}:00",
            "AMBTEMP": 14.0,
            "CCD-TEMP": -5.0,
            "SET-TEMP": -5.0,
        }
        write_fits(tmp_path / "frames" / f"w{i}.fits", warm)
    own.scan(tmp_path / "frames")
    rig = rigs(own)["Heron 92"]
    put(own, f"/api/rigs/{rig}/sheets/camera", {"cooled": True, "below_air_c": 20})
    put(own, f"/api/rigs/{rig}/house-rules", {"dark_temps_c": [-20, -7, 0], "dark_exposures_s": [60]})
    page = own.get(f"/api/rigs/{rig}/tonight")
    offered = {o["title"] for o in page["offers"] if o["detail"] == "a standard of your house rules"}
    assert len(offered) == 2, "two degrees beyond its reach it is let try"
    far = [o for o in page["out_of_reach"] if o["title"] == "Dark 60\u2009s at −20 °C"]
    assert far[0]["why"] == (
        "the cooler holds the sensor 20 °C below the air, and that was at 14 °C: −6 °C at the coldest"
    )


def test_a_library_of_the_version_before_opens_with_its_cameras_and_rules(tmp_path):
    """As that version wrote it: traits with each rig, tolerances beside, flats from a train that is never taken apart."""
    path = at_revision(tmp_path / "grayshelf.db", BEFORE)
    rows = [
        ("A", "Dunlin M24", "Heron", {"read_noise_e": 1.6, "assumed": False}, {"dark_temp_c": 2.0, "train_stays_put": True}),
        ("B", "Dunlin M24", "Short", {"shutter": "slow", "read_noise_e": 9.0}, {}),
        ("C", "Plover", None, {}, {"few_frames_percent": 4.0, "no such": 1}),
    ]  # fmt: skip
    with closing(sqlite3.connect(path)) as connection, connection:
        for name, camera, telescope, traits, tolerances in rows:
            connection.execute(
                "INSERT INTO rig (name, camera, telescope, wishes, tolerances, traits, says) VALUES (?,?,?,?,?,?,?)",
                (name, camera, telescope, '{"n_flats": 31}', json.dumps(tolerances), json.dumps(traits), '{"dark flat": "fixed"}'),
            )  # fmt: skip
        connection.execute("UPDATE rig SET traits = 'broken' WHERE name = 'C'")
    database = Database(path)
    database.upgrade()
    with database.session() as session:
        a, b, c = session.query(Rig).order_by(Rig.name)
        assert camera_of(a) == camera_of(b), "one camera"
        assert (camera_of(a).read_noise_e, camera_of(a).shutter) == (1.6, "slow"), (
            "the first that says something"
        )
        rules = house_rules_of(a)
        assert rules.tolerances.dark_temp_c == 2.0 and rules.tolerances.train_stays_put
        assert rules.n_flats == 31 and rules.bias_under_flats
        assert house_rules_of(c).tolerances.few_frames_percent == 4.0 and camera_of(c).cooled is None
    database.close()


def test_a_rig_that_stands_elsewhere_has_its_own_nights_sun_and_mount(own):  # noqa: F811
    first, second = rigs(own)["Heron 92"], rigs(own)["Short"]
    path = f"/api/rigs/{first}/sheets/site"
    ranch = {"name": "Ranch", "latitude": 32.9, "longitude": -105.5, "time_zone": "America/Denver"}
    for wrong, says in (
        ({"latitude": 91.0, "longitude": 0.0, "name": "x"}, "between −90° and 90°"),
        ({"latitude": 1.0, "longitude": 200.0, "name": "x"}, "between −180° and 180°"),
        ({"latitude": "105° 30′ W", "longitude": 0.0, "name": "x"}, "is no latitude"),
        ({"latitude": 1.0, "name": "x"}, "a latitude and a longitude"),
        ({"latitude": 1.0, "longitude": 1.0}, "needs a name"),
        ({"time_zone": "Mars/Base"}, "no time zone called"),
    ):
        answer = own.client.put(path, json=wrong)
        assert answer.status_code in (400, 422) and says in answer.json["detail"], wrong
    # Flats of five in the morning by UTC are of the evening before, there and here; lights at ten are not.
    nights = {n["night"] for n in own.get(f"/api/rigs/{first}/nights")["nights"]}
    # Typed as a map or a telephone writes it.
    kept = put(own, path, {**ranch, "latitude": "32° 54′ N", "longitude": "105,5 W"})
    parts = {p["kind"]: p for p in own.get(f"/api/rigs/{first}")["parts"]}
    assert parts["site"]["name"] == "Ranch"
    assert [k["text"] for k in parts["site"]["known"]] == ["32.90° N, 105.50° W", "America/Denver"]
    first_sky, other_sky = (
        own.client.post(f"/api/rigs/{rig}/twilight", json={}).text for rig in (first, second)
    )
    assert "Ranch" in first_sky and "Ranch" not in other_sky
    zones = dict(tuple(r) for r in own.query("SELECT path, json_extract(facts, '$.night_from') FROM frame"))
    assert "America/Denver" in zones["l0.fits"] and "UTC" in zones["k0.fits"]
    # The other rig can be put there by its name.
    assert own.get(f"/api/rigs/{second}")["other_sites"] == [ranch]
    own.client.post(f"/api/rigs/{first}/changes/{kept['change_id']}/take-back")
    assert {n["night"] for n in own.get(f"/api/rigs/{first}/nights")["nights"]} == nights
    assert (
        "UTC"
        in own.query("SELECT json_extract(facts, '$.night_from') FROM frame WHERE path = 'l0.fits'")[0][0]
    )
    for rig in (first, second):
        put(own, f"/api/rigs/{rig}/sheets/parts/mount", {"name": "Pier one", "moved_by": "hand"})
    mount = next(p for p in own.get(f"/api/rigs/{first}")["parts"] if p["kind"] == "mount")
    assert mount["known"] == [{"text": "carries Short, too", "origin": "typed"}]


def test_a_converter_that_is_typed_decides_the_level_of_flats_and_offsets_are_offered(own):  # noqa: F811
    rig = rigs(own)["Heron 92"]
    page = own.get(f"/api/rigs/{rig}/flats")
    key = page["rows"][0]["key"] | {"filter_code": "V"}

    def target():
        answer = own.client.post(f"/api/rigs/{rig}/flats/chart", json=key)
        assert answer.status_code == 200, answer.text
        return answer.json["target"]

    before = target()
    put(
        own,
        f"/api/rigs/{rig}/sheets/camera",
        {"bits": 12, "shifted": False, "offset_lowest": 0, "offset_highest": 40},
    )
    assert target() == pytest.approx(before * 4_095 / 65_535, rel=0.05)
    assert own.get(f"/api/rigs/{rig}/bench/offset")["offset_range"] == [0, 40]


def test_devices_that_cannot_be_read_take_no_page_down(own, tmp_path):  # noqa: F811
    """As another version kept them: the rig is as one without devices, and is told so where they are chosen."""
    write_fits(tmp_path / "n" / "light.fits", LIGHT)
    own.scan(tmp_path / "n")
    number = own.get("/api/state")["rigs"][0]["id"]
    for kept in (
        {
            "camera": {
                "address": "http://x:1",
                "kind": "camera",
                "number": 0,
                "name": "It",
                "said": {"facts": 3},
            }
        },
        {"camera": 7, "wings": {}},
    ):
        with own.library.db.session() as session:
            session.get_one(Rig, number).attached = kept
        own.library.touched()
        rig = next(r for r in own.get("/api/state")["rigs"] if r["id"] == number)
        assert not rig["has_devices"]
        own.get(f"/api/rigs/{rig['id']}")
        own.get(f"/api/rigs/{rig['id']}/tonight")
        part = own.get(f"/api/rigs/{rig['id']}/devices")["parts"][0]
        assert not part["name"] or "try it again" in part["differs"][0]
