"""The whole job over HTTP: the served rig gives what the rig in process gives, and every fault ends where nothing is lost."""

from __future__ import annotations

import itertools
import shutil
import threading
import time
from datetime import timedelta

import pytest
from sqlalchemy import select

from grayshelf.demo.rigs import START
from grayshelf.devices.alpaca import camera, waiting
from grayshelf.devices.alpaca.asking import AlpacaDevice
from grayshelf.library.models import Frame, Job, Measurement, MeasurementShot, RunShot, RunStep
from grayshelf.serving import open_demo
from grayshelf.web.app import create_app
from tests.served import ServedRig, attach_all
from tests.waiting import asked_until
from tests.web.test_bench import ALIVE
from tests.web.test_run import start


class Rigged:
    """A demo of its own, whose first rig is the one in process, or the served one."""

    def __init__(self, folder, served: bool) -> None:
        self.context = open_demo(folder, "tiny", 1e6)
        self.client = create_app(self.context).test_client()
        self.served = ServedRig(self.context.library.clock) if served else None
        if self.served is not None:
            attach_all(self.client, 1, self.served)

    def close(self) -> None:
        self.context.runner.shut_down()
        self.context.library.close()
        if self.served is not None:
            self.served.cut_off()

    def outcomes(self, job):
        """Every step and shot of a job: what was asked of hands, what was set, what came of it."""
        with self.context.library.db.session() as session:
            steps = session.scalars(
                select(RunStep).where(RunStep.job_id == job).order_by(RunStep.seq, RunStep.id)
            )
            told = [(s.kind, s.title, s.state, s.done) for s in steps]
            shots = session.scalars(
                select(RunShot)
                .join(RunStep)
                .where(RunStep.job_id == job)
                .order_by(RunStep.seq, RunStep.id, RunShot.seq)
            )
            seen = [(s.exposure_s, s.brightness, s.stats["median"]) for s in shots]
            measured = session.scalars(
                select(MeasurementShot)
                .join(Measurement)
                .where(Measurement.job_id == job)
                .order_by(MeasurementShot.id)
            )
            seen += [(s.exposure_s, s.offset, s.reading.get("mean", 0.0)) for s in measured]
        return told, seen

    def next_gate(self, job, but=None):
        """The gate that waits, with its title: another than `but`."""
        query = select(RunStep.id, RunStep.title).where(RunStep.job_id == job, RunStep.state == "waiting")
        end = time.monotonic() + 60
        while time.monotonic() < end:
            with self.context.library.db.session() as session:
                row = session.execute(query).first()
            if row is not None and row.id != but:
                return row.id, row.title
            time.sleep(0.05)
        raise AssertionError("no gate waits")

    def to_its_end(self, job, seconds=120):
        """Say at every gate that it is done, until the job ends; its state then, and what it says."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            with self.context.library.db.session() as session:
                row = session.get_one(Job, job)
                state, message = row.state, row.message
                waits = session.scalar(
                    select(RunStep.id).where(RunStep.job_id == job, RunStep.state == "waiting")
                )
            if state not in ALIVE:
                return state, message
            if waits is not None:
                self.client.post(f"/api/jobs/{job}/answer", json={"step_id": waits, "answer": "done"})
            time.sleep(0.05)
        raise AssertionError("it does not end")


@pytest.fixture
def rigged(tmp_path, made_demo):
    opened = []

    def make(*, served: bool) -> Rigged:
        folder = shutil.copytree(made_demo, tmp_path / f"demo{len(opened)}", symlinks=True)
        opened.append(Rigged(folder, served))
        return opened[-1]

    yield make
    for one in opened:
        one.close()


def key(code, gain=100.0):
    return {"filter_code": code, "gain": gain, "offset": 30.0, "binning": 1}


#: Each kind of work, as its page starts it.
WORKS = {
    "run": lambda client: start(client, ("R", "Ha")),
    "search": lambda client: client.post(
        "/api/rigs/1/flats/find", json={"keys": [key("R"), key("Ha", 200.0)]}
    ).json["job_id"],
    "gain": lambda client: client.post(
        "/api/rigs/1/bench/gain/shoot", json={"gains": [100], "filter_code": "Ha"}
    ).json["job_id"],
    "offset": lambda client: client.post("/api/rigs/1/bench/offset/shoot", json={"gains": [100]}).json[
        "job_id"
    ],
    "twilight": lambda client: client.post(
        "/api/rigs/1/twilight/start", json={"at": "dawn", "rows": [{"key": key("R"), "count": 5}]}
    ).json["job_id"],
}


@pytest.mark.parametrize("work", WORKS)
def test_all_work_over_http_is_as_in_process(rigged, work):
    told = []
    for served in (False, True):
        one = rigged(served=served)
        job = WORKS[work](one.client)
        assert one.to_its_end(job)[0] == "done", one.to_its_end(job)
        told.append(one.outcomes(job))
    (steps, shots), (steps_http, shots_http) = told
    assert steps_http == steps
    assert len(shots_http) == len(shots) > 3
    assert [s[1] for s in shots_http] == [s[1] for s in shots]
    # On the sky it is a little later over HTTP, since asking takes time.
    for number in (0, 2):
        assert [s[number] for s in shots_http] == pytest.approx([s[number] for s in shots], rel=0.01)


def test_a_run_through_every_fault_loses_and_doubles_no_frame(rigged, monkeypatch):
    one = rigged(served=True)
    monkeypatch.setattr(AlpacaDevice.get, "__kwdefaults__", {"within_s": 2.0, "cancel": None})
    monkeypatch.setattr(camera, "LATE_S", 0.7)
    monkeypatch.setattr(waiting, "MAY_BE_SILENT_S", 1.0)
    served, over = one.served, threading.Event()
    faults = [
        "half a picture",
        "rubbish",
        "error",
        "exposure fails",
        "other transaction",
        "stuck exposing",
        "restart",
    ]

    def disturb():
        for number in itertools.cycle(range(len(faults))):
            # By the processor's clock: a busy machine gets no more faults a frame than an idle one, which waits more.
            used, begun = time.process_time(), time.monotonic()
            while not over.wait(0.1):
                if time.process_time() - used > 0.4 or time.monotonic() - begun > 2.0:
                    break
            if over.is_set():
                return
            if faults[number] == "restart":
                served.cut_off()
                served.start()
            else:
                served.faults.begin(faults[number], 1)

    disturbing = threading.Thread(target=disturb, daemon=True)
    disturbing.start()
    job = start(one.client, ("R", "Ha"), frames=25)
    state, message = one.to_its_end(job, 240)
    over.set()
    disturbing.join()
    assert state == "done", message
    steps, _ = one.outcomes(job)
    assert [done for kind, _, _, done in steps if kind in ("flats", "dark flats")] == [25, 25, 25, 25]
    troubles = [title for kind, title, _, _ in steps if kind == "gate" and "does not go on" in title]
    assert len(troubles) < 60
    with one.context.library.db.session() as session:
        kept = session.scalars(
            select(Frame)
            .join(RunShot, RunShot.frame_id == Frame.id)
            .join(RunStep)
            .where(RunStep.job_id == job)
        ).all()
        assert len(kept) == len({f.path for f in kept}) == len({f.sha256 for f in kept})
        on_disk = {p.name for p in (one.context.library.root / "frames").rglob("*.fits")}
        assert {f.path.rsplit("/", 1)[-1] for f in kept} <= on_disk


def test_a_gate_that_is_answered_while_the_rig_is_away_is_asked_again(rigged, monkeypatch):
    """At the panel, and at the gate that says that a device does not go on: neither ends the run."""
    one = rigged(served=True)
    monkeypatch.setattr(AlpacaDevice.get, "__kwdefaults__", {"within_s": 2.0, "cancel": None})
    monkeypatch.setattr(waiting, "MAY_BE_SILENT_S", 1.0)
    job = start(one.client, ("R",), frames=5)
    panel = one.next_gate(job)
    one.served.cut_off()
    asked = [panel]
    for _ in range(3):
        one.client.post(f"/api/jobs/{job}/answer", json={"step_id": asked[-1][0], "answer": "done"})
        asked.append(one.next_gate(job, asked[-1][0]))
    assert [title for _, title in asked[1:]] == [
        "A device of the rig does not go on",
        panel[1],
        "A device of the rig does not go on",
    ]
    one.served.start()
    assert one.to_its_end(job)[0] == "done"
    steps, _ = one.outcomes(job)
    assert [done for kind, _, _, done in steps if kind in ("flats", "dark flats")] == [5, 5]


def test_a_panel_on_the_wall_is_faced_and_lit_by_nobodys_hand_and_it_waits_for_the_rain(rigged):
    """A mount, a lamp on a power port, a weather station and a safety monitor beside the train."""
    one = rigged(served=True)
    client, served = one.client, one.served
    ports = client.post("/api/devices/ports", json=served.chosen("switch")).json["ports"]
    assert [(p["number"], p["name"]) for p in ports] == [(1, "Panel on the wall")]
    refused = client.put("/api/rigs/1/devices/light", json=served.chosen("switch"))
    assert refused.status_code == 409 and "1 Panel on the wall" in refused.json["advice"]
    for part, kind, port in (
        ("light", "switch", 1),
        ("mount", "telescope", None),
        ("safety", "safetymonitor", None),
        ("weather", "observingconditions", None),
    ):
        answer = client.put(f"/api/rigs/1/devices/{part}", json={**served.chosen(kind), "port": port})
        assert answer.status_code == 200, answer.text
    assert client.put("/api/rigs/1/devices/cover", json=served.chosen("telescope")).status_code == 409
    half = client.put("/api/rigs/1/sheets/mount", json={"panel_altitude_deg": 4.0})
    assert half.status_code >= 400 and "azimuth" in half.json["detail"]
    kept = client.put(
        "/api/rigs/1/sheets/mount",
        json={"panel_altitude_deg": 4.0, "panel_azimuth_deg": 185.0, "after": "park"},
    )
    assert kept.status_code == 200, kept.text
    sheet = client.get("/api/rigs/1/tonight?frames=5").json
    faces = next(x for x in sheet["steps"] if "faces the panel" in x["title"])
    assert not faces["needs_person"]
    served.faults.begin("not safe")
    job = start(client, ("R",))
    row = asked_until(lambda: client.get("/api/jobs").json["alive"][0], lambda j: j["state"] == "waiting")
    assert "does not say that it is safe" in row["message"]
    weather = answer.json["change_id"]
    busy = client.post(f"/api/rigs/1/changes/{weather}/take-back")
    assert busy.status_code == 409 and "is busy" in busy.text, "its devices stay what they are while it works"
    mount = next(d for d in served.devices if d.kind == "telescope")
    assert mount.get_altitude() != pytest.approx(4.0), "no telescope is pointed in the rain"
    taken = served.worlds["heron"].state.frames_taken
    time.sleep(0.3)
    assert served.worlds["heron"].state.frames_taken == taken, "nothing is exposed in the rain"
    served.faults.end("not safe")
    assert one.to_its_end(job)[0] == "done"
    steps, _ = one.outcomes(job)
    gates = [(title, state) for kind, title, state, _ in steps if kind == "gate"]
    assert gates == [("The telescope faces the panel", "done"), ("Cap on", "done")]
    assert mount.get_atpark() and not mount.get_tracking()
    # Its frames came 0.4 s after one another's exposures: the next forecast knows.
    with one.context.library.db.session() as session:
        of_run = select(RunShot).join(RunStep).where(RunStep.job_id == job, RunStep.kind != "find")
        for shot in session.scalars(of_run.order_by(RunShot.id)):
            shot.taken_at = START + timedelta(seconds=shot.seq * (shot.exposure_s + 0.4))
        rig = one.context.library.rig(session, 1)
    assert one.context.starter.rigs.seen(rig).camera.facts.download_s == pytest.approx(0.4, abs=0.01)
    assert client.post(f"/api/rigs/1/changes/{weather}/take-back").status_code == 200
    night = client.get("/api/rigs/1/nights/2026-10-18").json
    assert "81" in str(night), "the humidity stands in the night's log"
