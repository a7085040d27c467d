"""From this network: without the code nothing but the page that asks for it; sessions that end everywhere at once."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from grayshelf.web.access.codes import ACCESS_FILE, CODE_SIGNS, Access, TooMany, in_fours, typed
from grayshelf.web.app import create_app
from tests.helpers import DARK, write_fits

HERE, PHONE, OTHER = "127.0.0.1", "192.168.7.20", "192.168.7.21"
NAME = "192.168.7.5"


class Clock:
    now = 1_800_000_000.0

    def __call__(self) -> float:
        return self.now


@pytest.fixture
def lan(own):
    clock = Clock()
    own.context.access = own.access = Access(
        own.root, lambda: (NAME, "shelf.local"), folders=False, clock=clock
    )
    own.clock_of_access = clock
    own.app = create_app(own.context)
    own.client = own.app.test_client()
    return own


def phone(own, address=PHONE):
    """A browser elsewhere, with cookies of its own."""
    client = own.app.test_client()
    client.environ_base |= {"REMOTE_ADDR": address, "HTTP_USER_AGENT": "Firefox/1 Android"}
    asks = client.open
    client.open = lambda *args, **asked: asks(*args, **{"base_url": f"http://{NAME}:8417", **asked})
    return client


def given(client, code):
    return client.post("/access", data={"code": code})


def token_of(answer) -> str:
    return answer.headers["Set-Cookie"].partition("=")[2].partition(";")[0]


def every_address() -> list[tuple[str, str]]:
    document = json.loads(Path("docs/openapi.json").read_text())
    found = [
        (method, re.sub(r"\{[^}]+\}", "1", path))
        for path, methods in document["paths"].items()
        for method in methods
        if method in ("get", "post", "put", "delete", "patch")
    ]
    return [*found, ("get", "/api/events"), ("put", "/api/sending/piece"), ("get", "/api/room.csv")]


def test_without_the_code_nothing_is_answered_on_any_route(lan):
    client = phone(lan)
    addresses = every_address()
    assert len(addresses) > 120
    for method, path in addresses:
        for headers in ({}, {"Cookie": "grayshelf-8417=guessed"}, {"X-Forwarded-For": HERE}):
            answer = getattr(client, method)(path, json={} if method != "get" else None, headers=headers)
            assert answer.status_code == 401, (method, path, answer.status_code)
    for path in ("/", "/rigs", "/assets/index.js", "/index.html", "/nights/2026", "/favicon.svg"):
        answer = client.get(path)
        assert answer.status_code == 200 and "Access code" in answer.text and "assets" not in answer.text
    rules = [r for r in lan.app.url_map.iter_rules() if "GET" in r.methods and r.rule.startswith("/api/")]
    for rule in rules:
        path = re.sub(r"<[^>]+>", "1", rule.rule)
        assert client.get(path).status_code == 401, path


def test_the_code_opens_it_and_its_session_ends_everywhere_at_once(lan):
    client = phone(lan)
    code = in_fours(lan.access.code)
    assert len(lan.access.code) == CODE_SIGNS and 5 * CODE_SIGNS >= 50, "bits of 32 signs"
    opened = given(client, code.lower().replace("0", "o").replace("1", "l"))
    assert opened.status_code == 303 and code not in opened.headers["Location"]
    cookie = opened.headers["Set-Cookie"]
    assert cookie.startswith("grayshelf-8417=") and "HttpOnly" in cookie and "SameSite=Strict" in cookie
    assert client.get("/api/state").status_code == 200
    told = client.get("/api/access").json
    assert told["code"] == told["code_svg"] == "", "the code is shown at the machine alone"
    assert told["sessions"][0]["is_this"] and told["sessions"][0]["name"] == "Firefox on Android"
    assert lan.get("/api/access")["code"] == code and lan.get("/api/access")["code_svg"].startswith(
        "data:image/svg"
    )
    # What is kept gives no session away, and only its owner reads it.
    kept = (lan.root / ACCESS_FILE).read_text()
    assert token_of(opened) not in kept and (lan.root / ACCESS_FILE).stat().st_mode & 0o077 == 0
    events = client.get("/api/events")
    first = next(events.response)
    assert b"hello" in first
    assert lan.client.delete(f"/api/access/sessions/{told['sessions'][0]['number']}").status_code == 200
    assert list(events.response) == [b'data: {"type": "state"}\n\n'], "a page that listens hears no more"
    assert client.get("/api/state").status_code == 401
    assert lan.client.delete("/api/access/sessions/1").status_code == 404


def test_it_outlives_a_restart_and_another_code_ends_all(lan):
    client = phone(lan)
    token = token_of(given(client, lan.access.code))
    again = Access(lan.root, lambda: (NAME,), folders=False, clock=lan.clock_of_access)
    assert again.code == lan.access.code and again.session_of(token) == 1
    assert client.post("/api/access/code", json={}).status_code == 403, "made at the machine itself"
    before = lan.access.code
    assert lan.client.post("/api/access/code", json={}).status_code == 200
    assert lan.access.code != before and client.get("/api/state").status_code == 401
    lan.clock_of_access.now += 90 * 86_400
    (lan.root / ACCESS_FILE).write_text("rubbish")
    assert Access(lan.root, lambda: (NAME,), folders=False).sessions() == []


def test_ten_wrong_codes_in_a_minute_are_stopped_and_only_there(lan):
    client, other = phone(lan), phone(lan, OTHER)
    for _ in range(10):
        assert given(client, "WRONG-WRONG-0").status_code == 403
    stopped = given(client, lan.access.code)
    assert stopped.status_code == 429 and int(stopped.headers["Retry-After"]) <= 61
    assert given(other, lan.access.code).status_code == 303, "another phone is not kept out"
    lan.clock_of_access.now += 61
    assert given(client, lan.access.code).status_code == 303
    # From very many addresses at once it is stopped as well; a network of version 6 counts as one.
    access = Access(lan.root, tuple, folders=False, clock=lan.clock_of_access)
    with pytest.raises(TooMany):
        for n in range(12):
            access.begin("0", f"2001:db8::{n:x}", "")
    with pytest.raises(TooMany):
        for n in range(80):
            access.begin("0", f"10.0.0.{n}", "")
    assert given(phone(lan, "10.9.9.9"), "x" * 5000).status_code == 403


def test_foreign_names_and_pages_are_refused_also_with_a_session(lan):
    client = phone(lan)
    given(client, lan.access.code)
    assert client.get("/api/state", base_url="http://evil.example:8417").status_code == 403
    assert client.get("/api/state", base_url="http://localhost:8417").status_code in (401, 403)
    evil = {"Origin": "http://evil.example"}
    assert client.post("/api/verify", json={}, headers=evil).status_code == 403
    assert given(phone(lan), lan.access.code).status_code == 303
    forged = phone(lan).post("/access", data={"code": lan.access.code}, headers=evil)
    assert forged.status_code == 403
    # At the desk nothing is asked, and the code is in no address.
    assert lan.get("/api/state") and lan.access.code not in json.dumps(lan.get("/api/access")["addresses"])


def test_folders_are_named_at_the_machine_itself_unless_that_is_permitted(lan, tmp_path):
    write_fits(tmp_path / "heap/d.fits", DARK)
    client = phone(lan)
    given(client, lan.access.code)
    sending = {"files": [{"path": "x.fits", "size_bytes": 4, "modified_ms": 0}]}
    asked = [
        ("/api/folders", {"path": str(tmp_path / "heap")}),
        ("/api/sending", {"into": str(tmp_path / "new"), **sending}),
        ("/api/backup", {"to": str(tmp_path / "copy.db")}),
        ("/api/room/let-go", {"set_ids": [], "way": "move", "root": str(tmp_path)}),
        ("/api/hand-over", {"sets": "1", "folder": str(tmp_path / "out")}),
    ]
    for path, body in asked:
        assert client.post(path, json=body).status_code >= 400, path
    assert "at the machine" in client.post("/api/folders", json=asked[0][1]).json["detail"]
    assert not (tmp_path / "new").exists() and not (tmp_path / "copy.db").exists()
    # At the desk in between, it is as ever; what it named, phones may send into.
    assert lan.client.post("/api/folders", json=asked[0][1]).status_code == 200
    assert client.post("/api/sending", json={"into": str(tmp_path / "heap"), **sending}).status_code == 200
    assert client.post("/api/folders", json={"path": str(tmp_path)}).status_code == 403
    lan.access.folders = True
    assert client.post("/api/folders", json={"path": str(tmp_path / "heap")}).status_code in (200, 409)


def test_codes_are_read_as_they_are_typed():
    assert typed(" k3m9-oqwt 77zc") == "K3M90QWT77ZC"
    assert in_fours("K3M90QWT77ZC") == "K3M9-0QWT-77ZC"


def test_another_address_of_this_machine_is_served_from_then_on_and_none_of_another(lan):
    """A laptop that is carried from the house's network to the field, while it serves."""
    names = [NAME]
    lan.access._look = lambda: tuple(names)
    there = phone(lan)
    assert there.get("/access").status_code == 200
    names[:] = ["192.168.4.9"]
    lan.clock_of_access.now += 11
    asked = {"base_url": "http://192.168.4.9:8417"}
    assert there.get("/access", **asked).status_code == 200 and there.get("/access").status_code == 403
    assert there.get("/access", base_url="http://192.168.4.8:8417").status_code == 403
    lan.client.environ_base["REMOTE_ADDR"] = "127.0.0.1"
    assert lan.client.get("/api/access").json["addresses"] == ["192.168.4.9"]
