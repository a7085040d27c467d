"""Two cameras of one make on two telescopes, side by side: headers name the make alone, and their darks are not mixed."""

from __future__ import annotations

import hashlib
from datetime import datetime, timedelta

import numpy as np
import pytest

from grayshelf.core.matching.cameras_alike import exposed_at_once
from tests.helpers import write_fits

NIGHT = datetime(2026, 11, 5, 19)
BASE = {"INSTRUME": "Tern 26", "FOCALLEN": 400.0, "GAIN": 100, "OFFSET": 50, "XBINNING": 1, "YBINNING": 1,
        "CCD-TEMP": -10.0, "SET-TEMP": -10.0, "ROTATANG": 10.0, "FOCUSPOS": 4000}  # fmt: skip


def shot(folder, name, kind, at, exposure, telescope=None, **more):
    rng = np.random.default_rng(int(hashlib.md5(f"{name}{telescope}".encode()).hexdigest()[:6], 16))
    on = {"TELESCOP": telescope} if telescope else {}
    cards = {**BASE, **on, "IMAGETYP": kind, "EXPTIME": exposure, "DATE-OBS": at.isoformat(), **more}
    where = folder / (telescope or "no telescope") / f"{name}.fits"
    return write_fits(where, cards, rng.normal(500, 9, (40, 50)).clip(0, 65535).astype(np.uint16))


def night_of(folder, telescope, code, begin=NIGHT):
    for i in range(4):
        at = begin + timedelta(seconds=305 * i)
        shot(folder, f"l{code}{i}", "LIGHT", at, 300.0, telescope, FILTER=code, OBJECT="M 31")


def darks_of(folder, telescope, begin):
    for i in range(6):
        shot(folder, f"d{i}", "DARK", begin + timedelta(seconds=303 * i), 300.0, telescope)


def darks_on_slips(own):
    """By filter: the verdict on the dark, why with care, what was said of the others, and warnings."""
    told = {}
    for number, one in own.sets().items():
        if one["kind"] != "light":
            continue
        slip = own.get(f"/api/lights/{number}/slip")
        line = next(x for x in slip["lines"] if x["kind"] == "dark")
        why = line["chosen"]["reasons"] if line["chosen"] else []
        lost = [c["lost_on"] for c in line["runners_up"]]
        told[one["title"].split(", ")[1]] = line["verdict"], why, lost, slip["warnings"]
    return told


def test_darks_shot_at_once_are_of_two_cameras_and_serve_their_own(own, tmp_path):
    heap = tmp_path / "heap"
    later = NIGHT + timedelta(days=3)
    for telescope, code in (("Left 80", "L"), ("Right 80", "Ha")):
        night_of(heap, telescope, code)
        darks_of(heap, telescope, later)
    own.scan(heap)
    darks = [x for x in own.sets().values() if x["kind"] == "dark"]
    assert [x["n_frames"] for x in darks] == [6, 6], "no master is made of two cameras"
    assert len({x["camera"] for x in darks}) == 2 and all(" 80" in x["camera"] for x in darks), darks
    own.build()
    told = darks_on_slips(own)
    for code, other in (("L", "Right 80"), ("Ha", "Left 80")):
        verdict, why, lost, warnings = told[code]
        assert verdict == "fits" and not why, told
        assert lost == [f"another camera of this name, that of {other}"]
        assert any("two cameras have this name" in w for w in warnings)
    for rig in own.get("/api/state")["rigs"]:
        spines = own.get(f"/api/rigs/{rig['id']}/shelf")["darks"]["spines"]
        assert len(spines) == 1, "the darks of the other telescope stand on its own shelf"
    # Which of them a dark is of that names no telescope is not known.
    for telescope in ("Left 80", "Right 80"):
        for path in (heap / telescope).glob("d*.fits"):
            path.unlink()
    darks_of(heap, None, later + timedelta(days=1))
    own.scan(heap)
    own.client.post("/api/folders/2/let-go")
    for number in own.query("select id from frame_set where is_master"):
        own.client.post(f"/api/holdings/{number[0]}/shelve/off")
    verdict, why, _, _ = darks_on_slips(own)["L"]
    assert verdict == "fits with care" and "which of the cameras of this name took it is not known" in why


