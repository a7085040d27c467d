"""A camera that reads out an overscan: what light cannot reach is in its frames, and tells nothing of them.

The same frames trimmed by ccdproc (`trim_image`), and calibrated by it (`subtract_dark`, `flat_correct`), are what all is held
against. TRIMSEC and BIASSEC as NOAO's keywords have them, from memory.
"""

from __future__ import annotations

from datetime import datetime, timedelta

import ccdproc
import numpy as np
import pytest
from astropy import units
from astropy.io import fits
from astropy.nddata import CCDData

from grayshelf.core.frames.fits_blocks import read_image_header
from grayshelf.core.frames.lit_part import lit_part
from tests.helpers import write_fits
from tests.own import Own

HIGH, WIDE, BEFORE, AFTER = 240, 320, 8, 40
TRIMMED = f"[{BEFORE + 1}:{BEFORE + WIDE},1:{HIGH}]"
BASE = {"INSTRUME": "Shrike C1", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "GAIN": 1, "OFFSET": 10, "XBINNING": 1,
        "YBINNING": 1, "SET-TEMP": -20.0, "CCD-TEMP": -20.0, "ROTATANG": 40.0, "FOCUSPOS": 5000}  # fmt: skip
BEGUN = datetime(2026, 10, 17, 21)
ROWS, COLUMNS = np.mgrid[0:HIGH, 0:WIDE]
#: The light falls by a third to the corners, and a speck's shadow lies right of the middle.
FALL = 1.0 - 0.35 * ((COLUMNS - WIDE / 2) ** 2 + (ROWS - HIGH / 2) ** 2) / ((WIDE / 2) ** 2 + (HIGH / 2) ** 2)
FALL *= 1.0 - 0.12 * (np.hypot(COLUMNS - 220, ROWS - 100) < 14)
#: What each pixel of a pattern RGGB has of the light.
RGGB = np.tile([[0.6, 1.0], [1.0, 0.8]], (HIGH // 2, WIDE // 2))


def shot(folder, kind, number, exposure, light=0.0, **more):
    """A frame with some columns before and after those that light reaches."""
    rng = np.random.default_rng([number, len(kind), int(light)])
    filtered = RGGB if "BAYERPAT" in more else 1.0
    reached = rng.poisson(np.maximum(light * FALL * filtered + 0.03 * exposure, 0))
    pixels = np.zeros((HIGH, BEFORE + WIDE + AFTER))
    pixels[:, BEFORE : BEFORE + WIDE] = reached
    pixels += 1000.0 + rng.normal(0.0, 7.0, pixels.shape)
    if kind == "DARK":
        pixels[50, BEFORE + 77] += 3000.0
    when = (BEGUN + timedelta(minutes=number)).isoformat()
    cards = {**BASE, "IMAGETYP": kind, "EXPTIME": exposure, "DATE-OBS": when, "TRIMSEC": TRIMMED, **more}
    cards["BIASSEC"] = f"[{BEFORE + WIDE + 1}:{BEFORE + WIDE + AFTER},1:{HIGH}]"
    path = write_fits(folder / "whole" / f"{kind}{number}.fits", cards, pixels.round().astype(np.uint16))
    trimmed = ccdproc.trim_image(CCDData.read(path, unit="adu"), fits_section=TRIMMED)
    write_fits(folder / "trimmed" / path.name, cards, trimmed.data.astype(np.uint16))


@pytest.fixture(scope="module", params=[{}, {"BAYERPAT": "RGGB"}], ids=["mono", "colour"])
def both(tmp_path_factory, request):
    """The library of a night with its overscan, and that of the same night trimmed."""
    folder, sensor = tmp_path_factory.mktemp("overscan"), request.param
    for i in range(6):
        shot(folder, "DARK", 300 + i, 300.0, **sensor)
        shot(folder, "DARKFLAT", 200 + i, 2.0, **sensor)
        shot(folder, "FLAT", 100 + i, 2.0, 24_000.0, FILTER="R", **sensor)
    for i in range(2):
        shot(folder, "LIGHT", i, 300.0, 900.0, FILTER="R", OBJECT="M 33", **sensor)
    made = {}
    for name in ("whole", "trimmed"):
        made[name] = own = Own(folder / f"{name} library")
        own.scan(folder / name)
        assert own.build()["state"] == "done"
    yield made
    for own in made.values():
        own.close()


def master(own, kind):
    """The number of a master, and its file."""
    query = (
        "select s.id, f.path from frame f join frame_set s on s.id = f.set_id where s.is_master and s.kind ="
    )
    ((number, path),) = own.query(f"{query} '{kind}'")
    return number, own.library.root / path


@pytest.mark.parametrize("kind", ["dark", "dark flat", "flat"])
def test_a_master_is_told_as_that_of_trimmed_frames(both, kind):
    whole, trimmed = (own.get(f"/api/holdings/{master(own, kind)[0]}") for own in both.values())
    assert whole["findings"] == trimmed["findings"] == [] and whole["checked"] and trimmed["checked"]
    told, expected = ({f["name"]: f["value"] for f in one["figures"]} for one in (whole, trimmed))
    assert told.keys() == expected.keys() and len(told) >= 6
    for name, value in expected.items():
        assert told[name] == pytest.approx(value, rel=0.002, abs=0.002), name


def test_dust_light_and_defects_are_told_where_they_lie_in_the_file(both):
    places = []
    for own in both.values():
        dust = own.get(f"/api/holdings/{master(own, 'flat')[0]}/dust")
        mask = own.client.get(f"/api/holdings/{master(own, 'dark')[0]}/defects.fits").data
        places.append(
            (dust["shadows"], dust["light"], np.argwhere(fits.HDUList.fromstring(mask)[0].data).tolist())
        )
    ((shadow,), light, mask), ((expected,), expected_light, expected_mask) = places
    assert (shadow["x"], shadow["y"]) == pytest.approx((expected["x"] + BEFORE, expected["y"]), abs=0.5)
    assert light["middle_x"] == pytest.approx(expected_light["middle_x"] + BEFORE, abs=0.5)
    assert light["middle_text"] == expected_light["middle_text"]
    assert mask == [[y, x + BEFORE] for y, x in expected_mask] == [[50, 77 + BEFORE]]


def test_lights_are_calibrated_as_ccdproc_does_once_all_is_trimmed(both, tmp_path):
    own = both["whole"]
    (number,) = (i for i, x in own.sets().items() if x["kind"] == "light")
    slip = own.get(f"/api/lights/{number}/slip")
    assert slip["verdict"] == "fits", slip
    asked = {"sets": str(number), "form": "calibrated lights", "folder": str(tmp_path / "out")}
    assert own.ended(own.client.post("/api/hand-over", json=asked).json["job_id"])["state"] == "done"

    def trimmed(path):
        data = CCDData(fits.getdata(path).astype(float), unit="adu")
        return ccdproc.trim_image(data, fits_section=TRIMMED)

    dark, flat = (trimmed(master(own, kind)[1]) for kind in ("dark", "flat"))
    assert fits.getheader(master(own, "flat")[1])["TRIMSEC"] == TRIMMED
    came = sorted((tmp_path / "out").rglob("*.fits"))
    assert len(came) == 2
    for path in came:
        pixels, header = fits.getdata(path, header=True)
        raw = trimmed(own.root.parent / "whole" / f"LIGHT{header['DATE-OBS'][15]}.fits")
        less = ccdproc.subtract_dark(raw, dark, dark_exposure=300 * units.s, data_exposure=300 * units.s)
        expected = ccdproc.flat_correct(less, flat).data
        reached = np.s_[:, BEFORE : BEFORE + WIDE]
        assert np.allclose(pixels[reached], expected, rtol=3e-7)
        assert np.isnan(pixels[:, :BEFORE]).all() and np.isnan(pixels[:, BEFORE + WIDE :]).all()
        assert header["TRIMSEC"] == TRIMMED
    looked = own.get(f"/api/lights/{number}/correction")
    other = both["trimmed"]
    (number,) = (i for i, x in other.sets().items() if x["kind"] == "light")
    assert looked["corrects"] == other.get(f"/api/lights/{number}/correction")["corrects"] == "it corrects"


def test_a_fresh_flat_and_a_fresh_dark_are_held_against_them(both, request):
    sensor = request.node.callspec.params["both"]
    for name, own in both.items():
        folder = own.root.parent / f"fresh {name}"
        for kind, light, more in (("DARK", 0.0, {}), ("FLAT", 24_000.0, {"FILTER": "R"})):
            shot(folder, kind, 900, 300.0 if kind == "DARK" else 2.0, light, **more, **sensor)
        own.scan(folder / name)
        for kind in ("dark", "flat"):
            number, _ = master(own, kind)
            (newer,) = own.get(f"/api/holdings/{number}")["still_good"]["newer"]
            held = own.client.put(f"/api/holdings/{number}/held", json={"frame_id": newer["frame_id"]})
            assert own.ended(held.json["id"])["state"] == "done"
            found = own.get(f"/api/holdings/{number}")["still_good"]["held"]
            assert found["serves"] == "still good", (name, found)


@pytest.mark.parametrize(
    ("cards", "expected"),
    [
        ({"TRIMSEC": "[11:90,1:80]"}, (10, 0, 90, 80)),
        ({"TRIMSEC": "[ 11 : 90 , 3 : 80 ]", "DATASEC": "[1:100,1:80]"}, (10, 2, 90, 80)),
        ({"DATASEC": "[90:11,1:80]"}, (10, 0, 90, 80)),
        # All of it; what it had before it was trimmed; a part that is none; text of another kind.
        ({"TRIMSEC": "[1:100,1:80]"}, None),
        ({"TRIMSEC": "[11:110,1:80]", "DATASEC": "[1:100,1:80]"}, None),
        ({"TRIMSEC": "[0:90,1:80]"}, None),
        ({"TRIMSEC": "[1:20,1:80]"}, None),
        ({"TRIMSEC": "full", "DATASEC": 7}, None),
    ],
)
def test_what_headers_say_of_it(tmp_path, cards, expected):
    path = write_fits(tmp_path / "f.fits", cards, np.zeros((80, 100), np.uint16))
    with path.open("rb") as stream:
        found = lit_part(read_image_header(stream, path.stat().st_size))
    assert found == expected
