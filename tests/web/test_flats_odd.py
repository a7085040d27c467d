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
    "flats/source": LIGHT,
    "flats/chart": KEY,
    "events": {"kind": "panel", "what": "x", "on": None},
    "twilight": {"at": "dusk", "day": None, "rows": [{"key": KEY, "count": 5}]},
    "twilight/start": {"at": "dusk", "rows": [{"key": KEY, "count": 5}]},
}
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


def stop_all(client):
    for _ in range(200):
        alive = client.get("/api/jobs").json["alive"]
        if not alive:
            return
        for job in alive:
            client.post(f"/api/jobs/{job['id']}/stop")
        time.sleep(0.05)
    raise AssertionError("a job did not stop")
