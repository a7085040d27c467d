"""Flats on the twilight sky: every frame with an exposure of its own, in whichever filter the sky is there for.

Each frame is on the disk before it counts, and its number and time are a row, so a twilight that was cut short goes on
where it was, as far as the sky still allows. Nothing of it is kept as a setting.
"""

from __future__ import annotations

import math
from dataclasses import asdict, replace
from typing import Any

from sqlalchemy import select

from grayshelf.core.checks.frames import sky_missed
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.names import frame_place, safe_name
from grayshelf.core.flats.channels import in_colours
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.flats.twilight import SkyDone, SkyShoot, SkyShot, SkyWait, SkyWish, next_sky_step
from grayshelf.core.flats.twilight_plan import window_of
from grayshelf.core.frames.angle import circular_difference
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.sensor.statistics import flat_statistics
from grayshelf.devices.ports import RigDevices
from grayshelf.library.catalog import enter_own_file
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Job, RunShot, RunStep
from grayshelf.work.gates import pass_gate
from grayshelf.work.job_states import StepState
from grayshelf.work.jobs import JobControl, JobRunner, JobState
from grayshelf.work.masters_of_job import build_masters_of_job, group_new_frames
from grayshelf.work.shooting import Shooter, ShotSettings, bring_in
from grayshelf.work.sky_rows import SkySubject, sky_shot, sky_subjects, twilight_of
from grayshelf.work.steps import OPEN, Stepwise

#: A wait is cut into pieces of this length, so that it can be paused and told of.
TICK_S = 15.0
#: By the sun alone a window may shut so much later; after that a twilight is over.
OVER_AFTER_S = 1800.0


