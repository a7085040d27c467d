"""From one Gray Shelf to another, over HTTP and by a stick: whole, once, gone on with after any cut, and never elsewhere."""

from __future__ import annotations

import json
import os
import shutil
import socket
import threading
from dataclasses import replace

import numpy as np
import pytest
import waitress
from sqlalchemy import select

from grayshelf.core.filing.sharing import LISTING, SharedFrame, by_night, mark_of, not_here, place_here
from grayshelf.library.fetched import fetched_before
from grayshelf.library.givers import Giver
from grayshelf.library.models import CameraValue, Frame, NightLog
from grayshelf.library.sharing import own_nights, shared_frames
from grayshelf.web.app import create_app
from grayshelf.work import giving
from grayshelf.work.giving import OtherShelf
from tests.helpers import DARK, LIGHT, write_fits
from tests.own import Own


class Giving:
    """A library that is served over HTTP on this machine."""

    def __init__(self, own: Own) -> None:
        self.own = own
        self.server = waitress.create_server(create_app(own.context), host="127.0.0.1", port=0, threads=4)
        self.address = f"127.0.0.1:{self.server.effective_port}"
        threading.Thread(target=self.server.run, daemon=True).start()

    def close(self) -> None:
        self.server.close()


@pytest.fixture
def telescope(tmp_path):
    """The one at the telescope: 6 darks, 4 lights, a night's log, a value of the Bench."""
    folder = tmp_path / "at the telescope"
    rng = np.random.default_rng(3)
    for number in range(6):
        header = {**DARK, "DATE-OBS": f"2026-10-18T23:{number:02d}:00"}
        write_fits(
            folder / "darks" / f"dark {number}.fits", header, rng.integers(300, 320, (60, 80)).astype("u2")
        )
    for number in range(4):
        header = {**LIGHT, "DATE-OBS": f"2026-10-19T22:{number:02d}:00"}
        write_fits(
            folder / "M 33" / f"light_{number}.fits", header, rng.integers(300, 900, (60, 80)).astype("u2")
        )
    own = Own(tmp_path / "telescope")
    own.scan(folder)
    rig = own.client.get("/api/state").json["rigs"][0]["id"]
    with own.context.library.db.session() as session:
        session.add(
            NightLog(
                rig_id=rig,
                night=np.datetime64("2026-10-18").item(),
                notes="Dew towards one.",
                conditions={"air_from_c": 7.0},
            )
        )
        session.add(
            CameraValue(
                kind="gain",
                camera=DARK["INSTRUME"],
                gain=100.0,
                values={"e_per_adu": 0.25, "read_noise_e": 1.6},
                accepted_at=own.context.library.clock.now(),
            )
        )
    served = Giving(own)
    yield served
    served.close()
    own.close()


def fetched(own):
    """Frames that were fetched, by the end of their path."""
    with own.context.library.db.session() as session:
        rows = session.scalars(select(Frame).where(Frame.path.like("frames/fetched/%"))).all()
        return {r.path.rpartition("/")[2]: r.state for r in rows}


