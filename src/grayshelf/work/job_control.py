"""What the work of a job is handed: where to report, whether to pause or stop, and how to wait."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from typing import TYPE_CHECKING

from grayshelf.core.errors import DiskFull
from grayshelf.library.room import room_in_words
from grayshelf.work.job_states import JobState

if TYPE_CHECKING:
    from grayshelf.work.jobs import JobRunner


class Stopped(Exception):
    """Somebody stopped the job. What it did stays."""


class JobControl:
    """What a job's work is handed: where to report, and whether to pause or stop."""

    def __init__(
        self, runner: JobRunner, job_id: int, kind: str, rig_id: int | None, title: str, token: str
    ) -> None:
        self.job_id, self.kind, self.rig_id = job_id, kind, rig_id
        self.title, self.token = title, token
        self.cancel = threading.Event()
        self.wake = threading.Event()
        self.paused = False
        self.tries = 0
        """How often its work was begun since a person let it go on: again where a full disk had room."""
        self.future: Future[None] | None = None
        self._runner = runner
        self._told_at = 0.0

    @property
    def tag(self) -> str:
        """For names of files: the job's number, and what no other job has."""
        return f"{self.job_id:04d}-{self.token}"

    def check(self) -> None:
        """Stop or pause here if that was asked for."""
        if self.cancel.is_set():
            raise Stopped
        if self.paused:
            self._runner.set_state(self.job_id, JobState.PAUSED)
            while self.paused and not self.cancel.is_set():
                self.wake.wait(0.2)
                self.wake.clear()
            if self.cancel.is_set():
                raise Stopped
            self._runner.set_state(self.job_id, JobState.RUNNING)

    def report(self, progress: float, message: str = "") -> None:
        """Tell how far the work is (0 … 1); told to pages at most five times a second."""
        now = time.monotonic()
        if now - self._told_at < 0.2 and progress < 1.0:
            return
        self._told_at = now
        self._runner.set_progress(self.job_id, progress, message)

    def wait_for_room(self, full: DiskFull) -> None:
        """Wait until a full disk has room again, telling how much is needed where; what was done is kept.

        Raises
        ------
        Stopped
            Where the person stops the job instead.
        """
        room = self._runner.library.room
        while True:
            free = room(full.where)
            self._runner.tell_waiting(
                self.job_id,
                f"The disk is full. {room_in_words(full.where, full.needed_bytes, free)}",
                "What was done is kept. It goes on by itself as soon as there is room.",
            )
            # Once in any case: a quota, or a disk without room for names, refuses what its free bytes promise.
            if self.cancel.wait(self._runner.look_again_s):
                raise Stopped
            if room(full.where) >= full.needed_bytes:
                break
        self._runner.set_state(self.job_id, JobState.RUNNING, "There is room again.", "")

    def wait_while(self, reason: Callable[[], str], advice: str, then: str) -> None:
        """Wait as long as there is a reason to, telling it.

        Raises
        ------
        Stopped
            Where the person stops the job instead.
        """
        told = False
        while words := reason():
            self._runner.tell_waiting(self.job_id, words, advice)
            told = True
            if self.cancel.wait(self._runner.look_again_s):
                raise Stopped
        if told:
            self._runner.set_state(self.job_id, JobState.RUNNING, then, "")
