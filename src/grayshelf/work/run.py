"""Doing a run sheet: gates, searches, series, builds; each step a row, each frame on disk before it counts.

A frame's name follows from its run, step and number. Its file is written and checked first, then entered; a
process killed between the two finds the file when it goes on, and takes it instead of shooting again.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import asdict, replace
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.checks.frames import flat_level, light_leak
from grayshelf.core.errors import Conflict, DeviceError, GrayShelfError
from grayshelf.core.filing.names import frame_place, safe_name
from grayshelf.core.flats.channels import in_colours
from grayshelf.core.flats.diffusers import advise, listed
from grayshelf.core.flats.model import Found, NoAnswer, Pedestal, Prior, Shoot, TestShot
from grayshelf.core.flats.search import Task, next_step
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.frames.angle import circular_difference
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.planning.runsheet import COOLER_SETTLES_S, FlatWish, RunSheet, StepKind, afterwards
from grayshelf.core.sensor.statistics import FrameStatistics, flat_statistics
from grayshelf.devices.ports import RigDevices
from grayshelf.library.catalog import enter_own_file
from grayshelf.library.flat_sheet import row_pedestal
from grayshelf.library.library import Library
from grayshelf.library.models import FlatSetting, Folder, Job, Rig, RunShot, RunStep
from grayshelf.work.gates import pass_gate
from grayshelf.work.job_states import StepState
from grayshelf.work.jobs import JobControl, JobRunner, JobState, begins_job
from grayshelf.work.masters_of_job import build_masters_of_job, group_new_frames
from grayshelf.work.row_search import RowSearch
from grayshelf.work.shooting import Shooter, ShotSettings, bring_in
from grayshelf.work.steps import OPEN, Stepwise

#: Room between the numbers of steps, so that a gate can be put in between.
SEQ = 100
#: A diffuser that was hung for its stops, and is not on the light's list.
UNNAMED = "a diffuser of your own"


def make_run(session: Session, library: Library, rig: Rig, sheet: RunSheet) -> Job:
    """Write a sheet down as a job with its steps; it is not started yet."""
    rows = [asdict(row) for row in sheet.rows]
    shot = sum(1 for s in sheet.steps if s.kind is StepKind.FLATS)
    darks = sum(1 for s in sheet.steps if s.kind is StepKind.DARKS)
    parts = [f"flats in {shot} filter{'s' if shot != 1 else ''}"] if shot else []
    parts += [f"{darks} dark{'s' if darks != 1 else ''}"] if darks else []
    job = Job(
        kind="run",
        title=f"{rig.name}: {' and '.join(parts)}",
        state=JobState.QUEUED,
        params={"rows": rows},
        rig_id=rig.id,
        created_at=library.clock.now(),
    )
    for number, step in enumerate(sheet.steps):
        job.steps.append(
            RunStep(
                seq=(number + 1) * SEQ,
                kind=step.kind.value,
                title=step.title,
                filter_code=step.filter_code,
                row=step.row,
                count=step.count,
                params={
                    **step.params,
                    "seconds": step.seconds,
                    "needs_person": step.needs_person,
                    "exposure_s": step.exposure_s,
                    "exposure_known": step.exposure_known,
                },
            )
        )
    session.add(job)
    session.flush()
    return job


class Run(Stepwise):
    """One run being done."""

    def __init__(
        self,
        library: Library,
        runner: JobRunner,
        devices: RigDevices,
        control: JobControl,
        params: dict[str, Any],
    ) -> None:
        self.library = library
        self.runner = runner
        self.devices = devices
        self.control = control
        self.rows = [
            FlatWish(**{**row, "targets": tuple(row["targets"]), "stack": tuple(row.get("stack", ()))})
            for row in params["rows"]
        ]
        with library.db.session() as session:
            job = session.get_one(Job, control.job_id)
            assert job.rig_id is not None
            rig = library.rig(session, job.rig_id)
            self.rig_id = rig.id
            self.zone = library.zone(session)
            self.shooter = Shooter(library, devices, control, rig, self.zone)
        self._handlers: dict[str, Callable[[RunStep], None]] = {
            "gate": self._gate,
            "find": self._find,
            "flats": self._flats,
            "dark flats": self._dark_flats,
            "cool": self._cool,
            "darks": self._darks,
            "build": self._build,
        }

    def do(self) -> dict[str, Any]:
        """Work through the steps that are open."""
        while (step := self.next_step()) is not None:
            self.control.check()
            self.begin(step)
            self._handlers[step.kind](step)
            self._tell()
        return self._ended()

    # -- steps ------------------------------------------------------------------------------------------------

    def _tell(self) -> None:
        with self.library.db.session() as session:
            steps = session.scalars(select(RunStep).where(RunStep.job_id == self.control.job_id)).all()
            total = sum(float(s.params.get("seconds") or 1.0) for s in steps)
            done = sum(
                float(s.params.get("seconds") or 1.0)
                * (1.0 if s.state not in OPEN else s.done / s.count if s.count else 0)
                for s in steps
            )
            doing = next((s for s in sorted(steps, key=lambda s: s.seq) if s.state in OPEN), None)
        self.runner.set_progress(self.control.job_id, done / max(total, 1e-9), doing.title if doing else "")
        self.runner.broker.publish("run", id=self.control.job_id)

    def _gate(self, step: RunStep) -> None:
        """Wait for the person."""
        answer = pass_gate(self.library, self.runner, self.devices, self.control, step)
        if answer == "leave out":
            self._skip_row(step)
            self.end(step, StepState.SKIPPED, answer=answer)
        else:
            self.end(step, answer=answer)
        self.runner.set_state(self.control.job_id, JobState.RUNNING, "", "")

    def _skip_row(self, step: RunStep) -> None:
        """Leave out everything of a row that is still open."""
        with self.library.db.session() as session:
            for other in session.scalars(
                select(RunStep).where(
                    RunStep.job_id == self.control.job_id,
                    RunStep.row == step.row,
                    RunStep.state.in_(OPEN),
                    RunStep.id != step.id,
                    RunStep.kind.in_(("find", "flats", "dark flats")),
                )
            ):
                other.state = StepState.SKIPPED

    def _set_up_for(self, row: FlatWish) -> None:
        """Filter, focus, angle and panel for a row, each set on the rig where the rig can."""
        devices = self.devices
        bring_in(devices, row.filter_code)
        if devices.focuser is not None and row.focus is not None:
            devices.focuser.move(row.focus)
        if devices.rotator is not None and row.angle_deg is not None:
            away = circular_difference(row.angle_deg, devices.rotator.position())
            if abs(away) > 0.05:
                devices.rotator.move(row.angle_deg)
        if devices.panel is not None and row.brightness is not None:
            devices.panel.set_brightness(row.brightness)

    def _find(self, step: RunStep) -> None:
        assert step.row is not None
        row = self.rows[step.row]
        self._set_up_for(row)
        search = self._search(row)
        prior = None if row.prior_exposure_s is None else Prior(row.prior_exposure_s)
        pulse = search.source.pulse
        task = Task(search.target, search.window, pedestal=search.pedestal, prior=prior, pulse=pulse)
        # What was wished when it was searched stays with the search.
        self.change(
            step, params={**step.params, "target": asdict(search.target), "window": asdict(search.window)}
        )
        while True:
            self.control.check()
            shots = self._shots(step)
            decision = next_step(task, [_as_test(s) for s in shots])
            if isinstance(decision, Found):
                self._found(step, row, decision)
                return
            if isinstance(decision, NoAnswer):
                self._no_answer(step, row, decision)
                return
            # Written down before it is shot, so that the page says what comes next and why.
            self.change(step, outcome={**step.outcome, "next": asdict(decision)})
            self.runner.broker.publish("run", id=self.control.job_id)
            self._test_shot(step, row, decision)
            self._tell()

    def _search(self, row: FlatWish) -> RowSearch:
        """What the row wishes on the sheet of flat settings, its light and its pedestal."""
        key = RowKey(row.filter_code, row.gain, row.offset, row.binning)
        with self.library.db.session() as session:
            rig = self.library.rig(session, self.rig_id)
            return RowSearch(self.library, session, rig, self.devices, key)

    def _shots(self, step: RunStep) -> list[RunShot]:
        with self.library.db.session() as session:
            return list(
                session.scalars(select(RunShot).where(RunShot.step_id == step.id).order_by(RunShot.seq))
            )

    def _test_shot(self, step: RunStep, row: FlatWish, decision: Shoot) -> None:
        """One test shot: kept on disk, but not in a set."""
        number = len(self._shots(step)) + 1
        folder = f"tests/{safe_name(self.devices.camera.facts.name)}"
        name = f"{folder}/run{self.control.tag}_step{step.id:05d}_{number:02d}.fits"
        stats, when, exposure = self._take(name, FrameKind.FLAT, row, decision.exposure_s)[:3]
        with self.library.db.session() as session:
            session.add(
                RunShot(
                    step_id=step.id,
                    seq=number,
                    exposure_s=exposure,
                    brightness=row.brightness,
                    why=decision.why,
                    stats={**asdict(stats), "probe": decision.probe},
                    taken_at=when,
                    path=name,
                )
            )
            session.get_one(RunStep, step.id).done = number

    def _found(self, step: RunStep, row: FlatWish, found: Found) -> None:
        with self.library.db.session() as session:
            # Behind something that is not on the light's list, a setting could not be shot again.
            if UNNAMED not in row.stack:
                session.add(
                    FlatSetting(
                        rig_id=self.rig_id,
                        filter_code=row.filter_code,
                        gain=row.gain,
                        offset=row.offset,
                        binning=row.binning,
                        brightness=row.brightness,
                        exposure_s=found.exposure_s,
                        expected_adu=found.expected_adu,
                        shots=found.shots,
                        found_at=self.library.clock.now(),
                        source=self._search(row).source.name,
                        diffusers=list(row.stack),
                        target_adu=found.target_adu,
                        pedestal_adu=found.pedestal_adu,
                        banding_percent=found.banding_percent,
                        step_id=step.id,
                    )
                )
            download = self.devices.camera.facts.download_s
            for other in session.scalars(
                select(RunStep).where(RunStep.job_id == self.control.job_id, RunStep.row == step.row)
            ):
                if other.kind in ("flats", "dark flats"):
                    seconds = other.count * (found.exposure_s + download)
                    other.params = {
                        **other.params,
                        "exposure_s": found.exposure_s,
                        "exposure_known": True,
                        "seconds": seconds,
                    }
        self.end(step, found=asdict(found))

    def _no_answer(self, step: RunStep, row: FlatWish, none: NoAnswer) -> None:
        """One filter that fails does not stop the rest: its other steps wait behind a gate, after the others."""
        self.end(step, StepState.NO_ANSWER, no_answer={**asdict(none), "filter": row.filter_code})
        self._skip_row(step)
        if none.direction != "too bright":
            return
        with self.library.db.session() as session:
            steps = session.scalars(
                select(RunStep).where(RunStep.job_id == self.control.job_id).order_by(RunStep.seq)
            ).all()
            if any(s.row == step.row and s.params.get("gate") == "diffuser" for s in steps):
                return
            last = max(s.seq for s in steps if s.kind == "flats")
            used = {s.seq for s in steps}
            free = [seq for seq in range(last + 1, last + SEQ) if seq not in used]
            stops = math.ceil(none.stops * 10) / 10
            needed = f"Hang a diffuser worth {stops:.1f} stops before the panel."
            stack, total = row.stack, row.stack_stops + stops
            advice = advise(none, row.stack, self._search(row).source.diffusers)
            at_hand = advice is not None and not advice.short_by
            if advice is not None and at_hand:
                stack, total = advice.names, advice.stops
                needed = f"{stops:.1f} stops are needed: hang {listed(stack)}, {total:.1f} stops."
            gate = RunStep(
                job_id=step.job_id,
                seq=free[0],
                kind="gate",
                row=step.row,
                filter_code=row.filter_code,
                title=f"Diffuser for {row.filter_code}",
                params={
                    "gate": "diffuser",
                    "stops": total - row.stack_stops,
                    "needs_person": True,
                    "seconds": 120.0,
                    "advice": f"{none.message} {needed}",
                    "answer": f"It hangs: try {row.filter_code} again",
                    "leave_out": f"Leave {row.filter_code} out",
                },
            )
            again = [s for s in steps if s.row == step.row and s.kind in ("find", "flats")]
            session.add(gate)
            for number, old in enumerate(again, start=1):
                session.add(
                    RunStep(
                        job_id=step.job_id,
                        seq=free[number],
                        kind=old.kind,
                        row=old.row,
                        title=old.title,
                        filter_code=old.filter_code,
                        count=old.count,
                        params=dict(old.params),
                    )
                )
            for other in steps:
                if other.row == step.row and other.kind == "dark flats":
                    other.state = StepState.TO_DO
        # What hangs then is written down with the run: it counts for the search after the gate, also after a kill.
        again_row = replace(
            row,
            prior_exposure_s=none.bound.exposure_s,
            stack=stack if at_hand else (UNNAMED,),
            stack_stops=total,
        )
        self.rows[step.row or 0] = again_row
        with self.library.db.session() as session:
            job = session.get_one(Job, self.control.job_id)
            job.params = {**job.params, "rows": [asdict(r) for r in self.rows]}

    # -- frames -----------------------------------------------------------------------------------------------

    def _take(
        self, name: str, kind: FrameKind, row: FlatWish | None, exposure_s: float, **settings: float
    ) -> tuple[FrameStatistics, datetime, float, FrameFacts, str]:
        """Expose and write one frame, or find it where it was written before the process was killed."""
        camera = self.devices.camera.facts
        binning = row.binning if row else int(settings["binning"])
        taken = self.shooter.take(
            name,
            ShotSettings(
                kind,
                exposure_s,
                row.gain if row else settings["gain"],
                row.offset if row else settings["offset"],
                binning,
                row.filter_code if row else None,
                row.focus if row else None,
            ),
        )
        colour = kind is FrameKind.FLAT and in_colours(camera.bayer_pattern, binning)
        stats = flat_statistics(taken.pixels, camera.white_adu, colour)
        return stats, taken.began, taken.facts.exposure_s or exposure_s, taken.facts, taken.sha256

    def _series(
        self,
        step: RunStep,
        kind: FrameKind,
        row: FlatWish | None,
        exposure_s: float,
        judge: Callable[[FrameStatistics], str | None],
        **settings: float,
    ) -> None:
        """Shoot what is left of a series. Each frame counts once it is on disk and entered, in one step."""
        place = self._place(step, kind, row, exposure_s, **settings)
        while step.done < step.count:
            self.control.check()
            number = step.done + 1
            name = f"{place}_run{self.control.tag}_{step.id:05d}_{number:03d}.fits"
            stats, when, exposure, facts, sha = self._take(name, kind, row, exposure_s, **settings)
            trouble = judge(stats)
            with self.library.db.session() as session:
                folder = session.get_one(Folder, self.library.own_folder_id(session))
                frame = enter_own_file(session, folder, name, facts, sha)
                if trouble:
                    frame.rejected = True
                    frame.reason = trouble
                session.add(
                    RunShot(
                        step_id=step.id,
                        seq=number,
                        exposure_s=exposure,
                        brightness=row.brightness if row else None,
                        why=trouble or "",
                        stats=asdict(stats),
                        taken_at=when,
                        path=name,
                        frame_id=frame.id,
                    )
                )
                session.get_one(RunStep, step.id).done = number
            step.done = number
            self._tell()
            if trouble and kind is not FrameKind.FLAT:
                self.change(step, count=step.count + 1)
                raise GrayShelfError(
                    trouble, "Put it right, then go on: the frame was set aside and is shot again."
                )
        group_new_frames(self.library)
        self.end(step)

    def _place(
        self, step: RunStep, kind: FrameKind, row: FlatWish | None, exposure_s: float, **settings: float
    ) -> str:
        """Folder and first part of the name of a step's frames; fixed at its first frame, so that it never moves."""
        known = step.outcome.get("place")
        if known:
            return str(known)
        camera = self.devices.camera.facts
        facts = FrameFacts(
            1,
            1,
            16,
            kind,
            camera=camera.name,
            exposure_s=exposure_s,
            filter_code=row.filter_code if row else None,
            gain=row.gain if row else settings["gain"],
            offset=row.offset if row else settings["offset"],
            binning_x=row.binning if row else int(settings["binning"]),
            set_temp_c=settings.get("set_temp_c"),
        )
        night = night_of_utc(self.library.clock.now(), self.zone)
        place = frame_place(facts, night)
        self.change(step, outcome={**step.outcome, "place": place})
        return place

    def _flats(self, step: RunStep) -> None:
        assert step.row is not None
        row = self.rows[step.row]
        exposure = step.params.get("exposure_s")
        if not step.params.get("exposure_known") or exposure is None:
            self.end(step, StepState.SKIPPED)
            return
        self._set_up_for(row)
        search = self._search(row)
        target = search.target
        # What was wished when they were shot stays with them.
        self.change(step, params={**step.params, "target": asdict(target), "window": asdict(search.window)})

        def judge(stats: FrameStatistics) -> str | None:
            finding = flat_level(stats, target.level_adu, target.tolerance_adu)
            return f"{finding.message} {finding.advice}" if finding else None

        self._series(step, FrameKind.FLAT, row, float(exposure), judge)

    def _dark_flats(self, step: RunStep) -> None:
        exposure = step.params.get("exposure_s")
        if step.row is None:
            # For flats that were shot before: their own settings, wherever the sensor stands.
            settings = {k: float(step.params[k]) for k in ("gain", "offset", "binning")}
            key = RowKey("", settings["gain"], settings["offset"], int(settings["binning"]))
            known = self._pedestal(key)
            self._series(
                step,
                FrameKind.DARK_FLAT,
                None,
                float(step.params["exposure_s"]),
                _leak_judge(known),
                **settings,
            )
            return
        row = self.rows[step.row]
        if not step.params.get("exposure_known") or exposure is None:
            self.end(step, StepState.SKIPPED)
            return
        pedestal = self._search(row).pedestal
        self._series(step, FrameKind.DARK_FLAT, row, float(exposure), _leak_judge(pedestal))

    def _pedestal(self, key: RowKey) -> Pedestal | None:
        facts = self.devices.camera.facts
        return row_pedestal(self.library, facts.name, facts.width, facts.height, key, facts.white_adu)

    def _cool(self, step: RunStep) -> None:
        """Bring the sensor to its set point and let it settle."""
        goal = float(step.params["set_temp_c"])
        self.devices.camera.set_temperature(goal)
        clock, began = self.library.clock, self.library.clock.now()
        while abs(self.devices.camera.cooler().sensor_c - goal) > 0.2:
            self.control.check()
            clock.sleep(10.0, self.control.cancel)
            waited = (clock.now() - began).total_seconds()
            state = self.devices.camera.cooler()
            self.control.report(
                0.5, f"Sensor at {state.sensor_c:.1f} °C, cooler at {state.power_percent:.0f} %"
            )
            if waited > 1800:
                raise DeviceError(
                    f"The sensor is at {state.sensor_c:.1f} °C after {waited / 60:.0f} minutes and does not reach "
                    f"{goal:.0f} °C. No dark was shot, since it would not match.",
                    "Choose a warmer set point, or wait for a colder night.",
                )
        clock.sleep(COOLER_SETTLES_S, self.control.cancel)
        self.end(step)

    def _darks(self, step: RunStep) -> None:
        p = step.params
        settings = {k: float(p[k]) for k in ("gain", "offset", "binning", "set_temp_c")}
        self._series(step, FrameKind.DARK, None, float(p["exposure_s"]), lambda stats: None, **settings)

    # -- masters ----------------------------------------------------------------------------------------------

    def _build(self, step: RunStep) -> None:
        """Build the masters of everything this run has shot so far."""

        def tell(done: int, count: int, title: str) -> None:
            if title:
                self.control.report(0.95, f"Building {title}")
            self.change(step, count=count, done=done)
            self.runner.broker.publish("run", id=self.control.job_id)

        self.end(step, **build_masters_of_job(self.library, self.control, tell))

    def _ended(self) -> dict[str, Any]:
        with self.library.db.session() as session:
            steps = session.scalars(select(RunStep).where(RunStep.job_id == self.control.job_id)).all()
            frames = sum(s.done for s in steps if s.kind in ("flats", "dark flats", "darks"))
            masters = sum(len(s.outcome.get("masters", [])) for s in steps)
            darks = any(s.kind == "darks" for s in steps)
        cold = self.devices.camera.cooler().set_point_c is not None
        todo = afterwards(darks, has_cover=False, panel_by_hand=True, cold=cold)
        return {"message": f"{frames} frames shot, {masters} masters built", "afterwards": list(todo)}


