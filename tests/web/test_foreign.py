"""Libraries that nobody here made: other dialects, sites in three zones, reducers, flips, uncooled cameras, odd names.

Frames are written here by hand, with other habits than the demo's generator; everything goes through the web.
"""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace

import numpy as np
import pytest
from astropy.io import fits

from grayshelf.core.errors import Conflict
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.sheet import DarkSeries, RunSheet
from grayshelf.library.flat_sheet import RowLights
from grayshelf.web.context import the_context
from grayshelf.work.flats.starter import refuse_what_the_rig_lacks
from grayshelf.work.run.ready import untold_offset
from tests.helpers import write_fits
from tests.waiting import asked_until
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


def test_a_library_of_several_rigs_and_habits_gets_no_line_that_is_too_optimistic(own, tmp_path):  # noqa: F811
    folder = tmp_path / "heap"
    # Denver: a reducer in and out, flats with and without their filter named, two angles.
    denver = {"SITELONG": "-104 59 24", "SITELAT": "39 44 00"}
    shoot(folder, "right_light_", 12, at(10, 4), noise=40.0, level=900, **denver)
    shoot(
        folder,
        "unnamed_flat_",
        60,
        at(10, 12),
        level=21_000,
        noise=90,
        step_s=5,
        **flat(FILTER=None),
        **denver,
    )
    shoot(folder, "right_flat_", 25, at(9, 12), level=21_000, noise=90, step_s=5, **flat(), **denver)
    shoot(
        folder,
        "bare_flat_",
        25,
        at(10, 13),
        level=21_000,
        noise=90,
        step_s=5,
        **flat(FOCALLEN=1000.0),
        **denver,
    )
    shoot(
        folder,
        "turned_flat_",
        25,
        at(10, 14),
        level=21_000,
        noise=90,
        step_s=5,
        **flat(ROTANG=30.0),
        **denver,
    )
    shoot(
        folder,
        "ofL_flat_",
        25,
        at(10, 14, 30),
        level=21_000,
        noise=90,
        step_s=5,
        **flat(FILTER="Lum"),
        **denver,
    )
    shoot(folder, "right_dark_", 30, at(3, 12), **capped())
    shoot(folder, "unsaid_dark_", 90, at(10, 12), **capped(GAIN=None))
    shoot(folder, "warm_dark_", 30, at(10, 12), **capped(**{"CCD-TEMP": -5.0, "SET-TEMP": -5.0}))
    shoot(folder, "right_df_", 30, at(10, 15), step_s=5, **capped("FLATDARK", EXPOSURE=2.0))
    # Auckland, by the local clock alone said right; the same evening is another day in UTC.
    colour = {
        "INSTRUME": "Godwit C",
        "TELESCOP": "Rail",
        "BAYERPAT": "RGGB",
        "FILTER": "Duo",
        "ROTANG": None,
        "FOCPOS": None,
    }
    shoot(folder, "nz_light_", 8, at(8, 8), local_h=13, noise=50, level=1200, **colour)
    shoot(
        folder,
        "nz_flat_",
        20,
        at(8, 20),
        local_h=13,
        level=20_000,
        noise=90,
        step_s=5,
        **flat(**(colour | {"FILTER": None})),
    )
    # A sensor as warm as the night, ISO in place of gain, no offset, no binning said.
    warm = {"INSTRUME": "Plover R", "TELESCOP": "50 mm", "GAIN": None, "ISO": 800, "BLKLEVEL": None, "XBINNING": None,
            "YBINNING": None, "SET-TEMP": None, "FILTER": None, "ROTANG": None, "FOCPOS": None, "BAYERPAT": "RGGB",
            "FOCALLEN": None, "EXPOSURE": 60.0}  # fmt: skip
    for i, temp in enumerate((13.6, 14.1, 14.9, 15.2)):
        shoot(
            folder,
            f"warm_light_{i}_",
            2,
            at(14, 22, 5 * i),
            noise=60,
            level=2000,
            **(warm | {"CCD-TEMP": temp}),
        )
    shoot(folder, "warm_dark60_", 12, at(15, 3), **capped(**(warm | {"CCD-TEMP": 14.4, "TELESCOP": None})))
    # A sky angle across the meridian: the side of the pier tells that nothing turned, without it nothing is told.
    sky = {"INSTRUME": "Snipe", "TELESCOP": "Snipe scope", "ROTANG": None}
    shoot(folder, "east_light_", 5, at(20, 20), noise=40, **(sky | {"POSANGLE": 80.0, "PIERSIDE": "East"}))
    shoot(folder, "west_flat_", 25, at(20, 23), level=20_000, step_s=5,
          **flat(**(sky | {"POSANGLE": 260.2, "PIERSIDE": "WEST"})))  # fmt: skip
    scan(own, folder)
    lines = slips_of(own)
    assert len({(rig["name"], night) for rig, night, *_ in lines}) == 4
    nights = {rig["camera"]: night for rig, night, *_ in lines}
    # In UTC, all of Denver's lights belong to the 10th and Auckland's to the 8th; the evenings are the 9th and the 8th.
    assert nights == {
        "Curlew 16": "2025-03-09",
        "Godwit C": "2025-03-08",
        "Plover R": "2025-03-14",
        "Snipe": "2025-03-20",
    }
    by = {(rig["camera"], line["kind"]): (line, name, slip) for rig, _, _, slip, line, name in lines}

    for kind in ("dark", "flat", "dark flat"):
        line, name, _ = by["Curlew 16", kind]
        assert (line["verdict"], name.split("_")[0]) == ("fits", "right"), (kind, name, line["chosen"])
    # What is wished of flats goes by the camera: one with ISO has a curtain.
    sheets = {
        r["camera"]: own.get(f"/api/rigs/{r['id']}/flats").json for r in own.get("/api/state").json["rigs"]
    }
    shortest = {camera: sheet["defaults"]["shortest_s"] for camera, sheet in sheets.items()}
    assert shortest["Plover R"] == pytest.approx(1 / 60) and shortest["Curlew 16"] == 0.5
    lost = {c["lost_on"] for c in by["Curlew 16", "flat"][0]["runners_up"]}
    assert any("filter is not known" in why for why in lost)
    assert any("focal length 1000 mm, not 700 mm" in why for why in lost)
    assert not any("ofL" in str(c) for c in by["Curlew 16", "flat"][0]["runners_up"])
    assert any("gain is not known" in c["lost_on"] for c in by["Curlew 16", "dark"][0]["runners_up"])

    snipe = next(rig["id"] for rig in own.get("/api/state").json["rigs"] if rig["camera"] == "Snipe")
    for i, (deg, side) in enumerate(((130.0, "East"), (310.0, "West"))):
        turned = sky | {"POSANGLE": deg, "PIERSIDE": side}
        shoot(folder, f"turned{i}_light_", 5, at(21, 20 + i), noise=40, **turned)
    scan(own, folder)
    wall = own.get(f"/api/rigs/{snipe}/shelf").json["flats"]
    assert [gap["lights"] for gap in wall["gaps"]] == [10], (
        "on both sides of the pier they wait for the same flats"
    )
    assert len(wall["rows"]) == 2
    assert "nights later" in wall["gaps"][0]["against"] and wall["gaps"][0]["offer"], (
        "flats of tonight would not fit"
    )

    line, name, _ = by["Godwit C", "flat"]
    assert (line["verdict"], name[:7]) == ("fits with care", "nz_flat")
    assert "filter is not known" in line["chosen"]["reasons"]
    assert by["Godwit C", "dark"][0]["verdict"] == "nothing fits", "another camera's dark is none"

    line, _, slip = by["Plover R", "dark"]
    assert line["verdict"] == "fits with care"
    # A camera with an ISO dial has no offset to set (common practice); that it is never binned no header says.
    assert {x for x in line["chosen"]["reasons"] if x.endswith("not known")} == {"binning is not known"}
    assert slip["gain_word"] == "ISO" and "ISO 800" in slip["title"]
    assert {"offset", "binning"} & {q["quantity"] for q in slip["questions"]} == {"binning"}

    line, _, slip = by["Snipe", "flat"]
    assert line["verdict"] == "fits", line["chosen"]["reasons"]
    assert slip["advice"].startswith("No dark or dark flat fits these lights.")
    assert slip["offers"] and all(key.startswith("dark") for key in slip["offers"]) and not slip["against"], (
        "flats are there: darks are what is to be shot"
    )
    assert len(slip["offers"]) == 2 and slip["advice"].endswith("Tonight’s sheet can close these gaps.")
    denver_rig = next(rig["id"] for rig, *_ in lines if rig["camera"] == "Curlew 16")
    page = own.get(f"/api/rigs/{denver_rig}/nights/2025-03-09").json
    assert "longitude −105.0°" in page["night_from"]


