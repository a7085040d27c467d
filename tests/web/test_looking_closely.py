"""Pictures that are looked at closely, dust, 'still good?' and 'does it correct?', on frames of another program."""

from __future__ import annotations

import gzip
import json
import math
import time
from dataclasses import asdict, replace

import numpy as np
import pytest
from astropy.io import fits

from grayshelf.core.checks.dust import dust_on
from grayshelf.core.checks.light_fall import LightFall
from grayshelf.library.models import FrameSet, MasterRecord
from grayshelf.work import flat_looks
from tests.helpers import DARK, LIGHT, write_fits
from tests.reference import pictures_of_flats as made

CAMERA = {
    "INSTRUME": "Merl 7", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "APTDIA": 60.0, "XPIXSZ": 4.0, "GAIN": 10, "OFFSET": 20,
    "SET-TEMP": -10.0, "CCD-TEMP": -10.0, "XBINNING": 1, "YBINNING": 1, "ROTATANG": 12.0,
}  # fmt: skip
SHAPE = (700, 1000)


def master(folder, kind, at, pixels, **more):
    header = {**CAMERA, "IMAGETYP": f"MASTER {kind}", "NCOMBINE": 30, "DATE-OBS": at, **more}
    name = f"m_{kind.lower()}_{at[:10]}_{more.get('FILTER', '')}.fits"
    write_fits(folder / name, header, pixels)
    return name


def frame_of(own, name):
    return own.query(f"SELECT id FROM frame WHERE path LIKE '%{name}'")[0][0]


def holding_of(own, name):
    return own.query(f"SELECT set_id FROM frame WHERE path LIKE '%{name}'")[0][0]


def hold(own, number, frame):
    """Hold a master against a frame; the ended job."""
    answer = own.client.put(f"/api/holdings/{number}/held", json={"frame_id": frame})
    assert answer.status_code == 200, answer.text
    return own.ended(answer.json["id"])


def levels(answer):
    assert answer.status_code == 200
    wide = int(answer.headers["X-Width"])
    return np.frombuffer(answer.data, "<f4").reshape(-1, wide)


def test_any_frame_is_looked_at_whatever_it_is_kept_as(own, tmp_path):
    rng = np.random.default_rng(1)
    folder = tmp_path / "frames"
    counts = rng.normal(1200, 20, SHAPE).astype(np.uint16)
    head = {**CAMERA, "IMAGETYP": "DARK", "EXPTIME": 30.0}
    write_fits(folder / "plain.fits", {**head, "DATE-OBS": "2026-11-01T22:00:00"}, counts)
    signed = fits.PrimaryHDU(
        counts.astype(np.int32), fits.Header({**head, "DATE-OBS": "2026-11-01T22:01:00", "BLANK": 1200})
    )
    signed.writeto(folder / "holes.fits")
    (folder / "packed.fits.gz").write_bytes(
        gzip.compress((folder / "plain.fits").read_bytes().replace(b"22:00:00", b"22:02:00"))
    )
    fits.CompImageHDU(
        counts, fits.Header({**head, "DATE-OBS": "2026-11-01T22:03:00"}), compression_type="RICE_1"
    ).writeto(folder / "rice.fits")
    own.scan(folder)
    for name in ("plain.fits", "packed.fits.gz", "rice.fits", "holes.fits"):
        number = frame_of(own, name)
        view = own.get(f"/api/frames/{number}/view")
        assert (view["width"], view["height"], view["unit"]) == (1000, 700, "ADU")
        tile = levels(own.client.get(f"/api/frames/{number}/tile?level=1&column=1&row=2"))
        true = counts[512:700, 256:512].astype(np.float32)
        if name == "holes.fits":
            true[true == 1200] = np.nan
        np.testing.assert_array_equal(tile, true)
        found = own.get(f"/api/frames/{number}/histogram")
        assert sum(found["counts"]) + found["below"] + found["above"] + found["unknown"] == counts.size
        assert found["unknown"] == (int((counts == 1200).sum()) if name == "holes.fits" else 0)
        line = own.get(f"/api/frames/{number}/profile?along=row&place=3")
        assert len(line["level"]) == 1000
    number, other = frame_of(own, "plain.fits"), frame_of(own, "rice.fits")
    minus = levels(own.client.get(f"/api/frames/{number}/tile?how=minus&other={other}"))
    assert not minus.any()
    beside = own.get(f"/api/frames/{number}/beside")["groups"]
    assert {f["title"] for g in beside for f in g["frames"]} == {"rice.fits", "packed.fits.gz", "holes.fits"}
    assert own.client.get(f"/api/frames/{number}/tile?column=9").status_code == 404
    assert own.client.get(f"/api/frames/{number}/tile?level=0").status_code == 422
    assert "pixel,level" in own.client.get(f"/api/frames/{number}/profile.csv?along=radius").text
    (folder / "plain.fits").write_bytes((folder / "plain.fits").read_bytes()[:6000])
    cut = own.client.get(f"/api/frames/{number}/view")
    assert cut.status_code == 422 and "cut off" in cut.json["detail"]
    (folder / "plain.fits").unlink()
    assert "no longer where it was" in own.client.get(f"/api/frames/{number}/tile").json["detail"]


