"""A row of a run that is tried once more behind a gate, after something was hung before the light."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from sqlalchemy.orm import Session

from grayshelf.core.planning.sheet import StepKind
from grayshelf.library.models import RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import SheetParams
from grayshelf.work.job_states import StepState
from grayshelf.work.steps import SEQ


def try_behind(session: Session, gate: RunStep, step: RunStep, steps: Sequence[RunStep]) -> None:
    """A row's search and flats once more behind a gate, after all other flats; its dark flats are shot then."""
    last = max(s.seq for s in steps if s.kind == StepKind.FLATS)
    used = {s.seq for s in steps}
    free = (seq for seq in range(last + 1, last + SEQ) if seq not in used)
    row = [s for s in steps if s.row == step.row]
    gate.filter_code = step.filter_code
    again = [gate]
    for old in (s for s in row if s.kind in (StepKind.FIND, StepKind.FLATS)):
        params = replace(read(SheetParams, old.params), stack=None, target=None, window=None)
        again.append(
            RunStep(
                kind=old.kind,
                title=old.title,
                filter_code=old.filter_code,
                count=old.count,
                params=as_kept(params),
            )
        )
    for new in again:
        new.job_id, new.row, new.seq = step.job_id, step.row, next(free)
        session.add(new)
    for other in row:
        if other.kind == StepKind.DARK_FLATS:
            session.get_one(RunStep, other.id).state = StepState.TO_DO
