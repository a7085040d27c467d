"""Gear of other habits: what no frame tells is asked, what a camera has none of is not, and the shelf keeps all apart."""

from __future__ import annotations

import re
from dataclasses import replace
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
from tests.web.foreign_frames import MONO, RNG, at, capped, flat, shoot, slips_of
from tests.web.test_intake import own, scan, wait  # noqa: F401


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
    small = re.match(r"needs \d+\u2009kB ", room["text"])
    assert (small is not None) is held, "frames of 24 × 32 pixels are small, and none need no room"
    assert "free for masters" in room["text"]
    if held and not [o for o in page["offers"] if o["kind"] == "flat" and o["on_sheet"]]:
        assert page["choices"] == [] and page["headline"].startswith("Hands free at")


def test_dark_flats_that_flats_of_several_filters_wait_for_name_them_all(own, tmp_path):  # noqa: F811
    for hour, code in ((1, "Ha"), (2, "OIII"), (3, "SII")):
        shoot(tmp_path / "f", f"l{code}", 3, at(11, hour), noise=40, FILTER=code)
        shoot(tmp_path / "f", f"f{code}", 5, at(11, 5, hour), level=21_000, step_s=3, **flat(FILTER=code))
    scan(own, tmp_path / "f")
    page = own.get("/api/rigs/1/tonight").json
    (offer,) = [o for o in page["offers"] if o["kind"] == "dark flat"]
    assert offer["lights"] == 9 and offer["filter_code"] is None
    assert "for Ha, OIII and SII" in " ".join(step["title"] + step["line"] for step in page["steps"])
    (gap,) = [g for g in own.get("/api/rigs/1/shelf").json["gaps"] if g["kind"] == "dark flat"]
    assert gap["title"].endswith(" for Ha, OIII and SII") and gap["filter_code"] is None
    # Their sets cannot be combined before, for one reason, which is told once with their names.
    (told,) = wait(own, own.post("/api/builds", json={"set_ids": None}).json)["troubles"]
    assert all(f"lat {code}, 2\u2009s, 10 Mar 25" in told for code in ("Ha", "OIII", "SII"))
    assert told.count("No dark flat") == 1


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