def test_what_is_new_is_shown_fetched_once_and_stands_on_the_shelf(own, telescope, tmp_path):
    client = own.client
    added = client.post("/api/fetching/givers", json={"address": telescope.address, "code": ""})
    assert added.status_code == 200, added.text
    number = added.json["number"]
    new = client.post("/api/fetching/new", json={"giver": number}).json
    assert new["frames"] == 10 and [n["title"] for n in new["nights"]] == ["19 Oct 26", "18 Oct 26"]
    assert new["nights"][1]["words"] == "6 darks"
    job = client.post("/api/fetching/fetch", json={"giver": number, "nights": ["2026-10-18"]}).json
    ended = own.ended(job["id"])
    assert ended["state"] == "done" and "6 frames fetched" in ended["message"], ended
    own.wait_until_idle()
    assert set(fetched(own).values()) == {"good"} and len(fetched(own)) == 6
    # Byte for byte what it is there, and looked through like any other frame.
    with telescope.own.context.library.db.session() as session:
        there = {f.path.rpartition("/")[2].replace(" ", "_"): f for f in session.scalars(select(Frame))}
    for path in (own.context.library.root / "frames/fetched").rglob("*.fits"):
        original = tmp_path / "at the telescope" / there[path.name].path
        assert path.read_bytes() == original.read_bytes()
    new = client.post("/api/fetching/new", json={"giver": number}).json
    assert new["frames"] == 4 and new["there"] == 10
    # Once more with all of it: only what is not here comes; its lights make a rig, which the night's log belongs to.
    ended = own.ended(client.post("/api/fetching/fetch", json={"giver": number}).json["id"])
    assert "4 frames fetched" in ended["message"] and "1 night’s log" in ended["message"], ended
    own.wait_until_idle()
    assert own.ended(client.post("/api/fetching/fetch", json={"giver": number}).json["id"])[
        "message"
    ].startswith("0 frames")
    with own.context.library.db.session() as session:
        assert session.scalar(select(NightLog.notes)) == "Dew towards one."
        values = session.scalars(select(CameraValue)).all()
        assert [(v.kind, v.gain, v.values["e_per_adu"]) for v in values] == [("gain", 100.0, 0.25)]
    assert len(fetched_before(own.context.library.root).hashes) == 10
    # Filed elsewhere since, it is still not fetched again.
    shutil.move(own.context.library.root / "frames/fetched", own.context.library.root / "frames/elsewhere")
    assert client.post("/api/fetching/new", json={"giver": number}).json["frames"] == 0
    assert client.delete(f"/api/fetching/givers/{number}").status_code == 200
    assert client.get("/api/fetching/givers").json["givers"] == []


def test_cut_off_anywhere_it_goes_on_and_nothing_is_doubled(own, telescope, monkeypatch):
    """The connection is lost after some bytes of each file, again and again."""
    number = own.client.post("/api/fetching/givers", json={"address": telescope.address}).json["number"]
    real, rng, asked = giving.OtherShelf.pieces, np.random.default_rng(8), []

    def cut(self, frame, begin):
        asked.append(begin)
        sent, most = 0, int(rng.integers(0, 9_000))
        for piece in real(self, frame, begin):
            for at in range(0, len(piece), 700):
                if sent > most:
                    raise giving.Conflict("The line was cut.", "Go on.")
                yield piece[at : at + 700]
                sent += 700

    monkeypatch.setattr(giving.OtherShelf, "pieces", cut)
    for _ in range(80):
        own.client.post("/api/fetching/fetch", json={"giver": number})
        own.wait_until_idle()
        if own.client.post("/api/fetching/new", json={"giver": number}).json["frames"] == 0:
            break
    assert any(begin > 0 for begin in asked), "it went on in the middle of a file"
    assert sorted(fetched(own)) == sorted({*fetched(own)}) and len(fetched(own)) == 10
    assert set(fetched(own).values()) == {"good"}
    assert not list((own.context.library.root / "frames").rglob("*.part"))


def test_bytes_that_are_not_what_they_are_there_are_dropped_and_told(own, telescope, monkeypatch):
    number = own.client.post("/api/fetching/givers", json={"address": telescope.address}).json["number"]
    real, struck = giving.OtherShelf.pieces, []

    def other(self, frame, begin):
        for piece in real(self, frame, begin):
            if not struck:
                struck.append(frame)
                piece = piece[:-1] + bytes([piece[-1] ^ 1])
            yield piece

    monkeypatch.setattr(giving.OtherShelf, "pieces", other)
    ended = own.ended(own.client.post("/api/fetching/fetch", json={"giver": number}).json["id"])
    assert "9 frames fetched" in ended["message"] and "did not come as it is there" in str(ended["troubles"])
    own.wait_until_idle()
    assert own.client.post("/api/fetching/new", json={"giver": number}).json["frames"] == 1
    own.ended(own.client.post("/api/fetching/fetch", json={"giver": number}).json["id"])
    own.wait_until_idle()
    assert len(fetched(own)) == 10