def test_what_no_header_tells_is_answered_once_and_can_be_taken_back(own, tmp_path):  # noqa: F811
    bare = {"ROTANG": None, "FOCPOS": None}
    shoot(tmp_path / "f", "l", 5, at(10, 22), noise=40, **bare)
    shoot(tmp_path / "f", "f", 25, at(10, 23), level=20_000, step_s=5, **flat(**bare))
    scan(own, tmp_path / "f")

    def now():
        _, _, _, slip, line, _ = next(x for x in slips_of(own) if x[4]["kind"] == "flat")
        return line["verdict"], {q["quantity"] for q in slip["questions"]}, slip["said"], slip["rig_id"]

    verdict, asked, said, rig = now()
    assert (verdict, said) == ("fits with care", []) and {"angle", "focus"} <= asked
    for quantity in ("angle", "focus"):
        answer = own.put(f"/api/rigs/{rig}/says", json={"quantity": quantity, "says": "fixed"})
        assert answer.status_code == 200
    verdict, asked, said, _ = now()
    assert verdict == "fits" and not {"angle", "focus"} & asked
    assert [s["text"] for s in said] == ["angle: never turned", "focus: it stays as it is"]
    own.put(f"/api/rigs/{rig}/says", json={"quantity": "angle", "says": None})
    assert now()[0] == "fits with care"
    assert own.put(f"/api/rigs/{rig}/says", json={"quantity": "shoe size", "says": "fixed"}).status_code in (
        400,
        422,
    )


