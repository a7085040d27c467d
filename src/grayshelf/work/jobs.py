"""Jobs: rows in the database that a small pool of threads works off.

A job's state is always in its row, so a process that was killed shows after its restart what was done and
what was interrupted, and the work goes on from there.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.clock import Interrupted
from grayshelf.core.errors import Conflict, GrayShelfError, NotFound
from grayshelf.library.library import Library
from grayshelf.library.models import Job
from grayshelf.work.events import Broker

log = logging.getLogger(__name__)

#: Jobs that work with a rig: they go on beside others, and can be paused.
WITH_RIG = ("run", "offset", "gain", "flats", "twilight")
ALIVE = ("queued", "running", "paused", "waiting")
RESUMABLE = ("interrupted", "stopped", "failed")


class Stopped(Exception):
    """Somebody stopped the job. What it did stays."""


class JobControl:
    """What a job's work is handed: where to report, and whether to pause or stop."""

    def __init__(self, runner: JobRunner, job_id: int) -> None:
        self.job_id = job_id
        self.cancel = threading.Event()
        self.wake = threading.Event()
        self.paused = False
        self._runner = runner
        self._told_at = 0.0

    def check(self) -> None:
        """Stop or pause here if that was asked for."""
        if self.cancel.is_set():
            raise Stopped
        if self.paused:
            self._runner.set_state(self.job_id, "paused")
            while self.paused and not self.cancel.is_set():
                self.wake.wait(0.2)
                self.wake.clear()
            if self.cancel.is_set():
                raise Stopped
            self._runner.set_state(self.job_id, "running")

    def report(self, progress: float, message: str = "") -> None:
        """Tell how far the work is (0 … 1); told to pages at most five times a second."""
        now = time.monotonic()
        if now - self._told_at < 0.2 and progress < 1.0:
            return
        self._told_at = now
        self._runner.set_progress(self.job_id, progress, message)


def refuse_if_busy(session: Session, rig_id: int | None) -> None:
    """One thing at a time for each rig.

    Raises
    ------
    Conflict
        Where a run or a measurement goes on with it.
    """
    alive = session.scalar(
        select(Job).where(Job.kind.in_(WITH_RIG), Job.rig_id == rig_id, Job.state.in_(ALIVE))
    )
    if alive is not None:
        raise Conflict(f"The rig is busy: {alive.title}.", "Stop that first, or wait for it.")


Work = Callable[[JobControl, dict[str, Any]], dict[str, Any] | None]


class JobRunner:
    """Works off jobs; one at a time for each kind of hand they need."""

    def __init__(self, library: Library, broker: Broker) -> None:
        self.library = library
        self.broker = broker
        self._works: dict[str, Work] = {}
        self._pool = ThreadPoolExecutor(max_workers=8, thread_name_prefix="job")
        self._controls: dict[int, JobControl] = {}
        self._lock = threading.Lock()
        self._heavy = threading.Lock()

    def register(self, kind: str, work: Work) -> None:
        """Say what a kind of job does."""
        self._works[kind] = work

    def mark_interrupted(self) -> int:
        """At start: jobs that were alive when the process ended were interrupted."""
        with self.library.db.session() as session:
            jobs = session.scalars(select(Job).where(Job.state.in_(ALIVE))).all()
            for job in jobs:
                job.state = "interrupted"
                at = f" at “{job.message.rstrip('.')}”" if job.message else " while this went on"
                job.message = f"The application stopped{at}."
                job.advice = "Nothing that was done is lost. Go on from there."
            return len(jobs)

    def start(self, kind: str, title: str, params: dict[str, Any], rig_id: int | None = None) -> int:
        """Queue a job and return its number."""
        with self.library.db.session() as session:
            job = Job(
                kind=kind,
                title=title,
                state="queued",
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
        """Hand a queued job to the pool."""
        with self._lock:
            if job_id in self._controls:
                raise Conflict("This is already going on.")
            control = self._controls[job_id] = JobControl(self, job_id)
        self._tell(job_id)
        self._pool.submit(self._work, control)

    def resume(self, job_id: int) -> None:
        """Go on with a job that was interrupted, stopped or failed."""
        with self.library.db.session() as session:
            job = session.get(Job, job_id)
            if job is None:
                raise NotFound("There is no such job.")
            if job.state not in RESUMABLE:
                raise Conflict(f"This is {job.state}, so there is nothing to go on with.")
            if job.kind in WITH_RIG:
                refuse_if_busy(session, job.rig_id)
            job.state, job.message, job.advice, job.ended_at = "queued", "", "", None
        self.launch(job_id)

    def control(self, job_id: int) -> JobControl:
        """The control of a job that is going on."""
        with self._lock:
            control = self._controls.get(job_id)
        if control is None:
            raise Conflict("This is not going on any more.")
        return control

    def stop(self, job_id: int) -> None:
        """Stop a job; an exposure that is under way is given up."""
        control = self.control(job_id)
        control.cancel.set()
        control.wake.set()

    def pause(self, job_id: int, paused: bool) -> None:
        """Pause a job after its exposure, or let it go on."""
        control = self.control(job_id)
        control.paused = paused
        control.wake.set()

    def shut_down(self) -> None:
        """Stop everything that goes on and wait for it."""
        with self._lock:
            controls = list(self._controls.values())
        for control in controls:
            control.cancel.set()
            control.wake.set()
        self._pool.shutdown(wait=True, cancel_futures=True)

    def set_state(
        self, job_id: int, state: str, message: str | None = None, advice: str | None = None
    ) -> None:
        """Write a job's state down and tell the pages."""
        with self.library.db.session() as session:
            job = session.get_one(Job, job_id)
            job.state = state
            if message is not None:
                job.message = message
            if advice is not None:
                job.advice = advice
            if state == "running" and job.started_at is None:
                job.started_at = self.library.clock.now()
            if state in ("done", "stopped", "failed"):
                job.ended_at = self.library.clock.now()
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
        job_id = control.job_id
        try:
            with self.library.db.session() as session:
                job = session.get_one(Job, job_id)
                kind, params = job.kind, dict(job.params)
            # Scans and builds share the disk and the cores: one at a time. What a rig does goes on beside them.
            if kind in WITH_RIG:
                self._perform(control, kind, params)
            else:
                with self._heavy:
                    self._perform(control, kind, params)
        finally:
            with self._lock:
                self._controls.pop(job_id, None)
            self._tell(job_id)

    def _perform(self, control: JobControl, kind: str, params: dict[str, Any]) -> None:
        job_id = control.job_id
        try:
            if control.cancel.is_set():
                raise Stopped
            self.set_state(job_id, "running")
            result = self._works[kind](control, params)
            with self.library.db.session() as session:
                job = session.get_one(Job, job_id)
                job.result, job.progress = result or {}, 1.0
            self.set_state(job_id, "done", (result or {}).get("message", ""))
        except (Stopped, Interrupted):
            self.set_state(job_id, "stopped", "Stopped. What was done is kept.", "Go on whenever you like.")
        except GrayShelfError as error:
            self.set_state(job_id, "failed", error.message, error.advice)
        except Exception as error:
            log.exception("job %s failed", job_id)
            self.set_state(
                job_id,
                "failed",
                f"This ended with an error nobody foresaw ({type(error).__name__}: {error}).",
                "What was done is kept. Go on to try again.",
            )