@pytest.fixture
def flats(own, tmp_path):
    """Master flats of another program: two filters of one night, one of them a month before, and dust on a filter."""
    rng = np.random.default_rng(3)
    window, on_ha, new = (
        made.Speck(300.0, 200.0, 44.0, 0.08, 0.0),
        made.Speck(700.0, 420.0, 150.0, 0.05, 0.4),
        made.Speck(520.0, 560.0, 40.0, 0.06, 0.0),
    )
    names = {}
    for key, at, code, specks in (
        ("before", "2026-10-01T21:00:00", "Ha", [window, on_ha]),
        ("now", "2026-11-01T21:00:00", "Ha", [window, on_ha, new]),
        ("other", "2026-11-01T21:10:00", "OIII", [window, new]),
    ):
        pixels = made.dusty_flat(rng, SHAPE, specks, response=0.002, train=9)
        names[key] = master(tmp_path / "flats", "FLAT", at, pixels, FILTER=code, EXPTIME=2.0)
    own.scan(tmp_path / "flats")
    return own, names, (window, on_ha, new)


def test_dust_is_told_with_place_distance_surface_and_since_when(flats, monkeypatch):
    own, names, (window, on_ha, new) = flats

    def somebody_writes(*args, **more):
        # A run writes its shots meanwhile: it must not wait for flats that are looked at.
        began = time.monotonic()
        own.change("UPDATE frame_set SET taken_off = taken_off")
        assert time.monotonic() - began < 2.0
        return dust_on(*args, **more)

    monkeypatch.setattr("grayshelf.work.flat_looks.dust_on", somebody_writes)
    page = own.get(f"/api/holdings/{holding_of(own, names['now'])}/dust")
    while page["left"]:
        page = own.get(f"/api/holdings/{page['set_id']}/dust")
    assert page["flats"] == 3 and len(page["shadows"]) == 3
    found = {
        min((window, on_ha, new), key=lambda t: abs(t.x - s["x"]) + abs(t.y - s["y"])): s
        for s in page["shadows"]
    }
    assert found[on_ha]["surface"] == "on the filter" and "OIII do not show it" in found[on_ha]["why"]
    assert (
        found[window]["surface"] == "on the sensor’s window"
        and "OIII show it as well" in found[window]["why"]
    )
    # At f/6 and 4 µm a shadow of 150 pixels is 3.6 mm of air away at most.
    assert found[on_ha]["distance_text"] == "3.0 to 3.6\u2009mm"
    assert found[new]["since"] == "new since 1 Oct 26" and found[window]["since"] == "there on 1 Oct 26"
    assert (
        "1 shadow came since the flats before" in page["advice"] and "Clean when convenient" in page["advice"]
    )
    assert page["change"]["since"] == "1 Oct 26" and page["light"]["middle_x"] == pytest.approx(500, abs=25)
    assert own.client.get(f"/api/holdings/{page['set_id']}/dust.csv").text.count("\n") == 4