def test_numbers_in_names_are_believed_only_where_they_say_something(own, tmp_path):  # noqa: F811
    folder = tmp_path / "names"
    shoot(folder, "LIGHT_G_240s_", 4, at(10, 22), noise=40)
    for i in range(3, 9):
        cards = {k: v for k, v in {**MONO, **capped(GAIN=None)}.items() if v is not None}
        write_fits(folder / f"dark_gain_{i}.fits", {**cards, "DATE-OBS": f"2025-03-10T12:0{i}:00"}, size=24)
    write_fits(
        folder / "more" / "master_dark_gain_56_240s.fits",
        {k: v for k, v in {**MONO, **capped("Master Dark", GAIN=None, NCOMBINE=40)}.items() if v is not None}
        | {"DATE-OBS": "2025-03-01T12:00:00"},
        np.full((24, 32), 500, np.uint16),
    )
    for i in range(5):
        cards = {k: v for k, v in {**MONO, **capped(GAIN=None)}.items() if v is not None}
        write_fits(folder / "agree" / f"dark_gain56_{i:04d}.fits", {**cards, "DATE-OBS": f"2025-03-02T12:0{i}:00"},
                   np.full((24, 32), 500, np.uint16))  # fmt: skip
    scan(own, folder)
    sets = {
        s["title"] + s["state"] + str(s["n_frames"]): s for s in own.get("/api/sets?kind=dark").json["items"]
    }
    counted = next(s for s in sets.values() if s["n_frames"] == 6)
    assert counted["names_say"] is None and "gain" not in counted["title"], "a counter is no gain"
    master = next(s for s in sets.values() if s["state"] == "master")
    assert (master["names_say"], master["from_name"]) == ("in doubt", ["gain 56"])
    agreed = next(s for s in sets.values() if s["n_frames"] == 5)
    assert agreed["names_say"] == "agree"

    def dark_line():
        return next(line for *_, line, _ in slips_of(own) if line["kind"] == "dark")

    def candidate(title):
        line = dark_line()
        return next(c for c in [line["chosen"], *line["runners_up"]] if c and c["detail"].startswith(title))

    assert "gain 56 is only from a file’s name" in candidate("40 frames")["reasons"]
    assert next(r for r in candidate("40 frames")["rulers"] if r["quantity"] == "gain")["from_name"]
    assert own.put(f"/api/sets/{master['id']}/names", json={"right": True}).status_code == 200
    assert not candidate("40 frames")["reasons"]
    own.put(f"/api/sets/{master['id']}/names", json={"right": False})
    assert "gain is not known" in candidate("40 frames")["reasons"]
    own.put(f"/api/sets/{master['id']}/names", json={"right": None})
    assert own.put(f"/api/sets/{counted['id']}/names", json={"right": True}).status_code == 409


def test_folders_of_other_files_are_not_called_empty_and_clashes_say_what_they_are(own, tmp_path):  # noqa: F811
    folder = tmp_path / "raw"
    folder.mkdir()
    for name in ("a.X3F", "b.x3f", "c.IIQ", "old.fits.Z", "notes.txt", "a.JPG", "b.jpg"):
        (folder / name).write_bytes(b"x")
    scan(own, folder)
    told = own.get("/api/intake").json["folders"][0]
    unread = "3 camera raw files (.iiq, .x3f) and 1 packed file (.z) were seen; they cannot be read yet."
    assert told["passed_over"] == f"{unread} 2 pictures (.jpg) are no frames as a sensor gives them."
    inner = folder / "inner"
    inner.mkdir()
    answer = own.post("/api/folders", json={"path": str(inner)})
    assert (answer.status_code, answer.json["title"]) == (409, "This folder cannot be added")
    write_fits(folder / "dot.fits", MONO, np.zeros((1, 1), np.uint16))
    wait(own, own.post("/api/folders/2/scan").json)
    assert own.get("/api/state").json["rigs"] == [], "one pixel is no camera's frame"
    assert own.get("/api/intake").json["folders"][0]["passed_over"] == unread, (
        "pictures beside frames need no word"
    )


def test_moving_the_clock_keeps_masters_with_their_sets(own, tmp_path):  # noqa: F811
    """A combined set stays combined when its night is counted anew, by the site's clock or the rig's own."""
    shoot(tmp_path / "f", "d", 5, at(10, 11), **capped())
    shoot(tmp_path / "f", "l", 5, at(10, 11, 30), noise=40)
    scan(own, tmp_path / "f")
    assert wait(own, own.post("/api/builds", json={"set_ids": None}).json)["state"] == "done"

    def darks():
        return [(s["id"], s["state"], s["night"]) for s in own.get("/api/sets?kind=dark").json["items"]]

    before = darks()
    assert sorted(state for _, state, _ in before) == ["combined", "master"]
    moved = own.put("/api/site", json={"name": "Far", "time_zone": "Pacific/Auckland"})
    assert "frames changed theirs" in moved.json["message"]
    after = darks()
    assert [x[:2] for x in after] == [x[:2] for x in before]
    assert {night for *_, night in after} == {"10 Mar 25"} != {night for *_, night in before}
    back = own.put("/api/rigs/1/time-zone", json={"time_zone": "Europe/London"})
    assert back.status_code == 200 and darks() == before
    assert own.put("/api/rigs/1/time-zone", json={"time_zone": "Mars/Base"}).status_code == 400


