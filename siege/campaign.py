"""A night of darks that everything happens to: killed, its disk full, its cooler giving up; and gone on with."""

from __future__ import annotations

import json
from pathlib import Path

from tests.web.server import Server

from siege.disks import fill_up, on_small_disk
from siege.state import demo, harm_done, rows

SIZE_MB = 600
#: Frames of each dark, and of the bias.
DARKS, BIAS = 40, 200
#: So far off its set point a frame may be that counts, in °C.
NEAR_C = 0.3


def main(folder: Path, frames: Path) -> list[str]:
    return on_small_disk(folder, SIZE_MB, lambda disk: _night(disk, frames))


def _night(disk: Path, frames: Path) -> list[str]:
    server = demo(disk, frames, 3000.0).start()
    job = _begin(server)
    world = next(server.folder.glob("rig-heron.json"))
    # Killed in the first darks, and gone on with.
    _until_done(server, 25)
    server.kill()
    server.start()
    _go_on(server, job)
    # Its disk fills, and is freed after a while: it waits, and goes on by itself.
    _until_done(server, 60)
    fill_up(disk, disk / "ballast", 0)
    server.until(lambda: "needed in" in server.job(job)["message"], 60)
    (disk / "ballast").unlink()
    _until_done(server, 90)
    # The cooler gives up while nobody is there; the process is killed once more.
    _until_at(server, -18.0)
    server.kill()
    state = json.loads(world.read_text())
    world.write_text(json.dumps({**state, "faults": ["cooler gives up"]}))
    server.start()
    _go_on(server, job)
    server.until(lambda: server.job(job)["state"] == "done", 240)
    troubles = server.job(job)["troubles"]
    harm = harm_done(server.folder / "library") + _harm_of(server.folder / "library", job)
    if not any("does not reach" in t or "left" in t for t in troubles):
        harm.append(f"nobody was told that the cooler gave up: {troubles}")
    print(f"   at its end: {'; '.join(troubles)[:200]}")
    server.kill()
    return harm


def _begin(server: Server) -> int:
    """Two set points, three exposures, and bias."""
    asked = {"exposures": "60, 120, 300 s", "temps": "-10 -18", "set_up": "g100:o30:b1"}
    keys = server.post("/api/rigs/1/fill/ladder", asked)["keys"]
    page = server.get("/api/rigs/1/fill?hours=24")
    offered = [c for w in page["walls"] for r in w["rows"] for c in r["cells"] if c]
    away = [c["key"] for c in offered if c["state"] == "on" and c["key"] not in keys]
    bias = [b["key"] for b in page["bias"]][:1]
    away += [b["key"] for b in page["bias"] if b["key"] not in bias]
    counts = [*(f"{k}={DARKS}" for k in keys), *(f"{k}={BIAS}" for k in bias)]
    body = {
        "hours": 24,
        "put_on": ",".join([*keys, *bias]),
        "left_out": ",".join(away),
        "counts": ",".join(counts),
    }
    job: int = server.post("/api/rigs/1/fill", body)["job_id"]
    _answer(server, job)
    return job


def _answer(server: Server, job: int) -> None:
    """The cap is on."""
    gate = server.until(lambda: next((s for s in _steps(server) if s["state"] == "waiting"), None))
    server.post(f"/api/jobs/{job}/answer", {"step_id": gate["id"], "answer": "done"})


def _go_on(server: Server, job: int) -> None:
    server.post(f"/api/jobs/{job}/resume")


def _steps(server: Server) -> list[dict]:
    return server.get("/api/rigs/1/run")["run"]["steps"]


def _until_done(server: Server, frames: int) -> None:
    server.until(lambda: sum(s["done"] for s in _steps(server)) >= frames, 240)


def _until_at(server: Server, temp_c: float) -> None:
    """Until darks of a set point are being shot."""
    title = f"at {temp_c:.0f}".replace("-", "−")
    server.until(lambda: any(title in s["title"] and s["done"] >= 5 for s in _steps(server)), 300)


def _harm_of(library: Path, job: int) -> list[str]:
    """Frames off their set point that count, frames twice, series that are short without a word."""
    shot = rows(
        library,
        "select frame.kind, frame.path, frame.sha256, frame.utc, frame.rejected, "
        "json_extract(frame.facts, '$.set_temp_c'), json_extract(frame.facts, '$.sensor_temp_c') from run_shot "
        f"join run_step on run_step.id = step_id join frame on frame.id = frame_id where job_id = {job}",
    )
    harm = [
        f"{path} is {sensor:.2f} °C at a set point of {goal}"
        for kind, path, _, _, aside, goal, sensor in shot
        if kind == "dark" and not aside and abs(goal - sensor) > NEAR_C
    ]
    for what, values in (("path", [s[1] for s in shot]), ("time", [s[3] for s in shot])):
        harm += [f"{what} twice: {v}" for v in {v for v in values if values.count(v) > 1}]
    done = {
        (kind, title): (count, got)
        for kind, title, count, got in rows(
            library, f"select kind, title, count, done from run_step where job_id = {job}"
        )
    }
    first = [(k, v) for k, v in done.items() if k[0] in ("bias", "darks") and "−18" not in k[1]]
    harm += [f"{title}: {got} of {count}" for (_, title), (count, got) in first if got < count]
    good = sum(1 for s in shot if not s[4])
    print(f"   {good} frames that count, of {len(shot)} that were shot")
    return harm
