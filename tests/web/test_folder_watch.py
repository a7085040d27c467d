"""A watched folder: frames are there within two seconds of being whole, half-written ones wait, and its disk may go."""

from __future__ import annotations

import shutil
import time

import pytest

from grayshelf.work.folder_watch import FolderWatch
from tests.helpers import DARK, write_fits


def until(what, seconds=15.0):
    begun = time.monotonic()
    while not what():
        assert time.monotonic() - begun < seconds
        time.sleep(0.05)
    return time.monotonic() - begun


@pytest.fixture
def watched(own, tmp_path):
    folder = tmp_path / "camera"
    write_fits(folder / "d0.fits", {**DARK, "DATE-OBS": "2026-10-18T22:00:00"})
    own.scan(folder)
    assert own.client.put("/api/folders/2/watched", json={"watched": True}).status_code == 200
    assert own.client.put("/api/folders/1/watched", json={"watched": True}).status_code == 404
    watch = FolderWatch(own.library, own.context.runner)
    yield folder
    watch.end()


def test_frames_are_taken_in_while_a_program_writes_them(own, watched, tmp_path):
    def states():
        return dict(own.query("SELECT path, state FROM frame"))

    assert own.get("/api/intake")["folders"][0]["watched"]
    write_fits(watched / "night/d1.fits", {**DARK, "DATE-OBS": "2026-10-18T22:01:00"})
    until(lambda: states().get("night/d1.fits") == "good")

    # One that is written slowly never is taken for damaged.
    whole = write_fits(
        tmp_path / "d2.fits", {**DARK, "DATE-OBS": "2026-10-18T22:02:00"}, size=200
    ).read_bytes()
    with (watched / "d2.fits").open("wb") as stream:
        for at in range(0, len(whole), len(whole) // 12):
            stream.write(whole[at : at + len(whole) // 12])
            stream.flush()
            assert "d2.fits" not in states()
            time.sleep(0.25)
    until(lambda: states().get("d2.fits") == "good")
    until(lambda: not own.get("/api/jobs")["alive"])
    time.sleep(1.0)
    assert not [j for j in own.get("/api/jobs")["ended"] if j["title"].startswith("What came")]

    # The disk is pulled: nothing is missing for that; it is back, and the next frame comes.
    shutil.move(watched, tmp_path / "pulled")
    time.sleep(2.0)
    assert own.get("/api/intake")["folders"][0]["missing"] == 0
    shutil.move(tmp_path / "pulled", watched)
    write_fits(watched / "d3.fits", {**DARK, "DATE-OBS": "2026-10-18T22:03:00"})
    until(lambda: states().get("d3.fits") == "good")
    own.client.put("/api/folders/2/watched", json={"watched": False})
    write_fits(watched / "d4.fits", {**DARK, "DATE-OBS": "2026-10-18T22:04:00"})
    time.sleep(2.5)
    assert "d4.fits" not in states()
