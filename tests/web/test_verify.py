"""Every file read against what it was: damage that no date tells is found, and what was never read is known from then on."""

from __future__ import annotations

import os
import time

import pytest

from tests.helpers import DARK, LIGHT, write_fits
from tests.own import Own


@pytest.fixture
def own(tmp_path):
    library = Own(tmp_path / "library")
    for i in range(8):
        base = LIGHT if i % 2 else DARK
        write_fits(tmp_path / "frames" / f"f{i}.fits", {**base, "DATE-OBS": f"2026-10-17T22:0{i}:00"})
    library.scan(tmp_path / "frames")
    library.build()
    yield library
    library.close()


def verified(own):
    answer = own.client.post("/api/verify")
    assert answer.status_code == 200, answer.text
    return own.ended(answer.json["job_id"])


def test_damage_is_found_where_neither_size_nor_date_tells_it(own, tmp_path):
    before = own.query("SELECT path, sha256 FROM frame WHERE sha256 IS NOT NULL")
    job = verified(own)
    assert job["state"] == "done" and "for the first time" in job["message"] and not job["troubles"]
    known = dict(own.query("SELECT path, sha256 FROM frame"))
    assert all(known.values()) and all(known[path] == was for path, was in before)
    assert verified(own)["message"].startswith(f"{len(known)} files are what they were.")

    # One bit turned on the disk, one written anew, one gone, one that may not be read.
    frames = [tmp_path / "frames" / f"f{i}.fits" for i in range(4)]
    stamp, data = frames[0].stat(), bytearray(frames[0].read_bytes())
    data[-1] ^= 1
    frames[0].write_bytes(data)
    os.utime(frames[0], ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
    os.utime(frames[1], (time.time(), time.time()))
    frames[2].unlink()
    frames[3].unlink()
    frames[3].symlink_to("/etc/hostname")
    job = verified(own)
    told = {t.split(": ")[0].rpartition("/")[2]: t for t in job["troubles"]}
    assert set(told) == {f"f{i}.fits" for i in range(4)}, job["troubles"]
    assert "though nobody wrote it" in told["f0.fits"] and "since its folder was scanned" in told["f1.fits"]
    assert "not there" in told["f2.fits"]
    assert "2 are not what they were; 2 are not there" in job["message"]
    assert dict(own.query("SELECT path, sha256 FROM frame")) == known, "what it was stays known"


def test_it_goes_on_where_it_was_cut_short(own, monkeypatch):
    from grayshelf.work import verify as work

    read, whole = [], work.sha256_of

    def slow(path):
        read.append(path.name)
        if len(read) == 4:
            raise SystemExit
        return whole(path)

    monkeypatch.setattr(work, "sha256_of", slow)
    monkeypatch.setattr(work, "WRITTEN_EACH_S", 0.0)
    job = verified(own)
    assert job["state"] == "failed"
    own.client.post(f"/api/jobs/{job['id']}/resume")
    assert own.ended(job["id"])["state"] == "done"
    frames = own.query("SELECT count(*) FROM frame")[0][0]
    assert len(read) == frames + 1, "none was read twice but the one that was cut short"