def test_a_master_bears_the_time_of_its_first_frame(own, tmp_path):  # noqa: F811
    from astropy.io import fits

    shoot(tmp_path / "f", "d", 5, at(10, 12), **capped())
    scan(own, tmp_path / "f")
    wait(own, own.post("/api/builds", json={"set_ids": None}).json)
    master = next(s for s in own.get("/api/sets?kind=dark").json["items"] if s["state"] == "master")
    header = fits.getheader(own.get(f"/api/holdings/{master['id']}").json["file"])
    assert header["DATE-OBS"].startswith("2025-03-10T12:00:00")
    assert header["DATE-END"].startswith("2025-03-10T12:16:40")


def test_an_event_that_was_taken_back_can_count_again(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 5, at(10, 22), noise=40)
    shoot(tmp_path / "f", "f", 25, at(8, 22), level=20_000, step_s=5, **flat())
    scan(own, tmp_path / "f")

    def verdict():
        return next(line["verdict"] for *_, line, _ in slips_of(own) if line["kind"] == "flat")

    assert verdict() == "fits"
    own.post("/api/rigs/1/events", json={"what": "collimated", "kind": "train", "on": "2025-03-10"})
    assert verdict() == "nothing fits"
    event = own.get("/api/rigs/1/flats").json["events"][0]
    own.post(f"/api/rigs/1/events/{event['id']}/take-back")
    assert verdict() == "fits"
    assert own.get("/api/rigs/1/flats").json["events"][0]["taken_back"]
    own.post(f"/api/rigs/1/events/{event['id']}/use")
    assert verdict() == "nothing fits"


@pytest.mark.parametrize("held", [True, False, "as other frames say"])
def test_tonight_says_what_cannot_be_shot_and_reckons_with_the_frames_own_size(own, tmp_path, held):  # noqa: F811
    temps = {"CCD-TEMP": -15.0, "SET-TEMP": -15.0} if held else {"CCD-TEMP": 14.0, "SET-TEMP": None}
    if held == "as other frames say":
        shoot(tmp_path / "f", "b", 5, at(9, 22), **capped("BIAS", EXPOSURE=0.0, **temps))
        temps["SET-TEMP"], held = None, True
    shoot(tmp_path / "f", "l", 5, at(10, 22), noise=40, **temps)
    scan(own, tmp_path / "f")
    page = own.get("/api/rigs/1/tonight").json
    offered = [o["kind"] for o in page["offers"]]
    told = " ".join(o["why"] for o in page["out_of_reach"] if o["kind"] == "dark")
    # What is listed as lacking is not said to be there.
    flats = [o["note"] for o in page["offers"] if o["kind"] == "flat"]
    assert len(flats) == 1 and re.search("shot now: \\d+ nights later, allowed 2$", flats[0])
    assert page["headline"] == "Nothing is on the sheet." and page["steps"] == []
    assert ("is not ticked" in page["empty_text"]) is held and (
        "not surely fit" in page["empty_text"]
    ) is not held
    assert ("dark" in offered) is held
    assert ("as warm as the night" in told) is not held
    add = ",".join(o["key"] for o in page["offers"] if o["kind"] == "dark")
    page = own.get(f"/api/rigs/1/tonight?add={add}").json
    room = next(r for r in page["ready"] if r["what"] == "destination")
    assert re.match(r"needs (0\u2009MB|\d+\u2009kB) ", room["text"]), "frames of 24 × 32 pixels are small"
    if held and not [o for o in page["offers"] if o["kind"] == "flat" and o["on_sheet"]]:
        assert page["choices"] == [] and page["headline"].startswith("Hands free at")


def test_a_library_from_before_levels_were_noted_gets_them_with_the_next_scan(own, tmp_path):  # noqa: F811
    from sqlalchemy import select, update

    from grayshelf.library.models import FrameSet

    shoot(tmp_path / "f", "l", 4, at(10, 22), noise=40)
    scan(own, tmp_path / "f")
    db = own.application.extensions["grayshelf"].library.db
    with db.session() as session:
        session.execute(update(FrameSet).values(level_adu=None, noise_adu=None))
    wait(own, own.post("/api/folders/2/scan").json)
    with db.session() as session:
        lights = session.scalars(select(FrameSet)).one()
    assert lights.noise_adu == pytest.approx(40, rel=0.2)
    assert lights.level_adu == pytest.approx(600, abs=15)


