"""kill -9 at random moments of every kind of work, of a first start and of an upgrade."""

from __future__ import annotations

import random
import shutil
import signal
import subprocess
import sys
import time
import urllib.error
from collections import Counter
from pathlib import Path

from alembic import command
from sqlalchemy import URL, create_engine
from tests.helpers import DARK, write_fits
from tests.web.server import Server

from grayshelf.library import upgrade
from siege.state import MAIN_PAGES, demo, harm_done, harm_of_database, pages_that_fail, rows

KILLS, FIRST_STARTS, UPGRADES = 70, 12, 18
MOST_SECONDS = 600


def _answer_gates(server: Server) -> None:
    """Every gate that waits is answered, whatever work it belongs to."""
    for job, step in rows(
        server.folder / "library", "select job_id, id from run_step where state = 'waiting' and kind = 'gate'"
    ):
        try:
            server.post(f"/api/jobs/{job}/answer", {"step_id": step, "answer": "done"})
        except urllib.error.HTTPError:
            # It has ended, or was answered, in the meantime.
            continue


def _begin(server: Server, kind: str, chance: random.Random, folder: Path) -> None:
    rig = 1
    if kind == "scan":
        many = folder / f"many {chance.randint(0, 10**9)}"
        pattern = write_fits(many / "d0000.fits", DARK)
        for i in range(1, 400):
            shutil.copyfile(pattern, many / f"d{i:04d}.fits")
        server.post("/api/folders", {"path": str(many)})
    elif kind == "build":
        server.post("/api/builds", {"set_ids": None})
    elif kind == "run":
        sheet = server.get("/api/rigs/1/tonight?frames=5")
        leave = [o["key"] for o in sheet["offers"][2:]]
        server.post("/api/runs", {"rig_id": 1, "frames": 5, "leave_out": leave, "add": []})
    elif kind in ("offset", "gain"):
        body = {"gains": [chance.choice((100, 200))], "long_dark_s": 0}
        if kind == "gain":
            body["filter_code"] = "L"
        server.post(f"/api/rigs/{rig}/bench/{kind}/shoot", body)
    elif kind == "flats":
        keys = [row["key"] for row in server.get("/api/rigs/1/flats")["rows"]]
        server.post("/api/rigs/1/flats/find", {"keys": keys})
    elif kind == "site":
        zone = chance.choice(("Europe/London", "Pacific/Auckland", "America/Denver"))
        server.post("/api/clock", {"fast": True})
        _put(server, "/api/site", {"name": "x", "time_zone": zone})
    elif kind == "throw away":
        kept = rows(server.folder / "library", "select id, frames from measurement where source = 'shot'")
        for number, state in kept[-1:]:
            what = {"kept": "throw-away", "thrown away": "delete"}.get(state)
            if what:
                server.post(f"/api/measurements/{number}/frames/{what}")


def _put(server: Server, path: str, body: dict) -> None:
    import json
    import urllib.request

    data, kind = json.dumps(body).encode(), {"Content-Type": "application/json"}
    with urllib.request.urlopen(
        urllib.request.Request(server.url + path, data, kind, method="PUT"), timeout=30
    ):
        pass


KINDS = ("scan", "build", "run", "offset", "gain", "flats", "site", "throw away")


def main(folder: Path, frames: Path) -> list[str]:
    chance, harm, done, caught = random.Random(11), [], Counter(), Counter()
    server = demo(folder, frames).start()
    ends = time.monotonic() + MOST_SECONDS
    for number in range(KILLS):
        if time.monotonic() > ends:
            print(f"   stopped for want of time after {number} kills")
            break
        kind = KINDS[number % len(KINDS)]
        try:
            for job in server.get("/api/jobs")["alive"]:
                if job["can_resume"] and chance.random() < 0.7:
                    server.post(f"/api/jobs/{job['id']}/resume")
            _begin(server, kind, chance, folder)
        except urllib.error.HTTPError as error:
            # 409: the rig is busy with what was gone on with; killed all the same.
            if error.code != 409:
                harm.append(f"{kind}: {error.code} {error.read()[:200]!r}")
        until = time.monotonic() + chance.uniform(0.0, 2.5)
        while time.monotonic() < until:
            _answer_gates(server)
            time.sleep(0.05)
        going = {
            j["kind"]
            for j in server.get("/api/jobs")["alive"]
            if j["state"] in ("running", "waiting", "queued")
        }
        server.kill()
        done[kind] += 1
        caught.update(going)
        harm += [f"after a kill in {kind}: {h}" for h in harm_of_database(server.folder / "library")]
        server.start()
    _finish(server)
    server.post("/api/folders/1/scan")
    server.until(lambda: not server.get("/api/jobs")["alive"], 120)
    harm += harm_done(server.folder / "library") + pages_that_fail(server, MAIN_PAGES)
    harm += _frames_twice(server)
    server.kill()
    print(f"   {sum(done.values())} kills; going on when killed: {dict(caught)}")
    return harm + _first_starts(folder, frames, chance) + _upgrades(folder, chance)


