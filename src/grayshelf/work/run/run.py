"""Doing a run sheet: gates, searches, series, builds; each step a row, each frame on disk before it counts.

A frame's name follows from its run, step and number. Its file is written and checked first, then entered; a
process killed between the two finds the file when it goes on, and takes it instead of shooting again.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

from sqlalchemy import select

from grayshelf.core.checks.frames import flat_level
from grayshelf.core.digits import several
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.model import Found, NoAnswer
from grayshelf.core.flats.panel.diffusers import advise, listed
from grayshelf.core.flats.search.confirming import is_a_flat
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.flats.timed_light import exposure_of
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.forecast import afterwards
from grayshelf.core.planning.gates import dim_for
from grayshelf.core.planning.reminders import of_gate, reminded
from grayshelf.core.planning.shared_dark_flats import shares_exposure
from grayshelf.core.planning.sheet import SERIES, FlatSeries, StepKind
from grayshelf.core.sensor.statistics import FlatStatistics, flat_statistics
from grayshelf.library.models import RunShot, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.reminders import reminders_of
from grayshelf.library.rig_terms import camera_of
from grayshelf.library.step_records import (
    GateParams,
    JobResult,
    NoAnswerKept,
    SearchOutcome,
    SeriesOutcome,
    SheetParams,
    ShotStats,
)
from grayshelf.work import by_rig
from grayshelf.work.flats.conditions import RowConditions
from grayshelf.work.flats.searching import Sought
from grayshelf.work.flats.test_flats import RigTaker
from grayshelf.work.gates import gate_step, is_gate
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.masters_after import group_new_frames
from grayshelf.work.run.behind import try_behind
from grayshelf.work.run.series import Judge, leak_judge, settings_of_no_row
from grayshelf.work.run.sheet_run import SheetRun
from grayshelf.work.run.unattended import CoolerGaveUp, Unattended, off_set_point
from grayshelf.work.shooting import ShotSettings, Taken, set_up
from grayshelf.work.steps import Handler, Working

#: A diffuser that was hung for its stops, and is not on the light's list.
UNNAMED = "a diffuser of your own"
#: A gate takes about so long, in seconds.
GATE_S = 120.0
#: Steps that belong to a row's flats.
OF_A_ROW = (StepKind.FIND, StepKind.FLATS, StepKind.DARK_FLATS)


class Run(SheetRun):
    """One run being done."""

    def __init__(self, working: Working) -> None:
        super().__init__(working)
        self.taking, self.unattended = self.shooter(), Unattended(self)
        #: Rows that did not find a brightness for the exposure that others have.
        self._alone: set[int] = set()
        self.taker = RigTaker(
            self.devices,
            self.taking,
            self.control,
            self.ask,
            self.by_hand,
            several_filters=len(self.widths) > 1,
            names="run",
        )

    def handlers(self) -> Mapping[str, Handler]:
        """What is done with each kind of step."""
        return {
            StepKind.FIND: self._find,
            StepKind.FLATS: self._flats,
            StepKind.DARK_FLATS: self._dark_flats,
            StepKind.COOL: self.unattended.cool,
            StepKind.DARKS: self._darks,
            StepKind.BIAS: self._bias,
            StepKind.BUILD: self.build,
        }

    def do_step(self, step: RunStep) -> None:
        """Do one step to its end, or leave it; after the last that needs the sensor cold it may be warmed."""
        super().do_step(step)
        self.unattended.warm_after(step)

    def leave_out(self, gate: RunStep) -> None:
        """Leave out everything of a gate's row that is still open."""
        with self.library.db.session() as session:
            for other in self._open_of_row(self.steps(session), gate.row):
                other.state = StepState.SKIPPED

    def _open_of_row(self, steps: Sequence[RunStep], row: int | None) -> list[RunStep]:
        return [s for s in steps if s.row == row and s.state in OPEN and s.kind in OF_A_ROW]

    # -- searches -----------------------------------------------------------------------------------------------

    def can_be_shot_again(self, step: RunStep) -> bool:
        """Behind something that is not on the light's list, a setting could not be shot again."""
        return UNNAMED not in self.sought(step).stack

    def sought(self, step: RunStep) -> Sought:
        """As its lights were taken; where another filter has its exposure, the panel's brightness is looked for."""
        sought = super().sought(step)
        assert step.row is not None
        keeps = self.devices.panel is not None and step.row not in self._alone
        if keeps and shares_exposure(self.rows, step.row):
            exposure_s = self.rows[step.row].prior_exposure_s
            return replace(sought, mode="brightness", exposure_s=exposure_s, brightness=None)
        return sought

    def _find(self, step: RunStep) -> None:
        assert step.row is not None
        row = self.rows[step.row]
        self._set_up_for(row)
        search = self.row(step)
        # What was wished, and what hung, when it was searched stays with the search.
        begun = replace(
            read(SheetParams, step.params),
            target=search.target,
            window=search.window,
            stack=row.stack,
            stack_stops=row.stack_stops,
        )
        self.change(step, params=begun)
        self.find(step)

    def found(self, step: RunStep, row: RowConditions, found: Found) -> None:
        """The row's flats, and its dark flats, are shot at the exposure that was found."""
        assert step.row is not None
        if found.brightness is not None:
            self.write_row(step.row, replace(self.rows[step.row], brightness=found.brightness))
        download, timed = self.devices.camera.facts.download_s, row.source.timed
        exposure_s = exposure_of(timed, found.exposure_s)
        with self.library.db.session() as session:
            for other in self._open_of_row(self.steps(session), step.row):
                if other.kind in SERIES:
                    known = replace(
                        read(SheetParams, other.params),
                        exposure_s=exposure_s,
                        exposure_known=True,
                        seconds=other.count * (exposure_s + download),
                        lit=None if timed is None else timed.lit(found.exposure_s),
                    )
                    other.params = as_kept(known)
        self.settle_dark_flats(step.row)
        if timed is not None:
            self.change(step, params=replace(read(SheetParams, step.params), lit=timed.lit(found.exposure_s)))
        self.end_search(step)

    def no_answer(self, step: RunStep, row: RowConditions, no: NoAnswer) -> None:
        """One filter that fails does not stop the rest: its other steps wait behind a gate, after the others."""
        assert step.row is not None
        sought, wish = self.sought(step), self.rows[step.row]
        if sought.mode == "brightness":
            # The light cannot be so bright, or so dim: it has an exposure of its own then.
            self._alone.add(step.row)
            self.find(step)
            return
        told = NoAnswerKept(**vars(no), stack=sought.stack)
        outcome = replace(read(SearchOutcome, step.outcome), no_answer=told, next=None)
        self.end(step, StepState.NO_ANSWER, outcome)
        with self.library.db.session() as session:
            steps = self.steps(session)
            for other in self._open_of_row(steps, step.row):
                other.state = StepState.SKIPPED
            gates = [
                read(GateParams, s.params) for s in steps if s.row == step.row and is_gate(s, "diffuser")
            ]
            # Only the gate of a row that is tried again can be left out; others are of the sheet.
            tried = any(gate.may_leave_out for gate in gates)
            own = reminders_of(session, self.rig.id)
        if no.direction != "too bright" or tried:
            return
        stops = math.ceil(no.stops * 10) / 10
        advice = advise(no, wish.stack, row.source.diffusers)
        if advice is not None and not advice.short_by:
            stack, total = advice.names, advice.stops
            needed = f"{stops:.1f} stops are needed: hang {listed(stack)}, {total:.1f} stops."
        else:
            stack, total = (UNNAMED,), wish.stack_stops + stops
            needed = f"Hang a diffuser worth {stops:.1f} stops before the panel."
        gate = reminded(dim_for(wish.filter_code, f"{no.message} {needed}", stack, total), own)
        with self.library.db.session() as session:
            try_behind(session, gate_step(gate, GATE_S), step, steps)
        # What hangs then is written down with the run: it counts for the search after the gate, also after a kill.
        again = replace(wish, begin_s=no.bound.exposure_s, stack=stack, stack_stops=total)
        self.write_row(step.row, again)

    # -- frames -------------------------------------------------------------------------------------------------

    def _set_up_for(self, row: FlatSeries) -> None:
        """Filter, focus, angle and panel for a row, each set on the rig where the rig can."""
        set_up(self.devices, row.filter_code, row.focus, row.angle_deg)
        if self.devices.panel is not None and row.brightness is not None:
            self.devices.panel.set_brightness(row.brightness)

    def _series(self, step: RunStep, settings: ShotSettings, set_temp_c: float | None, judge: Judge) -> None:
        """Shoot what is left of a series. Each frame counts once it is on disk and entered, in one step."""
        camera, kind = self.devices.camera.facts, settings.kind
        place, drop_first = self._place(step, settings, set_temp_c)
        pause_s = camera_of(self.rig).pause_s or 0.0
        while step.done < step.count:
            self.control.check()
            if self.deadline.cut(step, pause_s + settings.exposure_s + camera.download_s):
                break
            number = step.done + 1
            if pause_s and number > 1:
                self.library.clock.sleep(pause_s, self.control.cancel)
            name = self.frame_name(place, step, number)
            first = number == 1 and kind is FrameKind.FLAT and drop_first == 0
            taken = self._confirming(step, name, settings) if first else None
            taken = taken or self.taking.take(name, settings)
            pattern = taken.facts.pixel_pattern if kind is FrameKind.FLAT else None
            stats = flat_statistics(taken.pixels, camera.white_adu, pattern)
            settled = number > drop_first
            astray = off_set_point(set_temp_c, taken.facts.sensor_temp_c)
            trouble = (
                astray or judge(stats)
                if settled
                else f"One of the first {drop_first} of its series: not settled yet."
            )
            spoiled = bool(settled and trouble and kind is not FrameKind.FLAT)
            self._counts(step, name, settings, taken, stats, trouble, spoiled=spoiled)
            if spoiled and astray and set_temp_c is not None:
                self.unattended.hold_again(step, set_temp_c)
            elif spoiled:
                raise GrayShelfError(
                    trouble, "Put it right, then go on: the frame was set aside and is shot again."
                )
        group_new_frames(self.library)
        if step.state in OPEN:
            self.end(step)

    def _counts(
        self,
        step: RunStep,
        name: str,
        settings: ShotSettings,
        taken: Taken,
        stats: FlatStatistics,
        trouble: str,
        *,
        spoiled: bool,
    ) -> None:
        """A frame that is on the disk counts from now on; for a spoiled one another is shot."""
        with self.library.db.session() as session:
            frame, row = self.enter(session, name, taken, trouble), session.get_one(RunStep, step.id)
            step.done, step.count = step.done + 1, step.count + int(spoiled)
            row.done, row.count = step.done, step.count
            session.add(
                RunShot(
                    step_id=step.id,
                    seq=step.done,
                    exposure_s=taken.facts.exposure_s or settings.exposure_s,
                    brightness=self.rows[step.row].brightness if step.row is not None else None,
                    why=trouble,
                    stats=as_kept(ShotStats.of(stats)),
                    taken_at=taken.began,
                    path=name,
                    frame_id=frame.id,
                )
            )
        self.tell()

    def _confirming(self, step: RunStep, name: str, settings: ShotSettings) -> Taken | None:
        """The test flat that confirmed a row's exposure, where it is as good as the first of its flats."""
        target = read(SheetParams, step.params).target
        with self.library.db.session() as session:
            searched = [s.id for s in self.searches(self.steps(session)) if s.row == step.row]
            newest = select(RunShot).where(RunShot.step_id.in_(searched)).order_by(RunShot.id.desc()).limit(1)
            shot = session.scalar(newest)
        if shot is None or target is None or step.row is None:
            return None
        stats = read(ShotStats, shot.stats)
        light_s = settings.exposure_s if settings.lit is None else settings.lit.lit_s
        setting = light_s, self.rows[step.row].brightness
        if stats.probe or not is_a_flat((shot.exposure_s, shot.brightness), stats.median, setting, target):
            return None
        return self.taking.adopt(shot.path, name, settings)

    def _place(self, step: RunStep, settings: ShotSettings, set_temp_c: float | None) -> tuple[str, int]:
        """Folder and first part of the name of a step's frames, and how many of the first are set aside; both fixed
        at its first frame, so that they never change."""
        known = read(SeriesOutcome, step.outcome)
        if known.place:
            return known.place, known.drop_first
        facts = FrameFacts(
            1,
            1,
            16,
            settings.kind,
            camera=self.devices.camera.facts.name,
            exposure_s=settings.exposure_s,
            filter_code=settings.filter_code,
            gain=settings.gain,
            offset=settings.offset,
            binning_x=settings.binning,
            set_temp_c=set_temp_c,
        )
        place = self.place_of_series(facts)
        drop_first = camera_of(self.rig).drop_first or 0
        self.change(step, outcome=SeriesOutcome(place, drop_first), count=step.count + drop_first)
        return place, drop_first

    def _of_row(self, step: RunStep, kind: FrameKind) -> ShotSettings | None:
        """How a row's frames are taken; None where its exposure was not found."""
        assert step.row is not None
        row, params = self.rows[step.row], read(SheetParams, step.params)
        if not params.exposure_known or params.exposure_s is None:
            return None
        return ShotSettings(
            kind,
            params.exposure_s,
            row.gain,
            row.offset,
            row.binning,
            row.filter_code,
            row.focus,
            lit=params.lit if kind is FrameKind.FLAT else None,
        )

    def _flats(self, step: RunStep) -> None:
        settings = self._of_row(step, FrameKind.FLAT)
        if settings is None or step.row is None:
            self.end(step, StepState.SKIPPED)
            return
        self._set_up_for(self.rows[step.row])
        search = self.row(step)
        target = search.target
        # What was wished when they were shot stays with them.
        self.change(step, params=replace(read(SheetParams, step.params), target=target, window=search.window))

        def judge(stats: FlatStatistics) -> str:
            finding = flat_level(stats, target.level_adu, target.tolerance_adu)
            return f"{finding.message} {finding.advice}" if finding else ""

        self._series(step, settings, None, judge)

    def _dark_flats(self, step: RunStep) -> None:
        if step.row is None:
            # For flats that were shot before: their own settings, wherever the sensor stands.
            settings = settings_of_no_row(step, FrameKind.DARK_FLAT)
            key = RowKey("", settings.gain, settings.offset, settings.binning)
            self._series(step, settings, None, leak_judge(self.pedestal_of(key)))
            return
        of_row = self._of_row(step, FrameKind.DARK_FLAT)
        if of_row is None:
            self.end(step, StepState.SKIPPED)
            return
        self._series(step, of_row, None, leak_judge(self.row(step).pedestal))

    def _darks(self, step: RunStep) -> None:
        goal = read(SheetParams, step.params).set_temp_c
        try:
            # Gone on with after a while, it may be as warm as the air by now.
            if goal is not None and off_set_point(goal, self.devices.camera.cooler().sensor_c):
                self.unattended.hold(goal)
            self._series(step, settings_of_no_row(step, FrameKind.DARK), goal, lambda stats: "")
        except CoolerGaveUp as error:
            assert goal is not None
            self.unattended.give_up(step, goal, error)

    def _bias(self, step: RunStep) -> None:
        """Wherever the sensor stands: in so short a time its temperature hardly matters."""
        settings = settings_of_no_row(step, FrameKind.BIAS)
        known = self.pedestal_of(RowKey("", settings.gain, settings.offset, settings.binning))
        self._series(step, settings, None, leak_judge(known))

    # -- telling ------------------------------------------------------------------------------------------------

    def ended(self) -> JobResult:
        """What was shot and built, and what is left for hands to do."""
        with self.library.db.session() as session:
            steps = list(session.scalars(select(RunStep).where(RunStep.job_id == self.control.job_id)))
            own = of_gate(reminders_of(session, self.rig.id), "end")
        shot = several(sum(s.done for s in steps if s.kind in SERIES), "frame")
        masters, failed = self.built(steps)
        darks = any(s.kind == StepKind.DARKS for s in steps)
        self.unattended.warm_at_the_end()
        by_hand = not by_rig.faces_light(self.rig, self.devices)
        todo = afterwards(darks, self.devices.cover is not None, by_hand, by_rig.is_cold(self.devices))
        left = by_rig.go_home(self.library, self.rig.id, self.devices, self.control.cancel)
        failed = (*failed, *self.unattended.told(steps), *self.deadline.told(steps), *filter(None, [left]))
        return JobResult(f"{shot} shot, {several(masters, 'master')} built", failed, (*todo, *own))