def test_no_two_gaps_of_the_shelf_are_one_and_no_dark_falls_off_the_wall(own, tmp_path):  # noqa: F811
    folder = tmp_path / "wall"
    for binning in (1, 2):
        for angle in (44.45, 44.55):
            shoot(
                folder,
                f"l{binning}-{angle}-",
                2,
                at(3 + binning, 22),
                XBINNING=binning,
                YBINNING=binning,
                ROTANG=angle,
            )
    shoot(folder, "d", 4, at(9, 22), **capped(EXPOSURE=None))
    scan(own, folder)
    page = own.get("/api/rigs/1/shelf").json
    for wall in (page["darks"], page["flats"]):
        keys = [g["key"] for g in wall["gaps"]]
        assert len(keys) == len(set(keys))
        places = {(r["key"], c["key"]) for r in wall["rows"] for c in wall["columns"]}
        assert {(x["row"], x["column"]) for x in (*wall["spines"], *wall["gaps"])} <= places
    assert len(page["flats"]["gaps"]) == 2, "one for each binning, whatever degree the angles round to"
    assert [x["key"] for x in page["darks"]["columns"]] == ["240", "?"]


def test_spines_side_by_side_are_told_apart_and_bear_no_gain_where_there_is_none(own, tmp_path):  # noqa: F811
    for offset in (10, 20):
        shoot(tmp_path / "f", f"d{offset}", 4, at(9, 22), **capped(BLKLEVEL=offset))
    shoot(tmp_path / "f", "e", 4, at(9, 23), **capped(EXPOSURE=60.0))
    shoot(tmp_path / "f", "l", 3, at(10, 22), noise=40)
    scan(own, tmp_path / "f")
    shoot(tmp_path / "g", "l", 3, at(10, 22), noise=40, GAIN=None, INSTRUME="Ruff 8")
    shoot(tmp_path / "g", "d", 4, at(9, 22), **capped(GAIN=None, INSTRUME="Ruff 8"))
    scan(own, tmp_path / "g")

    def spines(camera):
        rig = next(r["id"] for r in own.get("/api/state").json["rigs"] if r["camera"] == camera)
        found = own.get(f"/api/rigs/{rig}/shelf").json["darks"]["spines"]
        return sorted((s["gain_text"], s["foot"]) for s in found)

    assert spines("Curlew 16") == [
        ("gain 56", "gain 56"),
        ("gain 56", "gain 56, offset 10"),
        ("gain 56", "gain 56, offset 20"),
    ]
    assert spines("Ruff 8") == [("gain unknown", "gain unknown")]
    rig = next(r["id"] for r in own.get("/api/state").json["rigs"] if r["camera"] == "Ruff 8")
    assert own.put(f"/api/rigs/{rig}/says", json={"quantity": "gain", "says": "fixed"}).status_code == 200
    assert spines("Ruff 8") == [("", "")]
    walls = own.get(f"/api/rigs/{rig}/fill").json["walls"]
    assert [wall["title"] for wall in walls] == [f"offset {MONO['BLKLEVEL']:g}"]
    assert [cell["there"] for row in walls[0]["rows"] for cell in row["cells"]] != [""], "what stands is seen"
    plans = own.get(f"/api/rigs/{rig}/plans").json
    plan = plans["last"]
    assert plans["gain_word"] == "", "there is none to set"
    priced = own.post(f"/api/rigs/{rig}/plans/price", json={"plans": [plan], "names": ["as it was"]}).json
    darks = priced["prices"][0]["darks"]
    assert [" ".join(dark["title"].split()) for dark in darks] == ["240 s at −15 °C"]


def test_where_nothing_can_be_compared_the_slip_says_why_what_is_there_cannot(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 3, at(10, 22), noise=40)
    shoot(tmp_path / "f", "f", 9, at(10, 23), level=20_000, step_s=5, **flat(XBINNING=2, YBINNING=2))
    shoot(
        tmp_path / "f",
        "o",
        9,
        at(10, 23, 30),
        level=20_000,
        step_s=5,
        **flat(FILTER="OIII", XBINNING=2, YBINNING=2),
    )
    shoot(tmp_path / "f", "d", 4, at(9, 22), **capped(ROWORDER="TOP-DOWN"))
    for path in (tmp_path / "f").glob("[fo]*.fits"):
        values = fits.getheader(path)
        fits.writeto(path, np.zeros((12, 16), np.uint16) + 20_000, values, overwrite=True)
    scan(own, tmp_path / "f")
    (*_, slip, _, _) = slips_of(own)[0]
    notes = {line["kind"]: (line["verdict"], line["note"]) for line in slip["lines"]}
    assert notes["flat"] == ("nothing fits", "the newest there: binning 2×2, not 1×1")
    assert notes["dark flat"] == ("nothing fits", "waits for the flat")
    assert notes["dark"][0] != "nothing fits", (
        "a row order that only one tells is in doubt, and no other sensor’s"
    )


def test_lights_of_unknown_exposure_are_not_said_to_have_none(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 3, at(10, 22), noise=40, EXPOSURE="long")
    scan(own, tmp_path / "f")
    (*_, slip, _, _) = slips_of(own)[0]
    assert slip["title"] == "3 lights, exposure not known, gain 56"
    ((night,),) = [month["nights"] for month in own.get("/api/rigs/1/nights").json["months"]]
    assert night["text"] == "10 Mar, 3 of 3 lights, exposure not known, 1 set lacks something"


