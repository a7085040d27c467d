"""A library with lights of several rigs, and what is put on their sheets."""

from __future__ import annotations

import pytest

from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.own import Own


@pytest.fixture
def own(tmp_path):
    """Two rigs that share a camera, by another program's frames; no devices."""
    folder = tmp_path / "frames"
    for i in range(5):
        write_fits(folder / f"l{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-18T22:0{i}:00", "FILTER": "V"})
        write_fits(
            folder / f"k{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-17T22:0{i}:00", "TELESCOP": "Short"}
        )
        write_fits(folder / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-10T22:0{i}:00", "CCD-TEMP": -8.0})
        write_fits(folder / f"f{i}.fits", {**FLAT, "DATE-OBS": f"2026-10-18T05:0{i}:00", "FILTER": "V"})
    library = Own(tmp_path / "library")
    library.scan(folder)
    yield library
    library.close()


def rigs(own):
    return {r["name"]: r["id"] for r in own.get("/api/state")["rigs"]}


def put(own, path, body):
    answer = own.client.put(path, json=body)
    assert answer.status_code == 200, answer.text
    return answer.json