def test_a_file_that_shrank_there_is_dropped_and_the_others_come(own, telescope, monkeypatch):
    number = own.client.post("/api/fetching/givers", json={"address": telescope.address}).json["number"]
    real = giving.OtherShelf.listing

    def larger(self):
        first, *others = real(self).frames
        return replace(real(self), frames=(replace(first, size_bytes=first.size_bytes + 999), *others))

    monkeypatch.setattr(giving.OtherShelf, "listing", larger)
    ended = own.ended(own.client.post("/api/fetching/fetch", json={"giver": number}).json["id"])
    assert "9 frames fetched" in ended["message"] and "did not come as it is there" in str(ended["troubles"])


def test_an_answer_that_ends_early_is_told_and_what_came_is_kept(own):
    """A line that is cut is not a file that ends."""
    cut = socket.create_server(("127.0.0.1", 0))

    def half() -> None:
        with cut.accept()[0] as line:
            line.recv(4096)
            line.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\n" + b"x" * 40)

    threading.Thread(target=half, daemon=True).start()
    shelf = OtherShelf(Giver(1, f"http://127.0.0.1:{cut.getsockname()[1]}", "there"))
    came = []
    with pytest.raises(giving.Conflict, match="not to the end"):
        came.extend(shelf.pieces(SharedFrame("1", "a.fits", 100, "dark", "", "", "", None), 0))
    assert b"".join(came) == b"x" * 40
    cut.close()


def test_a_stick_does_the_same_without_a_network(own, telescope, tmp_path):
    stick = tmp_path / "stick"
    stick.mkdir()
    there = telescope.own
    refused = own.client.post("/api/fetching/new", json={"folder": str(stick)})
    assert refused.status_code == 409 and "holds no nights" in refused.json["detail"]
    nights = there.client.get("/api/fetching/own-nights").json["nights"]
    with there.library.db.session() as session:
        assert own_nights(there.library) == by_night(list(shared_frames(session))), (
            "counted as they are given"
        )
    assert [n["night"] for n in nights] == ["2026-10-19", "2026-10-18"]
    for night in ("2026-10-18", "2026-10-19", "2026-10-18"):
        job = there.client.post("/api/fetching/put", json={"folder": str(stick), "nights": [night]}).json
        assert there.ended(job["id"])["state"] == "done"
    assert len(list(stick.rglob("*.fits"))) == 10, "the same night a second time adds nothing"
    new = own.client.post("/api/fetching/new", json={"folder": str(stick)}).json
    assert new["frames"] == 10
    ended = own.ended(own.client.post("/api/fetching/fetch", json={"folder": str(stick)}).json["id"])
    assert "10 frames fetched" in ended["message"], ended
    own.wait_until_idle()
    assert len(fetched(own)) == 10
    assert own.client.post("/api/fetching/new", json={"folder": str(stick)}).json["frames"] == 0


def test_a_stick_that_means_harm_reads_and_writes_nothing_elsewhere(own, tmp_path):
    secret = tmp_path / "secret.fits"
    secret.write_bytes(b"mine")
    stick = tmp_path / "stick"
    stick.mkdir()
    (stick / "link.fits").symlink_to(secret)
    frames = [
        {
            "key": key,
            "path": path,
            "size_bytes": 4,
            "kind": "dark",
            "camera": "x",
            "night": "",
            "taken": "",
            "sha256": sha,
        }
        for key, path, sha in (
            ("../secret.fits", "a.fits", "0" * 64),
            ("link.fits", "b.fits", "0" * 64),
            (str(secret), "../../../out.fits", "0" * 64),
            ("c.fits", "..", "short"),
        )
    ]
    (stick / LISTING).write_text(json.dumps({"name": "../../up", "frames": frames}))
    before = sorted(str(p) for p in tmp_path.rglob("*") if "library" not in str(p))
    ended = own.ended(own.client.post("/api/fetching/fetch", json={"folder": str(stick)}).json["id"])
    assert ended["state"] in ("failed", "done") and not fetched(own)
    assert sorted(str(p) for p in tmp_path.rglob("*") if "library" not in str(p)) == before
    for told in (
        "[]",
        "{}",
        '{"name": 3}',
        "[" * 100_000,
        "\xff",
        json.dumps({"name": "x", "frames": [{"key": 1}]}),
    ):
        (stick / LISTING).write_text(told)
        answer = own.client.post("/api/fetching/new", json={"folder": str(stick)})
        assert answer.status_code == 409, told[:20]


