"""The headline of a run: when it ends, what it waits for, or how it ended."""

from __future__ import annotations

from collections.abc import Sequence
from zoneinfo import ZoneInfo

from grayshelf.core.planning.sheet import StepKind
from grayshelf.library.models import Job, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import GateParams, RunJob
from grayshelf.web.common import in_words
from grayshelf.web.common.schemas import JobOut
from grayshelf.web.tonight.hand import come_in
from grayshelf.web.tonight.schemas import StepOut
from grayshelf.web.tonight.sheet import ends_in_words
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.jobs import JobState


def head_of(
    job: Job, told: JobOut, steps: Sequence[RunStep], outs: Sequence[StepOut], ends: str, hands: int
) -> tuple[str, str]:
    """Headline of a run and the line below it, whoever shoots.

    Parameters
    ----------
    steps, outs
        Its steps as they are kept, and as they are told.
    ends
        When it ends, in words.
    hands
        How often a hand is still needed.
    """
    begun, current = read(RunJob, job.params), next((s for s in steps if s.state in OPEN), None)
    waits_for_hand = current is not None and current.state == StepState.WAITING
    if told.state == JobState.WAITING and not waits_for_hand:
        # No hand is waited for, but room on the disk.
        return "The run waits for room.", f"{told.message} {told.advice}"
    if begun.by_hand and job.state == JobState.RUNNING:
        return come_in(begun, steps), ""
    return _run_words(job, current, outs, ends, hands)


def end_words(live: Sequence[StepOut], zone: ZoneInfo) -> str:
    """When hands are free, and when all is done."""
    if not live:
        return ""
    handed = [o.end for o in live if o.needs_person or o.kind in (StepKind.FLATS, StepKind.DARK_FLATS)]
    return ends_in_words(handed[-1] if handed else None, live[-1].end, zone)


#: What is said of a run that is over, or stands still.
_STOPPED = "The run was stopped.", "What was shot is kept. Go on from there, or leave it."
_AGAIN = {0: "You are not needed any more.", 1: "You are needed once more.", 2: "You are needed twice more."}


def _run_words(
    job: Job, current: RunStep | None, outs: Sequence[StepOut], ends: str, hands: int
) -> tuple[str, str]:
    """Headline and the line below it."""
    if job.state == JobState.DONE:
        return "The run is done.", f"{job.message}{_never_found(outs)}."
    if job.state == JobState.INTERRUPTED:
        where = f"during ‘{current.title}’" if current else "at its end"
        return (
            "This run was interrupted.",
            f"The application stopped {where}. No frame is lost; go on from there.",
        )
    if job.state == JobState.FAILED:
        return "The run had to stop.", f"{job.message} {job.advice}".strip()
    if job.state == JobState.STOPPED:
        return _STOPPED
    if current is not None and current.state == StepState.WAITING:
        return current.title, read(GateParams, current.params).advice
    if job.state == JobState.PAUSED:
        return "Paused.", f"Next: {current.title if current else 'nothing'}."
    return ends or "Starting.", _AGAIN.get(hands, f"You are needed {hands} more times.")


def _never_found(outs: Sequence[StepOut]) -> str:
    """Filters for which no exposure was found, where none of them was found at another gain."""
    lost = [x.filter_code or "" for x in outs if x.state == StepState.NO_ANSWER]
    found = {x.filter_code for x in outs if x.kind == StepKind.FIND and x.state == StepState.DONE}
    if not lost or found & set(lost):
        return ""
    return f"; no exposure was found for {in_words.listed(lost)}"
