"""States of jobs: begun, stopped, gone on with and ended from many hands at once; a full disk; jobs that die."""

from __future__ import annotations

import errno
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from sqlalchemy import select
from sqlalchemy.exc import OperationalError

from grayshelf.core.errors import Conflict, DiskFull
from grayshelf.library import files
from grayshelf.library.models import Job, RunStep
from grayshelf.library.step_records import JobResult
from grayshelf.work.gates import answer_gate
from tests.helpers import DARK, write_fits


@pytest.fixture
def own(own):
    """It looks for room, and tries again, without much waiting."""
    own.context.runner.look_again_s = 0.02
    return own


class Held:
    """Work that goes on until it is let go."""

    def __init__(self, own, kind="run"):
        self.begun, self.go = threading.Event(), threading.Event()
        own.context.runner.register(kind, self)

    def __call__(self, control, _params):
        self.begun.set()
        while not self.go.wait(0.01):
            control.check()
        return JobResult("done")


def state(own, job_id):
    with own.library.db.session() as session:
        return session.get_one(Job, job_id).state


def until(what):
    for _ in range(500):
        if what():
            return
        time.sleep(0.01)
    raise AssertionError("it did not come to that")


def begin(own, title="a run", rig_id=7):
    """Ask whether the rig is free and take it, as all that works with rigs does."""
    runner = own.context.runner
    with runner.changing:
        runner.refuse_if_busy(rig_id)
        return runner.start("run", title, {}, rig_id)


def test_of_many_starts_at_once_one_has_the_rig_and_other_rigs_go_on(own):
    held = Held(own)
    scans = Held(own, "scan")
    for i in range(12):
        own.context.runner.start("scan", f"scan {i}", {})

    def attempt(_):
        try:
            return begin(own)
        except Conflict:
            return None

    for _round in range(8):
        with ThreadPoolExecutor(8) as pool:
            begun = [j for j in pool.map(attempt, range(8)) if j]
        assert len(begun) == 1
        assert held.begun.wait(2), "a dozen waiting scans keep no rig from its work"
        other = begin(own, "another rig", rig_id=8)
        until(lambda other=other: state(own, other) == "running")
        held.go.set()
        until(lambda begun=begun, other=other: state(own, begun[0]) == state(own, other) == "done")
        held.go.clear()
        held.begun.clear()
    scans.go.set()


def test_a_queued_job_stops_at_once_and_one_that_just_stops_can_be_gone_on_with(own):
    scans = Held(own, "scan")
    runner = own.context.runner
    first, second = runner.start("scan", "first", {}), runner.start("scan", "second", {})
    assert scans.begun.wait(2)
    runner.stop(second)
    assert state(own, second) == "stopped"
    with pytest.raises(Conflict):
        runner.stop(second)
    scans.go.set()
    until(lambda: state(own, first) == "done")

    held = Held(own)
    for _ in range(15):
        job = begin(own)
        held.begun.wait(2)
        runner.stop(job)
        # As soon as it is told as stopped it can be gone on with, and is never left queued.
        until(lambda job=job: state(own, job) == "stopped")
        runner.resume(job)
        held.go.set()
        until(lambda job=job: state(own, job) == "done")
        held.go.clear()
        held.begun.clear()


@pytest.mark.parametrize(
    "dies_of", [ValueError("odd"), SystemExit(3), OperationalError("x", {}, Exception("locked"))]
)
def test_a_job_that_dies_of_whatever_leaves_its_rig_free_and_says_so(own, dies_of):
    def dies(_control, _params):
        raise dies_of

    own.context.runner.register("run", dies)
    job = begin(own)
    assert own.ended(job)["state"] == "failed"
    assert "logs/grayshelf.log" in own.ended(job)["advice"]
    assert type(dies_of).__name__ in (own.root / "logs" / "grayshelf.log").read_text()
    Held(own).go.set()
    assert own.ended(begin(own))["state"] == "done"


