"""What the routes work with: a library, its jobs, and who starts them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, cast

from flask import Flask, current_app

from grayshelf.clock import SimulatedClock
from grayshelf.library.library import Library
from grayshelf.library.step_records import JobResult
from grayshelf.web.access.codes import Access
from grayshelf.work.backups import BACKUP, back_up_by_job
from grayshelf.work.bench.starter import Bench
from grayshelf.work.build import build_sets
from grayshelf.work.events import Broker
from grayshelf.work.fetching import FETCH, PUT, fetch, put_on_stick
from grayshelf.work.filing import (
    DELETE,
    FILE,
    UNFILE,
    delete_for_good,
    file_away,
    file_what_came_in,
    file_what_was_made,
    take_filing_back,
)
from grayshelf.work.flats.starter import FlatBench
from grayshelf.work.handing_over import HAND_OVER, hand_over
from grayshelf.work.jobs import JobControl, JobRunner
from grayshelf.work.looking import LOOK, look_at_masters, look_when_new
from grayshelf.work.mending import MEND, mend
from grayshelf.work.rigs.joining import tell_names_again
from grayshelf.work.rigs.park import RigPark
from grayshelf.work.run.starter import RunStarter
from grayshelf.work.said_copies import SAID_COPIES, write_said_copies
from grayshelf.work.scan import scan_folder
from grayshelf.work.sky.starter import TwilightBench
from grayshelf.work.still_good import hold_by_job
from grayshelf.work.verify import VERIFY, verify

_NAME = "grayshelf"


@dataclass
class Context:
    """What the routes work with."""

    library: Library
    runner: JobRunner
    broker: Broker
    starter: RunStarter
    bench: Bench
    flats: FlatBench
    twilight: TwilightBench
    demo: bool = False
    fast_rate: float = 60.0
    interrupted: int = 0
    """Pieces of work that the last process left unfinished."""
    access: Access | None = None
    """Who from this network may ask; None where only this machine is served."""
    put_back: bool = False
    """Whether what the last process had made of the shelf was there still."""

    @property
    def simulated_clock(self) -> SimulatedClock | None:
        """The demo's clock."""
        clock = self.library.clock
        return clock if isinstance(clock, SimulatedClock) else None


def make_runner(library: Library) -> tuple[JobRunner, Broker]:
    """Jobs of a library, with what scans and builds do."""
    broker = Broker()
    runner = JobRunner(library, broker)
    runner.register("scan", lambda control, params: _scan(library, runner, control, params))
    runner.register(LOOK, lambda control, params: look_at_masters(library, control))
    runner.register("names", lambda control, params: tell_names_again(library, control, params))
    runner.register("build", lambda control, params: build_sets(library, control, params))
    runner.register(BACKUP, lambda control, params: back_up_by_job(library, control, params))
    runner.register(FILE, lambda control, params: file_away(library, control, params))
    runner.register(DELETE, lambda control, params: delete_for_good(library, control, params))
    runner.register(UNFILE, lambda control, params: take_filing_back(library, control, params))
    runner.register(MEND, lambda control, params: mend(library, control, params))
    runner.register(SAID_COPIES, lambda control, params: write_said_copies(library, control, params))
    runner.register(VERIFY, lambda control, params: verify(library, control, params))
    runner.register(HAND_OVER, lambda control, params: hand_over(library, control, params))
    runner.register(FETCH, lambda control, params: fetch(library, runner, control, params))
    runner.register(PUT, lambda control, params: put_on_stick(library, control, params))
    runner.register("held", lambda control, params: hold_by_job(library, control, params))
    runner.when_ended = lambda kind: file_what_was_made(library, runner, kind)
    return runner, broker


def _scan(library: Library, runner: JobRunner, control: JobControl, params: dict[str, Any]) -> JobResult:
    result = scan_folder(library, control, params)
    not_filed = file_what_came_in(library, runner, params)
    look_when_new(library, runner)
    return replace(result, failed=(*result.failed, not_filed)) if not_filed else result


def make_context(library: Library, runner: JobRunner, broker: Broker, demo: bool = False) -> Context:
    """Wire everything together."""
    rigs = RigPark(library)
    starter, bench = RunStarter(library, runner, rigs), Bench(library, runner, rigs)
    flats = FlatBench(library, runner, rigs)
    twilight = TwilightBench(library, runner, rigs)
    return Context(library, runner, broker, starter, bench, flats, twilight, demo)


def put_context(app: Flask, context: Context) -> None:
    """Let an application's routes work with it."""
    app.extensions[_NAME] = context


def the_context() -> Context:
    """What the route that is being answered works with."""
    return cast("Context", current_app.extensions[_NAME])
