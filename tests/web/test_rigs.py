"""Rigs: sheets, house rules and history over the wire, of the demo and of a library of one's own without devices."""

from __future__ import annotations

import json

from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import camera_of, house_rules_of, says_of
from tests.helpers import LIGHT, write_fits
from tests.web.rigs_of_lights import (
    own,  # noqa: F401
    put,
    rigs,
)


def test_from_headers_alone_the_train_says_what_is_known_and_what_nobody_said(own):  # noqa: F811
    page = own.get(f"/api/rigs/{rigs(own)['Heron 92']}")
    parts = {p["kind"]: p for p in page["parts"]}
    assert list(parts) == [
        "light", "cover", "telescope", "rotator", "filters", "focuser", "camera", "mount", "site",
    ]  # fmt: skip
    assert page["seen_filters"] == [{"code": "V", "frames": 5, "centre_nm": None, "width_nm": None}] and page[
        "other_rigs"
    ] == ["Short"]
    assert parts["light"]["is_open"] and parts["cover"]["is_open"] and not parts["camera"]["is_open"]
    assert page["by_itself"] == "" and "shoot with the program that runs the camera" in page["asks"]
    assert [h["words"] for h in page["history"]] == ["Flats in V"]


def test_a_sheet_is_typed_seen_and_taken_back_in_order(own):  # noqa: F811
    rig = rigs(own)["Heron 92"]
    first = put(own, f"/api/rigs/{rig}/sheets/telescope", {"aperture_mm": 92, "focal_length_mm": 506})
    second = put(own, f"/api/rigs/{rig}/sheets/telescope", {"focal_length_mm": 405, "reducer": "0.8 reducer"})
    assert second["message"] == (
        "Kept: focal length 405 mm (506 mm before); reducer or extender 0.8 reducer."
    )
    page = own.get(f"/api/rigs/{rig}")
    telescope = next(p for p in page["parts"] if p["kind"] == "telescope")
    assert telescope["name"] == "Heron 92 with 0.8 reducer"
    assert telescope["known"][0] == {"text": "92 mm f/4.4, 405 mm", "origin": "typed"}
    back = f"/api/rigs/{rig}/changes"
    assert own.client.post(f"{back}/{first['change_id']}/take-back").status_code == 409, (
        "it was changed since"
    )
    for change in (second, first):
        assert own.client.post(f"{back}/{change['change_id']}/take-back").status_code == 200
    assert own.client.post(f"{back}/{first['change_id']}/take-back").status_code == 409
    assert own.get(f"/api/rigs/{rig}")["sheets"]["telescope"]["aperture_mm"] is None
    struck = [h["taken_back"] for h in own.get(f"/api/rigs/{rig}")["history"] if h["kind"] == "sheet"]
    assert struck == [True, True]
    same = put(own, f"/api/rigs/{rig}/sheets/telescope", {"aperture_mm": None})
    assert same == {"message": "It is as it was.", "change_id": None}


def test_a_camera_is_one_in_all_its_rigs(own):  # noqa: F811
    ids = rigs(own)
    typed = {"cooled": True, "read_noise_e": 2.2, "bias_usable": False, "gain_word": "ISO"}
    change = put(own, f"/api/rigs/{ids['Heron 92']}/sheets/camera", typed)
    other = own.get(f"/api/rigs/{ids['Short']}")
    assert other["sheets"]["camera"]["read_noise_e"] == 2.2
    assert any(h["change_id"] == change["change_id"] for h in other["history"]), (
        "it can be taken back there too"
    )
    with own.library.db.session() as session:
        for rig in session.query(Rig):
            assert camera_of(rig).sensor().read_noise_e == 2.2
            assert "dark flat" in says_of(own.library, rig).moves, "no bias will do, and nobody is asked"
    refused = own.client.put(f"/api/rigs/{ids['Short']}/house-rules", json={"bias_under_flats": True})
    assert refused.status_code == 400 and "No bias of Dunlin M24 is usable" in refused.json["detail"]
    slip = own.get(f"/api/lights/{light_of(own, 'Heron 92')}/slip")
    assert "ISO 200" in json.dumps(slip, ensure_ascii=False)


def light_of(own, telescope):  # noqa: F811
    found = own.query(
        "SELECT id FROM frame_set WHERE kind = 'light' AND json_extract(facts, '$.telescope') = "
        f"'{telescope}' ORDER BY id DESC LIMIT 1"
    )
    return found[0][0]


