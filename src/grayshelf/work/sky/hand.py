"""A twilight by any hands: another program shoots, the folder that it writes into is watched.

The exposure that the sky needs at this moment is told all the time; each frame that comes in is read by its own header,
and tells the sky for the next one.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

from grayshelf.core.errors import GrayShelfError, UnreadableFrame
from grayshelf.core.flats.filter_words import through
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.flats.sky.twilight import SkyShoot, SkyShot
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.colours import pattern_of_pixels
from grayshelf.core.sensor.statistics import flat_statistics, full_level
from grayshelf.library.catalog import settling
from grayshelf.library.entering import enter_arrival
from grayshelf.library.models import RunShot, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import SkyNext, SkyOutcome, TwilightJob
from grayshelf.work.by_rig import wait_until_safe
from grayshelf.work.job_states import StepState
from grayshelf.work.job_watch import watch_for
from grayshelf.work.shooting import set_up
from grayshelf.work.sky.rows import SkySubject
from grayshelf.work.sky.run import SkyReading, TwilightRun
from grayshelf.work.steps import Working
from grayshelf.work.watched import Arrival

#: An exposure that changes by less is not told anew: nobody dials in less (common practice).
WORTH_TELLING = 0.03


class HandTwilight(TwilightRun):
    """A dusk or a dawn that the person's own program shoots."""

    by_another_program = True

    def __init__(self, working: Working, job: TwilightJob) -> None:
        super().__init__(working, job)
        assert job.folder is not None
        self.watch = watch_for(self.library, self.control, self.zone, job.folder, job.since)
        #: What is to be said of the last file that came in, and what was said of it with the exposure.
        self._last = self._said_of_last = ""

    def before_the_sky(self) -> None:
        """The person has seen to it, and the rig to its own panel."""
        if self.beside is None:
            return
        wait_until_safe(self.beside.devices, self.control)
        if self.beside.devices.panel is not None:
            self.beside.devices.panel.set_brightness(0)

    def set_up_for(self, subject: SkySubject) -> None:
        """What is attached is set; what is not is told with the next frame."""
        if self.beside is not None:
            set_up(self.beside.devices, subject.key.filter_code, subject.focus, subject.angle_deg)

    def rest(self, seconds: float) -> None:
        """Frames may come in early."""
        self._look()

    def shoot(self, subject: SkySubject, coming: SkyShoot, before: list[SkyShot]) -> None:
        """Tell what to shoot now, and look for what has come in."""
        step, key = self.sky[subject.wish.code], subject.key
        exposure = float(f"{coming.exposure_s:.2g}" if coming.exposure_s < 10 else f"{coming.exposure_s:.3g}")
        known = read(SkyOutcome, step.outcome).next
        told = None if known is None or known.exposure_s is None else known.exposure_s
        same = told is not None and abs(exposure / told - 1.0) <= WORTH_TELLING
        if not same or step.state != StepState.DOING or self._said_of_last != self._last:
            asked = SkyNext(exposure_s=exposure, test=coming.test)
            self.change(
                step,
                state=StepState.DOING,
                started_at=step.started_at or self.library.clock.now(),
                outcome=replace(read(SkyOutcome, step.outcome), next=asked),
            )
            self._said_of_last = self._last
            self.say(f"Shoot a flat{through(key.filter_code)} of {exposure:g} s{self._last}")
        self._look()

    def _look(self) -> None:
        """Read what has come in; where nothing has, wait a little."""
        came = list(self.watch.files.whole())
        for arrival in came:
            self._last = self._came(arrival)
            self.publish()
        if not came:
            self.watch.files.pause()

    def _came(self, arrival: Arrival) -> str:
        """A file that came in: a flat, a look at the sky, or nothing of this twilight; what is to be said of it."""
        if arrival.facts is None:
            return f". {arrival.name}: {arrival.trouble}"
        if arrival.same_file:
            path = f"{self.watch.below}{arrival.name}"
            enter_arrival(
                self.library, self.watch.folder_id, self.watch.root, path, arrival.stamp, arrival.facts, None
            )
            return ""
        with self.library.db.session() as session:
            facts = settling(self.library, session).settle(arrival.facts)
        subject = self._subject_of(facts)
        if isinstance(subject, str):
            return f". {arrival.name} is left alone: {subject}"
        try:
            return self._read(arrival, facts, subject)
        except (UnreadableFrame, GrayShelfError) as error:
            return f". {arrival.name}: {error.message}"

    def _subject_of(self, facts: FrameFacts) -> SkySubject | str:
        """The row of a frame, or why it is of none."""
        if facts.kind is not FrameKind.FLAT:
            return "it is no flat"
        alike = [s for s in self.subjects.values() if facts.filter_code in (None, s.key.filter_code)]
        if len(alike) != 1:
            return (
                f"no flats in {facts.filter_code or 'a filter that its header does not name'} are asked for"
            )
        wrong = _set_otherwise(facts, alike[0].key)
        return f"it has {wrong}" if wrong else alike[0]

    def _read(self, arrival: Arrival, facts: FrameFacts, subject: SkySubject) -> str:
        step, before = self.sky[subject.wish.code], self.seen()[subject.wish.code]
        pixels = arrival.pixels()
        pattern = pattern_of_pixels(facts.bayer_pattern, subject.key.binning)
        stats = flat_statistics(pixels, full_level(pixels, facts.full_adu), pattern)
        seconds = facts.exposure_s or 0.0
        now = self.library.clock.now()
        # By its own clock where that can be: one that is an hour off tells nothing of this sky.
        began = facts.utc or now
        if not now - timedelta(minutes=10) <= began <= now:
            began = now - timedelta(seconds=seconds)
        # The first of a row is read as a look where it is off: the next is reckoned by it.
        seen = SkyReading.of(subject, stats, self.twilight.seconds(began), seconds, before, test=False)
        entered = facts.told_by_run(of_sky=True)
        path = f"{self.watch.below}{arrival.name}"
        frame = enter_arrival(
            self.library, self.watch.folder_id, self.watch.root, path, arrival.stamp, entered, seen.trouble
        )
        if frame.state == "duplicate":
            return f". {arrival.name}: {frame.reason}"
        with self.library.db.session() as session:
            session.add(
                RunShot(
                    step_id=step.id,
                    seq=len(before) + 1,
                    exposure_s=seconds,
                    why=seen.trouble,
                    stats=as_kept(seen.stats),
                    taken_at=began,
                    path=arrival.name,
                    frame_id=frame.id,
                )
            )
            session.get_one(RunStep, step.id).done = step.done + seen.counts
        self.watch.files.counted(arrival)
        step.done += seen.counts
        if step.done >= step.count:
            self.close(subject.wish.code)
        return "" if seen.counts else f". {arrival.name}: {seen.trouble}"


def _set_otherwise(facts: FrameFacts, key: RowKey) -> str:
    """What a frame is set to, where its row is set otherwise."""
    pairs = (
        ("gain", facts.gain, key.gain),
        ("offset", facts.offset, key.offset),
        ("binning", facts.binning_x, key.binning),
    )
    told = [
        f"{name} {have:g} and not {want:g}" for name, have, want in pairs if have is not None and have != want
    ]
    return ", ".join(told)
