"""Writing into the library: nothing is ever overwritten, and a name is given only to a whole file."""

from __future__ import annotations

import errno
import hashlib
import os

import pytest

from grayshelf.core.errors import Conflict, DiskFull
from grayshelf.library import files
from grayshelf.library.files import drop_unfinished, sha256_of, write_new


@pytest.mark.parametrize("links", [True, False])
def test_a_file_is_never_written_over(tmp_path, monkeypatch, links):
    def refuse(*_args):
        raise OSError(errno.EPERM, "no links here")

    if not links:
        monkeypatch.setattr(os, "link", refuse)
    path = tmp_path / "deep" / "frame.fits"
    digest = write_new(path, lambda stream: stream.write(b"first"))
    assert digest == hashlib.sha256(b"first").hexdigest() == sha256_of(path)
    with pytest.raises(Conflict, match="left as it is"):
        write_new(path, lambda stream: stream.write(b"second"))
    assert path.read_bytes() == b"first"
    path.with_name("frame.fits.part").write_bytes(b"fir")
    path.with_name("next.fits").touch()
    drop_unfinished(path)
    drop_unfinished(path.with_name("next.fits"))
    assert path.read_bytes() == b"first"
    assert [p.name for p in path.parent.iterdir()] == ["frame.fits"], "nothing half-written stays"


def test_a_full_disk_and_a_disk_that_lies_are_told(tmp_path, monkeypatch):
    def full(_stream):
        raise OSError(errno.ENOSPC, "No space left on device")

    with pytest.raises(DiskFull, match="full"):
        write_new(tmp_path / "a.fits", full)
    monkeypatch.setattr(files, "sha256_of", lambda path: "0" * 64)
    with pytest.raises(Conflict, match="other bytes back"):
        write_new(tmp_path / "b.fits", lambda stream: stream.write(b"x"))
    assert not list(tmp_path.iterdir())
