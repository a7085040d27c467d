"""The end of a run by the clock, whoever shoots it: nothing is begun that would end later, and what is there is built."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from grayshelf.core.planning.sheet import SERIES, StepKind
from grayshelf.library.models import Job, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import RunJob
from grayshelf.work.build import FEWEST
from grayshelf.work.job_states import StepState

if TYPE_CHECKING:
    from grayshelf.work.run.sheet_run import SheetRun


class Deadline:
    """When a run has to be over."""

    def __init__(self, run: SheetRun) -> None:
        self.run = run

    @property
    def until(self) -> datetime | None:
        """When it has to be over; a person may change it while the run goes on."""
        with self.run.library.db.session() as session:
            return read(RunJob, session.get_one(Job, self.run.control.job_id).params).until

    def is_over(self, needs_s: float = 0.0) -> bool:
        """Whether what takes so many seconds would end after the time that was given."""
        until = self.until
        return until is not None and self.run.library.clock.now() + timedelta(seconds=needs_s) > until

    def pass_over(self, step: RunStep) -> bool:
        """Leave a step that comes too late; whether it was. What was shot is built in any case."""
        if step.kind == StepKind.BUILD or not self.is_over():
            return False
        self.run.end(step, StepState.SKIPPED)
        return True

    def cut(self, step: RunStep, frame_s: float = 0.0) -> bool:
        """End a series before a frame that would end too late; whether it was."""
        if not self.is_over(frame_s):
            return False
        self.run.change(step, count=step.done)
        self.run.end(step, StepState.DONE if step.done >= FEWEST else StepState.SKIPPED)
        return True

    def told(self, steps: Sequence[RunStep]) -> tuple[str, ...]:
        """That a run ended by the clock before all was shot, where it did."""
        late = [s for s in steps if s.kind in SERIES and s.state == StepState.SKIPPED]
        until = self.until
        if until is None or not late or not self.is_over():
            return ()
        clock = until.astimezone(self.run.zone)
        return (f"It ended at {clock:%H:%M}, as you said: {len(late)} of its series are left.",)