def test_frames_of_nights_that_have_not_come_are_listed_until_their_clock_is_put_right(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 3, at(10, 22), noise=40)
    shoot(tmp_path / "f", "d", 4, at(9, 22).replace(year=2140), **capped())
    scan(own, tmp_path / "f")
    listed = own.get("/api/problems?state=dated ahead").json
    assert listed["total"] == 4
    assert [(c["name"], c["count"]) for c in listed["counts"]] == [("dated ahead", 4)]
    assert {p["state"] for p in listed["items"]} == {"dated ahead"}
    assert all(
        " 2140, has not come yet" in p["reason"] and "lacking or wrong" in p["advice"]
        for p in listed["items"]
    )
    assert own.get("/api/problems").json["items"] == listed["items"], "and among all"
    assert [f["to_look_at"] for f in own.get("/api/intake").json["folders"]] == [4]
    assert own.get("/api/problems.csv").text.count("dated ahead") == 4


def test_an_offset_that_no_frame_tells_is_neither_shown_nor_set(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 3, at(10, 22), noise=40, BLKLEVEL=None)
    scan(own, tmp_path / "f")
    rig = own.get("/api/state").json["rigs"][0]["id"]
    row = own.get(f"/api/rigs/{rig}/flats").json["rows"][0]
    assert "gain 56" in str(row) and "offset 0" not in str(row)
    key, told = RowKey("Ha", 56.0, 0.0, 1), FrameFacts(32, 24, 16, gain=56.0)
    facts = SimpleNamespace(name="Curlew 16", gain_range=(0, 300), offset_range=(0, 255), most_binning=4)
    devices = SimpleNamespace(camera=SimpleNamespace(facts=facts), wheel=None)
    with pytest.raises(Conflict, match="do not tell their offset"):
        refuse_what_the_rig_lacks(devices, [key], {key: RowLights(3, told)})
    with own.application.app_context():
        library = the_context().library
    with library.db.session() as session:
        here, bias = (
            library.rig(session, rig),
            DarkSeries(0.001, None, 56.0, 0.0, 1, 20, kind=FrameKind.BIAS),
        )
        told_of = {
            r.text for r in untold_offset(library, here, RunSheet((), (), (bias,)), devices) if r.stops
        }
        assert len(told_of) == 1 and "no frame tells it" in told_of.pop()
        at_30 = RunSheet((), (), (replace(bias, offset=30.0),))
        assert untold_offset(library, here, at_30, devices) == []
    shoot(tmp_path / "f", "by another program", 3, at(3, 22), noise=40)
    scan(own, tmp_path / "f")
    with library.db.session() as session:
        here = library.rig(session, rig)
        (line,) = untold_offset(library, here, RunSheet((), (), (bias,)), devices)
        assert line.stops and line.text.startswith("the lights do not tell it")
    # One that says 0, one that a person added, and a camera that has none to set are shot.
    refuse_what_the_rig_lacks(devices, [key], {key: RowLights(3, replace(told, offset=0.0))})
    refuse_what_the_rig_lacks(devices, [key], {})
    facts.offset_range = None
    refuse_what_the_rig_lacks(devices, [key], {key: RowLights(3, told)})


def test_a_sensor_that_is_colder_than_a_night_is_cooled_though_no_set_point_is_told(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 3, at(10, 22), noise=40, **{"CCD-TEMP": -95.2, "SET-TEMP": None})
    scan(own, tmp_path / "f")
    shoot(
        tmp_path / "g",
        "l",
        3,
        at(10, 22),
        noise=40,
        **{"CCD-TEMP": -15.2, "SET-TEMP": None, "INSTRUME": "Ruff 8"},
    )
    scan(own, tmp_path / "g")
    for rig in own.get("/api/state").json["rigs"]:
        cold = rig["camera"] == "Curlew 16"
        tonight, fill = (own.get(f"/api/rigs/{rig['id']}/{page}").json for page in ("tonight", "fill"))
        darks = [o["title"] for o in tonight["offers"] if o["title"].startswith("Dark 240")]
        asked = [
            c["asked"] or c["missing"] for w in fill["walls"] for r in w["rows"] for c in r["cells"] if c
        ]
        warm = [o["why"] for o in fill["out_of_reach"] if "as warm as the night" in o["why"]]
        assert (len(darks), asked, len(warm)) == ((1, [True], 0) if cold else (0, [], 1)), rig["camera"]


