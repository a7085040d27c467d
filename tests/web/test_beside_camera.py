"""A camera that another program runs, and devices on the network beside it: each sets what is its own, at its time."""

from __future__ import annotations

import time

import pytest

from grayshelf.clock import SimulatedClock
from grayshelf.core.planning.by_hand import NBSP
from grayshelf.demo.rigs import START
from tests.other_program import Program, write_lights
from tests.own import Own
from tests.served import HERON, ServedRig
from tests.waiting import asked_until
from tests.web.test_bench_by_folder import E_PER_ADU, shoot_as_asked
from tests.web.test_bench_by_folder import Program as Sensor


@pytest.fixture
def own(tmp_path, monkeypatch):
    """Lights by another program in two filters; wheel, panel, rotator and focuser answer on the network, no camera does."""
    # A program that writes each file in one go need not be waited for as one that does not.
    monkeypatch.setattr("grayshelf.work.watched.FRESH_S", 0.08)
    monkeypatch.setattr("grayshelf.work.watched.POLL_S", 0.04)
    write_lights(tmp_path / "lights")
    library = Own(tmp_path / "library")
    library.scan(tmp_path / "lights")
    (tmp_path / "camera").mkdir()
    library.program = Program(tmp_path / "camera")
    library.served = ServedRig(SimulatedClock(START, 1e6))
    library.rig = library.get("/api/state")["rigs"][0]["id"]
    for part, kind in HERON.items():
        if part != "camera":
            put(library, part, library.served.chosen(kind))
    yield library
    library.close()
    library.served.cut_off()


def stands(own):
    """The rig as it stands: what is in the wheel, and its world."""
    wheel = next(d for d in own.served.devices if d.kind == "filterwheel")
    return wheel.get_names()[wheel.get_position()], own.served.worlds["heron"].state


def put(own, part, chosen):
    answer = own.client.put(f"/api/rigs/{own.rig}/devices/{part}", json=chosen)
    assert answer.status_code == 200, answer.text


def page(own):
    return own.get(f"/api/rigs/{own.rig}/run")["run"]


def until(own, right, seconds=30.0):
    return asked_until(lambda: page(own), right, seconds, lambda p: (p["headline"], p["subline"], p["hand"]))


def begin(own, **more):
    body = {"rig_id": own.rig, "frames": 3, "leave_out": [], "add": [], "by_hand": True, **more}
    answer = own.client.post("/api/runs", json=body)
    assert answer.status_code == 200, answer.text
    return answer.json["job_id"]


def test_wheel_panel_focus_and_angle_are_set_and_the_person_only_starts_exposures(own):
    told = own.get(f"/api/rigs/{own.rig}")
    assert "brings filters in" in told["by_itself"] and "shoot with the program" in told["asks"]
    assert "filters" not in told["asks"] and "brightness" not in told["asks"]
    put(own, "mount", own.served.chosen("telescope"))
    wall = {"panel_altitude_deg": 4.0, "panel_azimuth_deg": 185.0}
    assert own.client.put(f"/api/rigs/{own.rig}/sheets/mount", json=wall).status_code == 200
    mount, slews = next(d for d in own.served.devices if d.kind == "telescope"), []
    slew = mount.put_slewtoaltazasync
    mount.put_slewtoaltazasync = lambda form: slews.append(form.number("Azimuth")) or slew(form)
    asked = []
    begin(own, folder=str(own.program.folder))
    for _ in range(400):
        now = until(own, lambda p: p["job"]["state"] not in ("queued", "running") or p["hand"])
        if now["job"]["state"] not in ("queued", "running"):
            break
        hand = now["hand"]
        dials = {d["name"]: d["copied"] for d in hand["dials"]}
        if "exposure" not in dials:
            assert hand["what"] == "The rig sets itself up"
            time.sleep(0.05)
            continue
        flat = hand["kind"] in ("find", "flats")
        code, at = stands(own)
        asked.append((hand["kind"], code, at.brightness > 0, hand["by_rig"].replace(NBSP, " ")))
        if flat:
            assert not {"filter", "brightness", "focus", "angle"} & set(dials), (
                "nothing of that is asked of a hand"
            )
            assert (at.focus, at.angle_deg) == (5200, pytest.approx(40.0))
            own.program.set["filter"] = code
        before = hand["step_id"], hand["done"], hand["what"]
        own.program.shoot(
            {"find": "FLAT", "flats": "FLAT", "dark flats": "DARKFLAT"}[hand["kind"]],
            float(dials["exposure"]),
        )
        until(
            own,
            lambda p, b=before: (
                p["hand"] is None or (p["hand"]["step_id"], p["hand"]["done"], p["hand"]["what"]) != b
            ),
        )
    assert page(own)["job"]["state"] == "done", page(own)["job"]
    assert {(kind, lit) for kind, _, lit, _ in asked} == {
        ("find", True),
        ("flats", True),
        ("dark flats", False),
    }
    assert {code for kind, code, _, _ in asked if kind == "flats"} == {"R", "Ha"}
    told = next(words for kind, code, _, words in asked if kind == "flats" and code == "R")
    assert (
        told.startswith("The rig sets this itself: R, the light at ") and "focus 5,200, angle 40.0°" in told
    )
    assert stands(own)[1].brightness == 0, "no light stays on"
    assert slews and len(slews) <= 2 and set(slews) == {185.0}, "it is not sent again for each frame"


