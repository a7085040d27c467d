"""Rigs: sheets, house rules and history over the wire, of the demo and of a library of one's own without devices."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing

import pytest

from grayshelf.library.database import Database
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import camera_of, house_rules_of, says_of
from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.own import Own
from tests.web.test_upgrade import at_revision

BEFORE = "d92a6e0b7f14"


@pytest.fixture
def own(tmp_path):
    """Two rigs that share a camera, by another program's frames; no devices."""
    folder = tmp_path / "frames"
    for i in range(5):
        write_fits(folder / f"l{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-18T22:0{i}:00", "FILTER": "V"})
        write_fits(
            folder / f"k{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-17T22:0{i}:00", "TELESCOP": "Short"}
        )
        write_fits(folder / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-10T22:0{i}:00", "CCD-TEMP": -8.0})
        write_fits(folder / f"f{i}.fits", {**FLAT, "DATE-OBS": f"2026-10-18T05:0{i}:00", "FILTER": "V"})
    library = Own(tmp_path / "library")
    library.scan(folder)
    yield library
    library.close()


def rigs(own):
    return {r["name"]: r["id"] for r in own.get("/api/state")["rigs"]}


def put(own, path, body):
    answer = own.client.put(path, json=body)
    assert answer.status_code == 200, answer.text
    return answer.json


def test_from_headers_alone_the_train_says_what_is_known_and_what_nobody_said(own):
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


def test_a_sheet_is_typed_seen_and_taken_back_in_order(own):
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


def test_a_camera_is_one_in_all_its_rigs(own):
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


def light_of(own, telescope):
    found = own.query(
        "SELECT id FROM frame_set WHERE kind = 'light' AND json_extract(facts, '$.telescope') = "
        f"'{telescope}' ORDER BY id DESC LIMIT 1"
    )
    return found[0][0]


def test_house_rules_count_at_once_and_what_they_do_is_told_before(own):
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


def test_what_a_change_would_do_is_what_it_does(own):
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


def test_who_moves_a_part_is_one_thing_on_its_sheet_and_on_the_slips(own):
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


def test_what_headers_name_at_length_can_be_kept_and_typed(own, tmp_path):
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


def test_filters_and_the_light_are_typed_and_bad_input_changes_nothing(own):
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


def test_a_rig_is_renamed_retired_and_copied_and_two_cannot_be_one(own):
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


def test_a_dark_that_the_cooler_cannot_hold_is_out_of_reach_and_why(own, tmp_path):
    """Lights in air of 14 °C, of a camera that is held 20 °C below it."""
    for i in range(3):
        warm = {
            **LIGHT,
            "DATE-OBS": f"2026-10-19T22:0{i}:00",
            "AMBTEMP": 14.0,
            "CCD-TEMP": -5.0,
            "SET-TEMP": -5.0,
        }
        write_fits(tmp_path / "frames" / f"w{i}.fits", warm)
    own.scan(tmp_path / "frames")
    rig = rigs(own)["Heron 92"]
    put(own, f"/api/rigs/{rig}/sheets/camera", {"cooled": True, "below_air_c": 20})
    put(own, f"/api/rigs/{rig}/house-rules", {"dark_temps_c": [-20, -7, 0], "dark_exposures_s": [60]})
    page = own.get(f"/api/rigs/{rig}/tonight")
    offered = {o["title"] for o in page["offers"] if o["detail"] == "a standard of your house rules"}
    assert len(offered) == 2, "two degrees beyond its reach it is let try"
    far = [o for o in page["out_of_reach"] if o["title"] == "Dark 60\u2009s at −20 °C"]
    assert far[0]["why"] == (
        "the cooler holds the sensor 20 °C below the air, and that was at 14 °C: −6 °C at the coldest"
    )


def test_a_library_of_the_version_before_opens_with_its_cameras_and_rules(tmp_path):
    """As that version wrote it: traits with each rig, tolerances beside, flats from a train that is never taken apart."""
    path = at_revision(tmp_path / "grayshelf.db", BEFORE)
    rows = [
        ("A", "Dunlin M24", "Heron", {"read_noise_e": 1.6, "assumed": False}, {"dark_temp_c": 2.0, "train_stays_put": True}),
        ("B", "Dunlin M24", "Short", {"shutter": "slow", "read_noise_e": 9.0}, {}),
        ("C", "Plover", None, {}, {"few_frames_percent": 4.0, "no such": 1}),
    ]  # fmt: skip
    with closing(sqlite3.connect(path)) as connection, connection:
        for name, camera, telescope, traits, tolerances in rows:
            connection.execute(
                "INSERT INTO rig (name, camera, telescope, wishes, tolerances, traits, says) VALUES (?,?,?,?,?,?,?)",
                (name, camera, telescope, '{"n_flats": 31}', json.dumps(tolerances), json.dumps(traits), '{"dark flat": "fixed"}'),
            )  # fmt: skip
        connection.execute("UPDATE rig SET traits = 'broken' WHERE name = 'C'")
    database = Database(path)
    database.upgrade()
    with database.session() as session:
        a, b, c = session.query(Rig).order_by(Rig.name)
        assert camera_of(a) == camera_of(b), "one camera"
        assert (camera_of(a).read_noise_e, camera_of(a).shutter) == (1.6, "slow"), (
            "the first that says something"
        )
        rules = house_rules_of(a)
        assert rules.tolerances.dark_temp_c == 2.0 and rules.tolerances.train_stays_put
        assert rules.n_flats == 31 and rules.bias_under_flats
        assert house_rules_of(c).tolerances.few_frames_percent == 4.0 and camera_of(c).cooled is None
    database.close()


def test_a_rig_that_stands_elsewhere_has_its_own_nights_sun_and_mount(own):
    first, second = rigs(own)["Heron 92"], rigs(own)["Short"]
    path = f"/api/rigs/{first}/sheets/site"
    ranch = {"name": "Ranch", "latitude": 32.9, "longitude": -105.5, "time_zone": "America/Denver"}
    for wrong, says in (
        ({"latitude": 91.0, "longitude": 0.0, "name": "x"}, "between −90° and 90°"),
        ({"latitude": 1.0, "longitude": 200.0, "name": "x"}, "between −180° and 180°"),
        ({"latitude": 1.0, "name": "x"}, "a latitude and a longitude"),
        ({"latitude": 1.0, "longitude": 1.0}, "needs a name"),
        ({"time_zone": "Mars/Base"}, "no time zone called"),
    ):
        answer = own.client.put(path, json=wrong)
        assert answer.status_code == 400 and says in answer.json["detail"], wrong
    # Flats of five in the morning by UTC are of the evening before, there and here; lights at ten are not.
    nights = {n["night"] for n in own.get(f"/api/rigs/{first}/nights")["nights"]}
    kept = put(own, path, ranch)
    parts = {p["kind"]: p for p in own.get(f"/api/rigs/{first}")["parts"]}
    assert parts["site"]["name"] == "Ranch"
    assert [k["text"] for k in parts["site"]["known"]] == ["32.90° N, 105.50° W", "America/Denver"]
    first_sky, other_sky = (
        own.client.post(f"/api/rigs/{rig}/twilight", json={}).text for rig in (first, second)
    )
    assert "Ranch" in first_sky and "Ranch" not in other_sky
    zones = dict(tuple(r) for r in own.query("SELECT path, json_extract(facts, '$.night_from') FROM frame"))
    assert "America/Denver" in zones["l0.fits"] and "UTC" in zones["k0.fits"]
    # The other rig can be put there by its name.
    assert own.get(f"/api/rigs/{second}")["other_sites"] == [ranch]
    own.client.post(f"/api/rigs/{first}/changes/{kept['change_id']}/take-back")
    assert {n["night"] for n in own.get(f"/api/rigs/{first}/nights")["nights"]} == nights
    assert (
        "UTC"
        in own.query("SELECT json_extract(facts, '$.night_from') FROM frame WHERE path = 'l0.fits'")[0][0]
    )
    for rig in (first, second):
        put(own, f"/api/rigs/{rig}/sheets/parts/mount", {"name": "Pier one", "moved_by": "hand"})
    mount = next(p for p in own.get(f"/api/rigs/{first}")["parts"] if p["kind"] == "mount")
    assert mount["known"] == [{"text": "carries Short, too", "origin": "typed"}]


def test_a_converter_that_is_typed_decides_the_level_of_flats_and_offsets_are_offered(own):
    rig = rigs(own)["Heron 92"]
    page = own.get(f"/api/rigs/{rig}/flats")
    key = page["rows"][0]["key"] | {"filter_code": "V"}

    def target():
        answer = own.client.post(f"/api/rigs/{rig}/flats/chart", json=key)
        assert answer.status_code == 200, answer.text
        return answer.json["target"]

    before = target()
    put(
        own,
        f"/api/rigs/{rig}/sheets/camera",
        {"bits": 12, "shifted": False, "offset_lowest": 0, "offset_highest": 40},
    )
    assert target() == pytest.approx(before * 4_095 / 65_535, rel=0.05)
    assert own.get(f"/api/rigs/{rig}/bench/offset")["offset_range"] == [0, 40]


def test_devices_that_cannot_be_read_take_no_page_down(own, tmp_path):
    """As another version kept them: the rig is as one without devices, and is told so where they are chosen."""
    write_fits(tmp_path / "n" / "light.fits", LIGHT)
    own.scan(tmp_path / "n")
    number = own.get("/api/state")["rigs"][0]["id"]
    for kept in (
        {
            "camera": {
                "address": "http://x:1",
                "kind": "camera",
                "number": 0,
                "name": "It",
                "said": {"facts": 3},
            }
        },
        {"camera": 7, "wings": {}},
    ):
        with own.library.db.session() as session:
            session.get_one(Rig, number).attached = kept
        own.library.touched()
        rig = next(r for r in own.get("/api/state")["rigs"] if r["id"] == number)
        assert not rig["has_devices"]
        own.get(f"/api/rigs/{rig['id']}")
        own.get(f"/api/rigs/{rig['id']}/tonight")
        part = own.get(f"/api/rigs/{rig['id']}/devices")["parts"][0]
        assert not part["name"] or "try it again" in part["differs"][0]