def test_a_master_is_held_against_newer_darks_of_its_own_camera(own, tmp_path):
    for telescope, code, days in (("Left 80", "L", 3), ("Right 80", "Ha", 9)):
        night_of(tmp_path / "heap", telescope, code)
        darks_of(tmp_path / "heap", telescope, NIGHT + timedelta(days=days))
    own.scan(tmp_path / "heap")
    own.build()
    masters = [n for n, x in own.sets().items() if "master" in x["state"]]
    assert len(masters) == 2
    assert [own.get(f"/api/holdings/{n}")["still_good"]["newer"] for n in masters] == [[], []]


def test_the_bench_measures_the_camera_of_this_rig_by_its_own_frames(own, tmp_path):
    for telescope, code, n_bias in (("Left 80", "L", 4), ("Right 80", "Ha", 7)):
        night_of(tmp_path / "heap", telescope, code)
        for i in range(n_bias):
            at = NIGHT + timedelta(days=2, seconds=5 * i)
            shot(tmp_path / "heap", f"b{i}", "BIAS", at, 0.0, telescope)
    own.scan(tmp_path / "heap")
    offered = {
        rig["telescope"]: own.get(f"/api/rigs/{rig['id']}/bench/offset")["disk"]
        for rig in own.get("/api/state")["rigs"]
    }
    assert [o["text"].split(" bias")[0] for o in offered["Left 80"]] == ["4"]
    assert [o["text"].split(" bias")[0] for o in offered["Right 80"]] == ["7"]
    # Filling the shelf, nor does the bias of the other stand in for one's own.
    for path in (tmp_path / "heap" / "Left 80").glob("b*.fits"):
        path.unlink()
    own.scan(tmp_path / "heap")
    (folder,) = [f["id"] for f in own.get("/api/intake")["folders"]]
    own.client.post(f"/api/folders/{folder}/let-go")
    fill = {rig["telescope"]: own.get(f"/api/rigs/{rig['id']}/fill") for rig in own.get("/api/state")["rigs"]}
    assert [b["there"] for b in fill["Left 80"]["bias"]] == [""]
    assert [b["there"][:8] for b in fill["Right 80"]["bias"]] == ["7 frames"]
    # And the darks are those that its own lights wait for.
    for page in fill.values():
        cells = [c for wall in page["walls"] for row in wall["rows"] for c in row["cells"] if c]
        assert [c["lights"] for c in cells] == [4]


def test_a_master_tells_that_frames_it_was_made_of_are_of_another_set_by_now(own, tmp_path):
    """As a set that mixed two cameras, and was combined by a version that did not tell them apart."""
    darks_of(tmp_path / "heap", "Left 80", NIGHT)
    night_of(tmp_path / "heap", "Left 80", "L", NIGHT + timedelta(hours=3))
    own.scan(tmp_path / "heap")
    own.build()
    assert darks_on_slips(own)["L"][:2] == ("fits", [])
    of_another = {"choice": {"name_has": "d1"}, "saying": {"telescope": "Right 80"}}
    own.ended(own.client.post("/api/mend", json=of_another).json["job_id"])
    verdict, why, _, _ = darks_on_slips(own)["L"]
    assert verdict == "fits with care"
    assert "1 of the frames that it was made of belongs to another set now: combine it anew" in why
    said = own.get("/api/mend")["said"][0]["id"]
    own.ended(own.client.post(f"/api/mend/{said}/take-back").json["job_id"])
    assert darks_on_slips(own)["L"][:2] == ("fits", [])


def test_one_camera_that_changes_its_telescope_keeps_its_darks(own, tmp_path):
    heap = tmp_path / "heap"
    night_of(heap, "Left 80", "L")
    night_of(heap, "Right 80", "Ha", NIGHT + timedelta(hours=2))
    darks_of(heap, "Right 80", NIGHT + timedelta(days=3))
    own.scan(heap)
    for verdict, _, _, warnings in darks_on_slips(own).values():
        assert verdict == "fits" and not any("two cameras" in w for w in warnings)
    # A time that a damaged disk left of one of them takes no slip down.
    own.change("update frame_set set last_utc = 'x' where kind = 'light' and facts like '%Left 80%'")
    own.library.touched()
    assert [verdict for verdict, *_ in darks_on_slips(own).values()] == ["fits", "fits"]


@pytest.mark.parametrize(("later_s", "found"), [(0, 4), (150, 4), (299, 3), (4000, 0), (-100, 4)])
def test_frames_that_were_exposed_at_once_are_counted(later_s, found):
    one = [(NIGHT + timedelta(seconds=305 * i), 300.0) for i in range(4)]
    other = [(at + timedelta(seconds=later_s), exposure_s) for at, exposure_s in one]
    assert exposed_at_once(one, other) == found
