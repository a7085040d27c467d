"""kill -9 of the server during a scan, a build and a run: what was done stays, and the work goes on from there."""

from __future__ import annotations

import shutil
import sqlite3

import numpy as np
import pytest
from astropy.io import fits

from tests.helpers import DARK, write_fits
from tests.web.server import Server


@pytest.fixture
def server(demo_folder):
    running = Server(demo_folder, rate=400.0).start()
    yield running
    running.kill()


def query(server, sql):
    with sqlite3.connect(server.folder / "library" / "grayshelf.db") as connection:
        return connection.execute(sql).fetchall()


def killed_during(server, job_id, far_enough):
    """Kill the server when the job has come far enough, start it again; the job must be 'interrupted'."""
    server.until(lambda: far_enough(server.job(job_id)), rest=0.0)
    server.kill()
    server.start()
    job = server.job(job_id)
    assert job["state"] == "interrupted", job
    assert job["can_resume"]
    assert job["message"]
    return job


def finish(server, job_id):
    server.post(f"/api/jobs/{job_id}/resume")
    job = server.until(lambda: (j := server.job(job_id))["state"] not in ("queued", "running") and j, 120)
    assert job["state"] == "done", job
    return job


def test_nothing_is_lost_or_done_twice(server, tmp_path):
    # A scan.
    folder = tmp_path / "many"
    first = write_fits(folder / "dark_0000.fits", DARK)
    for i in range(1, 2500):
        shutil.copyfile(first, folder / f"dark_{i:04d}.fits")
        with (folder / f"dark_{i:04d}.fits").open("r+b") as stream:
            at = stream.read(2880).index(b"2026-10-18T22:00:00")
            stream.seek(at)
            stream.write(f"2026-10-18T{22 + i // 3600:02d}:{i // 60 % 60:02d}:{i % 60:02d}".encode())
    scan = server.post("/api/folders", {"path": str(folder)})["id"]
    killed_during(server, scan, lambda j: 0.1 < j["progress"] < 0.8)
    read = query(server, "select count(*) from frame where path like 'dark_%'")[0][0]
    assert 0 < read < 2500
    finish(server, scan)
    rows = query(
        server,
        "select count(*), count(distinct path) from frame where path like 'dark_%' and set_id is not null",
    )
    assert rows == [(2500, 2500)]

    # A build.
    deep = tmp_path / "deep"
    rng = np.random.default_rng(1)
    for i in range(24):
        cards = {**DARK, "EXPTIME": 77.0, "DATE-OBS": f"2026-10-17T22:00:{i:02d}"}
        write_fits(deep / f"deep_{i}.fits", cards, rng.normal(500, 6, (1400, 1500)).astype(np.uint16))
    finished = server.post("/api/folders", {"path": str(deep)})["id"]
    server.until(lambda: server.job(finished)["state"] == "done")
    set_id = query(server, "select set_id from frame where path = 'deep_0.fits'")[0][0]
    build = server.post("/api/builds", {"set_ids": [set_id]})["id"]
    killed_during(server, build, lambda j: j["progress"] > 0.1)
    finish(server, build)
    masters = list((server.folder / "library" / "masters" / "Dunlin_M24").glob("master_dark_77s*"))
    assert [p.suffix for p in masters] == [".fits"], "one master, and nothing half-written"
    assert fits.getheader(masters[0])["NCOMBINE"] == 24
    assert query(
        server, f"select count(*) from frame_set where id = {set_id} and master_set_id is not null"
    ) == [(1,)]
    assert not list((server.folder / "library").rglob("*.part"))

    # A run, killed twice: in the flats and in the dark flats.
    body = {"rig_id": 1, "frames": 12, "leave_out": [], "add": []}
    sheet = server.get("/api/rigs/1/tonight?frames=12")
    body["leave_out"] = [o["key"] for o in sheet["offers"] if o["filter_code"] not in ("SII", "Ha")]
    run = server.post("/api/runs", body)["job_id"]

    def steps():
        return server.get("/api/rigs/1/run")["run"]["steps"]

    def answer():
        gate = server.until(lambda: next((x for x in steps() if x["state"] == "waiting"), None))
        server.post(f"/api/jobs/{run}/answer", {"step_id": gate["id"], "answer": "done"})

    def frames(kind):
        return sum(x["done"] for x in steps() if x["kind"] == kind)

    answer()
    killed_during(server, run, lambda j: frames("flats") >= 5)
    assert "interrupted" in server.get("/api/rigs/1/run")["run"]["headline"]
    server.post(f"/api/jobs/{run}/resume")
    answer()
    killed_during(server, run, lambda j: frames("dark flats") >= 14)
    finish(server, run)
    assert [(x["kind"], x["done"]) for x in steps() if x["kind"] in ("flats", "dark flats")] == [
        ("flats", 12), ("flats", 12), ("dark flats", 12), ("dark flats", 12),
    ]  # fmt: skip
    # Every frame once: on disk, in the catalogue, in a set, in the master.
    files = list((server.folder / "library" / "frames").rglob("*.fits"))
    assert len(files) == 48
    times = {fits.getheader(f)["DATE-OBS"] for f in files}
    assert len(times) == 48, "no frame was taken twice"
    rows = query(
        server,
        "select count(*), count(distinct path) from frame where path like 'frames/%' and set_id is not null",
    )
    assert rows == [(48, 48)]
    counts = query(
        server,
        "select n_frames from frame_set where is_master and id in (select set_id from frame where path like 'masters/%2026-10-18_12%')",
    )
    assert counts == [(12,)] * 4
    night = server.get("/api/rigs/1/nights/2026-10-18")
    verdicts = {s["filter_code"]: s["verdict"] for s in night["sets"]}
    assert verdicts["SII"] == verdicts["Ha"] == "fits"


