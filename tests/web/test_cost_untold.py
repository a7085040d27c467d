"""What a number of flats adds to the noise: told where gain and pedestal are known, and else what has to be known first."""

from __future__ import annotations

import numpy as np
import pytest

from tests.helpers import write_fits

LIGHT = {"INSTRUME": "Cam K", "TELESCOP": "Newt", "OBJECT": "NGC 10", "FILTER": "R", "IMAGETYP": "LIGHT", "EXPTIME": 60.0,
         "GAIN": 100, "OFFSET": 50, "XBINNING": 1, "YBINNING": 1, "FOCALLEN": 800.0, "CCD-TEMP": -10.0,
         "DATE-OBS": "2026-11-20T22:00:00"}  # fmt: skip
BIAS = {k: v for k, v in LIGHT.items() if k not in ("FILTER", "OBJECT")} | {
    "IMAGETYP": "BIAS",
    "EXPTIME": 0.0,
}


@pytest.mark.parametrize(
    ("told", "bias", "says", "way"),
    [
        ({}, True, "once the camera’s gain is measured", "/bench/gain"),
        ({"EGAIN": 0.8}, False, "once a bias or a dark of the lights’ settings is here", None),
        ({"EGAIN": 0.8}, True, "", None),
    ],
)
def test_what_is_not_known_is_said_with_the_way_to_it(own, tmp_path, told, bias, says, way):
    write_fits(tmp_path / "heap" / "l.fits", {**LIGHT, **told}, np.full((24, 24), 2_000, np.uint16))
    if bias:
        for i in range(3):
            write_fits(tmp_path / "heap" / f"b{i}.fits", {**BIAS, "DATE-OBS": f"2026-11-20T23:0{i}:00"})
    own.scan(tmp_path / "heap")
    (key,) = (o["key"] for o in own.get("/api/rigs/1/tonight")["offers"] if o["kind"] == "flat")
    page = own.get(f"/api/rigs/1/tonight?add={key}")
    assert page["choices"] and all((c["cost"] is None) == bool(says) for c in page["choices"])
    assert says in page["cost_untold"] and bool(page["cost_untold"]) == bool(says)
    assert page["cost_told_at"] == way