class TwilightRun(Stepwise):
    """One dusk or dawn being shot."""

    def __init__(
        self,
        library: Library,
        runner: JobRunner,
        devices: RigDevices,
        control: JobControl,
        params: dict[str, Any],
    ) -> None:
        self.library, self.runner, self.devices, self.control = library, runner, devices, control
        self.dawn = bool(params["dawn"])
        with library.db.session() as session:
            job = session.get_one(Job, control.job_id)
            rig = library.rig(session, job.rig_id or 0)
            self.zone = library.zone(session)
            self.several_filters = len(rig.filters) > 1
            self.twilight = twilight_of(library, session, job)
            self.steps = {
                str(RowKey(**s.params["key"])): s
                for s in session.scalars(
                    select(RunStep).where(RunStep.job_id == control.job_id, RunStep.kind == "sky")
                )
            }
            counts = {RowKey(**s.params["key"]): s.count for s in self.steps.values()}
            subjects, troubles = sky_subjects(library, session, rig, devices, counts)
            self.shooter = Shooter(library, devices, control, rig, self.zone)
        for trouble in troubles.values():
            raise GrayShelfError(trouble)
        self.subjects = {s.wish.code: s for s in subjects}
        # As it was laid out: what this twilight itself has shown since does not turn the order round.
        self.order = sorted(self.steps, key=lambda name: self.steps[name].seq)
        self._hand_set_filter = ""
        self._over_s = -math.inf

    def do(self) -> dict[str, Any]:
        """Work through the steps that are open."""
        while (step := self.next_step()) is not None:
            self.control.check()
            if step.kind == "gate":
                self._gate(step)
            elif step.kind == "sky":
                if self.devices.panel is not None:
                    self.devices.panel.set_brightness(0)
                self._follow_the_sky()
            else:
                self.begin(step)
                self._build(step)
            self._publish()
        return self._ended()

    def _gate(self, step: RunStep) -> None:
        """Wait for the person."""
        pass_gate(self.library, self.runner, self.devices, self.control, step)
        if step.params.get("gate") == "filter":
            self._hand_set_filter = str(step.params["value"])
        self.end(step)
        self.runner.set_state(self.control.job_id, JobState.RUNNING, "", "")

    # -- the sky ------------------------------------------------------------------------------------------------

    def _wishes(self) -> list[SkyWish]:
        """What to shoot, in order; what the sky never suits by the sun is not looked for all night."""
        wishes = []
        for name in self.order:
            wish = self.subjects[name].wish
            window = window_of(wish, self.twilight.course)
            if window is None:
                self._close(name, "the sky never suits it")
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
            shots = self._shots()
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
                self._set_up_for(subject)
                in_place = step.code
            else:
                self._shoot(subject, step, shots[step.code])
        for name in self.order:
            self._close(name, f"the sky grew too {'bright' if self.dawn else 'dark'}")
        group_new_frames(self.library)

    def _lay_down(self, name: str) -> None:
        """Another row is at work now: what comes next of this one is not known."""
        step = self.steps.get(name)
        if step is not None and step.state == StepState.DOING:
            outcome = {k: v for k, v in step.outcome.items() if k != "next"}
            self.change(step, state=StepState.TO_DO, outcome=outcome)

    def _shots(self) -> dict[str, list[SkyShot]]:
        with self.library.db.session() as session:
            return {
                name: [
                    sky_shot(s, self.twilight)
                    for s in session.scalars(
                        select(RunShot).where(RunShot.step_id == step.id).order_by(RunShot.seq)
                    )
                ]
                for name, step in self.steps.items()
            }

    def _wait(self, subject: SkySubject, step: SkyWait) -> None:
        until = self.twilight.time(self._now() + step.seconds)
        row = self.steps[subject.wish.code]
        self.change(
            row,
            state=StepState.DOING,
            started_at=row.started_at or self.library.clock.now(),
            outcome={**row.outcome, "next": {"until": until.isoformat(), "why": step.why}},
        )
        self._tell(f"Waiting for the sky in {subject.key.filter_code}: {step.why}")
        left = step.seconds
        while left > 0:
            # Cut into pieces, so that it can be paused; what is left is counted by the clock.
            self.library.clock.sleep(min(left, TICK_S), self.control.cancel)
            self.control.check()
            left = (until - self.library.clock.now()).total_seconds()

    def _set_up_for(self, subject: SkySubject) -> None:
        """Filter, focus and angle as the lights had them, each where the rig can."""
        devices, code = self.devices, subject.key.filter_code
        if devices.wheel is not None:
            bring_in(devices, code)
        elif self.several_filters and self._hand_set_filter != code:
            self._ask_for_filter(subject)
        if devices.focuser is not None and subject.focus is not None:
            devices.focuser.move(subject.focus)
        if devices.rotator is not None and subject.angle_deg is not None:
            away = circular_difference(subject.angle_deg, devices.rotator.position())
            if abs(away) > 0.05:
                devices.rotator.move(subject.angle_deg)

    def _ask_for_filter(self, subject: SkySubject) -> None:
        """A gate before the row's own step: it is the first to be asked again, should the process be killed."""
        code = subject.key.filter_code
        gate = RunStep(
            job_id=self.control.job_id,
            seq=self.steps[subject.wish.code].seq - 1,
            kind="gate",
            title=f"{code} in",
            state=StepState.DOING,
            params={
                "gate": "filter",
                "value": code,
                "advice": "The sky is there for it.",
                "answer": f"{code} is in: go on",
            },
        )
        with self.library.db.session() as session:
            session.add(gate)
        self._gate(gate)

    def _shoot(self, subject: SkySubject, coming: SkyShoot, before: list[SkyShot]) -> None:
        """One frame; it counts once it is on disk and entered, in one step."""
        step, key = self.steps[subject.wish.code], subject.key
        exposure = float(f"{coming.exposure_s:.4g}")
        self.change(
            step,
            state=StepState.DOING,
            started_at=step.started_at or self.library.clock.now(),
            outcome={**step.outcome, "next": {"exposure_s": exposure, "test": coming.test}},
        )
        self._tell(
            f"{'A look at the sky in' if coming.test else 'Flats in'} {key.filter_code}: {exposure:g} s"
        )
        camera, number = self.devices.camera.facts, len(before) + 1
        run = self.control.tag
        if coming.test:
            name = f"tests/{safe_name(camera.name)}/sky{run}_step{step.id:05d}_{number:03d}.fits"
        else:
            name = f"{self._place(step, subject)}_run{run}_{step.id:05d}_{number:03d}.fits"
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
        taken = self.shooter.take(name, settings)
        colour = in_colours(camera.bayer_pattern, key.binning)
        stats = flat_statistics(taken.pixels, camera.white_adu, colour)
        full = subject.wish.full_adu
        signal = min(max(stats.median - subject.pedestal.adu, 0.1), full)
        brightest = min(max(stats.brightest_permille - subject.pedestal.adu, 0.1), full)
        seconds = taken.facts.exposure_s or exposure
        shot = SkyShot(self.twilight.seconds(taken.began), seconds, signal, brightest_adu=brightest)
        wish = subject.wish.below_limit([*before, shot])
        counts, trouble = not coming.test and wish.is_flat(shot), ""
        if not coming.test and not counts:
            finding = sky_missed(signal - wish.level_adu, wish.tolerance_adu)
            trouble = f"{finding.message} {finding.advice}"
        with self.library.db.session() as session:
            frame_id = None
            if not coming.test:
                folder = session.get_one(Folder, self.library.own_folder_id(session))
                frame = enter_own_file(session, folder, name, taken.facts, taken.sha256)
                frame.rejected, frame.reason = bool(trouble), trouble
                frame_id = frame.id
            session.add(
                RunShot(
                    step_id=step.id,
                    seq=number,
                    exposure_s=seconds,
                    why=trouble,
                    stats={
                        **asdict(stats),
                        "signal": signal,
                        "brightest_signal": brightest,
                        "test": coming.test,
                        "counts": counts,
                        "read": wish.can_read(signal),
                    },
                    taken_at=taken.began,
                    path=name,
                    frame_id=frame_id,
                )
            )
            session.get_one(RunStep, step.id).done = step.done + counts
        step.done += counts
        if step.done >= step.count:
            self._close(subject.wish.code)
        self._publish()

    def _place(self, step: RunStep, subject: SkySubject) -> str:
        """Folder and first part of the name of a row's frames; fixed at its first frame, so that it never moves."""
        known = step.outcome.get("place")
        if known:
            return str(known)
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
        place = frame_place(facts, night_of_utc(self.library.clock.now(), self.zone))
        self.change(step, outcome={**step.outcome, "place": place})
        return place

    def _close(self, name: str, short: str = "") -> None:
        """A row that is open has come to its end; `short` says why it has fewer flats than wished."""
        step = self.steps[name]
        if step.state not in OPEN:
            return
        outcome = {k: v for k, v in step.outcome.items() if k != "next"}
        self.change(step, outcome=outcome)
        self.end(step, StepState.NO_ANSWER if short else StepState.DONE, why=short)

    # -- afterwards ---------------------------------------------------------------------------------------------

    def _build(self, step: RunStep) -> None:
        def tell(done: int, count: int, title: str) -> None:
            if title:
                self.control.report(0.97, f"Building {title}")
            self.change(step, count=count, done=done)
            self._publish()

        self.end(step, **build_masters_of_job(self.library, self.control, tell))

    # -- telling ------------------------------------------------------------------------------------------------

    def _tell(self, said: str) -> None:
        wanted = sum(s.count for s in self.steps.values())
        done = sum(min(s.done, s.count) for s in self.steps.values())
        self.runner.set_progress(self.control.job_id, 0.97 * done / max(wanted, 1), said)
        self._publish()

    def _publish(self) -> None:
        self.runner.broker.publish("twilight", id=self.control.job_id)

    def _ended(self) -> dict[str, Any]:
        with self.library.db.session() as session:
            steps = list(session.scalars(select(RunStep).where(RunStep.job_id == self.control.job_id)))
        sky = [s for s in steps if s.kind == "sky"]
        flats, masters = sum(s.done for s in sky), sum(len(s.outcome.get("masters", [])) for s in steps)
        said = f"{flats} flats of the sky, {masters} master{'s' if masters != 1 else ''} built"
        for why in dict.fromkeys(str(s.outcome.get("why")) for s in sky if s.done < s.count):
            short = [s for s in sky if s.done < s.count and s.outcome.get("why") == why]
            said += f"; {', '.join(f'{s.filter_code} {s.done} of {s.count}' for s in short)}: {why}"
        return {"message": said}
