"""A series' first frames: those that have not settled are set aside, and a confirming shot counts as the first flat."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from astropy.io import fits
from sqlalchemy import select

from grayshelf.library.models import Frame, RunStep
from tests.web.test_run import gate_of, start, wait_for


def test_first_frames_that_have_not_settled_are_set_aside_and_a_confirming_shot_is_the_first_flat(
    client, context
):
    def page():
        return client.get("/api/rigs/1/run").json["run"]

    def shot(job_id, kind):
        with context.library.db.session() as session:
            steps = session.scalars(
                select(RunStep).where(RunStep.job_id == job_id, RunStep.kind == kind)
            ).all()
            return [(s.path, s.frame_id, s.why) for step in steps for s in step.shots]

    def whole(code, **card):
        assert client.put("/api/rigs/1/sheets/camera", json=card).status_code == 200
        job_id = start(client, [code], frames=4)
        while (run := wait_for(context, page, lambda r: gate_of(r) or r["job"]["state"] == "done"))["job"][
            "state"
        ] != "done":
            said = {"step_id": gate_of(run)["id"], "answer": "done"}
            assert client.post(f"/api/jobs/{job_id}/answer", json=said).status_code == 200
        client.post(f"/api/runs/{job_id}/put-away")
        return job_id

    job_id = whole("OIII", drop_first=2, pause_s=3.0)
    flats = shot(job_id, "flats")
    assert len(flats) == 6 and [bool(why) for _, _, why in flats] == [True, True, False, False, False, False]
    assert flats[0][2] == "One of the first 2 of its series: not settled yet."
    with context.library.db.session() as session:
        frames = [session.get_one(Frame, frame_id) for _, frame_id, _ in flats]
        assert [f.rejected for f in frames] == [True, True, False, False, False, False]
        taken = [f.utc for f in frames]
        apart = [(b - a).total_seconds() for a, b in pairwise(taken)]
        assert min(apart) >= 3.0, "and it paused between them"
    job_id = whole("SII", drop_first=None, pause_s=None)
    tests, flats = shot(job_id, "find"), shot(job_id, "flats")
    assert len(flats) == 4
    first, last_test = (fits.open(context.library.root / path)[0] for path in (flats[0][0], tests[-1][0]))
    assert (
        np.array_equal(first.data, last_test.data)
        and first.header["DATE-OBS"] == last_test.header["DATE-OBS"]
    )
    assert first.header["GSSHOT"] != last_test.header["GSSHOT"], "each is its own shot's"
