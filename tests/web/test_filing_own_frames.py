"""What was shot, fetched and combined here is filed as well: moved out of the library's own folder, and taken back into it."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from grayshelf.core.errors import GrayShelfError
from grayshelf.library.filing import FiledBy, FilingWishes
from grayshelf.library.letting_go import plan_letting_go
from grayshelf.library.models import Job, RunShot, RunStep
from grayshelf.library.records import as_kept
from grayshelf.library.step_records import RunJob
from grayshelf.work import filing as work
from tests.helpers import DARK, write_fits
from tests.waiting import asked_until
from tests.web.test_filing import file, on_the_list, take_back, tree, wishes

AT = datetime(2026, 10, 18, 23, tzinfo=UTC)


@pytest.fixture
def shot(own):
    """Six darks as a run leaves them, and two that measured a camera; the number of the library's own folder."""
    for i in range(6):
        cards = {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"}
        write_fits(own.root / f"frames/cam/2026-10-18/dark_run0001-ab_00001_{i:03d}.fits", cards)
    for i in range(2):
        write_fits(own.root / f"bench/cam/measurement_0001/b{i}.fits", {**DARK, "DATE-OBS": f"2026-10-17T22:0{i}:00"})  # fmt: skip
    folder = own.query("SELECT id FROM folder WHERE own")[0][0]
    assert own.ended(own.client.post(f"/api/folders/{folder}/scan", json={}).json["id"])["state"] == "done"
    return folder


def rows(own):
    return own.query("SELECT id, kind, utc, set_id, state FROM frame WHERE state NOT IN ('gone', 'duplicate') ORDER BY id")  # fmt: skip


@pytest.mark.parametrize("way", [FiledBy.MOVE, FiledBy.COPY])
def test_filed_and_taken_back(own, shot, tmp_path, way):
    own.build()
    before, told, masters = tree(own.root / "frames"), rows(own), tree(own.root / "masters")
    root = tmp_path / "sorted"
    measured = tree(own.root / "bench")
    assert file(own, wishes(root, way))["state"] == "done"
    assert rows(own) == told and on_the_list(own) == len(told)
    filed = [content for name, content in tree(root).items() if not name.startswith("0_masters")]
    assert sorted(filed) == sorted(before.values())
    assert tree(own.root / "masters") == masters and tree(own.root / "bench") == measured
    assert tree(own.root / "frames") == ({} if way is FiledBy.MOVE else before)
    # Nothing is left to do, after a restart neither; what was copied is known as a copy there.
    own.again()
    own.wait_until_idle()
    with pytest.raises(GrayShelfError, match="No frame goes anywhere"):
        file(own, wishes(root, way))
    assert rows(own) == told
    # And the master is still one of these frames.
    assert own.query("SELECT count(*) FROM frame_set WHERE kind = 'dark' AND is_master") == [(1,)]
    ended = take_back(own)
    assert ended["state"] == "done" and not ended["troubles"]
    assert tree(own.root / "frames") == before and tree(root) == {} and on_the_list(own) == len(told)


def test_frames_of_a_run_that_goes_on_stay(own, shot, tmp_path):
    """Their run may read them again; the others go."""
    ids = [i for (i,) in own.query("SELECT id FROM frame WHERE path LIKE 'frames/%' ORDER BY id")]
    with own.library.db.session() as session:
        job = Job(kind="run", title="Darks of tonight", state="waiting", params={}, rig_id=1, created_at=AT)
        step = RunStep(seq=1, kind="darks", title="Darks", params={})
        step.shots = [RunShot(seq=n, exposure_s=300, stats={}, taken_at=AT, path=f"{n}", frame_id=i) for n, i in enumerate(ids[:2])]  # fmt: skip
        job.steps = [step]
        session.add(job)
    root = tmp_path / "sorted"
    body = {"choice": {}, "root": str(root), "patterns": [], "way": "move", "along": True}
    shown = own.client.post("/api/filing/preview", json=body).json
    assert shown["going"] == 4 and len(shown["stays"]) == 1, shown
    assert "Darks of tonight goes on just now" in shown["rows"][0]["stays"]
    assert file(own, wishes(root))["state"] == "done"
    assert [p.name[-8:] for p in sorted((own.root / "frames").rglob("*.fits"))] == ["000.fits", "001.fits"]
    assert own.client.get("/api/shots/1/picture.png").status_code == 200
    on_the_list(own)


def test_what_comes_in_for_a_run_by_hand_stays_until_that_has_ended(own, tmp_path):
    """Filed away at once it would be gone before the run has read it."""
    watched, root = tmp_path / "nas" / "tonight", tmp_path / "sorted"
    write_fits(tmp_path / "nas" / "old.fits", {**DARK, "DATE-OBS": "2026-10-17T22:00:00"})
    own.scan(tmp_path / "nas")
    folder = own.query("SELECT id FROM folder WHERE NOT own AND path LIKE '%nas'")[0][0]
    with own.library.db.session() as session:
        work.keep_filing_wishes(own.library, session, FilingWishes(str(root), from_now_on=(folder,)))
        params = as_kept(RunJob(by_hand=True, folder=str(watched)))
        session.add(Job(kind="run", title="Flats by hand", state="waiting", params=params, created_at=AT))
    write_fits(watched / "d.fits", {**DARK, "DATE-OBS": "2026-10-18T22:00:00"})
    own.scan(tmp_path / "nas")
    asked_until(
        lambda: own.query("SELECT state FROM job WHERE kind = 'file'"), lambda s: s == [("done",)], 60
    )
    assert (watched / "d.fits").is_file() and not (tmp_path / "nas/old.fits").exists()
    # Another filing goes on when the run ends: it is filed when that has ended, too.
    with own.library.db.session() as session:
        session.query(Job).filter(Job.kind == "run").update({"state": "done"})
        session.add(Job(kind="file", title="Another", state="running", params={}, created_at=AT))
    own.context.runner.when_ended("run")
    assert (watched / "d.fits").is_file()
    with own.library.db.session() as session:
        session.query(Job).filter(Job.title == "Another").update({"state": "done"})
    own.context.runner.when_ended("file")
    own.wait_until_idle()
    assert not watched.exists() and len(tree(root)) == 2
    on_the_list(own)


def test_from_now_on_what_is_made_here_is_filed_when_its_job_has_ended(own, shot, tmp_path):
    """Frames that are shot or fetched, and masters that are combined."""
    root = tmp_path / "sorted"
    with own.library.db.session() as session:
        work.keep_filing_wishes(own.library, session, FilingWishes(str(root)))
    listed = own.get("/api/filing")["folders"]
    assert [(f["id"], f["label"]) for f in listed] == [(shot, "What was shot and fetched here")]
    assert own.client.put("/api/filing/from-now-on", json={"folder_ids": [shot]}).status_code == 200
    own.build()
    filed = asked_until(lambda: tree(root) if root.exists() else {}, lambda found: len(found) == 7, 60)
    own.wait_until_idle()
    assert sum(name.startswith("0_masters") for name in filed) == 1
    assert not list((own.root / "frames").rglob("*.fits"))
    on_the_list(own)
    # Taken back, it is not filed again by the next job.
    for number in range(own.query("SELECT max(id) FROM filing")[0][0], 0, -1):
        assert take_back(own, number)["state"] == "done"
    assert own.get("/api/filing")["from_now_on"] == []
    own.context.runner.when_ended("build")
    own.wait_until_idle()
    assert len(list((own.root / "frames").rglob("*.fits"))) == 6


def test_moved_to_another_disk_to_make_room(own, shot, tmp_path):
    own.build()
    sets = {i for (i,) in own.query("SELECT DISTINCT set_id FROM frame WHERE path LIKE 'frames/%'")}
    (tmp_path / "large").mkdir()
    plan = plan_letting_go(own.library, sets, FiledBy.MOVE, str(tmp_path / "large"))
    assert len(plan.legs) == 6 and not plan.stays