def test_an_older_flat_is_held_against_a_newer_one_and_that_is_taken_back(flats):
    own, names, (*_, new) = flats
    before = holding_of(own, names["before"])
    (newer,) = own.get(f"/api/holdings/{before}")["still_good"]["newer"]
    assert newer["title"] == "1 Nov 26" and newer["frame_id"] == frame_of(own, names["now"])
    job = hold(own, before, newer["frame_id"])
    assert job["state"] == "done" and job["message"].startswith("Make it anew")
    card = own.get(f"/api/holdings/{before}")
    held = card["still_good"]["held"]
    assert held["serves"] == "make it anew" and "at one place a shadow came" in held["line"]
    assert held["shadows"][0][0] == pytest.approx(new.x, abs=5) and any(
        "shadow" in c for c in card["spine"]["care"]
    )
    assert own.client.delete(f"/api/holdings/{before}/held").status_code == 200
    assert not own.get(f"/api/holdings/{before}")["spine"]["care"]
    assert own.client.delete(f"/api/holdings/{before}/held").status_code == 404
    wrong = own.client.put(f"/api/holdings/{before}/held", json={"frame_id": frame_of(own, names["other"])})
    assert wrong.status_code == 404


def test_an_old_dark_that_is_measured_good_is_no_longer_old(own, tmp_path):
    rng = np.random.default_rng(4)
    hot = rng.choice(SHAPE[0] * SHAPE[1], 2000, replace=False), rng.lognormal(5.5, 0.8, 2000)
    old = master(tmp_path / "d", "DARK", "2025-12-01T22:00:00", made.dark(rng, SHAPE, hot), EXPTIME=120.0)
    fresh = made.dark(rng, SHAPE, hot, frames=1).clip(0, 65535).astype(np.uint16)
    one = {**CAMERA, "IMAGETYP": "DARK", "EXPTIME": 120.0, "DATE-OBS": "2026-10-30T22:00:00"}
    write_fits(tmp_path / "d" / "fresh.fits", one, fresh)
    light = {**CAMERA, "IMAGETYP": "LIGHT", "EXPTIME": 120.0, "OBJECT": "M 33", "FILTER": "L"}
    write_fits(tmp_path / "l" / "light.fits", {**light, "DATE-OBS": "2026-10-31T22:00:00"}, fresh + 900)
    own.scan(tmp_path / "d")
    own.scan(tmp_path / "l")
    lights = holding_of(own, "light.fits")

    def dark():
        return next(x for x in own.get(f"/api/lights/{lights}/slip")["lines"] if x["kind"] == "dark")[
            "chosen"
        ]

    number = holding_of(own, old)
    before = next(r for r in dark()["rulers"] if r["quantity"] == "age")
    assert dark()["holding_id"] == number and not before["inside"]
    stepped = own.get(f"/api/holdings/{number}")["spine"]["age_step"]
    (newer,) = own.get(f"/api/holdings/{number}")["still_good"]["newer"]
    assert hold(own, number, newer["frame_id"])["message"].startswith("Still good: 0.")
    after = next(r for r in dark()["rulers"] if r["quantity"] == "age")
    assert after["inside"] and after["measured"] == 1.0
    spine = own.get(f"/api/holdings/{number}")["spine"]
    assert spine["age_step"] < stepped and "measured good on 30 Oct 26" in spine["age"]