def test_a_device_that_does_not_answer_is_a_gate_and_the_run_goes_on_from_there(own):
    own.served.cut_off()
    job = begin(own)
    gate = until(own, lambda p: p["job"]["state"] == "waiting")
    assert gate["headline"] == "A device of the rig does not go on" and "Nothing answers" in gate["subline"]
    own.served.start()
    own.client.post(f"/api/jobs/{job}/answer", json={"step_id": gate["current"], "answer": "done"})
    hand = until(own, lambda p: p["hand"] and p["hand"]["dials"])["hand"]
    assert stands(own)[1].brightness > 0 and "The rig sets" in hand["by_rig"]
    own.client.post(f"/api/jobs/{job}/stop")
    own.wait_until_idle()
    assert stands(own)[1].brightness == 0, "stopped: the panel is off"


def test_a_search_in_a_watched_folder_lights_the_panel_itself_once_it_is_safe(own):
    put(own, "safety", own.served.chosen("safetymonitor"))
    own.served.faults.begin("not safe")
    answer = own.client.post(
        f"/api/rigs/{own.rig}/flats/find",
        json={
            "keys": [{"filter_code": "Ha", "gain": 120, "offset": 25, "binning": 1}],
            "folder": str(own.program.folder),
        },
    )
    assert answer.status_code == 200, answer.text
    job = asked_until(lambda: own.get("/api/jobs")["alive"][0], lambda j: j["state"] == "waiting")
    assert "does not say that it is safe" in job["message"] and stands(own)[1].brightness == 0
    own.served.faults.end("not safe")
    told = asked_until(
        lambda: own.get(f"/api/rigs/{own.rig}/flats")["next"], lambda n: n and "itself" in n["detail"]
    )
    code, state = stands(own)
    assert code == "Ha" and state.brightness > 0
    assert told["detail"].endswith(f"the rig sets this itself: Ha, the light at {state.brightness}")


def test_a_camera_is_measured_with_a_panel_that_sets_itself(own):
    said = own.get(f"/api/rigs/{own.rig}/bench/gain")
    assert said["by_folder"] and {"R", "Ha"} < {f["code"] for f in said["filters"]}
    sensor = Sensor(own.program.folder, lambda: stands(own)[1].brightness / 40)
    body = {"gains": [120], "folder": str(own.program.folder), "filter_code": "R"}
    begun = own.client.post(f"/api/rigs/{own.rig}/bench/gain/shoot", json=body)
    assert begun.status_code == 200, begun.text
    asked = []

    def looked_at(page):
        if page["hand"]:
            code, at = stands(own)
            asked.append((page["hand"]["line"], page["hand"]["before"], code, at.brightness))
        return False

    page = shoot_as_asked(own, sensor, begun.json["measurement_id"], until=looked_at)
    gain = page["gain"]["gains"][0]
    assert gain["channels"][0]["e_per_adu"]["value"] == pytest.approx(E_PER_ADU, rel=0.03), gain
    lit = [a for a in asked if "flat" in a[0]]
    assert lit and all(code == "R" for _, _, code, _ in lit)
    for _, before, _, brightness in lit:
        assert (
            before
            == f"Cap off, telescope at the light. The rig sets this itself: R, the light at {brightness}."
        )
    dark = [a for a in asked if "bias" in a[0]]
    assert dark and all("The rig sets this itself: light off." in a[1] and a[3] == 0 for a in dark)
    assert len({a[3] for a in lit}) >= 2, "the brightness is looked for, not left"
    assert stands(own)[1].brightness == 0


def test_while_it_is_not_safe_nothing_is_asked_for_and_no_telescope_moves(own):
    for part, kind in (("mount", "telescope"), ("safety", "safetymonitor")):
        put(own, part, own.served.chosen(kind))
    wall = {"panel_altitude_deg": 4.0, "panel_azimuth_deg": 185.0}
    assert own.client.put(f"/api/rigs/{own.rig}/sheets/mount", json=wall).status_code == 200
    mount = next(d for d in own.served.devices if d.kind == "telescope")
    own.served.faults.begin("not safe")
    job = begin(own)
    told = until(own, lambda p: p["job"]["state"] == "waiting")
    assert "does not say that it is safe" in told["job"]["message"]
    assert told["hand"] is None and mount.get_altitude() != pytest.approx(4.0)
    own.served.faults.end("not safe")
    until(own, lambda p: p["hand"] and p["hand"]["dials"], 60)
    assert mount.get_altitude() == pytest.approx(4.0)
    own.client.post(f"/api/jobs/{job}/stop")
    own.wait_until_idle()