def test_what_is_new_and_where_it_goes():
    a = SharedFrame("1", "x/a.fits", 10, "dark", "Cam", "2026-10-18", "2026-10-18T23:00:00+00:00", "aa")
    b = SharedFrame("2", "x/b.fits", 10, "dark", "Cam", "", "", None)
    assert not_here([a, b], {"aa"}, set()) == [b]
    assert not_here([a, b], set(), {mark_of(a)}) == [b] and mark_of(b) is None
    assert (
        place_here("Saltmarsh hide", "Nights/M 33/light 1.fits.fz")
        == "frames/fetched/Saltmarsh_hide/Nights/M_33/light_1.fits.fz"
    )
    for path in (
        "../../etc/passwd",
        "/etc/passwd",
        "a/../../b.fits",
        "",
        "con.fits",
        "a" * 300 + ".fits",
        "x\x00y.fits",
    ):
        place = place_here("..", path)
        assert place.startswith("frames/fetched/") and ".." not in place.split("/") and len(place) < 200
        assert place.count("//") == 0 and "\x00" not in place


@pytest.mark.skipif(os.name != "posix", reason="addresses of this machine are found another way")
def test_with_the_code_over_the_network_and_not_without(own, telescope, monkeypatch):
    """As from another machine: this one's own address in the network is none of its loopback."""
    from grayshelf.serving import Lan, _addresses, _open_to_network

    addresses = [a for a in _addresses() if ":" not in a]
    if not addresses:
        pytest.skip("this machine is in no network")
    context = telescope.own.context
    _open_to_network(context, Lan())
    server = waitress.create_server(create_app(context), host="0.0.0.0", port=0, threads=4)
    threading.Thread(target=server.run, daemon=True).start()
    address = f"{addresses[0]}:{server.effective_port}"
    try:
        for code in ("", "AAAA-BBBB-CCCC"):
            refused = own.client.post("/api/fetching/givers", json={"address": address, "code": code})
            assert refused.status_code == 403, refused.text
        added = own.client.post(
            "/api/fetching/givers", json={"address": address, "code": context.access.code}
        )
        assert added.status_code == 200, added.text
        number = added.json["number"]
        kept = own.context.library.root / "givers.json"
        assert kept.stat().st_mode & 0o777 == 0o600 and context.access.code not in kept.read_text()
        assert own.client.post("/api/fetching/new", json={"giver": number}).json["frames"] == 10
        context.access.renew_code()
        ended = own.client.post("/api/fetching/new", json={"giver": number})
        assert ended.status_code == 403 and "code again" in ended.json["detail"]
    finally:
        context.access = None
        server.close()


def test_at_dawn_it_is_fetched_by_itself_once(own, telescope, monkeypatch):
    from datetime import UTC, datetime

    from grayshelf.work.fetching_at_dawn import fetch_if_dawn

    number = own.client.post("/api/fetching/givers", json={"address": telescope.address}).json["number"]
    own.client.put(f"/api/fetching/givers/{number}", json={"at_dawn": True})
    library, runner = own.context.library, own.context.runner
    there = OtherShelf.answers
    # Night; asleep; there; once a day. Out of reach until noon, the job itself says so.
    for day, hour, answers, begun in (
        (2, 3, True, 0), (2, 8, False, 0), (2, 9, True, 1), (2, 10, True, 0), (3, 11, False, 0), (3, 12, False, 1)
    ):  # fmt: skip
        monkeypatch.setattr(library.clock, "now", lambda d=day, h=hour: datetime(2026, 11, d, h, tzinfo=UTC))
        monkeypatch.setattr(OtherShelf, "answers", there if answers else lambda self: False)
        assert fetch_if_dawn(library, runner) == begun, (day, hour)
        own.wait_until_idle()
    assert len(fetched(own)) == 10
    assert not there(OtherShelf(Giver(9, "http://127.0.0.1:9", "off")))
