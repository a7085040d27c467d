"""Flats on the twilight sky: every frame with an exposure of its own, in whichever filter the sky is there for.

Each frame is on the disk before it counts, and its number and time are a row, so a twilight that was cut short goes on
where it was, as far as the sky still allows. Nothing of it is kept as a setting.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from sqlalchemy import select

from grayshelf.core.checks.frames import sky_missed
from grayshelf.core.digits import several
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.names import safe_name
from grayshelf.core.flats.filter_words import named, through
from grayshelf.core.flats.sky.plan import window_of
from grayshelf.core.flats.sky.twilight import SkyDone, SkySeries, SkyShoot, SkyShot, SkyWait, next_sky_step
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.colours import pattern_of_pixels
from grayshelf.core.planning.gates import filter_in
from grayshelf.core.sensor.statistics import FlatStatistics, flat_statistics
from grayshelf.library.models import RunShot, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import (
    BuildOutcome,
    JobResult,
    ShotStats,
    SkyNext,
    SkyOutcome,
    TwilightJob,
)
from grayshelf.work import by_rig
from grayshelf.work.gates import is_gate
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.masters_after import group_new_frames
from grayshelf.work.shooting import ShotSettings, set_up
from grayshelf.work.sky.rows import SkySubject, key_of_sky, sky_shot, sky_subjects, twilight_of
from grayshelf.work.steps import Handler, Stepwise, Working

#: A wait is cut into pieces of this length, so that it can be paused and told of.
TICK_S = 15.0
#: By the sun alone a window may shut so much later; after that a twilight is over.
OVER_AFTER_S = 1800.0


@dataclass(frozen=True)
class SkyReading:
    """What one frame of the sky shows, and whether it is a flat."""

    shot: SkyShot
    stats: ShotStats
    counts: bool
    trouble: str

    @classmethod
    def of(
        cls,
        subject: SkySubject,
        stats: FlatStatistics,
        began_s: float,
        exposure_s: float,
        before: Sequence[SkyShot],
        *,
        test: bool,
    ) -> SkyReading:
        """Read a frame.

        Parameters
        ----------
        began_s
            Seconds into the twilight.
        test
            It is a look at the sky: it counts as no flat.
        """
        full = subject.wish.full_adu
        signal = min(max(stats.median - subject.pedestal.adu, 0.1), full)
        brightest = min(max(stats.brightest_permille - subject.pedestal.adu, 0.1), full)
        shot = SkyShot(began_s, exposure_s, signal, brightest_adu=brightest)
        wish = subject.wish.below_limit([*before, shot])
        counts, trouble = not test and wish.is_flat(shot), ""
        if not test and not counts:
            finding = sky_missed(signal - wish.level_adu, wish.tolerance_adu)
            trouble = f"{finding.message} {finding.advice}"
        told = replace(
            ShotStats.of(stats),
            signal=signal,
            brightest_signal=brightest,
            test=test,
            counts=counts,
            read=wish.can_read(signal),
        )
        return cls(shot, told, counts, trouble)


class TwilightRun(Stepwise):
    """One dusk or dawn being shot."""

    topic = "twilight"

    def __init__(self, working: Working, job: TwilightJob) -> None:
        super().__init__(working)
        self.dawn = job.dawn
        with self.library.db.session() as session:
            rig = self.library.rig(session, self.rig.id)
            self.several_filters = len(rig.filters) > 1
            self.twilight = twilight_of(self.library, session, rig, job)
            self.sky = {str(key_of_sky(s)): s for s in self.steps(session) if s.kind == "sky"}
            counts = {key_of_sky(s): s.count for s in self.sky.values()}
            subjects, troubles = sky_subjects(self.library, session, rig, working.devices, counts)
        for trouble in troubles.values():
            raise GrayShelfError(trouble)
        self.subjects = {s.wish.code: s for s in subjects}
        # As it was laid out: what this twilight itself has shown since does not turn the order round.
        self.order = sorted(self.sky, key=lambda name: self.sky[name].seq)
        self._over_s = -math.inf
        self._said = ""

    def handlers(self) -> Mapping[str, Handler]:
        """What is done with each kind of step."""
        return {"build": self.build}

    def do_step(self, step: RunStep) -> None:
        """Rows on the sky are done together, as the sky goes; all else one after the other."""
        if step.kind != "sky":
            super().do_step(step)
            return
        self.before_the_sky()
        self._follow_the_sky()

    def before_the_sky(self) -> None:
        """What has to be so before the first frame."""
        self.shoots_with = self.shooter()
        if self.devices.panel is not None:
            self.devices.panel.set_brightness(0)
        self._drop_old_asks()

    def _drop_old_asks(self) -> None:
        """What was asked of a hand before the work was cut short is asked again when it is its turn."""
        with self.library.db.session() as session:
            for step in self.steps(session):
                if step.state in OPEN and is_gate(step, "filter"):
                    step.state = StepState.SKIPPED

    # -- the sky ------------------------------------------------------------------------------------------------

    def _wishes(self) -> list[SkySeries]:
        """What to shoot, in order; what the sky never suits by the sun is not looked for all night."""
        wishes = []
        for name in self.order:
            wish = self.subjects[name].wish
            window = window_of(wish, self.twilight.course)
            if window is None:
                self.close(name, "the sky never suits it")
                continue
            self._over_s = max(self._over_s, window[1] + OVER_AFTER_S)
            wishes.append(replace(wish, opens_s=window[0]))
        return wishes

    def _now(self) -> float:
        return self.twilight.seconds(self.library.clock.now())

    def _follow_the_sky(self) -> None:
        """Shoot and wait until all flats are there, or the sky is gone."""
        wishes = self._wishes()
        in_place = at_work = ""
        while True:
            self.control.check()
            shots = self.seen()
            now = self._now()
            usual = self.twilight.course.fade(now).per_s
            if now > self._over_s:
                # Gone on with hours later: the next twilight is another one.
                break
            step = next_sky_step(wishes, shots, now, dawn=self.dawn, usual_per_s=usual)
            if isinstance(step, SkyDone):
                break
            subject = self.subjects[step.code]
            if step.code != at_work:
                self._lay_down(at_work)
                at_work = step.code
            if isinstance(step, SkyWait):
                self._wait(subject, step)
            elif in_place != step.code:
                # The sky goes on while the wheel turns: the exposure is reckoned anew afterwards.
                self.set_up_for(subject)
                in_place = step.code
            else:
                self.shoot(subject, step, shots[step.code])
        for name in self.order:
            self.close(name, f"the sky grew too {'bright' if self.dawn else 'dark'}")
        group_new_frames(self.library)

    def _lay_down(self, name: str) -> None:
        """Another row is at work now: what comes next of this one is not known."""
        step = self.sky.get(name)
        if step is not None and step.state == StepState.DOING:
            outcome = replace(read(SkyOutcome, step.outcome), next=None)
            self.change(step, state=StepState.TO_DO, outcome=outcome)

    def seen(self) -> dict[str, list[SkyShot]]:
        """The frames of each row so far, in their order."""
        with self.library.db.session() as session:
            return {
                name: [
                    sky_shot(s, self.twilight)
                    for s in session.scalars(
                        select(RunShot).where(RunShot.step_id == step.id).order_by(RunShot.seq)
                    )
                ]
                for name, step in self.sky.items()
            }

    def _wait(self, subject: SkySubject, step: SkyWait) -> None:
        until = self.twilight.time(self._now() + step.seconds)
        row = self.sky[subject.wish.code]
        self.change(
            row,
            state=StepState.DOING,
            started_at=row.started_at or self.library.clock.now(),
            outcome=replace(read(SkyOutcome, row.outcome), next=SkyNext(until=until, why=step.why)),
        )
        self.say(f"Waiting for the sky{through(subject.key.filter_code)}: {step.why}")
        left = step.seconds
        while left > 0:
            # Cut into pieces, so that it can be paused; what is left is counted by the clock.
            self.rest(min(left, TICK_S))
            self.control.check()
            left = (until - self.library.clock.now()).total_seconds()

    def rest(self, seconds: float) -> None:
        """A part of a wait."""
        self.library.clock.sleep(seconds, self.control.cancel)

    def set_up_for(self, subject: SkySubject) -> None:
        """Filter, focus and angle as the lights had them, each where the rig can."""
        code = subject.key.filter_code
        if self.devices.wheel is None and self.several_filters and self.by_hand("filter") != code:
            self.ask(self.sky[subject.wish.code], filter_in(code, "The sky is there for it."))
        set_up(self.devices, code, subject.focus, subject.angle_deg)

    def shoot(self, subject: SkySubject, coming: SkyShoot, before: list[SkyShot]) -> None:
        """One frame; it counts once it is on disk and entered, in one step."""
        step, key = self.sky[subject.wish.code], subject.key
        exposure = float(f"{coming.exposure_s:.4g}")
        self.change(
            step,
            state=StepState.DOING,
            started_at=step.started_at or self.library.clock.now(),
            outcome=replace(
                read(SkyOutcome, step.outcome), next=SkyNext(exposure_s=exposure, test=coming.test)
            ),
        )
        self.say(
            f"{'A look at the sky' if coming.test else 'Flats'}{through(key.filter_code)}: {exposure:g} s"
        )
        camera, number = self.devices.camera.facts, len(before) + 1
        if coming.test:
            folder = f"tests/{safe_name(camera.name)}"
            name = f"{folder}/sky{self.control.tag}_step{step.id:05d}_{number:03d}.fits"
        else:
            name = self.frame_name(self._place(step, subject), step, number)
        settings = ShotSettings(
            FrameKind.FLAT,
            exposure,
            key.gain,
            key.offset,
            key.binning,
            key.filter_code,
            subject.focus,
            of_sky=True,
        )
        taken = self.shoots_with.take(name, settings)
        pattern = pattern_of_pixels(camera.bayer_pattern, key.binning)
        stats = flat_statistics(taken.pixels, camera.white_adu, pattern)
        seen = SkyReading.of(
            subject,
            stats,
            self.twilight.seconds(taken.began),
            taken.facts.exposure_s or exposure,
            before,
            test=coming.test,
        )
        counts, trouble, seconds = seen.counts, seen.trouble, seen.shot.exposure_s
        with self.library.db.session() as session:
            frame_id = None
            if not coming.test:
                frame_id = self.enter(session, name, taken, trouble).id
            session.add(
                RunShot(
                    step_id=step.id,
                    seq=number,
                    exposure_s=seconds,
                    why=trouble,
                    stats=as_kept(seen.stats),
                    taken_at=taken.began,
                    path=name,
                    frame_id=frame_id,
                )
            )
            session.get_one(RunStep, step.id).done = step.done + counts
        step.done += counts
        if step.done >= step.count:
            self.close(subject.wish.code)
        self.publish()

    def _place(self, step: RunStep, subject: SkySubject) -> str:
        """Folder and first part of the name of a row's frames; fixed at its first frame, so that it never moves."""
        outcome = read(SkyOutcome, step.outcome)
        if outcome.place:
            return outcome.place
        key = subject.key
        facts = FrameFacts(
            1,
            1,
            16,
            FrameKind.FLAT,
            camera=self.devices.camera.facts.name,
            filter_code=key.filter_code,
            gain=key.gain,
            offset=key.offset,
            binning_x=key.binning,
            of_sky=True,
        )
        place = self.place_of_series(facts)
        self.change(step, outcome=replace(outcome, place=place))
        return place

    def close(self, name: str, short: str = "") -> None:
        """A row that is open has come to its end; `short` says why it has fewer flats than wished."""
        step = self.sky[name]
        if step.state not in OPEN:
            return
        outcome = replace(read(SkyOutcome, step.outcome), next=None, why=short)
        self.end(step, StepState.NO_ANSWER if short else StepState.DONE, outcome)

    # -- telling ------------------------------------------------------------------------------------------------

    def say(self, said: str) -> None:
        """Tell what the sky is used for now."""
        self._said = said
        self.tell()

    def progress_of(self, steps: list[RunStep]) -> tuple[float, str]:
        """Share of the flats that are there, and what the sky is used for."""
        sky = [s for s in steps if s.kind == "sky"]
        done = sum(min(s.done, s.count) for s in sky)
        return 0.97 * done / max(sum(s.count for s in sky), 1), self._said

    def ended(self) -> JobResult:
        """What was shot and built, and why some rows have fewer flats than wished."""
        with self.library.db.session() as session:
            steps = self.steps(session)
        sky = [s for s in steps if s.kind == "sky"]
        builds = [read(BuildOutcome, s.outcome) for s in steps if s.kind == "build"]
        flats, masters = sum(s.done for s in sky), sum(len(b.masters) for b in builds)
        said = f"{several(flats, 'flat')} of the sky, {several(masters, 'master')} built"
        short = [(s, read(SkyOutcome, s.outcome).why) for s in sky if s.done < s.count]
        for reason in dict.fromkeys(why for _, why in short):
            rows = ", ".join(
                f"{named(s.filter_code or '')} {s.done} of {s.count}" for s, why in short if why == reason
            )
            said += f"; {rows}: {reason}"
        left = by_rig.go_home(
            self.library, self.rig.id, self.working.devices or self.working.beside, self.control.cancel
        )
        return JobResult(said, tuple(filter(None, [left])))