def _leak_judge(pedestal: Pedestal | None) -> Callable[[FrameStatistics], str | None]:
    """Tells of light on a capped frame, where the pedestal is known; dark current in a flat's time is no matter."""

    def judge(stats: FrameStatistics) -> str | None:
        finding = light_leak(stats, pedestal.adu) if pedestal is not None else None
        return f"{finding.message} {finding.advice}" if finding else None

    return judge


def _as_test(shot: RunShot) -> TestShot:
    stats = shot.stats
    return TestShot(
        shot.exposure_s,
        float(stats["median"]),
        float(stats["brightest_permille"]),
        float(stats["saturated_fraction"]),
    )


class RunStarter:
    """Starts and resumes runs: one at a time for each rig."""

    def __init__(self, library: Library, runner: JobRunner, rigs: dict[str, RigDevices]) -> None:
        self.library, self.runner, self.rigs = library, runner, rigs
        runner.register("run", self._work)

    def devices(self, rig: Rig) -> RigDevices | None:
        """The devices behind a rig, if there are any."""
        return self.rigs.get(rig.devices or "")

    @begins_job
    def start(self, rig_id: int, sheet: RunSheet) -> int:
        """Start a run of this sheet."""
        with self.library.db.session() as session:
            rig = self.library.rig(session, rig_id)
            self.runner.refuse_if_busy(rig.id)
            if self.devices(rig) is None:
                raise Conflict(
                    "No devices are connected to this rig.", "Shoot the sheet by hand, then scan the folder."
                )
            if not sheet.steps:
                raise Conflict("There is nothing on the sheet.", "Put something on it first.")
            job_id = make_run(session, self.library, rig, sheet).id
        self.runner.launch(job_id)
        return job_id

    def _work(self, control: JobControl, params: dict[str, Any]) -> dict[str, Any]:
        with self.library.db.session() as session:
            job = session.get_one(Job, control.job_id)
            rig = self.library.rig(session, job.rig_id or 0)
            devices = self.devices(rig)
        if devices is None:
            raise DeviceError(
                "No devices are connected to this rig, so the run cannot go on.", "Connect them."
            )
        try:
            return Run(self.library, self.runner, devices, control, params).do()
        finally:
            # A series that was cut short has frames too: they stand on the shelf, and ask for what they lack.
            group_new_frames(self.library)
            if devices.panel is not None and control.cancel.is_set():
                # Stopped by hand: the panel must not stay on. The cooler is left as it is.
                devices.panel.set_brightness(0)
