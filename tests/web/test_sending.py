"""Files dropped onto the page: in pieces, gone on with after a break, whole or not at all, and over no other file."""

from __future__ import annotations

import hashlib
import os
import random
import threading
from pathlib import Path

import pytest

from grayshelf.library import arriving
from grayshelf.library.arriving import ARRIVING, PIECE_BYTES, drop_empty, open_part
from tests.helpers import DARK, write_fits

NS = 1_700_000_000_000


def told(path: Path, name: str = "") -> dict:
    return {"path": name or path.name, "size_bytes": path.stat().st_size, "modified_ms": NS}


def begin(own, into: Path, *files: dict):
    return own.client.post("/api/sending", json={"into": str(into), "files": list(files)})


def piece(own, into: Path, file: dict, offset: int, data: bytes):
    return own.client.put(
        "/api/sending/piece",
        query_string={"into": str(into), "offset": offset, **file},
        data=data,
        content_type="application/octet-stream",
    )


def whole(own, into: Path, file: dict, data: bytes):
    pieces = [hashlib.sha256(data[i : i + PIECE_BYTES]).digest() for i in range(0, len(data), PIECE_BYTES)]
    body = {"into": str(into), "file": file, "digest": hashlib.sha256(b"".join(pieces)).hexdigest()}
    return own.client.post("/api/sending/whole", json=body)


def send(own, into: Path, file: dict, data: bytes, step: int = 1000) -> None:
    here = begin(own, into, file).json["files"][0]["received"]
    while here < len(data):
        here = piece(own, into, file, here, data[here : here + step]).json["received"]


def test_from_an_empty_library_a_dropped_folder_is_on_the_shelf(own, tmp_path):
    """Nothing was named yet: the folder that is offered is made, put on the list and scanned."""
    into = Path(own.get("/api/sending/into")["into"])
    assert not into.exists() and not into.is_relative_to(own.root)
    for i in range(4):
        source = write_fits(tmp_path / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"})
        file = told(source, f"night 1/{source.name}")
        send(own, into, file, source.read_bytes())
        assert whole(own, into, file, source.read_bytes()).json == {"is_new": True}
        assert (into / f"night 1/d{i}.fits").read_bytes() == source.read_bytes()
        assert round((into / f"night 1/d{i}.fits").stat().st_mtime * 1000) == NS
    assert not (into / ARRIVING).exists()
    job = own.client.post("/api/sending/scan", json={"into": str(into)})
    assert own.ended(job.json["id"])["state"] == "done"
    assert [s["n_frames"] for s in own.sets().values()] == [4]
    # Dropped once more, nothing is sent at all.
    assert begin(own, into, file).json["files"][0]["received"] == file["size_bytes"]
    assert whole(own, into, file, source.read_bytes()).json == {"is_new": False}


@pytest.mark.parametrize("seed", range(4))
def test_cut_off_anywhere_it_goes_on_from_there(own, tmp_path, seed):
    """Lost pieces, pieces twice, a kill within a piece, another process: the file that comes is the one that was sent."""
    rng = random.Random(seed)
    source = write_fits(tmp_path / "d.fits", DARK, size=90 if seed else 800)
    data, into, file = source.read_bytes(), tmp_path / "in", told(source)
    begin(own, into, file)
    here = 0
    while here < len(data):
        sent = piece(own, into, file, here, data[here : here + rng.randint(1, 4000 if seed else 200_000)])
        what = rng.random()
        if what < 0.2:
            piece(own, into, file, here, data[here : here + 500])
        elif what < 0.3:
            # The power went within a piece: some of its bytes are there.
            part = next((into / ARRIVING).iterdir())
            os.truncate(part, rng.randint(0, part.stat().st_size))
        elif what < 0.4:
            own.again()
        elif what < 0.5:
            piece(own, into, file, len(data) - 3, b"beyond")
        assert sent.status_code == 200
        here = begin(own, into, file).json["files"][0]["received"]
    assert whole(own, into, file, data).json == {"is_new": True}
    assert (into / "d.fits").read_bytes() == data


def test_what_is_not_what_was_sent_gets_no_name_and_nothing_is_overwritten(own, tmp_path, monkeypatch):
    source = write_fits(tmp_path / "d.fits", DARK)
    data, into, file = source.read_bytes(), tmp_path / "in", told(source)
    send(own, into, file, data[:-1] + b"x")
    assert whole(own, into, file, data).status_code == 409
    assert begin(own, into, file).json["files"][0]["received"] == 0 and not (into / "d.fits").exists()
    assert whole(own, into, file, data).status_code == 409, "not whole yet"
    # Somebody else's file of that name came meanwhile.
    send(own, into, file, data)
    (into / "d.fits").write_bytes(b"mine" * 1440)
    assert whole(own, into, file, data).status_code == 409
    assert (into / "d.fits").read_bytes() == b"mine" * 1440
    other = {**file, "path": "e.fits"}
    monkeypatch.setattr(arriving, "free_bytes", lambda folder: 10_000)
    full = begin(own, into, other)
    assert full.status_code == 507 or "free" in full.text, full.text


@pytest.mark.parametrize(
    "path",
    ["../out.fits", "a/../../out.fits", "/etc/out.fits", "a//b.fits", ".hidden.fits", ".git/x.fits", "a\\..\\b.fits",
     "con.fits", "x\n.fits", "a:b.fits", "x" * 300 + ".fits", "notes.txt", "grayshelf.db", "a/./b.fits", "x.fits/"],
)  # fmt: skip
def test_names_that_lead_out_or_are_no_frames_are_refused(own, tmp_path, path):
    into = tmp_path / "deep/in"
    into.parent.mkdir()
    file = {"path": path, "size_bytes": 10, "modified_ms": 0}
    assert begin(own, into, file).json["files"][0]["refused"]
    assert piece(own, into, file, 0, b"0123456789").status_code == 400
    assert [p.name for p in tmp_path.rglob("*") if p.is_file() and own.root not in p.parents] == []


def test_only_into_named_folders_and_only_bytes(own, tmp_path):
    """Neither the library's own folder nor a folder that nobody named, nor through a link, nor as a form."""
    file = {"path": "x.fits", "size_bytes": 4, "modified_ms": 0}
    assert begin(own, own.root / "frames", file).status_code == 409
    (tmp_path / "other").mkdir()
    assert piece(own, tmp_path / "other", file, 0, b"four").status_code == 400
    into = tmp_path / "in"
    begin(own, into, file)
    form = own.client.put(
        "/api/sending/piece", query_string={"into": str(into), "offset": 0, **file}, data=b"four"
    )
    assert form.status_code == 415
    (into / "link").symlink_to(tmp_path / "other")
    through = {**file, "path": "link/x.fits"}
    send(own, into, through, b"four")
    assert whole(own, into, through, b"four").status_code == 409
    deeper = {**file, "path": "link/made/x.fits"}
    send(own, into, deeper, b"four")
    assert whole(own, into, deeper, b"four").status_code == 409
    assert not list((tmp_path / "other").iterdir())


def test_the_folder_of_what_comes_is_not_dropped_under_a_file(tmp_path):
    """Two come at once: the one that ends drops the empty folder while the other is about to write into it."""
    folder, over = tmp_path / ARRIVING, threading.Event()

    def dropped_again_and_again() -> None:
        while not over.is_set():
            drop_empty(folder)

    dropping = threading.Thread(target=dropped_again_and_again)
    dropping.start()
    try:
        for number in range(500):
            part = folder / f"{number}.part"
            open_part(part).close()
            part.unlink()
    finally:
        over.set()
        dropping.join()
    assert list(tmp_path.iterdir()) in ([], [folder])
