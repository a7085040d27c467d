"""What a run of a sheet is, whoever shoots it: its rows, what each step looks for, and how far all is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from grayshelf.core.flats.settings import RowKey
from grayshelf.core.planning.shared_dark_flats import DarkFlats, served_by
from grayshelf.core.planning.sheet import FlatSeries, StepKind
from grayshelf.library.models import Job, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import BuildOutcome, RunJob, SheetParams
from grayshelf.work.flats.searching import Searching, Sought
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.run.deadline import Deadline
from grayshelf.work.run.series import forecast_s
from grayshelf.work.steps import Working


class SheetRun(Searching):
    """A run of Tonight."""

    topic = "run"

    def __init__(self, working: Working) -> None:
        super().__init__(working)
        self.deadline = Deadline(self)

    @property
    def rows(self) -> tuple[FlatSeries, ...]:
        """The rows of flats as they are now: more may be put on the end while the run goes on."""
        with self.library.db.session() as session:
            return read(RunJob, session.get_one(Job, self.control.job_id).params).rows

    def do_step(self, step: RunStep) -> None:
        """Do one step to its end; where the time is over, leave it."""
        if not self.deadline.pass_over(step):
            super().do_step(step)

    def sought(self, step: RunStep) -> Sought:
        """The row of a step as its lights were taken, behind what hung, or hangs, when it is searched."""
        assert step.row is not None
        row, params = self.rows[step.row], read(SheetParams, step.params)
        begun = params.stack is not None
        return Sought(
            RowKey(row.filter_code, row.gain, row.offset, row.binning),
            params.stack if params.stack is not None else row.stack,
            params.stack_stops if begun else row.stack_stops,
            mode="time",
            brightness=row.brightness,
            begin_s=row.begin_s,
            focus=row.focus,
        )

    def searches(self, steps: Sequence[RunStep]) -> list[RunStep]:
        """Steps that take test shots."""
        return [s for s in steps if s.kind == StepKind.FIND]

    def write_row(self, index: int, row: FlatSeries) -> None:
        """A row as it is from now on; written down with the run, so that it counts after a kill, too."""
        with self.runner.changing, self.library.db.session() as session:
            job = session.get_one(Job, self.control.job_id)
            kept = read(RunJob, job.params)
            rows = tuple(row if i == index else there for i, there in enumerate(kept.rows))
            job.params = as_kept(replace(kept, rows=rows))

    def next_step(self) -> RunStep | None:
        """The first step that is still open; what was to serve others, and was left out since, serves nobody."""
        self.settle_dark_flats(None)
        return super().next_step()

    def settle_dark_flats(self, row: int | None) -> None:
        """Dark flats of a row whose exposure was found, and all that others' are to serve: they are shot where nothing
        serves them."""
        with self.library.db.session() as session:
            steps = self.steps(session)
            kinds = [s for s in steps if s.kind == StepKind.DARK_FLATS and s.row is not None]
            flats = {s.row for s in steps if s.kind == StepKind.FLATS and (s.done or s.state in OPEN)}
            for step in kinds:
                if step.row not in flats:
                    # Nothing is to be corrected by them.
                    continue
                if step.row == row or read(SheetParams, step.params).served_by is not None:
                    self._settle(step, [s for s in kinds if s.seq < step.seq])

    def _settle(self, step: RunStep, before: Sequence[RunStep]) -> None:
        params = read(SheetParams, step.params)
        if step.state not in OPEN and params.served_by is None:
            # It is over, or a person left it out.
            return
        shot = [self._dark_flats_of(s) for s in before if s.state != StepState.SKIPPED]
        there = served_by(self._dark_flats_of(step), shot)
        if there != params.served_by and not step.done:
            step.state = StepState.TO_DO if there is None else StepState.SKIPPED
            step.params = as_kept(replace(params, served_by=there))

    def _dark_flats_of(self, step: RunStep) -> DarkFlats:
        assert step.row is not None
        params = read(SheetParams, step.params)
        found = DarkFlats.of(
            step.row, self.rows[step.row], params.exposure_s if params.exposure_known else None
        )
        return replace(found, count=step.count)

    def built(self, steps: Sequence[RunStep]) -> tuple[int, tuple[str, ...]]:
        """How many masters were built, and why others were not, a sentence each."""
        builds = [read(BuildOutcome, s.outcome) for s in steps if s.kind == StepKind.BUILD]
        failed = [
            f"{f.title[:1].upper()}{f.title[1:]}: {f.message} {f.advice}" for b in builds for f in b.failed
        ]
        return sum(len(b.masters) for b in builds), tuple(failed)

    def progress_of(self, steps: list[RunStep]) -> tuple[float, str]:
        """Share of the time that the sheet is forecast to take, and the step that is open."""
        seconds = {s.id: forecast_s(s) or 1.0 for s in steps}
        shares = {s.id: min(s.done / s.count, 1.0) if s.count else 0.0 for s in steps}
        done = sum(seconds[s.id] * (1.0 if s.state not in OPEN else shares[s.id]) for s in steps)
        doing = next((s for s in steps if s.state in OPEN), None)
        return done / max(sum(seconds.values()), 1e-9), doing.title if doing is not None else ""