def test_what_a_camera_has_none_of_is_no_more_to_be_looked_at_once_a_person_said_so(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 3, at(10, 22), noise=40, GAIN=None, BLKLEVEL=None)
    shoot(tmp_path / "f", "d", 4, at(9, 22), **capped(GAIN=None, BLKLEVEL=None))
    shoot(tmp_path / "f", "no filter", 2, at(11, 22), noise=40, GAIN=None, BLKLEVEL=None, FILTER=None)
    scan(own, tmp_path / "f")

    def to_look_at():
        listed = own.get("/api/problems").json
        (folder,) = own.get("/api/intake").json["folders"]
        lacking = own.get("/api/mend").json["lacking_frames"]
        assert listed["total"] == folder["to_look_at"] == lacking == len(listed["items"])
        assert own.get("/api/problems.csv").text.count("Lacks") == listed["total"]
        assert sum(k["count"] for k in folder["kinds"]) == 9
        return {p["reason"] for p in listed["items"]}, listed["total"]

    rig = own.get("/api/state").json["rigs"][0]["id"]

    def say(quantity, says):
        assert own.put(f"/api/rigs/{rig}/says", json={"quantity": quantity, "says": says}).status_code == 200

    before = {"Lacks gain.", "Lacks gain, filter."}, 9
    assert to_look_at() == before
    say("gain", "fixed")
    assert to_look_at() == ({"Lacks gain, filter."}, 2)
    say("filter", "fixed")
    assert to_look_at() == (set(), 0)
    say("filter", "moves")
    say("gain", None)
    assert to_look_at() == before


def test_a_master_flat_in_shares_of_full_scale_does_not_tell_that_its_pedestal_is_off(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 6, at(10, 22), noise=40)
    told = {**MONO, **flat(), "IMAGETYP": "Master Flat", "NCOMBINE": 20, "DATE-OBS": "2025-03-10T12:30:00"}
    cards = {k: v for k, v in told.items() if v is not None}
    write_fits(tmp_path / "f" / "flat of all.fits", cards, RNG.normal(0.37, 0.001, (24, 32)).astype("f4"))
    scan(own, tmp_path / "f")
    asked_until(lambda: own.get("/api/jobs").json["alive"], lambda alive: not alive)
    _, light_falls, pedestal = [line for *_, line, _ in slips_of(own)]
    assert light_falls["chosen"]["is_master"] and pedestal["verdict"] == "nothing fits"


def test_masters_of_other_programs_are_known_by_their_names_and_need_not_tell_their_number(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 6, at(10, 22), noise=40)

    def master(name, level, **cards):
        told = {k: v for k, v in {**MONO, **cards}.items() if v is not None}
        pixels = RNG.normal(level, level / 400.0, (24, 32)).astype("f4")
        write_fits(
            tmp_path / "f" / name, {**told, "DATE-OBS": at(9, 12).replace(tzinfo=None).isoformat()}, pixels
        )

    master("MasterDark_240s.fits", 500.0, **capped())
    master("superbias.fits", 480.0, **capped("BIAS", EXPOSURE=0.0))
    # Divided by its own level: whoever did that took the pedestal off first.
    master("Master Flat Ha.fits", 1.0, **flat())
    scan(own, tmp_path / "f")
    asked_until(lambda: own.get("/api/jobs").json["alive"], lambda alive: not alive)
    sets = {s["kind"]: (s["state"], s["id"]) for s in own.get("/api/sets").json["items"]}
    assert (sets["dark"][0], sets["bias"][0]) == ("master", "master")
    dark, light_falls, pedestal = [line for *_, line, _ in slips_of(own)]
    assert light_falls["chosen"]["is_master"] and light_falls["verdict"] == pedestal["verdict"] == "fits"
    assert pedestal["note"] == "already taken off in the master flat"
    assert dark["verdict"] == "fits" and dark["chosen"]["reasons"] == []
    assert dark["chosen"]["detail"].startswith("? frames, ")
    card = own.get(f"/api/holdings/{sets['dark'][1]}").json
    assert (card["spine"]["frames_text"], card["spine"]["care"]) == ("?", [])
    assert card["subtitle"].startswith("? frames of ") and "of how many frames, is not known" in card["made"]


def test_a_master_flat_of_another_program_stands_before_the_loose_frames_that_it_was_made_of(own, tmp_path):  # noqa: F811
    folder = tmp_path / "f"
    shoot(folder, "l", 6, at(10, 22), noise=40, EGAIN=1.0)
    shoot(folder, "fl", 20, at(10, 12, 30), level=41_000, noise=90, step_s=5, **flat(EGAIN=1.0))
    # It does not tell of how many: of those that are here.
    told = {**MONO, **flat(EGAIN=1.0), "IMAGETYP": "Master Flat"}
    cards = {k: v for k, v in told.items() if v is not None} | {"DATE-OBS": "2025-03-10T12:30:00"}
    write_fits(folder / "flat of all.fits", cards, RNG.normal(1.0, 0.002, (24, 32)).astype("f4"))
    scan(own, folder)
    asked_until(lambda: own.get("/api/jobs").json["alive"], lambda alive: not alive)
    (chosen,) = [line for *_, line, _ in slips_of(own) if line["kind"] == "flat"]
    assert chosen["chosen"]["is_master"] and chosen["runners_up"][0]["lost_on"] == "not combined yet"
    assert chosen["chosen"]["detail"].startswith("20 frames, ")


