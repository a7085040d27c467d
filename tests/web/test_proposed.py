"""From an empty library: rigs proposed by headers, names joined and parted, rigs joined and parted, nothing lost."""

from __future__ import annotations

import hashlib
from datetime import date

import numpy as np
import pytest

from grayshelf.library.grouping import RECOUNT
from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.own import Own

SPELLED = {"INSTRUME": "OSPREY-16", "TELESCOP": "field  LENS"}
OSPREY = {"INSTRUME": "Osprey 16", "TELESCOP": "Field lens", "FOCALLEN": 300.0, "XPIXSZ": 4.6}


def frames(folder, name, n, base, **cards):
    for i in range(n):
        day = cards.get("DATE-OBS", "2026-10-18T22")
        write_fits(folder / f"{name}{i}.fits", {**base, **cards, "DATE-OBS": f"{day}:{i:02d}:00"})


@pytest.fixture
def own(tmp_path):
    library = Own(tmp_path / "library")
    yield library
    library.close()


@pytest.fixture
def folder(tmp_path):
    """Frames of one camera on a lens with and without its reducer, spelled as three programs do, and of a second camera."""
    at = tmp_path / "frames"
    frames(at, "a", 6, LIGHT, **OSPREY, FILTER="Ha")
    frames(at, "b", 4, LIGHT, **OSPREY | SPELLED, FILTER="H-alpha", OBJECT="M 31")
    frames(at, "f", 5, FLAT, **OSPREY | {"TELESCOP": None}, FILTER="Ha")
    frames(at, "r", 3, LIGHT, **OSPREY | {"FOCALLEN": 219.0}, FILTER="Ha")
    frames(at, "d", 5, DARK, INSTRUME="OSPREY-16", TELESCOP=None)
    frames(at, "v", 2, LIGHT, **OSPREY | {"INSTRUME": "Osprey 16 v2 driver"}, FILTER="Ha")
    return at


def post(own, path, body, status=200):
    answer = own.client.post(path, json=body)
    assert answer.status_code == status, answer.text
    for job in own.get("/api/jobs")["alive"]:
        own.ended(job["id"])
    return answer.json


def rigs(own):
    return {r["name"]: r["id"] for r in own.get("/api/state")["rigs"]}


def lights(own, name):
    """How many lights a rig has, over all its nights."""
    nights = own.get(f"/api/rigs/{rigs(own)[name]}/nights")["nights"]
    return sum(n["kept"] for n in nights)


def digest(folder):
    return {p.name: hashlib.sha256(p.read_bytes()).hexdigest() for p in folder.glob("*.fits")}


def test_the_first_scan_proposes_rigs_with_their_evidence_and_asks_what_it_cannot_tell(own, folder):
    before = digest(folder)
    own.scan(folder)
    page = own.get("/api/rigs/proposal")
    by_name = {r["name"]: r for r in page["rigs"]}
    assert set(by_name) == {"Field lens", "Field lens at 219 mm", "Field lens with Osprey 16 v2 driver"}
    whole = by_name["Field lens"]
    assert whole["title"] == "Osprey 16 on Field lens, 300 mm"
    assert whole["evidence"].startswith("10 lights and 5 flats of") and "18 Oct 26" in whole["evidence"]
    assert whole["filters"] == ["Ha"]
    ways = {(s["about"], s["shown"]): s["frames"] for s in whole["spellings"]}
    assert ways == {
        ("camera", "OSPREY-16"): 9, ("telescope", "field LENS"): 4, ("telescope", "none named"): 5, ("filter", "H-alpha"): 4,
    }  # fmt: skip
    question = page["doubts"][0]
    assert (
        question["question"] == "Are Osprey 16 v2 driver and Osprey 16 one camera?"
        and "4.6 µm" in question["why"]
    )
    # One set each, whatever program wrote them; darks of the other spelling serve the rig.
    assert {x["camera"] for x in own.sets().values()} == {"Osprey 16", "Osprey 16 v2 driver"}
    assert lights(own, "Field lens") == 10 and lights(own, "Field lens at 219 mm") == 3

    # Accepted under a name of the person's own, with undo.
    kept = post(own, f"/api/rigs/{whole['rig_id']}/keep", {"name": "Travel rig"})
    assert (
        "Travel rig" in rigs(own)
        and [r["name"] for r in own.get("/api/rigs/proposal")["rigs"]] == list(by_name)[1:]
    )
    post(own, f"/api/rigs/{whole['rig_id']}/changes/{kept['change_id']}/take-back", {})
    assert len(own.get("/api/rigs/proposal")["rigs"]) == 3

    # One camera: its rig is the one that was there, its frames are that one's, and parting puts all back.
    post(own, "/api/names/one", {k: question[k] for k in ("about", "camera", "spelled", "name")})
    assert set(rigs(own)) == {"Travel rig", "Field lens at 219 mm"} and lights(own, "Travel rig") == 12
    history = own.get(f"/api/rigs/{whole['rig_id']}")["history"]
    joined = next(h for h in history if "v2 driver" in h["words"])
    post(own, f"/api/rigs/{whole['rig_id']}/changes/{joined['change_id']}/take-back", {})
    assert lights(own, "Travel rig") == 10 and lights(own, "Field lens with Osprey 16 v2 driver") == 2
    assert own.get("/api/rigs/proposal")["doubts"], "it is asked again"
    post(own, "/api/names/two", {k: question[k] for k in ("about", "camera", "spelled", "name")})
    page = own.get("/api/rigs/proposal")
    assert page["doubts"] == [] and page["said_two"][0]["words"] == "Osprey 16 v2 driver and Osprey 16"
    post(own, "/api/names/ask-again", {k: question[k] for k in ("about", "camera", "spelled", "name")})
    assert own.get("/api/rigs/proposal")["doubts"]

    # A spelling that was joined by itself is a name of its own when a person says so, also for what comes later.
    way = next(s for s in whole["spellings"] if s["shown"] == "OSPREY-16")
    post(own, "/api/names/own", {k: way[k] for k in ("about", "camera", "spelled", "name")})
    assert {x["camera"] for x in own.sets().values()} == {"Osprey 16", "OSPREY-16", "Osprey 16 v2 driver"}
    frames(folder, "late", 2, LIGHT, **OSPREY | SPELLED, FILTER="Ha", OBJECT="M 33")
    own.scan(folder)
    assert {x["camera"] for x in own.sets().values() if x["title"].startswith("M 33")} <= {"OSPREY-16"}
    assert {k: v for k, v in digest(folder).items() if k in before} == before, "no frame's file is touched"