def _finish(server: Server) -> None:
    """Go on with everything that was cut short, one after the other, to its end."""
    for _ in range(600):
        alive = server.get("/api/jobs")["alive"]
        if not alive:
            return
        for job in alive:
            if job["can_resume"]:
                try:
                    server.post(f"/api/jobs/{job['id']}/resume")
                except urllib.error.HTTPError:
                    # Its rig is busy with another one: its turn comes.
                    continue
        _answer_gates(server)
        time.sleep(0.2)
        if all(job["state"] == "interrupted" for job in alive):
            time.sleep(0.5)


def _frames_twice(server: Server) -> list[str]:
    from astropy.io import fits

    seen: Counter = Counter()
    for path in (server.folder / "library" / "frames").rglob("*.fits"):
        seen[fits.getheader(path)["DATE-OBS"]] += 1
    return [f"taken twice: {at}" for at, n in seen.items() if n > 1]


def _first_starts(folder: Path, frames: Path, chance: random.Random) -> list[str]:
    harm = []
    for number in range(FIRST_STARTS):
        place = folder / f"first {number}"
        place.mkdir()
        server = demo(place, frames)
        command = [
            sys.executable,
            "-m",
            "grayshelf.cli",
            "demo",
            "--folder",
            str(server.folder),
            "--size",
            "tiny",
        ]
        with (place / "log").open("wb") as log:
            first = subprocess.Popen([*command, "--port", str(server.port)], stdout=log, stderr=log)
        time.sleep(chance.uniform(0.8, 8.0))
        first.send_signal(signal.SIGKILL)
        first.wait()
        server.start()
        library = server.folder / "library"
        offsets = rows(library, "select count(*) from camera_value where kind = 'offset'")[0][0]
        raw = rows(
            library,
            "select count(*) from frame_set where kind in ('flat', 'dark flat') and not is_master and master_set_id is null "
            "and n_frames > 3 and night < '2026-10-18'",
        )[0][0]
        if offsets != 1 or raw:
            harm.append(f"first start {number}: {offsets} offsets, {raw} sets unbuilt")
        harm += harm_done(library)
        server.kill()
        shutil.rmtree(place)
    print(f"   {FIRST_STARTS} first starts killed, and finished by the next one")
    return harm


def _upgrades(folder: Path, chance: random.Random) -> list[str]:
    """Killed while it opens: before, in and after the migration."""
    revisions = [s.revision for s in reversed(list(upgrade._scripts().walk_revisions()))][:-1]
    harm = []
    for number in range(UPGRADES):
        root = folder / f"upgrade {number}"
        root.mkdir()
        engine = create_engine(URL.create("sqlite", database=str(root / "grayshelf.db")))
        with engine.begin() as connection:
            command.upgrade(upgrade._config(connection), chance.choice(revisions))
            connection.exec_driver_sql(
                "insert into setting (key, value) values ('site', '{\"name\": \"Heath\"}')"
            )
        engine.dispose()
        program = f"from grayshelf.library.library import Library\nfrom pathlib import Path\nLibrary(Path({str(root)!r}))"
        first = subprocess.Popen([sys.executable, "-c", program])
        time.sleep(chance.uniform(0.6, 1.8))
        first.send_signal(signal.SIGKILL)
        first.wait()
        again = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True)
        if again.returncode:
            harm.append(f"upgrade {number}: {again.stderr[-300:]}")
        elif rows(root, "select count(*) from setting where key = 'site'") != [(1,)]:
            harm.append(f"upgrade {number}: the site is lost")
        harm += harm_of_database(root)
    print(f"   {UPGRADES} upgrades killed, and done by the next start")
    return harm