def test_a_light_is_seen_raw_and_calibrated_and_the_slope_says_what_is_wrong(own, tmp_path):
    rng, at = np.random.default_rng(5), "2026-11-01T2{}:00:00"
    whole, raw, flat = made.calibrated_light(rng, SHAPE, "none", 0.2)
    dark = np.full(SHAPE, 540, np.float32) + rng.normal(0, 1, SHAPE).astype(np.float32)
    master(tmp_path / "c", "DARK", at.format(0), dark, EXPTIME=120.0)
    master(tmp_path / "c", "FLAT", at.format(1), flat, FILTER="L", EXPTIME=1.0)
    taken = np.clip(raw + 540, 0, 65_535).astype(np.uint16)
    light = {
        **CAMERA,
        "IMAGETYP": "LIGHT",
        "EXPTIME": 120.0,
        "OBJECT": "M 33",
        "FILTER": "L",
        "DATE-OBS": at.format(2),
    }
    write_fits(tmp_path / "c" / "light.fits", light, taken)
    own.scan(tmp_path / "c")
    lights = holding_of(own, "light.fits")
    page = own.get(f"/api/lights/{lights}/correction")
    assert page["corrects"] == "it corrects" and page["lacking"] == [] and "% before" in page["corner_text"]
    asked = f"how=calibrated&dark={page['dark_frame_id']}&flat={page['flat_frame_id']}"
    tile = levels(own.client.get(f"/api/frames/{page['frame_id']}/tile?{asked}"))
    np.testing.assert_allclose(np.median(tile), np.median(whole[:256, :256]), rtol=0.01)
    assert own.get(f"/api/frames/{page['flat_frame_id']}/view")["unit"] == "of the median"
    # The same light with its pedestal left in.
    number = own.query("SELECT set_id FROM frame WHERE path LIKE '%m_dark%'")[0][0]
    assert own.client.post(f"/api/holdings/{number}/shelve/off").status_code == 200
    page = own.get(f"/api/lights/{lights}/correction")
    assert page["corrects"] == "it corrects too much" and "pedestal stays in the light" in page["lacking"][0]
    assert "pedestal was left in the light" in page["meaning"]


def test_a_bias_of_few_adu_is_told_in_adu(own, tmp_path):
    """12 bits as they come, at a low offset: the master lies lower than a flat that was divided by its own level may."""
    low = np.random.default_rng(3).normal(31.0, 0.4, SHAPE).astype(np.float32)
    name = master(tmp_path / "c", "BIAS", "2026-11-02T20:00:00", low, EXPTIME=0.0)
    own.scan(tmp_path / "c")
    (number,) = own.query(f"SELECT id FROM frame WHERE path LIKE '%{name}'")[0]
    assert own.get(f"/api/frames/{number}/view")["unit"] == "ADU"
    card = own.get(f"/api/holdings/{holding_of(own, name)}")
    assert card["picture"]["unit"] == card["level_unit"] == "ADU"


def test_a_master_without_a_number_says_so_and_stops_no_page(own, tmp_path):
    folder = tmp_path / "frames"
    nothing = np.full((300, 400), np.nan, np.float32)
    strange = np.where(np.arange(400) == 7, np.inf, np.full((300, 400), 500.0)).astype(np.float32)
    names = [
        master(folder, kind, f"2026-10-0{day}T22:00:00", nothing, EXPTIME=2.0, FILTER="L")
        for day, kind in ((1, "DARK"), (2, "BIAS"), (3, "FLAT"))
    ]
    endless = master(folder, "DARK", "2026-10-04T22:00:00", strange, EXPTIME=9.0)
    assert own.scan(folder)["state"] == "done"
    for name in names:
        number, frame = holding_of(own, name), frame_of(own, name)
        found = own.get(f"/api/holdings/{number}")["findings"]
        assert [f["fault"] for f in found] == ["no levels"], name
        for part in (f"frames/{frame}/view", f"frames/{frame}/histogram", f"frames/{frame}/picture.png"):
            assert own.client.get(f"/api/{part}").status_code == 200, part
        for part in ("defects.csv", "defects.fits", "dust"):
            assert own.client.get(f"/api/holdings/{number}/{part}").status_code in (200, 400, 404), part
        assert own.get(f"/api/holdings/{number}")["empty"]
    told = own.client.get(f"/api/holdings/{holding_of(own, names[2])}/dust").json
    assert "None of its pixels holds a number" in told["title"] + told.get("detail", "")
    assert "no levels" not in [
        f["fault"] for f in own.get(f"/api/holdings/{holding_of(own, endless)}")["findings"]
    ]


