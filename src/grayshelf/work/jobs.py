"""Jobs: rows in the database that threads work off.

A job's state is always in its row, so a process that was killed shows after its restart what was done and what was
interrupted, and the work goes on from there. States change here alone, under one lock.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import wraps
from typing import Any, ParamSpec, TypeVar

from sqlalchemy import select
from sqlalchemy.exc import SQLAlchemyError

from grayshelf.clock import Interrupted
from grayshelf.core.errors import Conflict, DiskFull, GrayShelfError, NotFound
from grayshelf.library.library import Library
from grayshelf.library.log import LOG_FILE
from grayshelf.library.models import Job
from grayshelf.library.records import as_kept
from grayshelf.library.rig_jobs import WITH_RIG
from grayshelf.library.room import as_disk_full
from grayshelf.library.step_records import JobResult
from grayshelf.work.events import Broker
from grayshelf.work.job_control import JobControl, Stopped
from grayshelf.work.job_states import ALIVE, ENDED, RESUMABLE, JobState, follow

__all__ = [
    "ALIVE",
    "ENDED",
    "RESUMABLE",
    "WITH_RIG",
    "JobControl",
    "JobRunner",
    "JobState",
    "Stopped",
    "begins_job",
]

log = logging.getLogger(__name__)

#: Other work that can be paused.
CAN_PAUSE = (*WITH_RIG, "file", "unfile", "fetch", "put on a stick")
#: Jobs that nobody waits for: they go on beside scans and builds, which need not wait for them either.
ASIDE = ("look", "fetch", "put on a stick")
#: Rigs that may work at once.
MOST_RIGS = 64
#: How often it is looked whether there is room on a full disk, and an end tried again that could not be written down.
LOOK_AGAIN_S = 2.0


P = ParamSpec("P")
R = TypeVar("R")


Work = Callable[[JobControl, dict[str, Any]], JobResult]


class JobRunner:
    """Works off jobs: those of rigs beside one another, one for each rig; scans and builds one after the other, and what
    nobody waits for beside them."""

    def __init__(self, library: Library, broker: Broker) -> None:
        self.library = library
        self.broker = broker
        self.look_again_s = LOOK_AGAIN_S
        self._works: dict[str, Work] = {}
        # Scans and builds share the disk and the cores: one at a time. What rigs do never waits for them.
        self._rigs = ThreadPoolExecutor(max_workers=MOST_RIGS, thread_name_prefix="rig")
        self._heavy = ThreadPoolExecutor(max_workers=1, thread_name_prefix="heavy")
        self._aside = ThreadPoolExecutor(max_workers=1, thread_name_prefix="aside")
        self._controls: dict[int, JobControl] = {}
        self.changing = threading.RLock()
        """Held while a job is begun, changes its state or ends: whoever asks whether a rig is free and then takes it
        holds it for both."""
        self._ending = threading.Event()
        self.when_ended: Callable[[str], None] = lambda kind: None
        """Told the kind of each job that has come to its end, whatever the end was."""
        self.file_later: set[int] = set()
        """Folders from which what came in is filed by itself when the filing that goes on has ended."""

    def register(self, kind: str, work: Work) -> None:
        """Say what a kind of job does."""
        self._works[kind] = work

    def mark_interrupted(self) -> int:
        """At start: jobs that were alive when the process ended were interrupted; how many a person may go on with."""
        with self.changing, self.library.db.session() as session:
            jobs = session.scalars(select(Job).where(Job.state.in_(ALIVE))).all()
            for job in jobs:
                job.state = follow(job.state, JobState.INTERRUPTED)
                at = f" at “{job.message.rstrip('.')}”" if job.message else " while this went on"
                job.message = f"The application stopped{at}."
                job.advice = "Nothing that was done is lost. Go on from there."
            return sum(job.kind not in ASIDE for job in jobs)

    def go_on_aside(self) -> None:
        """At start: go on with interrupted jobs that nobody waits for, and that nobody would begin again."""
        with self.library.db.session() as session:
            cut_short = select(Job.id).where(Job.kind.in_(ASIDE), Job.state == JobState.INTERRUPTED)
            todo = list(session.scalars(cut_short))
        for job_id in todo:
            self.resume(job_id)

    def is_busy(self, rig_id: int) -> bool:
        """Whether a run or a measurement goes on with a rig."""
        return any(control.rig_id == rig_id for control in list(self._controls.values()))

    def refuse_if_busy(self, rig_id: int | None) -> None:
        """One thing at a time for each rig. To be asked with `changing` held until the job is launched.

        Raises `Conflict` where a run or a measurement goes on with it.
        """
        owner = next((c for c in self._controls.values() if rig_id is not None and c.rig_id == rig_id), None)
        if owner is not None:
            raise Conflict(f"The rig is busy: {owner.title}.", "Stop that first, or wait for it.")

    def start(self, kind: str, title: str, params: dict[str, Any], rig_id: int | None = None) -> int:
        """Queue a job and return its number."""
        with self.changing:
            with self.library.db.session() as session:
                job = Job(
                    kind=kind,
                    title=title,
                    state=JobState.QUEUED,
                    params=params,
                    rig_id=rig_id,
                    created_at=self.library.clock.now(),
                )
                session.add(job)
                session.flush()
                job_id = job.id
            self.launch(job_id)
        return job_id

    def launch(self, job_id: int) -> None:
        """Hand a queued job to its pool."""
        with self.changing:
            if job_id in self._controls:
                raise Conflict("This is already going on.")
            with self.library.db.session() as session:
                job = session.get_one(Job, job_id)
                with_rig = job.kind in WITH_RIG
                rig_id = job.rig_id if with_rig else None
                control = JobControl(self, job_id, job.kind, rig_id, job.title, job.token)
            self._controls[job_id] = control
            pool = self._rigs if with_rig else self._aside if job.kind in ASIDE else self._heavy
            control.future = pool.submit(self._work, control)
        self._tell(job_id)

    def resume(self, job_id: int) -> None:
        """Go on with a job that was interrupted, stopped or failed."""
        with self.changing:
            with self.library.db.session() as session:
                job = session.get(Job, job_id)
                if job is None:
                    raise NotFound("There is no such job.")
                if job.state not in RESUMABLE:
                    raise Conflict(f"This is {job.state}, so there is nothing to go on with.")
                if job_id in self._controls:
                    raise Conflict("This is just ending.", "Try again in a moment.")
                if job.kind in WITH_RIG:
                    self.refuse_if_busy(job.rig_id)
                job.state = follow(job.state, JobState.QUEUED)
                job.message, job.advice, job.ended_at = "", "", None
            self.launch(job_id)

    def control(self, job_id: int) -> JobControl:
        """The control of a job that is going on."""
        control = self._controls.get(job_id)
        if control is None:
            raise Conflict("This is not going on any more.", "Look at it again.")
        return control

    def stop(self, job_id: int) -> None:
        """Stop a job; an exposure that is under way is given up."""
        with self.changing:
            control = self.control(job_id)
            control.cancel.set()
            control.wake.set()
            if control.future is not None and control.future.cancel():
                # It had not begun, so no thread will come to it.
                self._end(control, JobState.STOPPED, "Stopped before it began.", "Go on whenever you like.")

    def pause(self, job_id: int, paused: bool) -> None:
        """Pause a job after its exposure, or let it go on."""
        control = self.control(job_id)
        control.paused = paused
        control.wake.set()

    def set_aside(self, job_id: int) -> None:
        """Take an interrupted job off the list of what could be gone on with at once."""
        with self.changing, self.library.db.session() as session:
            job = session.get(Job, job_id)
            if job is None:
                raise NotFound("There is no such job.")
            if job.state == JobState.INTERRUPTED:
                job.state = follow(job.state, JobState.STOPPED)

    def close(self, job_id: int, message: str) -> None:
        """End a job for good that was cut short: there is nothing to go on with any more."""
        self.set_state(job_id, JobState.DONE, message, "")

    def shut_down(self) -> None:
        """Stop everything that goes on and wait for it."""
        self._ending.set()
        with self.changing:
            controls = list(self._controls.values())
        for control in controls:
            control.cancel.set()
            control.wake.set()
        for pool in (self._rigs, self._heavy, self._aside):
            pool.shutdown(wait=True, cancel_futures=True)

    def set_state(
        self, job_id: int, state: JobState, message: str | None = None, advice: str | None = None
    ) -> None:
        """Write a job's state down and tell the pages."""
        with self.changing, self.library.db.session() as session:
            job = session.get_one(Job, job_id)
            job.state = follow(job.state, state)
            if message is not None:
                job.message = message
            if advice is not None:
                job.advice = advice
            if state == JobState.RUNNING and job.started_at is None:
                job.started_at = self.library.clock.now()
            if state in ENDED:
                job.ended_at = self.library.clock.now()
        self.library.untold.pop(job_id, None)
        self._tell(job_id)

    def tell_waiting(self, job_id: int, message: str, advice: str) -> None:
        """Tell that a job waits, also where a full disk has no room to write that down."""
        try:
            self.set_state(job_id, JobState.WAITING, message, advice)
        except SQLAlchemyError as error:
            if as_disk_full(error, self.library.root) is None:
                raise
            self.library.untold[job_id] = (JobState.WAITING, message, advice)
            self._tell(job_id)

    def set_progress(self, job_id: int, progress: float, message: str) -> None:
        """Write a job's progress down and tell the pages."""
        with self.library.db.session() as session:
            job = session.get_one(Job, job_id)
            job.progress = min(max(progress, 0.0), 1.0)
            if message:
                job.message = message
        self._tell(job_id)

    def _tell(self, job_id: int) -> None:
        self.broker.publish("job", id=job_id)

    def _work(self, control: JobControl) -> None:
        """Do a job to its end. Whatever happens in it, its rig is free afterwards, and its row says what became of it."""
        try:
            state, message, advice, result = self._perform(control)
        except BaseException as error:
            log.exception("job %s (%s) failed", control.job_id, control.title)
            state, result = JobState.FAILED, None
            message = f"This ended with an error nobody foresaw ({type(error).__name__})."
            advice = f"What was done is kept. Go on to try again; the log, {LOG_FILE} in the library’s folder, has it."
        self._end(control, state, message, advice, result)
        if not self._ending.is_set():
            try:
                self.when_ended(control.kind)
            except Exception:
                log.exception("after job %s (%s)", control.job_id, control.title)

    def _perform(self, control: JobControl) -> tuple[JobState, str, str, JobResult | None]:
        job_id = control.job_id
        try:
            if control.cancel.is_set():
                raise Stopped
            self.set_state(job_id, JobState.RUNNING)
            with self.library.db.session() as session:
                job = session.get_one(Job, job_id)
                kind, params = job.kind, dict(job.params)
            while True:
                control.tries += 1
                try:
                    result = self._works[kind](control, params)
                    break
                except (DiskFull, OSError, SQLAlchemyError) as error:
                    full = as_disk_full(error, self.library.root)
                    if full is None:
                        raise
                    log.warning("job %s waits for room: %s", job_id, error)
                    # Every work goes on from what is written down, so it is begun again where it was cut short.
                    control.wait_for_room(full)
            return JobState.DONE, result.message, "", result
        except (Stopped, Interrupted):
            return JobState.STOPPED, "Stopped. What was done is kept.", "Go on whenever you like.", None
        except GrayShelfError as error:
            return JobState.FAILED, error.message, error.advice, None

    def _end(
        self, control: JobControl, state: JobState, message: str, advice: str, result: JobResult | None = None
    ) -> None:
        """Write the end of a job down and let its rig go, as one step for everybody who looks."""
        job_id = control.job_id
        with self.changing:
            try:
                with self.library.db.session() as session:
                    job = session.get_one(Job, job_id)
                    if result is not None:
                        job.result, job.progress = as_kept(result), 1.0
                    self.set_state(job_id, state, message, advice)
            except SQLAlchemyError:
                # The rig must not stay taken because the database cannot be written: the row follows as soon as it can.
                log.exception("the end of job %s could not be written down", job_id)
                self.library.untold[job_id] = (state, message, advice)
                if not self._ending.is_set():
                    again = threading.Timer(
                        self.look_again_s, self._end, (control, state, message, advice, result)
                    )
                    again.daemon = True
                    again.start()
            finally:
                if self._controls.get(job_id) is control:
                    del self._controls[job_id]
        self._tell(job_id)


def begins_job(method: Callable[P, R]) -> Callable[P, R]:
    """For a method of something with a `runner`: whether a rig is free is asked, and its job launched, in one go."""

    @wraps(method)
    def alone(*args: P.args, **kwargs: P.kwargs) -> R:
        with args[0].runner.changing:  # type: ignore[attr-defined]
            return method(*args, **kwargs)

    return alone