def test_house_rules_count_at_once_and_what_they_do_is_told_before(own):  # noqa: F811
    rig = rigs(own)["Heron 92"]
    lights = light_of(own, "Heron 92")

    def verdict():
        lines = own.get(f"/api/lights/{lights}/slip")["lines"]
        return next(x["verdict"] for x in lines if x["kind"] == "dark")

    assert verdict() == "nothing fits", "the darks are 2 °C off, and cost more than a tenth of nobody's noise"
    body = {
        "numbers": {"dark_temp_c": 3.0, "mismatch_share": 20.0, "n_flats": 40, "n_darks": 12},
        "dark_temps_c": [-20], "dark_exposures_s": [60], "reason": "  a warm autumn ",
    }  # fmt: skip
    would = own.client.post(f"/api/rigs/{rig}/house-rules/would", json=body).json
    assert verdict() == "nothing fits", "told, not done"
    assert would["darks_asked"] == 1 and "Darks: temperature within 3 °C (1 °C before)" in would["changes"]
    kept = put(own, f"/api/rigs/{rig}/house-rules", body)
    assert verdict() != "nothing fits"
    with own.library.db.session() as session:
        rules = house_rules_of(own.library.rig(session, rig))
        assert (rules.tolerances.mismatch_share, rules.n_flats) == (0.2, 40)
        assert house_rules_of(own.library.rig(session, rigs(own)["Short"])).n_flats == 25, "of this rig alone"
    rule = next(
        r
        for g in own.get(f"/api/rigs/{rig}")["rules"]["groups"]
        for r in g["rules"]
        if r["name"] == "dark_temp_c"
    )
    assert (rule["value"], rule["usual"], rule["reason"]) == (3.0, 1.0, "a warm autumn") and rule["since"]
    tonight = own.get(f"/api/rigs/{rig}/tonight?add=dark:60s:-20C:g200:o30:b1")
    standard = next(o for o in tonight["offers"] if o["key"] == "dark:60s:-20C:g200:o30:b1")
    assert standard["on_sheet"] and standard["note"].startswith("12 frames take")
    assert standard["detail"] == "a standard of your house rules"
    assert own.client.post(f"/api/rigs/{rig}/changes/{kept['change_id']}/take-back").status_code == 200
    assert verdict() == "nothing fits"
    assert (
        own.client.put(f"/api/rigs/{rig}/house-rules", json={"numbers": {"dark_temp_c": 99}}).status_code
        == 400
    )


def test_what_a_change_would_do_is_what_it_does(own):  # noqa: F811
    rig = rigs(own)["Heron 92"]

    def ends():
        found = {}
        for telescope in ("Heron 92",):
            set_id = light_of(own, telescope)
            found[set_id] = own.get(f"/api/lights/{set_id}/slip")["verdict"]
        return found

    for body in (
        {"numbers": {"dark_temp_c": 3.0}},
        {"bias_under_flats": True},
        {"flats_when": "when something moved"},
    ):
        before = ends()
        would = own.client.post(f"/api/rigs/{rig}/house-rules/would", json=body).json
        put(own, f"/api/rigs/{rig}/house-rules", body)
        moved = [key for key, now in ends().items() if now != before[key]]
        assert len(moved) == sum(int(m.split()[0]) for m in would["moves"])


def test_who_moves_a_part_is_one_thing_on_its_sheet_and_on_the_slips(own):  # noqa: F811
    rig = rigs(own)["Heron 92"]
    change = put(own, f"/api/rigs/{rig}/sheets/parts/rotator", {"moved_by": "fixed"})
    with own.library.db.session() as session:
        assert says_of(own.library, own.library.rig(session, rig)).fixed == {"angle"}
    put(own, f"/api/rigs/{rig}/says", {"quantity": "angle", "says": "moves"})
    assert own.get(f"/api/rigs/{rig}")["sheets"]["rotator"]["moved_by"] == "hand"
    assert own.client.post(f"/api/rigs/{rig}/changes/{change['change_id']}/take-back").status_code == 409
    put(own, f"/api/rigs/{rig}/sheets/parts/rotator", {"moved_by": ""})
    with own.library.db.session() as session:
        assert not says_of(own.library, own.library.rig(session, rig)).fixed
    for kind, said in (("rotator", {"moved_by": "rig"}), ("camera", {"moved_by": "hand"}), ("nonsense", {})):
        assert own.client.put(f"/api/rigs/{rig}/sheets/parts/{kind}", json=said).status_code in (
            400,
            404,
            422,
        )


