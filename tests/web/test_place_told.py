"""Where headers say that the site is: offered while nobody has said it, and kept where the rig stands."""

from __future__ import annotations

from tests.helpers import write_fits

LIGHT = {"INSTRUME": "Cam K", "TELESCOP": "Newt", "OBJECT": "NGC 10", "FILTER": "R", "IMAGETYP": "LIGHT", "EXPTIME": 60.0,
         "GAIN": 100, "OFFSET": 50, "XBINNING": 1, "YBINNING": 1, "FOCALLEN": 800.0, "APTDIA": 200.0}  # fmt: skip
SOUTH = {"SITELAT": "-33 30 00", "SITELONG": "151 03 00.5", "DATE-OBS": "2026-11-20T12:00:00"}


def begin(own, tmp_path, *lights):
    for number, more in enumerate(lights):
        write_fits(tmp_path / "heap" / f"l{number}.fits", {**LIGHT, **more})
    own.scan(tmp_path / "heap")


def twilight(own):
    return own.client.post("/api/rigs/1/twilight", json={}).json


def told(own):
    page = twilight(own)
    assert page["place_told"] == own.get("/api/intake")["place_told"]
    return page


def test_the_place_of_the_newest_lights_is_offered_and_kept(own, tmp_path):
    elsewhere = {"OBSGEO-B": 50.1, "OBSGEO-L": 8.7, "DATE-OBS": "2026-10-02T22:00:00"}
    begin(own, tmp_path, elsewhere, SOUTH)
    page = told(own)
    assert page["place"] == "" and page["place_told"] == {
        "latitude": -33.5,
        "longitude": 151.05,
        "text": "The headers of the lights of 20 Nov 26 say 33.5° S, 151.05° E; the sun there is 10\u2009h ahead of the clock of UTC.",
    }
    place = {k: page["place_told"][k] for k in ("latitude", "longitude")}
    assert own.client.put("/api/rigs/1/place", json=place).json["message"] == "The place of My site is kept."
    page = told(own)
    assert page["place"] == "My site, 33.5° S, 151.05° E" and page["place_told"] is None and page["rows"]


def test_a_rig_that_stands_elsewhere_has_its_own_place_kept(own, tmp_path):
    begin(own, tmp_path, SOUTH)
    own.client.put("/api/rigs/1/sheets/site", json={"name": "Remote", "time_zone": "Australia/Sydney"})
    page = twilight(own)
    assert page["place"] == "" and page["place_told"]["text"].endswith("151.05° E.")
    own.client.put("/api/rigs/1/place", json={"latitude": -31.2, "longitude": 149.1})
    assert twilight(own)["place"] == "Remote, 31.2° S, 149.1° E"
    assert own.get("/api/intake")["latitude"] is None


def test_a_rig_whose_headers_tell_another_place_than_is_kept_is_offered_it(own, tmp_path):
    def offered():
        found = own.get("/api/rigs/1/place")["told"]
        return found and (found["latitude"], found["longitude"])

    begin(own, tmp_path, SOUTH)
    assert offered() is None, "it is the library's site that is asked for"
    own.client.put("/api/rigs/1/place", json={"latitude": 50.1, "longitude": 8.7})
    assert offered() == (-33.5, 151.05)
    own.client.put("/api/rigs/1/sheets/site", json={"name": "Remote"})
    assert offered() == (-33.5, 151.05)
    own.client.put("/api/rigs/1/sheets/site", json={"name": "Remote", "latitude": -33.9, "longitude": 150.6})
    assert offered() is None, "a town or two away is no other site"


def test_no_place_is_offered_that_is_not_told_whole(own, tmp_path):
    of = {"DATE-OBS": "2026-11-20T12:00:00"}
    never_set, no_latitude = {"SITELAT": 0.0, "SITELONG": 0.0}, {"SITELONG": 151.0}
    none_there_can_be = {"SITELAT": 133.5, "SITELONG": 151.0}
    begin(
        own,
        tmp_path,
        *({**of, "OBJECT": f"M {i}", **m} for i, m in enumerate((never_set, no_latitude, none_there_can_be))),
    )
    assert told(own)["place_told"] is None


def test_lights_whose_disk_is_out_tell_no_place_and_take_no_page_down(own, tmp_path):
    begin(own, tmp_path, SOUTH)
    (tmp_path / "heap").rename(tmp_path / "away")
    own.again()
    assert told(own)["place_told"] is None
    own.client.put("/api/rigs/1/sheets/site", json={"name": "Remote"})
    assert own.get("/api/rigs/1/place")["told"] is None
