"""What a kill leaves half done with the frames of a measurement, and values that were accepted by a wrong clock."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import pytest

from grayshelf.core.errors import Conflict
from grayshelf.library import bench_frames, camera_values
from grayshelf.library.catalog import enter_own_file
from grayshelf.library.models import Folder, FrameSet, Measurement, MeasurementShot
from tests.helpers import DARK, facts_of, write_fits


def measured(own, n=6):
    """A measurement with frames that were shot for it."""
    with own.library.db.session() as session:
        row = Measurement(
            kind="offset",
            camera="Dunlin M24",
            source="shot",
            gains=[100.0],
            settings={},
            made_at=datetime.now(UTC),
        )
        session.add(row)
        session.flush()
        held = FrameSet(kind="bias", is_master=False, n_frames=n, n_kept=n, facts={}, measurement_id=row.id)
        session.add(held)
        session.flush()
        folder = session.get_one(Folder, own.library.own_folder_id(session))
        for i in range(n):
            name = f"bench/Dunlin_M24/measurement_{row.id:04d}/b{i}.fits"
            path = write_fits(own.root / name, {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"})
            frame = enter_own_file(session, folder, name, facts_of(path), "0" * 64)
            frame.group_key, frame.set_id = None, held.id
            row.shots.append(
                MeasurementShot(
                    gain=100.0, offset=30.0, role="bias", exposure_s=0.0, frame_id=frame.id, path=name
                )
            )
        return row.id


def files(own):
    rows = own.query("select path, state from frame")
    return dict(list(map(tuple, rows)))


def test_a_kill_in_the_middle_of_deleting_is_finished_and_not_taken_back(own, monkeypatch):
    number = measured(own)
    bench_frames.throw_away(own.library, number)
    plain, left = Path.unlink, [3]

    def killed(self, *rest, **more):
        if self.suffix == ".fits":
            if not left[0]:
                raise SystemExit("killed")
            left[0] -= 1
        return plain(self, *rest, **more)

    monkeypatch.setattr(Path, "unlink", killed)
    with pytest.raises(SystemExit):
        bench_frames.delete_for_good(own.library, number)
    monkeypatch.undo()
    with pytest.raises(Conflict):
        bench_frames.take_back(own.library, number)
    own.again()
    assert own.query("select frames from measurement") == [("deleted",)]
    assert set(files(own).values()) == {"gone"}
    assert not list(own.root.rglob("b*.fits"))


@pytest.mark.parametrize("before", ["kept", "thrown away"])
def test_a_kill_between_moving_the_files_and_writing_it_down_is_told_as_the_disk_has_it(own, before):
    number = measured(own)
    bench_frames.throw_away(own.library, number)
    if before == "thrown away":
        bench_frames.take_back(own.library, number)
    with own.library.db.session() as session:
        # The rows as they were before the files were moved.
        row = session.get_one(Measurement, number)
        row.frames = before
        bench_frames._mark(session, row, *bench_frames._KEPT_STATE[before])
    own.again()
    after = "thrown away" if before == "kept" else "kept"
    assert own.query("select frames from measurement") == [(after,)]
    assert set(files(own).values()) == {"gone" if after == "thrown away" else "good"}


def test_what_was_accepted_last_counts_whatever_the_clock_said(own, monkeypatch):
    number = measured(own)
    for hour, offset in ((2099, 50), (2026, 30)):
        monkeypatch.setattr(own.library.clock, "now", lambda hour=hour: datetime(hour, 10, 18, tzinfo=UTC))
        with own.library.db.session() as session:
            camera_values.accept(
                own.library, session, session.get_one(Measurement, number), 100.0, {"offset": offset}, False
            )
    with own.library.db.session() as session:
        assert camera_values.accepted(session, "Dunlin M24", "offset")[100.0].values["offset"] == 30
        camera_values.forget_newest(own.library, session, "Dunlin M24", "offset", 100.0)
        assert camera_values.accepted(session, "Dunlin M24", "offset")[100.0].values["offset"] == 50