def test_what_headers_name_at_length_can_be_kept_and_typed(own, tmp_path):  # noqa: F811
    """A card holds 68 characters of a text, and a long one goes on in the next (FITS Standard 4.0, 4.2.1)."""
    filters = ["Luminance with its cut of 400 to 700 nm, second batch of the maker", "Photometric V"]
    named = {
        "TELESCOP": "Corrected telescope of 431 mm with reducer and tilt unit, south pier",
        "INSTRUME": "Large camera " * 5,
    }
    for i, name in enumerate(filters):
        write_fits(
            tmp_path / "more" / f"m{i}.fits",
            {**LIGHT, **named, "FILTER": name, "DATE-OBS": f"2026-10-19T22:0{i}:00"},
        )
    own.scan(tmp_path / "more")
    rig = next(number for name, number in rigs(own).items() if "431 mm" in name)
    proposed = next(r for r in own.get("/api/rigs/proposal")["rigs"] if r["rig_id"] == rig)
    kept = own.client.post(f"/api/rigs/{rig}/keep", json={"name": proposed["name"]})
    assert kept.status_code == 200, kept.text
    put(
        own,
        f"/api/rigs/{rig}/sheets/filters",
        {"filters": [{"code": name, "name": name} for name in filters]},
    )
    told = own.get(f"/api/rigs/{rig}")["sheets"]["filters"]
    assert [one["code"] for one in told["filters"]] == filters
    put(own, f"/api/rigs/{rig}/name", {"name": proposed["name"], "retired": False})
    new = {
        "name": "Another",
        "camera": named["INSTRUME"].strip(),
        "telescope": f"Second {named['TELESCOP']} of two",
    }
    made = own.client.post("/api/rigs", json={**new, "like": rig})
    assert made.status_code == 200, made.text


def test_filters_and_the_light_are_typed_and_bad_input_changes_nothing(own):  # noqa: F811
    rig = rigs(own)["Heron 92"]
    sheet = f"/api/rigs/{rig}/sheets/filters"
    put(
        own,
        sheet,
        {"filters": [{"code": "V", "centre_nm": 540, "width_nm": 90, "gain": 200, "focus": 12000}]},
    )
    before = own.get(f"/api/rigs/{rig}")["sheets"]
    for wrong in (
        {"filters": [{"code": "V"}, {"code": "v"}]},
        {"filters": [{"code": "Ha", "centre_nm": 6563}]},
        {"filters": [{"code": ""}]},
    ):
        assert own.client.put(sheet, json=wrong).status_code in (400, 422)
    light = {"name": "a wall", "dimmable": True, "lowest": 90, "highest": 20, "diffusers": []}
    assert own.client.put(f"/api/rigs/{rig}/sheets/light", json=light).status_code == 400
    assert own.get(f"/api/rigs/{rig}")["sheets"] == before
    assert own.get(f"/api/rigs/{rig}")["seen_filters"] == []
    made = put(own, f"/api/rigs/{rig}/sheets/light", {**light, "lowest": 20, "highest": 90})
    assert own.get(f"/api/rigs/{rig}")["sheets"]["light"]["highest"] == 90
    own.client.post(f"/api/rigs/{rig}/changes/{made['change_id']}/take-back")
    assert own.get(f"/api/rigs/{rig}")["sheets"]["light"] is None


def test_a_rig_is_renamed_retired_and_copied_and_two_cannot_be_one(own):  # noqa: F811
    ids = rigs(own)
    put(own, f"/api/rigs/{ids['Heron 92']}/name", {"name": "Heron 92", "retired": True})
    assert [(r["name"], r["retired"]) for r in own.get("/api/state")["rigs"]] == [
        ("Short", False),
        ("Heron 92", True),
    ]
    put(own, f"/api/rigs/{ids['Heron 92']}/name", {"name": "Heron 92", "retired": False})
    put(own, f"/api/rigs/{ids['Short']}/name", {"name": "Old rig", "retired": True})
    assert own.get(f"/api/rigs/{ids['Short']}")["retired"]
    assert own.client.put(f"/api/rigs/{ids['Short']}/name", json={"name": "Heron 92"}).status_code == 400
    put(own, f"/api/rigs/{ids['Heron 92']}/house-rules", {"numbers": {"n_flats": 33}})
    body = {"name": "Third", "camera": "Dunlin M24", "telescope": "Long", "like": ids["Heron 92"]}
    made = own.client.post("/api/rigs", json=body).json
    assert own.get(f"/api/rigs/{made['id']}")["rules"]["groups"][0]["rules"][0]["value"] == 33
    for wrong in (
        {**body, "name": "4"},
        {**body, "telescope": "Other"},
        {**body, "telescope": "x", "camera": " "},
    ):
        assert own.client.post("/api/rigs", json=wrong).status_code == 400
    assert len(rigs(own)) == 3
    scanned = own.query("SELECT count(*) FROM frame")[0][0]
    assert scanned == 20, "no frame was touched"


def test_the_demo_says_who_does_what_and_every_table_can_be_saved(client):
    for rig in (1, 2, 3):
        page = client.get(f"/api/rigs/{rig}").json
        assert page["parts"] and bool(page["history"]) == (rig != 3), "the lens has lights alone"
        for table in ("history.csv", "house-rules.csv"):
            assert client.get(f"/api/rigs/{rig}/{table}").status_code == 200
    heron = client.get("/api/rigs/1").json
    assert "shoots" in heron["by_itself"]
    assert heron["asks"] == "put the cap on and off and point the telescope at the light"
    assert client.get("/api/rigs/99").status_code == 404
