"""Colour sensors from an empty library: their flats are told by the pixels of each colour, and their lights corrected.

Calibrated lights are held against `ccdproc` (`subtract_dark`, `flat_correct`).
"""

from __future__ import annotations

from datetime import datetime, timedelta

import ccdproc
import numpy as np
import pytest
from astropy import units
from astropy.io import fits
from astropy.nddata import CCDData

from tests.helpers import write_fits
from tests.raw_files import write_dng
from tests.reference.test_colours import DEAD, FALL, HIGH, SIX, SPECK, WIDE, flat, letters, shifted
from tests.waiting import asked_until

PEDESTAL = 512
#: What a mono sensor shows: its corners, a twelfth of its sides wide, beside the fifth in its middle, in percent.
CORNERS = (
    100.0
    * np.median(FALL[: HIGH // 12, : WIDE // 12])
    / np.median(FALL[HIGH * 2 // 5 : HIGH * 3 // 5, WIDE * 2 // 5 : WIDE * 3 // 5])
)
BASE = {"INSTRUME": "Plover P6", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "GAIN": 1, "OFFSET": 10, "XBINNING": 1,
        "YBINNING": 1, "SET-TEMP": -10.0, "CCD-TEMP": -10.0}  # fmt: skip
BEGUN = datetime(2026, 10, 17, 21)
#: As several programs write it: some from another corner, which they tell.
TOLD = {"RGGB": {"BAYERPAT": "RGGB"}, SIX: {"BAYERPAT": shifted(SIX, 5, 4), "XBAYROFF": 1, "YBAYROFF": 2}}


def cards(kind, number, exposure, **more):
    when = (BEGUN + timedelta(minutes=number)).isoformat()
    return {**BASE, "IMAGETYP": kind, "EXPTIME": exposure, "DATE-OBS": when, **more}


@pytest.mark.parametrize("pattern", TOLD, ids=["2x2", "6x6"])
def test_a_master_flat_from_elsewhere_with_its_colours_as_they_are(own, tmp_path, pattern):
    """Many a program divides a flat by one number: red has then a third of what green has, and no pixel is dead for it."""
    heap = tmp_path / "heap"
    kept = np.mean([flat(pattern, i) for i in range(12)], axis=0).astype(np.float32)
    write_fits(
        heap / "flats/theirs.fits", cards("Master Flat", 0, 2.0, NCOMBINE=12, **TOLD[pattern]), kept / 24_000
    )
    write_fits(heap / "flats/one.fits", cards("Flat", 9, 2.0, **TOLD[pattern]), flat(pattern, 99))
    own.scan(heap)
    own.wait_until_idle()
    ((master,),) = own.query("select id from frame_set where is_master")
    for number in own.sets():
        figures = {f["name"]: f["value"] for f in own.get(f"/api/holdings/{number}")["figures"]}
        assert float(figures["Dead or dim pixels"]) == len(DEAD)
        assert float(figures["Corner to centre"]) == pytest.approx(CORNERS, abs=0.5)
        assert float(figures["Spread of the pixels"]) < 10.0
    mask = own.client.get(f"/api/holdings/{master}/defects.fits").data
    assert [tuple(p) for p in np.argwhere(fits.HDUList.fromstring(mask)[0].data).tolist()] == DEAD
    (shadow,) = own.get(f"/api/holdings/{master}/dust")["shadows"]
    assert (shadow["x"], shadow["y"]) == pytest.approx(SPECK, abs=3)
    # What a version before kept of it is measured anew.
    own.change(
        "update master_record set figures = "
        "json_set(json_remove(figures, '$.\"looked as\"'), '$.list[0].value', 123456)"
    )
    own.again()
    ((figure, *_),) = [own.get(f"/api/holdings/{master}")["figures"]]
    assert float(figure["value"]) == pytest.approx(
        np.median(kept[letters(pattern) == "G"]) / 24_000, rel=0.002
    )


def test_a_camera_whose_colours_repeat_after_six_pixels_from_raw_files_to_calibrated_lights(own, tmp_path):
    night, rng = tmp_path / "night", np.random.default_rng(3)

    def shot(light=0.0, seed=0):
        noise = rng.normal(PEDESTAL, 4.0, (HIGH, WIDE))
        return (noise + (flat(SIX, seed, light) if light else 0)).round().astype(np.uint16)

    for i in range(6):
        at = f"2026:10:18 22:{i:02d}:00"
        write_dng(night / f"lights/M 31/IMG_{i:04d}.dng", shot(700.0, i), SIX, local=at)
        write_dng(night / f"darks/IMG_{i + 100:04d}.dng", shot(), SIX, local=at)
        for name, light in (("flats", 9000.0), ("darkflats", 0.0)):
            pixels = shot(light, 50 + i)
            write_dng(night / f"{name}/IMG_{i + 200:04d}.dng", pixels, SIX, exposure_s=0.5, local=at)
        write_dng(night / f"bias/IMG_{i + 300:04d}.dng", shot(), SIX, exposure_s=0.001, local=at)
    assert own.scan(night)["state"] == "done" and len(own.sets()) == 5
    assert own.build()["state"] == "done"
    masters = {
        kind: own.root / path
        for kind, path in own.query(
            "select s.kind, f.path from frame f join frame_set s on s.id = f.set_id where s.is_master"
        )
    }
    norm = fits.getdata(masters["flat"])
    for letter in "RGB":
        assert float(np.median(norm[letters(SIX) == letter])) == pytest.approx(1.0, abs=3e-3)
    (lights,) = (i for i, x in own.sets().items() if x["kind"] == "light")
    assert own.get(f"/api/lights/{lights}/correction")["corrects"] == "it corrects"
    asked = {"sets": str(lights), "form": "calibrated lights", "folder": str(tmp_path / "out")}
    assert own.ended(own.client.post("/api/hand-over", json=asked).json["job_id"])["state"] == "done"
    came = sorted((tmp_path / "out").rglob("*.fits"))
    dark, master_flat = (
        CCDData(fits.getdata(masters[k]).astype(float), unit="adu") for k in ("dark", "flat")
    )
    rng = np.random.default_rng(3)
    raw = CCDData(shot(700.0, 0).astype(float), unit="adu")
    less = ccdproc.subtract_dark(raw, dark, dark_exposure=120 * units.s, data_exposure=120 * units.s)
    expected = ccdproc.flat_correct(less, master_flat).data
    first = min(came, key=lambda p: fits.getheader(p)["DATE-LOC"])
    pixels, header = fits.getdata(first, header=True)
    assert header["BAYERPAT"] == SIX and len(came) == 6
    assert np.allclose(pixels, expected, rtol=3e-7, atol=1e-4)
    left = pixels / (FALL / np.median(FALL))
    for letter, level in (("R", 0.35), ("G", 1.0), ("B", 0.6)):
        assert float(np.median(pixels[letters(SIX) == letter])) == pytest.approx(700 * level * 0.88, rel=0.1)
    assert np.isfinite(left).all()
    # Photons tell how many electrons an ADU is, in each channel (EMVA Standard 1288): one, as `flat` was made.
    (offer,) = own.get("/api/rigs/1/bench/gain")["disk"]
    asked = {"set_ids": offer["set_ids"], "gain": offer["gain"]}
    begun = own.client.post("/api/rigs/1/bench/gain/disk", json=asked).json
    assert own.ended(begun["job_id"])["state"] == "done"
    (measured,) = own.get(f"/api/measurements/{begun['measurement_id']}")["gain"]["gains"]
    told = {c["name"]: c["e_per_adu"] for c in measured["channels"]}
    assert list(told) == ["R", "G", "B"]
    for value in told.values():
        assert value["value"] == pytest.approx(1.0, abs=1.5 * value["plus_minus"])
    # Three channels say that they are not full, each at a level of its own: it is told once.
    messages = [f["message"] for f in measured["findings"]]
    assert sum("do not reach saturation" in m for m in messages) == 1 and len(messages) == len(set(messages))
    # It has no offset, and is asked for none.
    assert (
        "ISO dial" in own.get("/api/rigs/1/bench/offset")["none_to_set"]["why"]
        and measured["offset_text"] == ""
    )
    (tmp_path / "camera").mkdir()
    asked = {"gains": [800], "folder": str(tmp_path / "camera"), "long_dark_s": 0}
    number = own.client.post("/api/rigs/1/bench/gain/shoot", json=asked).json["measurement_id"]
    page = asked_until(lambda: own.get(f"/api/measurements/{number}"), lambda p: p["gate"])
    job = page["gate"]["job_id"]
    answer = {"step_id": page["gate"]["step_id"], "answer": "done"}
    own.client.post(f"/api/jobs/{job}/answer", json=answer)
    hand = asked_until(lambda: own.get(f"/api/measurements/{number}")["hand"], lambda h: h and h["line"])
    assert hand["line"].replace("\N{NO-BREAK SPACE}", " ").startswith("ISO 800: ")
    assert [d["name"] for d in hand["dials"]] == ["ISO"]
    assert own.client.post(f"/api/jobs/{job}/stop").status_code == 200


def test_nobody_shoots_flats_in_none(own, tmp_path):
    for i in range(2):
        pixels = np.random.default_rng(i).normal(900, 30, (60, 90)).astype(np.uint16)
        write_dng(tmp_path / f"heap/lights/IMG_{i}.dng", pixels, local=f"2026:10:18 22:0{i}:00")
    own.scan(tmp_path / "heap")
    offers = own.get("/api/rigs/1/tonight")["offers"]
    key = next(o["key"] for o in offers if o["title"] == "Flats and dark flats")
    tonight = own.get(f"/api/rigs/1/tonight?add={key}")
    assert tonight["start_label"] == "Shoot 25 flats without a filter"
    titles = [s["title"] for s in tonight["steps"]]
    assert "25 flats without a filter" in titles and "25 dark flats" in titles
    assert not any("filter" in t for t in titles if "flats" not in t and "exposure" not in t), (
        "nothing to take out"
    )
    (row,) = own.get("/api/rigs/1/flats")["rows"]
    assert row["key"]["filter_code"] == "none"
    plan = own.get("/api/rigs/1/plans")
    assert " none" not in str(tonight["steps"]) and " in none" not in str(plan)
