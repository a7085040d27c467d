"""The search finds sets by what can be said of them and files by any part of their names, also after they changed."""

from __future__ import annotations

from tests.helpers import DARK, LIGHT, write_fits


def found(own, words: str, kind: str | None = None) -> list[str]:
    items = own.client.get("/api/search", query_string={"q": words}).json["items"]
    return [x["title"] for x in items if kind is None or x["kind"] == kind]


def test_files_are_found_by_any_part_of_their_names_whatever_the_case(own, tmp_path):
    folder = tmp_path / "frames"
    write_fits(folder / "2026" / "Nebula_Ha_0001.fits", LIGHT)
    write_fits(folder / "2026" / 'odd "name" 50%_x.fits', {**LIGHT, "DATE-OBS": "2026-10-17T23:30:00"})
    write_fits(folder / "dark_0001.fits", DARK)
    own.scan(folder)
    assert found(own, "EBULA", "file") == ["Nebula_Ha_0001.fits"]
    assert found(own, "nebula 0001", "file") == ["Nebula_Ha_0001.fits"]
    assert found(own, "0001 Ha", "file") == ["Nebula_Ha_0001.fits"], "short words count, too"
    assert found(own, "ha", "file") == ["Nebula_Ha_0001.fits"]
    assert found(own, "0001", "file") == ["Nebula_Ha_0001.fits", "dark_0001.fits"]
    for odd in ('"name"', "50%_x", '"', "* OR", "NEAR(", "-", "path:dark", "%%%", "___"):
        titles = found(own, odd, "file")
        assert all(all(word in title for word in odd.split()) for title in titles), odd
    assert found(own, '"name"', "file") == ['odd "name" 50%_x.fits']
    assert found(own, "dark", "dark"), "sets are found by what they are"


def test_a_file_that_was_moved_is_found_by_its_new_name_only(own, tmp_path):
    folder = tmp_path / "frames"
    path = write_fits(folder / "before.fits", DARK)
    own.scan(folder)
    path.rename(folder / "afterwards.fits")
    own.scan(folder)
    assert found(own, "afterw", "file") == ["afterwards.fits"]
    assert found(own, "before", "file") == []
    own.client.delete(f"/api/folders/{own.query('select id from folder where not own')[0][0]}")
    assert found(own, "afterw") == []


def test_what_is_found_tells_at_which_rigs_it_is_seen(own, tmp_path):
    folder = tmp_path / "frames"
    other = {"INSTRUME": "Curlew 9", "TELESCOP": "Avocet 8", "FOCALLEN": 700.0}
    for number, (name, cards) in enumerate(
        {"one": LIGHT, "two": LIGHT | other, "three": DARK | {"INSTRUME": "Curlew 9"}}.items()
    ):
        write_fits(folder / f"{name}.fits", cards | {"DATE-OBS": f"2026-10-17T2{number}:30:00"})
    own.scan(folder)
    rigs = {r["camera"]: r["id"] for r in own.get("/api/state")["rigs"]}
    assert len(rigs) == 2
    items = own.client.get("/api/search", query_string={"q": "curlew"}).json["items"]
    assert {x["kind"]: x["rig_ids"] for x in items} == {key: [rigs["Curlew 9"]] for key in ("lights", "dark")}
    (file,) = own.client.get("/api/search", query_string={"q": "one.fits"}).json["items"]
    assert file["rig_ids"] == [i for camera, i in rigs.items() if camera != "Curlew 9"]


def test_lights_that_use_a_dark_are_told_with_the_rig_that_took_them(own, tmp_path):
    """Two rigs may have one camera: the way from its dark to the slip of their lights leads to the right one."""
    folder = tmp_path / "frames"
    for i in range(3):
        write_fits(folder / f"dark{i}.fits", DARK | {"DATE-OBS": f"2026-10-15T20:0{i}:00"})
    for day, train in ((17, {}), (18, {"TELESCOP": "Avocet 8", "FOCALLEN": 700.0})):
        write_fits(folder / f"light{day}.fits", LIGHT | train | {"DATE-OBS": f"2026-10-{day}T21:00:00"})
    own.scan(folder)
    rigs = {r["telescope"]: r["id"] for r in own.get("/api/state")["rigs"]}
    (dark,) = (i for i, x in own.sets().items() if x["kind"] == "dark")
    serves = {s["night"]: s["rig_id"] for s in own.get(f"/api/holdings/{dark}")["serves"]}
    assert serves == {"2026-10-17": rigs[LIGHT["TELESCOP"]], "2026-10-18": rigs["Avocet 8"]}