def test_an_answer_that_is_refused_does_not_count(own):
    """The run was stopped while its gate waited; when it is gone on with, the gate is asked anew."""
    job = own.context.runner.start("scan", "x", {"folder_id": 99})
    own.ended(job)
    with own.library.db.session() as session:
        session.add(RunStep(job_id=job, seq=1, kind="gate", title="Cap on", state="waiting"))
    with own.library.db.session() as session:
        step_id = session.scalar(select(RunStep.id))
    with pytest.raises(Conflict):
        answer_gate(own.library, own.context.runner, job, step_id, "done")
    with own.library.db.session() as session:
        step = session.get_one(RunStep, step_id)
        assert (step.state, step.outcome) == ("waiting", {})


def test_work_waits_where_the_disk_is_full_says_how_much_is_needed_and_goes_on(own, tmp_path, monkeypatch):
    room, tries = [3_000_000], []
    own.library.room = lambda folder: room[0]

    def shoots(control, _params):
        tries.append(1)
        if room[0] < 50_000_000:
            raise DiskFull(own.root / "frames", 120_000_000)
        return JobResult("2 frames")

    own.context.runner.register("run", shoots)
    job = begin(own)
    until(lambda: own.get("/api/jobs")["alive"][0]["state"] == "waiting")
    told = own.get("/api/jobs")["alive"][0]
    assert "120\u2009MB are needed in" in told["message"]
    assert "3\u2009MB are free" in told["message"]
    with pytest.raises(Conflict):
        begin(own)
    # Also where there is not even room to write down that it waits.
    room[0] = 130_000_000
    assert own.ended(job)["message"] == "2 frames"
    assert len(tries) == 2
    # A person can stop it instead of making room.
    room[0] = 0
    job = begin(own)
    until(lambda: own.get("/api/jobs")["alive"][0]["state"] == "waiting")
    own.context.runner.stop(job)
    assert own.ended(job)["state"] == "stopped"

    # A master: what is half written is taken away, and it is built when there is room.
    for i in range(4):
        write_fits(tmp_path / "disk" / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"})
    own.scan(tmp_path / "disk")
    writer, full = files._HashingWriter.write, [2]
    room[0] = 10**12

    def no_room(self, data):
        if full[0]:
            full[0] -= 1
            self.failed = OSError(errno.ENOSPC, "No space left on device")
            raise self.failed
        return writer(self, data)

    monkeypatch.setattr(files._HashingWriter, "write", no_room)
    built = own.build()
    assert built["message"] == "1 master built", built
    assert not list(own.root.rglob("*.part"))
    assert len(list((own.root / "masters").rglob("*.fits"))) == 1


def test_the_end_of_a_job_that_cannot_be_written_down_is_written_later(own, monkeypatch):
    held = Held(own)
    job = begin(own)
    held.begun.wait(2)
    plain, broken = own.context.runner.set_state, [2]

    def locked(job_id, told, *rest):
        if told == "done" and broken[0]:
            broken[0] -= 1
            raise OperationalError("update job", {}, Exception("database is locked"))
        plain(job_id, told, *rest)

    monkeypatch.setattr(own.context.runner, "set_state", locked)
    held.go.set()
    until(lambda: state(own, job) == "done")
    assert own.ended(begin(own))["state"] == "done"
    assert Path(own.root / "logs" / "grayshelf.log").exists()


def test_what_all_pages_ask_for_at_once_is_reckoned_once_and_never_after_a_change(own, monkeypatch):
    from grayshelf.web.whole import routes as whole

    reckoned, real = [], whole.count_all

    def counted(library):
        reckoned.append(1)
        time.sleep(0.15)
        return real(library)

    monkeypatch.setattr(whole, "count_all", counted)
    app = own.client.application
    with ThreadPoolExecutor(20) as pool:
        told = list(pool.map(lambda _: app.test_client().get("/api/state").text, range(20)))
    assert len(reckoned) <= 2 and len(set(told)) == 1
    before = len(reckoned)
    own.client.put("/api/site", json={"name": "Marsh", "latitude": 1, "longitude": 2, "time_zone": "UTC"})
    own.client.get("/api/state")
    assert len(reckoned) == before + 1, "nothing that was reckoned before a change is told after it"
    own.context.broker.publish("state")
    own.client.get("/api/state")
    assert len(reckoned) == before + 2
