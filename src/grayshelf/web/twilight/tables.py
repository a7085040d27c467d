"""The tables of a twilight, to take away."""

from __future__ import annotations

from datetime import datetime, timedelta

from grayshelf.library.library import Library
from grayshelf.library.records import read
from grayshelf.library.step_records import ShotStats
from grayshelf.web.twilight.run import kind_of
from grayshelf.web.twilight.schemas import TwilightOut
from grayshelf.work.sky.rows import key_of_sky
from grayshelf.work.sky.starter import newest_twilight


def plan_table(page: TwilightOut) -> tuple[list[list[object]], str]:
    """The layout as a table, times in UTC."""

    def utc(minutes: float | None) -> datetime | None:
        return None if minutes is None else page.zero + timedelta(minutes=minutes)

    rows: list[list[object]] = [
        [
            *("filter", "gain", "offset", "binning", "flats_wished", "flats_that_fit", "flats_planned"),
            *("opens_utc", "shuts_utc", "begins_utc", "ends_utc", "first_exposure_s", "last_exposure_s"),
            "light",
        ]
    ]
    for r in page.rows:
        k = r.key
        rows.append(
            [
                *(k.filter_code, k.gain, k.offset, k.binning, r.count, r.fit, r.planned),
                *(utc(x) for x in (r.opens, r.shuts, r.begins, r.ends)),
                *(r.first_exposure_s, r.last_exposure_s, r.trouble or r.light_text),
            ]
        )
    return rows, f"twilight-{page.at}-{page.day}"


def shots_table(library: Library, rig_id: int) -> tuple[list[list[object]], str]:
    """Every frame of the newest twilight as a table."""
    rows: list[list[object]] = [
        ["filter", "gain", "offset", "binning", "began_utc", "exposure_s", "level_adu", "what", "why", "file"]
    ]
    with library.db.session() as session:
        job = newest_twilight(session, rig_id)
        for step in [] if job is None else job.steps:
            if step.kind != "sky":
                continue
            k = key_of_sky(step)
            for s in step.shots:
                level = round(read(ShotStats, s.stats).median, 1)
                row = [k.filter_code, k.gain, k.offset, k.binning, s.taken_at, s.exposure_s, level]
                rows.append([*row, kind_of(s), s.why, s.path])
    return rows, "twilight-frames"