def test_what_is_wrong_with_masters_of_others_is_known_before_lights_use_them(own, tmp_path):
    """Nobody pulls a card: an empty dark serves no lights, and one full of light is used with care."""
    rng, folder, at = np.random.default_rng(11), tmp_path / "frames", "2026-10-0{}T22:00:00"
    across = np.linspace(0, 400, SHAPE[1], dtype=np.float32)
    leaking = 540 + across + rng.normal(0, 2, SHAPE).astype(np.float32)
    bias = 500 + rng.normal(0, 1, SHAPE).astype(np.float32)
    master(folder, "BIAS", at.format(1), bias)
    master(folder, "DARK", at.format(2), np.full(SHAPE, np.nan, np.float32), EXPTIME=120.0)
    master(folder, "DARK", at.format(3), leaking, EXPTIME=300.0)
    for exposure in (120.0, 300.0):
        light = {**CAMERA, "IMAGETYP": "LIGHT", "EXPTIME": exposure, "OBJECT": "M 33", "FILTER": "L"}
        taken = rng.normal(900, 20, SHAPE).astype(np.uint16)
        write_fits(folder / f"light{exposure:.0f}.fits", {**light, "DATE-OBS": at.format(4)}, taken)
    own.scan(folder)
    look = own.query("SELECT id, title FROM job WHERE kind = 'look'")
    assert [title for _, title in look] == ["Looking at 3 masters that came in"]
    ended = own.ended(look[0][0])
    assert ended["message"] == "3 masters looked at: 2 to be used with care"

    def dark_of(exposure):
        lights = holding_of(own, f"light{exposure}.fits")
        return next(line for line in own.get(f"/api/lights/{lights}/slip")["lines"] if line["kind"] == "dark")

    empty, leak = dark_of(120), dark_of(300)
    assert empty["chosen"] is None and "none of its pixels holds a number" in str(empty)
    assert leak["chosen"] is not None and "light leak" in str(leak["chosen"]["reasons"])
    own.scan(folder)
    assert len(own.query("SELECT id FROM job WHERE kind = 'look'")) == 1
    # What is kept of one makes no sense any more: the others are looked at all the same.
    own.change("UPDATE master_record SET figures = '{}'")
    broken = own.query("SELECT set_id FROM master_record ORDER BY set_id")[0][0]
    own.change(f"UPDATE master_record SET figures = 'not json' WHERE set_id = {broken}")
    own.scan(folder)
    ended = own.ended(own.query("SELECT max(id) FROM job WHERE kind = 'look'")[0][0])
    assert ended["state"] == "done" and len(ended["troubles"]) == 1


def test_a_foreign_master_without_a_number_is_passed_over(own, tmp_path):
    heap = tmp_path / "heap"
    write_fits(heap / "l.fits", LIGHT)
    header = fits.Header({**DARK, "IMAGETYP": "Master Dark", "NCOMBINE": 30})
    fits.PrimaryHDU(np.full((24, 24), np.nan, "f4"), header).writeto(heap / "master.fits")
    own.scan(heap)
    for _ in range(100):
        if not own.client.get("/api/jobs").json["alive"]:
            break
    lights = next(i for i, s in own.sets().items() if s["kind"] == "light")
    dark = next(line for line in own.get(f"/api/lights/{lights}/slip")["lines"] if line["kind"] == "dark")
    assert dark["verdict"] == "nothing fits", dark["chosen"]
    master = next(i for i, s in own.sets().items() if s["state"] == "master")
    assert own.get(f"/api/holdings/{master}")["empty"]


def test_a_look_that_was_kept_with_corners_that_are_no_numbers_is_taken_anew():
    light = LightFall(None, None, ((0.5, 100.0),), (), (100.0, 100.0, 99.0, 99.0), (1.0,))
    for corners, known in ((light.corners, True), ((100.0, 100.0, math.nan, math.nan), False)):
        figures = {flat_looks.DUST: [], flat_looks.LIGHT: asdict(replace(light, corners=corners))}
        row = FrameSet(record=MasterRecord(figures=json.loads(json.dumps(figures))))
        assert (flat_looks.kept_look(row) is not None) is known
