"""From lights without flats to slips that fit: seven filters on the simulated rig, against the bare time it takes."""

from __future__ import annotations

import tempfile
import time
from collections import Counter
from pathlib import Path
from typing import Any

from flask.testing import FlaskClient
from sqlalchemy import select

from grayshelf.core.planning.sheet import SERIES, StepKind
from grayshelf.library.models import RunStep
from grayshelf.serving import open_demo
from grayshelf.web.app import create_app
from grayshelf.web.context import Context

CODES = ("L", "R", "G", "B", "Ha", "OIII", "SII")
FRAMES = 25


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        context = open_demo(Path(folder) / "demo", "tiny", 1e6)
        try:
            client = create_app(context).test_client()
            _measure_panel(client)
            own = _run(context, client, "each filter at its own exposure")
            _find(client, shared=True)
            foretold = client.get("/api/rigs/1/tonight", query_string=_asked(client)).json
            assert foretold is not None
            print(f"foretold: {foretold['shared']}")
            shared = _run(context, client, "one exposure for all filters of a gain")
            print(
                f"one exposure: {own[0] - shared[0]} dark flats fewer ({own[0]} and {shared[0]}), "
                f"{(own[1] - shared[1]) / 60:.1f} min less"
            )
        finally:
            context.runner.shut_down()
            context.library.close()


def _rows(client: FlaskClient) -> list[dict[str, Any]]:
    sheet = client.get("/api/rigs/1/flats").json
    assert sheet is not None
    return [r["key"] for r in sheet["rows"] if r["key"]["binning"] == 1]


def _measure_panel(client: FlaskClient) -> None:
    _find(client, response=True)
    _find(client)


def _find(client: FlaskClient, **how: bool) -> None:
    """Search every row, once the panel is there."""
    client.post("/api/rigs/1/flats/find", json={"keys": _rows(client), **how})
    while (sheet := client.get("/api/rigs/1/flats").json) is not None and sheet["job"] is not None:
        _answer(client, sheet["gate"])


def _answer(client: FlaskClient, gate: dict[str, Any] | None) -> None:
    if gate is None:
        time.sleep(0.05)
    else:
        client.post(f"/api/jobs/{gate['job_id']}/answer", json={"step_id": gate["step_id"], "answer": "done"})


def _asked(client: FlaskClient) -> dict[str, Any]:
    sheet = client.get("/api/rigs/1/tonight").json
    assert sheet is not None
    flats = [o for o in sheet["offers"] if o["kind"] == "flat"]
    wanted = {code: next(o["key"] for o in flats if o["filter_code"] == code) for code in CODES}
    away = [o["key"] for o in sheet["offers"] if o["key"] not in wanted.values()]
    return {"frames": FRAMES, "add": ",".join(wanted.values()), "leave_out": ",".join(away)}


def _run(context: Context, client: FlaskClient, name: str) -> tuple[int, float]:
    """Dark flats shot, and seconds by the rig's clock; what is over the bare time is told by cause."""
    asked = _asked(client)
    body = {**asked, "rig_id": 1, "add": asked["add"].split(","), "leave_out": asked["leave_out"].split(",")}
    started = client.post("/api/runs", json=body).json
    assert started is not None
    job = started["job_id"]
    while True:
        run = client.get("/api/rigs/1/run").json
        assert run is not None
        if run["run"]["job"]["state"] == "done":
            break
        _answer(client, next((s["gate"] for s in run["run"]["steps"] if s["state"] == "waiting"), None))
    client.post(f"/api/runs/{job}/put-away")
    with context.library.db.session() as session:
        steps = list(session.scalars(select(RunStep).where(RunStep.job_id == job)))
        took: Counter[str] = Counter()
        bare, looked = 0.0, 0
        download = context.starter.rigs["heron"].camera.facts.download_s
        for step in steps:
            if (
                step.started_at is None
                or step.ended_at is None
                or step.kind in (StepKind.GATE, StepKind.BUILD)
            ):
                continue
            took[step.kind] += (step.ended_at - step.started_at).total_seconds()
            of_step = sum(shot.exposure_s + download for shot in step.shots)
            if step.kind in SERIES:
                bare += of_step
            else:
                looked += len(step.shots)
        series = sum(took[k] for k in SERIES)
        # Each filter is brought in once: two seconds and one for each place of the wheel, as the rig has it.
        moves = 3.0 * len(CODES)
        whole = sum(took.values())
        dark_flats = sum(s.done for s in steps if s.kind == StepKind.DARK_FLATS)
    print(
        f"{name}: {whole / 60:.1f} min, {whole / (bare + moves):.3f} times the bare exposures, downloads and moves "
        f"(limit 1.10)"
    )
    print(
        f"  over: {looked} test shots and moves {took[StepKind.FIND] - moves:.0f} s, "
        f"measuring and writing {series - bare:.0f} s"
    )
    return dark_flats, whole
