"""The states of a job and of its steps, and which may follow which."""

from __future__ import annotations

from enum import StrEnum

from grayshelf.core.errors import Conflict


class JobState(StrEnum):
    """Where a piece of work stands."""

    QUEUED = "queued"
    RUNNING = "running"
    PAUSED = "paused"
    WAITING = "waiting"
    DONE = "done"
    STOPPED = "stopped"
    FAILED = "failed"
    INTERRUPTED = "interrupted"


class StepState(StrEnum):
    """Where a step of a job stands."""

    TO_DO = "to do"
    DOING = "doing"
    WAITING = "waiting"
    """For a hand."""
    DONE = "done"
    SKIPPED = "skipped"
    """The person left it out, or what it needs was not found."""
    NO_ANSWER = "no answer"


ALIVE = (JobState.QUEUED, JobState.RUNNING, JobState.PAUSED, JobState.WAITING)
RESUMABLE = (JobState.INTERRUPTED, JobState.STOPPED, JobState.FAILED)
ENDED = (*RESUMABLE, JobState.DONE)
#: States of a step that is not at its end yet.
OPEN = (StepState.TO_DO, StepState.DOING, StepState.WAITING)

_GOING_ON = (JobState.RUNNING, JobState.PAUSED, JobState.WAITING)
_MAY_FOLLOW = {
    JobState.QUEUED: (JobState.RUNNING, *ENDED),
    **dict.fromkeys(_GOING_ON, (*_GOING_ON, *ENDED)),
    **dict.fromkeys(RESUMABLE, (JobState.QUEUED, JobState.STOPPED, JobState.DONE)),
    JobState.DONE: (),
}


def follow(before: str, after: JobState) -> JobState:
    """The state after, where it may follow.

    Raises
    ------
    Conflict
        Where it may not: something was decided in the meantime.
    """
    if after != before and after not in _MAY_FOLLOW[JobState(before)]:
        raise Conflict(f"This is {before} already, so it cannot become {after}.", "Look at it again.")
    return after