def test_two_rigs_that_are_one_share_all_that_was_found_and_part_again(own, folder):
    own.scan(folder)
    first, second = rigs(own)["Field lens"], rigs(own)["Field lens at 219 mm"]
    with own.library.db.session() as session:
        connection = session.connection()
        connection.exec_driver_sql(
            "INSERT INTO flat_setting (rig_id, filter_code, gain, offset, binning, exposure_s, expected_adu, shots, found_at, "
            f"source, diffusers, taken_back) VALUES ({second}, 'Ha', 100, 10, 1, 2.5, 22000, 3, '2026-10-01 10:00:00', '', '[]', 0)"
        )
        connection.exec_driver_sql(
            "INSERT INTO rig_event (rig_id, at, what, kind, taken_back) "
            f"VALUES ({second}, '2026-10-02 10:00:00', 'cleaned', 'train', 0)"
        )
        for rig, words in ((first, "dew"), (second, "clouds")):
            connection.exec_driver_sql(
                f"INSERT INTO night_log (rig_id, night, conditions, notes) VALUES ({rig}, '2026-10-18', '{{}}', '{words}')"
            )
    post(own, f"/api/rigs/{second}/join", {"into": second}, 400)
    for rig, wide in ((first, "NULL"), (second, "3.0")):
        own.change(
            "INSERT INTO rig_filter (rig_id, position, code, name, width_nm) "
            f"VALUES ({rig}, 0, 'Ha', '', {wide})"
        )
    joined = post(own, f"/api/rigs/{second}/join", {"into": first})
    width = f"SELECT width_nm FROM rig_filter WHERE rig_id = {first} AND code = 'Ha'"
    assert own.query(width) == [(3.0,)], "what was typed of a filter on one rig only"
    assert own.get(f"/api/rigs/{first}/nights/2026-10-18")["notes"] == "dew\nclouds"
    assert "Field lens at 219 mm" not in rigs(own) and lights(own, "Field lens") == 13
    words = [h["words"] for h in own.get(f"/api/rigs/{first}")["history"]]
    assert "Cleaned" in words and any(w.startswith("Ha: 2.5") for w in words)
    # Headers give two focal lengths: said to be one train, they decide nothing, and no rig is proposed again.
    assert own.query(f"SELECT says FROM rig WHERE id = {first}")[0][0] == '{"focal length": "fixed"}'
    frames(folder, "more", 2, LIGHT, **OSPREY | {"FOCALLEN": 219.0}, FILTER="Ha", OBJECT="M 13")
    own.scan(folder)
    assert lights(own, "Field lens") == 15 and len(rigs(own)) == 2
    own.again()
    # Another rig may have its name now; a later join that rests on this one is parted first.
    third = rigs(own)["Field lens with Osprey 16 v2 driver"]
    post(own, f"/api/rigs/{third}/keep", {"name": "Field lens at 219 mm"})
    later = post(own, f"/api/rigs/{first}/join", {"into": third})
    assert set(rigs(own)) == {"Field lens at 219 mm"} and lights(own, "Field lens at 219 mm") == 17
    refused = post(own, f"/api/rigs/{first}/changes/{joined['change_id']}/take-back", {}, 409)
    assert "Part that one first" in refused["advice"]
    post(own, f"/api/rigs/{third}/changes/{later['change_id']}/take-back", {})
    post(own, f"/api/rigs/{third}/keep", {"name": "Third"})
    post(own, f"/api/rigs/{first}/changes/{joined['change_id']}/take-back", {})
    assert lights(own, "Field lens at 219 mm") == 5 and lights(own, "Field lens") == 10
    assert own.query("SELECT rig_id FROM flat_setting") == [(second,)] and own.query(width) == [(None,)]
    assert {tuple(r) for r in own.query("SELECT rig_id, notes FROM night_log")} == {
        (first, "dew"),
        (second, "clouds"),
    }
    post(own, f"/api/rigs/{first}/changes/{joined['change_id']}/take-back", {}, 409)


