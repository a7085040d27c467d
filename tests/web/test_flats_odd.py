"""Whatever is sent to the sheet and to the twilight is taken or refused in words; nothing breaks, then or afterwards."""

from __future__ import annotations

import json
import time

import pytest

KEY = {"filter_code": "Ha", "gain": 200.0, "offset": 30.0, "binning": 1}
WISHES = {
    "level_percent": 45, "level_adu": 20000, "level_electrons": 7000, "tolerance_percent": 10, "tolerance_adu": 500,
    "shortest_s": 0.5, "shortest_reason": "x", "longest_s": 30, "mode": "time", "brightness": 60, "exposure_s": 2,
    "n_flats": 25, "n_dark_flats": 25, "source": "Lumen tile", "diffusers": ["white cloth"],
}  # fmt: skip
LIGHT = {
    "name": "Lumen tile", "dimmable": True, "lowest": 18, "highest": 255, "pulse_hz": 240.0, "duty": 0.4,
    "diffusers": [{"name": "white cloth", "stops": 0.8}],
}  # fmt: skip
BODIES = {
    "flats/rows": {"keys": [KEY], "changes": WISHES},
    "flats/copy": {"source": KEY, "keys": [KEY]},
    "flats/add": {**KEY, "binning": 2},
    "flats/leave-out": {"keys": [{**KEY, "filter_code": "Q"}, {**KEY, "filter_code": "Q"}]},
    "flats/find": {"keys": [KEY], "mode": "time", "exposure_s": 2, "shared": False, "folder": None},
    "flats/again": {"key": KEY, "changes": None},
    "flats/chart": KEY,
    "events": {"kind": "panel", "what": "x", "on": None},
    "twilight": {"at": "dusk", "day": None, "rows": [{"key": KEY, "count": 5}]},
    "twilight/start": {"at": "dusk", "rows": [{"key": KEY, "count": 5}]},
}
PUT = {
    "sheets/light": LIGHT,
    "sheets/telescope": {"aperture_mm": 92, "focal_length_mm": 506, "reducer": ""},
    "sheets/camera": {
        "cooled": True, "below_air_c": 35, "gain_word": "gain", "shutter": "slow", "shortest_s": 0.01, "drop_first": 1,
        "repeatable_from_s": 1, "pause_s": 1, "bias_usable": False, "read_noise_e": 2, "dark_rate_e_s": 0.01,
        "dark_rate_at_c": 0,
    },
    "sheets/filters": {
        "name": "", "moved_by": "",
        "filters": [{"code": "L", "name": "", "centre_nm": 550, "width_nm": 300, "gain": 1, "focus": 1, "brightness": 20}],
    },
    "sheets/parts/rotator": {"name": "x", "moved_by": "hand"},
    "house-rules": {
        "numbers": {"n_flats": 20, "dark_temp_c": 2}, "flats_when": "each night", "bias_under_flats": False,
        "dark_temps_c": [0, -10], "dark_exposures_s": [60], "reason": "",
    },
    "name": {"name": "Heron 92", "retired": False},
}  # fmt: skip
ODD = [
    None, True, 0, -1, 1e308, float("nan"), float("inf"), 1e-320, 2**63, 2**70, "", "é\x00", "NaN", "0001-01-01", [], {},
    [1],
]  # fmt: skip


def places(value, at=()):
    """Every place in a body, its own first."""
    inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    return [at, *(p for name, part in inside for p in places(part, (*at, name)))]


def put(value, at, odd):
    """The body with something odd at one place."""
    if not at:
        return odd
    copy = json.loads(json.dumps(value))
    part = copy
    for name in at[:-1]:
        part = part[name]
    part[at[-1]] = odd
    return copy


@pytest.mark.parametrize("route", BODIES)
def test_odd_values_are_refused_and_break_nothing(client, route):
    for at in places(BODIES[route]):
        for odd in ODD:
            body = json.dumps(put(BODIES[route], at, odd))
            answer = client.post(f"/api/rigs/1/{route}", data=body, content_type="application/json")
            assert answer.status_code < 500, (at, odd, answer.text)
            if answer.status_code == 200 and route in ("flats/find", "flats/again", "twilight/start"):
                stop_all(client)
    for page in ("flats", "flats.csv", "flats/panel.csv", "tonight", "twilight.csv"):
        assert client.get(f"/api/rigs/1/{page}").status_code < 500, page
    assert client.post("/api/rigs/1/twilight", json={}).status_code == 200


@pytest.mark.parametrize("route", PUT)
def test_odd_values_on_sheets_are_refused_and_break_no_page(client, route):
    for at in places(PUT[route]):
        for odd in ODD:
            body = json.dumps(put(PUT[route], at, odd))
            answer = client.put(f"/api/rigs/2/{route}", data=body, content_type="application/json")
            assert answer.status_code < 500, (at, odd, answer.text)
            if route == "house-rules":
                would = client.post(f"/api/rigs/2/{route}/would", data=body, content_type="application/json")
                assert would.status_code < 500, (at, odd, would.text)
    for page in ("", "/tonight", "/shelf", "/flats", "/history.csv", "/house-rules.csv"):
        assert client.get(f"/api/rigs/2{page}").status_code == 200, page
    for item in client.get("/api/rigs/2").json["history"]:
        if item["change_id"] is not None and not item["taken_back"]:
            assert client.post(f"/api/rigs/2/changes/{item['change_id']}/take-back").status_code in (200, 409)
    assert client.get("/api/rigs/2").status_code == 200


def stop_all(client):
    for _ in range(200):
        alive = client.get("/api/jobs").json["alive"]
        if not alive:
            return
        for job in alive:
            client.post(f"/api/jobs/{job['id']}/stop")
        time.sleep(0.05)
    raise AssertionError("a job did not stop")