def done_at(server, gate):
    """The hand has done what a gate asks for."""
    server.post(f"/api/jobs/{gate['job_id']}/answer", {"step_id": gate["step_id"], "answer": "done"})


def test_a_measurement_goes_on_after_a_kill(server):
    rig = next(r["id"] for r in server.get("/api/state")["rigs"] if r["name"] == "Bittern 200")
    started = server.post(f"/api/rigs/{rig}/bench/offset/shoot", {"gains": [120], "long_dark_s": 0})
    number, job = started["measurement_id"], started["job_id"]

    def page():
        return server.get(f"/api/measurements/{number}")

    def answer():
        done_at(server, server.until(lambda: page()["gate"]))

    answer()
    killed_during(server, job, lambda j: page()["offset"][0]["n_frames"] >= 6)
    before = page()["offset"][0]["n_frames"]
    assert before >= 6
    early = set((server.folder / "library" / "bench").rglob("*.fits"))
    last = max(fits.getheader(f)["DATE-OBS"] for f in early)
    finish(server, job)
    here = page()["offset"][0]
    assert here["state"] == "done" and here["n_frames"] > before
    files = sorted((server.folder / "library" / "bench").rglob("*.fits"))
    assert len(files) == here["n_frames"] and not list((server.folder / "library").rglob("*.part"))
    assert len({fits.getheader(f)["DATE-OBS"] for f in files}) == len(files), "no frame was taken twice"
    assert min(fits.getheader(f)["DATE-OBS"] for f in set(files) - early) > last, "time ran on"
    rows = query(
        server, f"select count(*), count(distinct path) from measurement_shot where measurement_id = {number}"
    )
    assert rows == [(len(files), len(files))]


def test_a_search_for_flat_settings_goes_on_from_its_shots(server):
    keys = [row["key"] for row in server.get("/api/rigs/1/flats")["rows"]][1:]
    job = server.post("/api/rigs/1/flats/find", {"keys": keys})["job_id"]
    done_at(server, server.until(lambda: server.get("/api/rigs/1/flats")["gate"]))
    count = "select count(*) from run_shot join run_step on run_step.id = step_id where job_id = "
    server.until(lambda: query(server, f"{count}{job}")[0][0] >= 4, rest=0.0)
    server.kill()
    before = query(
        server,
        f"select path, taken_at from run_shot join run_step on run_step.id = step_id where job_id = {job}",
    )
    server.start()
    sheet = server.get("/api/rigs/1/flats")
    assert sheet["job"]["state"] == "interrupted"
    assert sheet["job"]["can_resume"]
    server.post(f"/api/jobs/{job}/resume")
    sheet = server.until(lambda: (s := server.get("/api/rigs/1/flats"))["job"] is None and s, 60)
    assert all(row["state"] == "found" for row in sheet["rows"][1:])
    after = query(
        server,
        f"select path, taken_at from run_shot join run_step on run_step.id = step_id where job_id = {job}",
    )
    assert set(before) <= set(after), "what was shot before is not shot again"
    assert len({path for path, _ in after}) == len(after)
    assert max(row["shots"] for row in sheet["rows"][1:]) <= 4


def test_a_twilight_goes_on_with_the_flats_it_has(demo_folder):
    server = Server(demo_folder, rate=20_000.0).start()
    try:
        keys = [row["key"] for row in server.get("/api/rigs/1/flats")["rows"]][:3]
        rows = [{"key": key, "count": 15} for key in keys]
        at = server.post("/api/rigs/1/twilight", {"rows": rows})["at"]
        job = server.post("/api/rigs/1/twilight/start", {"at": at, "rows": rows})["job_id"]

        def page():
            return server.post("/api/rigs/1/twilight", {})

        done_at(server, server.until(lambda: page()["gate"]))
        shots = (
            f"select path, taken_at from run_shot join run_step on run_step.id = step_id where job_id = {job}"
        )
        server.until(lambda: len(query(server, shots)) >= 6, 90)
        server.kill()
        before = query(server, shots)
        server.start()
        assert page()["job"]["state"] == "interrupted"
        finish(server, job)
        after = query(server, shots)
        assert set(before) <= set(after), "what was shot before is not shot again"
        assert len({path for path, _ in after}) == len(after)
        assert [row["done"] for row in page()["rows"]] == [15, 15, 15]
        files = sorted((server.folder / "library" / "frames").rglob("*_sky_*.fits"))
        entered = query(server, "select path from frame where path like 'frames/%_sky_%' and state = 'good'")
        assert len(files) == len(entered) == sum("/flat/" in path for path, _ in after)
        assert not list((server.folder / "library").rglob("*.part"))
    finally:
        server.kill()
