"""Libraries that nobody here made: other dialects, sites in three zones, reducers, flips, uncooled cameras, odd names.

Frames are written here by hand, with other habits than the demo's generator; everything goes through the web.
"""

from __future__ import annotations

import numpy as np
import pytest

from tests.helpers import write_fits
from tests.web.foreign_frames import MONO, at, capped, flat, shoot, slips_of
from tests.web.test_intake import own, scan, wait  # noqa: F401


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