def test_a_stack_beside_its_lights_is_none_of_them(own, tmp_path):  # noqa: F811
    """As a telescope that stacks by itself leaves it: the same kind, night and settings."""
    folder = tmp_path / "f"
    shoot(folder, "l", 6, at(10, 22), noise=40)
    shoot(folder, "stack", 1, at(10, 22), noise=10, STACKCNT=6)
    scan(own, folder)
    titles = {x["title"].rpartition(", ")[2]: x["n_frames"] for x in own.get("/api/sets").json["items"]}
    assert titles["stack of 6"] == 1 and sorted(titles.values()) == [1, 6]
    (night,) = own.get("/api/rigs/1/nights").json["nights"]
    assert (night["taken"], night["kept"]) == (6, 6)
    handed = own.get(f"/api/hand-over?rig_id=1&night={night['night']}").json["files"]
    assert len(handed) == 6 and not any("stack" in f["source"] for f in handed)


def test_what_an_observatory_calibrated_before_is_told_by_its_header(own, tmp_path):  # noqa: F811
    """Raw and calibrated copies side by side, a master flat without its pedestal, and a dark without its bias."""
    folder = tmp_path / "f"
    shoot(folder, "raw", 4, at(10, 22), noise=40)
    shoot(folder, "cal", 4, at(10, 22), level=300, noise=40, CALSTAT="BDF")
    shoot(folder, "fl", 1, at(10, 12, 30), 21_000, NCOMBINE=12, **flat(IMAGETYP="Master Flat", CALSTAT="BD"))
    shoot(folder, "d", 1, at(9, 12), 30, NCOMBINE=16, **capped("Master Dark", CALSTAT="B"))
    scan(own, folder)
    titles = [x["title"].rpartition(", ")[2] for x in own.get("/api/sets").json["items"]]
    assert {"bias off", "calibrated", "pedestal off"} <= set(titles)
    lines = {line["kind"]: line for *_, slip, line, _ in slips_of(own)}
    assert lines["dark flat"]["note"] == "already taken off in the master flat"
    assert lines["dark"]["verdict"] == "fits with care"
    assert any("leaves the pedestal" in reason for reason in lines["dark"]["chosen"]["reasons"])
    (night,) = own.get("/api/rigs/1/nights").json["nights"]
    assert night["taken"] == 4, "a copy is no other light"
    asked = f"/api/hand-over?rig_id=1&night={night['night']}"
    handed = own.get(asked).json
    assert sum(f["kind"] == "light" for f in handed["files"]) == 4
    calibrated = own.get(f"{asked}&form=calibrated lights")
    assert calibrated.status_code == 400 and "a bias was taken off their dark" in calibrated.json["detail"]


def test_levels_tell_what_a_program_that_writes_neither_gain_nor_offset_does_not(own, tmp_path):  # noqa: F811
    """The offset was raised in between: by their headers all darks and bias are alike."""
    folder, silent = tmp_path / "f", {"GAIN": None, "BLKLEVEL": None}
    shoot(folder, "l", 6, at(10, 22), level=540, noise=20, **silent)
    for stem, day, level in (("low", 2, 503), ("high", 9, 2003)):
        shoot(folder, stem, 12, at(day, 12), level, **capped(**silent))
    for stem, day, level in (("lowbias", 1, 500), ("highbias", 8, 2000)):
        shoot(folder, stem, 12, at(day, 12), level, step_s=2, **capped("BIAS", EXPOSURE=0.001, **silent))
    # Of another program, which took a bias off and does not tell.
    told = {**MONO, **capped("Master Dark"), **silent, "DATE-OBS": "2025-03-09T18:00:00", "NCOMBINE": 30}
    cards = {k: v for k, v in told.items() if v is not None}
    write_fits(folder / "bare.fits", cards, RNG.normal(3, 0.5, (24, 32)).astype("f4"))
    scan(own, folder)
    asked_until(lambda: own.get("/api/jobs").json["alive"], lambda alive: not alive)

    def of_darks():
        ((line, name),) = [(line, name) for *_, line, name in slips_of(own) if line["kind"] == "dark"]
        return line["chosen"], name, {one["lost_on"] for one in line["runners_up"]}

    def as_it_should_be():
        chosen, name, lost = of_darks()
        assert not any("lies" in reason for reason in chosen["reasons"])
        assert any(
            re.match("it lies 1,4.. ADU above these lights, so that nothing would be left", x) for x in lost
        ), lost
        assert any(
            re.match("it lies 49. ADU under the bias of its settings: a bias was taken", x) for x in lost
        ), lost
        return name

    assert as_it_should_be().startswith("low")
    wait(own, own.post("/api/builds", json={"set_ids": None}).json)
    assert as_it_should_be().startswith("master_dark"), "and so it is once they are combined"
    care = {
        spine["title"] + spine["date"]: spine["care"] for spine in own.get("/api/rigs/1/shelf").json["bias"]
    }
    assert sorted(len(c) for c in care.values()) == [0, 1]
    (why,) = (c[0] for c in care.values() if c)
    assert re.match("1,[45].. ADU above the bias of 1 Mar 2025: a light leak, or another gain or offset", why)
