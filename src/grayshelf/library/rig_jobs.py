"""Jobs that shoot: what those of each kind are told, and the folder that one watches."""

from __future__ import annotations

from typing import Any

from grayshelf.library.records import read
from grayshelf.library.step_records import MeasurementJob, RunJob, SearchJob, TwilightJob

#: What jobs that shoot are told, by their kinds.
WITH_RIG = {
    "run": RunJob,
    "offset": MeasurementJob,
    "gain": MeasurementJob,
    "flats": SearchJob,
    "twilight": TwilightJob,
}


def folder_watched(kind: str, params: dict[str, Any]) -> str | None:
    """The folder into which another program shoots for a job of this kind; None for all other jobs."""
    if kind not in WITH_RIG:
        return None
    job: RunJob | MeasurementJob | SearchJob | TwilightJob = read(WITH_RIG[kind], params)
    return job.folder
