"""Another candidate of a slip, chosen by hand; a frame that was set aside, put back: both over the wire, with a way back."""

from __future__ import annotations

import pytest

from tests.helpers import DARK, LIGHT, write_fits
from tests.own import Own


@pytest.fixture
def own(tmp_path):
    folder = tmp_path / "frames"
    for i in range(6):
        write_fits(folder / f"l{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-18T22:0{i}:00"})
        write_fits(folder / f"near{i}.fits", {**DARK, "DATE-OBS": f"2026-10-10T22:0{i}:00"})
        write_fits(folder / f"old{i}.fits", {**DARK, "DATE-OBS": f"2026-08-10T22:0{i}:00"})
    library = Own(tmp_path / "library")
    library.scan(folder)
    yield library
    library.close()


def test_a_choice_counts_everywhere_stays_over_a_restart_and_is_taken_back(own):
    lights = next(i for i, s in own.sets().items() if s["kind"] == "light")

    def dark():
        return next(x for x in own.get(f"/api/lights/{lights}/slip")["lines"] if x["kind"] == "dark")

    def choose(holding, status=200):
        answer = own.client.put(f"/api/lights/{lights}/choice", json={"kind": "dark", "holding_id": holding})
        assert answer.status_code == status, answer.text
        return answer.json

    usual, other = dark()["chosen"]["holding_id"], dark()["runners_up"][0]["holding_id"]
    assert not dark()["by_hand"]
    choose(other)
    found = dark()
    assert (found["chosen"]["holding_id"], found["by_hand"], found["note"]) == (other, True, "chosen by hand")
    assert found["runners_up"][0]["lost_on"] == "your choice of another"
    used_by = own.get(f"/api/holdings/{other}")["serves"]
    assert [x["set_id"] for x in used_by] == [lights]
    own.again()
    assert dark()["chosen"]["holding_id"] == other
    # Combined, it is the master.
    assert own.build([other])["state"] == "done"
    master = dark()["chosen"]
    assert master["is_master"] and master["holding_id"] != other and dark()["by_hand"]
    choose(9999, 404)
    choose(None)
    assert not dark()["by_hand"] and dark()["chosen"]["holding_id"] in (usual, master["holding_id"])


def test_a_frame_that_was_set_aside_counts_again(own):
    frame = own.query("SELECT id, set_id FROM frame WHERE path = 'near2.fits'")[0]
    own.change(f"UPDATE frame SET rejected = 1, reason = 'Light reaches the sensor.' WHERE id = {frame.id}")
    own.change(f"UPDATE frame_set SET n_kept = 5 WHERE id = {frame.set_id}")
    own.change(
        f"UPDATE frame SET facts = json_remove(facts, '$.gain'), state = 'lacking' WHERE id = {frame.id}"
    )
    listed = own.get("/api/problems?state=set aside")
    assert [(p["path"], p["state"], p["reason"]) for p in listed["items"]] == [
        ("near2.fits", "set aside", "Light reaches the sensor.")
    ]
    assert {c["name"]: c["count"] for c in listed["counts"]}["set aside"] == 1
    assert own.client.post(f"/api/frames/{frame.id}/put-back").status_code == 200
    assert own.query(f"SELECT n_kept FROM frame_set WHERE id = {frame.set_id}") == [(6,)]
    assert own.get("/api/problems?state=set aside")["items"] == []
    assert [p["reason"] for p in own.get("/api/problems")["items"]] == ["Lacks gain."], "as before it was"
    assert own.client.post(f"/api/frames/{frame.id}/put-back").status_code == 404


def test_what_is_said_of_names_leaves_a_choice_as_it_is(tmp_path):
    heap, told = tmp_path / "heap", {k: v for k, v in LIGHT.items() if k != "GAIN"}
    write_fits(heap / "NGC 6888_gain200_001.fits", told)
    for i in range(4):
        write_fits(heap / f"near{i}.fits", {**DARK, "DATE-OBS": f"2026-10-10T22:0{i}:00"})
        write_fits(heap / f"old{i}.fits", {**DARK, "DATE-OBS": f"2026-08-10T22:0{i}:00"})
    own = Own(tmp_path / "library")
    try:
        own.scan(heap)
        lights = next(i for i, s in own.sets().items() if s["kind"] == "light")

        def dark():
            return next(x for x in own.get(f"/api/lights/{lights}/slip")["lines"] if x["kind"] == "dark")

        other = dark()["runners_up"][0]["holding_id"]
        body = {"kind": "dark", "holding_id": other}
        assert own.client.put(f"/api/lights/{lights}/choice", json=body).status_code == 200
        for right in (True, False, None):
            answer = own.client.put(f"/api/sets/{lights}/names", json={"right": right})
            assert answer.status_code == 200, answer.text
            assert dark()["by_hand"] and dark()["chosen"]["holding_id"] == other, right
    finally:
        own.close()