@pytest.mark.parametrize("again", ["resumed", "started"])
def test_a_join_that_was_cut_short_is_ended_when_it_goes_on_or_by_the_next_start(
    own, folder, monkeypatch, again
):
    own.scan(folder)
    question = own.get("/api/rigs/proposal")["doubts"][0]
    # All frames are told by the name, and then it is cut short before they are put into sets.
    monkeypatch.setattr("grayshelf.work.rigs.joining.regroup", lambda *_: 1 / 0)
    post(own, "/api/names/one", {k: question[k] for k in ("about", "camera", "spelled", "name")})
    with own.library.db.session() as session:
        assert own.library.setting(session, RECOUNT, {})["due"]
    assert own.query("SELECT DISTINCT camera FROM frame") == [("Osprey 16",)]
    monkeypatch.undo()
    if again == "resumed":
        job = next(j for j in own.get("/api/jobs")["ended"] if j["kind"] == "names")
        post(own, f"/api/jobs/{job['id']}/resume", {})
    else:
        own.again()
    assert {x["camera"] for x in own.sets().values()} == {"Osprey 16"} and lights(own, "Field lens") == 12


def test_another_focal_length_of_a_telescope_is_begun_by_hand(own, folder):
    frames(folder, "x", 2, LIGHT, **OSPREY | {"FOCALLEN": 284.0}, FILTER="Ha", OBJECT="NGC 7000")
    own.scan(folder)
    assert lights(own, "Field lens") == 12, "too near to tell"
    body = {"name": "With corrector", "camera": "Osprey 16", "telescope": "Field lens"}
    refused = post(own, "/api/rigs", body, 400)
    assert "differs by a tenth" in refused["advice"]
    post(own, "/api/rigs", {**body, "focal_length_mm": 255.0})
    frames(folder, "y", 3, LIGHT, **OSPREY | {"FOCALLEN": 254.0}, FILTER="Ha", OBJECT="NGC 6992")
    own.scan(folder)
    assert lights(own, "With corrector") == 3 and lights(own, "Field lens") == 12
    assert date(2026, 10, 18).isoformat() in str(own.get(f"/api/rigs/{rigs(own)['With corrector']}/nights"))


def test_hundreds_of_rigs_are_kept_at_once(own, tmp_path):
    for number in range(60):
        cards = {**LIGHT, "INSTRUME": f"Cam {number}", "TELESCOP": f"Tube {number}"}
        write_fits(tmp_path / f"heap/l{number}.fits", cards)
    own.scan(tmp_path / "heap")
    proposed = own.get("/api/rigs/proposal")["rigs"]
    assert len(proposed) == 60
    rigs = [{"rig_id": rig["rig_id"], "name": rig["name"]} for rig in proposed]
    assert "60 rigs" in own.client.post("/api/rigs/keep", json={"rigs": rigs}).json["message"]
    assert own.get("/api/rigs/proposal")["rigs"] == []


def test_frames_of_a_set_that_was_combined_count_once_and_a_rig_without_lights_asks_for_nothing(
    own, tmp_path
):
    for i in range(5):
        cards = {**OSPREY, "EXPTIME": 3.0, "DATE-OBS": f"2026-10-18T22:{i:02d}:00"}
        pixels = np.random.default_rng(i).normal(500, 9, (40, 60)).astype(np.uint16)
        write_fits(
            tmp_path / "f" / f"f{i}.fits", {**FLAT, **cards, "FILTER": "Ha"}, pixels + np.uint16(20_000)
        )
        write_fits(tmp_path / "f" / f"d{i}.fits", {**DARK, **cards}, pixels)
    own.scan(tmp_path / "f")

    def told():
        (rig,) = own.get("/api/rigs/proposal")["rigs"]
        return rig["evidence"]

    before = told()
    assert before == "5 flats of 18 Oct 26."
    built = own.build()
    assert built["state"] == "done" and "2 masters built" in built["message"], built
    assert told() == before
    page = own.get("/api/rigs/1/tonight")
    assert page["headline"] == "Nothing is on the sheet."
    assert page["empty_text"].startswith("No lights of this rig are known yet")
