"""What is kept over a restart: pages are the same with it, without it, after changes that it did not see, and where it is
damaged."""

from __future__ import annotations

import os
import random
import time
from datetime import UTC, datetime
from pathlib import Path
from threading import Thread

import pytest
from flask import Flask

from grayshelf.clock import SimulatedClock
from grayshelf.library import slips
from grayshelf.library.over_restart import NAME, keep, made_by
from grayshelf.web.warm_up import Asked, kept_beside
from tests.own import Own
from tests.pages import every_page

#: What tells of the process, or is worked out whenever it is asked for.
LEFT_OUT = tuple(
    f"/api/{x}" for x in ("jobs", "state", "frames", "measurements", "holdings", "sets", "lights")
)
#: Sets of which every page is looked at.
MOST_SETS = 25
CHANGES = (
    'UPDATE rig SET tolerances = \'{"dark_temp_c": 0.01, "flat_angle_deg": 0.1}\'',
    "UPDATE frame_set SET taken_off = 1 WHERE kind = 'dark' AND id % 2 = 0",
    "UPDATE frame_set SET facts = json_set(facts, '$.gain', 77) WHERE kind = 'flat' AND id % 3 = 0",
    "UPDATE frame_set SET n_kept = 1, noise_adu = 400 WHERE kind = 'light' AND id % 2 = 0",
    "UPDATE frame_set SET facts = json_set(facts, '$.target', 'Renamed') WHERE kind = 'light' AND id % 3 = 0",
    "INSERT INTO rig_event (rig_id, at, what, kind, taken_back) "
    "SELECT id, '2026-10-17 12:00:00.000000', 'cleaned', 'train', 0 FROM rig",
)


class StandingClock(SimulatedClock):
    """It is always the same moment."""

    def now(self) -> datetime:
        return datetime(2026, 10, 18, 4, 30, tzinfo=UTC)


class RoomyOwn(Own):
    """Its disk has the same room whatever else is written to it meanwhile."""

    def open(self) -> Own:
        super().open()
        self.library.room = lambda path: 10**12
        return self


@pytest.fixture(scope="module")
def own(tmp_path_factory, made_frames):
    """The demo's frames in a library of one's own, some of them combined."""
    own = RoomyOwn(
        tmp_path_factory.mktemp("over") / "library",
        StandingClock(datetime(2026, 10, 18, 4, 30, tzinfo=UTC), 1e6),
    )
    own.scan(made_frames)
    dark = next(i for i, x in own.sets().items() if x["kind"] == "dark" and x["state"] != "master")
    own.build([dark])
    yield own
    own.close()


def pages(own):
    """Pages as they are now."""
    addresses = every_page(own.client.application, own.library, MOST_SETS)
    files = (".png", ".csv", ".zip")
    wanted = [a for a in addresses if not a.partition("?")[0].endswith(files) and not a.startswith(LEFT_OUT)]
    return {a: own.client.get(a).text for a in [*wanted, "/api/search?q=dark"]}


def from_nothing(own):
    """Every page where nothing was kept."""
    (own.root / NAME).unlink(missing_ok=True)
    own.again()
    assert not own.context.put_back
    return pages(own)


def keep_now(own):
    """As a process does at its end."""
    keep(own.library, kept_beside(own.library))


def test_pages_are_the_same_after_a_restart_and_no_slip_is_written_anew(own, monkeypatch):
    expected = from_nothing(own)
    keep_now(own)
    own.again()
    assert own.context.put_back
    written = []
    pull_slips = slips.pull_slips
    monkeypatch.setattr(
        slips, "pull_slips", lambda asking, *a, **k: written.extend(asking) or pull_slips(asking, *a, **k)
    )
    rigs = [x["id"] for x in own.get("/api/state")["rigs"]]
    for rig_id in rigs:
        own.get(f"/api/rigs/{rig_id}/tonight")
    assert written == []
    assert pages(own) == expected


@pytest.fixture(scope="module")
def as_before():
    """Pages as the last change left them: each change asks for them only where none came before it."""
    return {}


@pytest.mark.parametrize("change", CHANGES)
def test_what_changed_while_nothing_ran_is_seen(own, as_before, change):
    before = as_before.pop("pages", None) or pages(own)
    keep_now(own)
    own.change(change)
    own.again()
    assert own.context.put_back
    seen = pages(own)
    assert seen == from_nothing(own)
    assert seen != before
    as_before["pages"] = seen


def test_what_another_state_of_the_program_made_is_not_put_back(own):
    from grayshelf.web.whole import search

    keep_now(own)
    words, before = Path(search.__file__), Path(search.__file__).stat()
    try:
        # As an update that changes but the words of a page.
        os.utime(words, ns=(before.st_atime_ns, before.st_mtime_ns + 1_000_000_000))
        # Installed while it runs: what it writes at its end is still of the state that was begun.
        keep_now(own)
        made_by.cache_clear()
        own.again()
        assert not own.context.put_back
    finally:
        os.utime(words, ns=(before.st_atime_ns, before.st_mtime_ns))
        made_by.cache_clear()
    own.again()
    assert own.context.put_back


def test_a_damaged_file_is_as_good_as_none(own):
    expected = from_nothing(own)
    keep_now(own)
    path, rng = own.root / NAME, random.Random(7)
    whole = path.read_bytes()
    flipped = bytearray(whole)
    for _ in range(20):
        flipped[rng.randrange(len(whole))] ^= 1 << rng.randrange(8)
    for damaged in (b"", whole[: len(whole) // 2], bytes(flipped), rng.randbytes(5000)):
        own.close()
        path.write_bytes(damaged)
        own.open()
        assert not own.context.put_back
        assert own.get(next(iter(expected))) is not None
    assert pages(own) == expected


def test_where_it_cannot_be_written_the_end_goes_on_and_the_last_one_stays(own, monkeypatch):
    keep_now(own)
    path = own.root / NAME
    whole = path.read_bytes()
    (own.root / f"{NAME}.new").mkdir()
    keep_now(own)
    (own.root / f"{NAME}.new").rmdir()
    assert path.read_bytes() == whole


def test_pages_that_are_asked_for_come_before_what_is_worked_out_ahead():
    """The wait begins anew with each request, and ends at last where somebody asks without end."""
    app, asked = Flask("asked"), Asked(quiet_s=0.5, most_wait_s=3.0)
    app.add_url_rule("/", view_func=lambda: "there")
    asked.put_around(app)

    def waited_s(asking_s: float) -> float:
        begun = time.monotonic()
        app.test_client().get("/")
        waiting = Thread(target=asked.wait_for_quiet)
        waiting.start()
        while waiting.is_alive() and time.monotonic() < begun + asking_s:
            app.test_client().get("/")
            time.sleep(0.05)
        waiting.join()
        return time.monotonic() - begun

    assert waited_s(0.0) < 1.0
    assert 1.3 <= waited_s(1.0) < 3.0
    assert 3.0 <= waited_s(20.0) < 15.0
