"""Frames written by hand, with other habits than the demo's generator."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np

from tests.helpers import write_fits
from tests.web.test_intake import own, scan, wait  # noqa: F401

MONO = {
    "IMAGETYP": "LIGHT", "INSTRUME": "Curlew 16", "TELESCOP": "Avocet 8", "FOCALLEN": 700.0, "EXPOSURE": 240.0,
    "GAIN": 56, "BLKLEVEL": 10, "XBINNING": 1, "YBINNING": 1, "CCD-TEMP": -14.9, "SET-TEMP": -15.0, "FILTER": "Ha",
    "FOCPOS": 5000, "ROTANG": 120.0, "EGAIN": 0.25, "OBJECT": "NGC 281",
}  # fmt: skip


RNG = np.random.default_rng(11)


def shoot(folder, stem, n, start, level=600.0, noise=8.0, step_s=250.0, local_h=None, **cards):
    """Some frames of one kind; `local_h` also writes the local clock, so many hours ahead of UTC."""
    for i in range(n):
        utc = start + timedelta(seconds=step_s * i)
        values = {k: v for k, v in {**MONO, **cards}.items() if v is not None}
        values["DATE-OBS"] = utc.replace(tzinfo=None).isoformat()
        if local_h is not None:
            values["DATE-LOC"] = (utc + timedelta(hours=local_h)).replace(tzinfo=None).isoformat()
        pixels = np.clip(RNG.normal(level, noise, (24, 32)), 0, 65535).astype(np.uint16)
        write_fits(folder / f"{stem}{i:03d}x.fits", values, pixels)


def flat(**cards):
    return {"IMAGETYP": "FLAT", "EXPOSURE": 2.0, "OBJECT": None, **cards}


def capped(kind="DARK", **cards):
    gone = dict.fromkeys(("TELESCOP", "FOCALLEN", "FILTER", "FOCPOS", "ROTANG", "OBJECT"))
    return {"IMAGETYP": kind, **gone, **cards}


def at(day, hour, minute=0):
    return datetime(2025, 3, day, hour, minute, tzinfo=UTC)


def slips_of(client):
    """Every line of every slip, with the names of the frames that were chosen."""
    found = []
    for rig in client.get("/api/state").json["rigs"]:
        for night in client.get(f"/api/rigs/{rig['id']}/nights").json["nights"]:
            page = client.get(f"/api/rigs/{rig['id']}/nights/{night['night']}").json
            for lights in page["sets"]:
                slip = client.get(f"/api/lights/{lights['id']}/slip").json
                for line in slip["lines"]:
                    name = ""
                    if line["chosen"]:
                        card = client.get(f"/api/holdings/{line['chosen']['holding_id']}").json
                        name = card["frames"][0]["name"]
                    found.append((rig, night["night"], lights, slip, line, name))
    return found
