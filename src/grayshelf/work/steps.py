"""The steps of a job: which comes next, and writing down what became of each."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from grayshelf.library.library import Library
from grayshelf.library.models import RunStep
from grayshelf.work.job_states import StepState
from grayshelf.work.jobs import JobControl

OPEN = (StepState.TO_DO, StepState.DOING, StepState.WAITING)


class Stepwise:
    """Work that goes through the steps of its job. Each change is on disk before the next thing is done."""

    library: Library
    control: JobControl

    def next_step(self) -> RunStep | None:
        """The first step that is still open."""
        with self.library.db.session() as session:
            return session.scalar(
                select(RunStep)
                .where(RunStep.job_id == self.control.job_id, RunStep.state.in_(OPEN))
                .order_by(RunStep.seq)
                .limit(1)
            )

    def change(self, step: RunStep, **values: Any) -> None:
        """Write values of a step down."""
        with self.library.db.session() as session:
            row = session.get_one(RunStep, step.id)
            for name, value in values.items():
                setattr(row, name, value)
                setattr(step, name, value)

    def begin(self, step: RunStep) -> None:
        """A step is being done."""
        self.change(step, state=StepState.DOING, started_at=step.started_at or self.library.clock.now())

    def end(self, step: RunStep, state: StepState = StepState.DONE, **outcome: Any) -> None:
        """A step has ended, with what came of it."""
        self.change(step, state=state, ended_at=self.library.clock.now(), outcome={**step.outcome, **outcome})
