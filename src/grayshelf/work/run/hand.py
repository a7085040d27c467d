"""A run by any hands: another program shoots, a folder is watched, and each frame that comes in is held against the sheet.

What comes in may be of any step that is open, since frames come late or in batches. A frame that is right is entered
where it lies and ticks off its step; one that is wrong is entered and set aside, and it is said at once what to do.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from grayshelf.core.checks.asked_for import which_of
from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.flats.model import Found, NoAnswer, Shoot
from grayshelf.core.flats.panel.diffusers import advise
from grayshelf.core.flats.search.confirming import is_a_flat
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.flats.timed_light import exposure_of
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.colours import pattern_of_pixels
from grayshelf.core.planning.sheet import SERIES, StepKind
from grayshelf.core.sensor.statistics import flat_statistics, full_level
from grayshelf.library.cameras_alike import cameras_alike
from grayshelf.library.entering import enter_arrival
from grayshelf.library.flat_sheet import Source
from grayshelf.library.models import Frame, RunShot, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import (
    JobResult,
    NoAnswerKept,
    Refused,
    RunJob,
    SearchOutcome,
    SeriesOutcome,
    SheetParams,
    ShotStats,
)
from grayshelf.work.beside_camera import BesideCamera
from grayshelf.work.by_rig import go_home, wait_until_safe
from grayshelf.work.flats.conditions import RowConditions
from grayshelf.work.flats.test_flats import RowLeftOut, TestFlat, measured_flat
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.job_watch import watch_for
from grayshelf.work.masters_after import group_new_frames
from grayshelf.work.run.asked_of_hands import AskedOfHands, kind_of
from grayshelf.work.run.counted import counted_elsewhere
from grayshelf.work.run.sheet_run import SheetRun
from grayshelf.work.steps import Handler, Working
from grayshelf.work.watched import POLL_S, Arrival

#: So many of a step's refused files are told of.
REFUSED_TOLD = 8
#: Kinds of frames that a sheet asks for.
_SHOT_HERE = tuple(SERIES.values())
A_TEST = "A test flat: its exposure was being looked for."


class _FromTheFolder:
    """Test flats that come into the watched folder of a run."""

    by_folder = True

    def __init__(self, run: HandRun) -> None:
        self._run = run

    @property
    def sets_itself(self) -> bool:
        """Whether something is attached beside the camera."""
        return self._run.beside is not None

    def make_ready(self, step: RunStep, key: RowKey, shot: Shoot) -> None:
        """Light the panel."""
        if self._run.beside is not None and step.row is not None:
            wait_until_safe(self._run.beside.devices, self._run.control)
            self._run.beside.for_flats(self._run.rows[step.row], shot.brightness)

    def take(
        self, step: RunStep, key: RowKey, source: Source, shot: Shoot, number: int, focus: float | None
    ) -> TestFlat:
        """Wait for the next one of a step's row; the light is set as was asked, by the rig or by hand."""
        return replace(self._run.next_test_flat(step), brightness=shot.brightness)


class HandRun(SheetRun):
    """A run of Tonight that the person's own program shoots."""

    by_another_program = True

    def __init__(self, working: Working, job: RunJob) -> None:
        super().__init__(working)
        self.watch = None
        if job.folder is not None:
            self.watch = watch_for(self.library, self.control, self.zone, job.folder, job.since)
        self.taker = _FromTheFolder(self)
        self._early: dict[int, list[TestFlat]] = {}
        self.sheet = AskedOfHands(self)

    def handlers(self) -> Mapping[str, Handler]:
        """What is done with each kind of step."""
        return {
            StepKind.FIND: self.find,
            StepKind.FLATS: self._series,
            StepKind.DARK_FLATS: self._series,
            StepKind.DARKS: self._series,
            StepKind.BIAS: self._series,
            StepKind.COOL: self.end,
            StepKind.BUILD: self.build,
        }

    def do_step(self, step: RunStep) -> None:
        """Do one step to its end, or until the person ticks it off."""
        if self.beside is not None and step.kind in (StepKind.FIND, *SERIES):
            # Before the step begins: nothing is asked of anybody until then.
            wait_until_safe(self.beside.devices, self.control)
            self._set_by_rig(self.beside, step)
        try:
            super().do_step(step)
        except RowLeftOut:
            self._ticked_off(step)

    def _set_by_rig(self, beside: BesideCamera, step: RunStep) -> None:
        """Let the rig set what it can for a step's frames."""
        if step.row is not None and step.kind in (StepKind.FIND, StepKind.FLATS):
            row = self.rows[step.row]
            beside.for_flats(row, row.brightness)
        else:
            beside.for_capped()

    # -- searches -----------------------------------------------------------------------------------------------

    def next_test_flat(self, step: RunStep) -> TestFlat:
        """Wait for the next test flat of a row."""
        while not self._early.get(step.id):
            self._look(step)
            if not self._early.get(step.id) and self.deadline.is_over():
                self.end(step, StepState.SKIPPED)
                raise RowLeftOut
        return self._early[step.id].pop(0)

    def found(self, step: RunStep, row: RowConditions, found: Found) -> None:
        """The row's flats and dark flats are shot at what was found; the shot that confirmed it is the first of them."""
        timed = row.source.timed
        with self.library.db.session() as session:
            mine = [s for s in self.steps(session) if s.row == step.row and s.kind in SERIES]
            for other in mine:
                known = replace(
                    read(SheetParams, other.params),
                    exposure_s=exposure_of(timed, found.exposure_s),
                    exposure_known=True,
                    target=row.target,
                    window=row.window,
                    lit=None if timed is None else timed.lit(found.exposure_s),
                )
                other.params = as_kept(known)
        self.settle_dark_flats(step.row)
        if found.brightness is not None and step.row is not None:
            self.write_row(step.row, replace(self.rows[step.row], brightness=found.brightness))
        if timed is not None:
            self.change(step, params=replace(read(SheetParams, step.params), lit=timed.lit(found.exposure_s)))
        self._keep_the_confirming_shot(step, row, found)
        self.end_search(step)

    def _keep_the_confirming_shot(self, step: RunStep, row: RowConditions, found: Found) -> None:
        """A test flat at the very setting, and in tolerance, is as good as any: nothing is shot twice."""
        shots = self.shots(step)
        with self.library.db.session() as session:
            flats = next(
                (s for s in self.steps(session) if s.row == step.row and s.kind == StepKind.FLATS), None
            )
            if flats is None:
                return
            for shot in shots:
                setting = found.exposure_s, self.rows[step.row or 0].brightness
                level = read(ShotStats, shot.stats).median
                good = is_a_flat((shot.exposure_s, shot.brightness), level, setting, row.target)
                if not good or shot.frame_id is None:
                    continue
                frame = session.get_one(Frame, shot.frame_id)
                frame.rejected, frame.reason = False, ""
                flats.done += 1
                exposure_s = exposure_of(row.source.timed, shot.exposure_s)
                session.add(_shot_of(flats, exposure_s, shot.stats, shot.taken_at, shot.path, frame.id))

    def no_answer(self, step: RunStep, row: RowConditions, no: NoAnswer) -> None:
        """One filter that fails does not stop the rest: its other steps are left out, and it is said what would help."""
        sought = self.sought(step)
        advice = advise(no, sought.stack, row.source.diffusers)
        told = NoAnswerKept(**vars(no), stack=sought.stack, sentence=advice.sentence if advice else "")
        self.end(
            step, StepState.NO_ANSWER, replace(read(SearchOutcome, step.outcome), no_answer=told, next=None)
        )
        with self.library.db.session() as session:
            for other in self.steps(session):
                if other.row == step.row and other.state in OPEN:
                    other.state = StepState.SKIPPED

    # -- frames that come in ------------------------------------------------------------------------------------

    def _series(self, step: RunStep) -> None:
        """Wait until a series has all its frames."""
        while self._done(step) < step.count:
            self._look(step)
            if self._done(step) < step.count and self.deadline.cut(step):
                break
        group_new_frames(self.library)
        if step.state in OPEN:
            self.end(step)

    def _done(self, step: RunStep) -> int:
        with self.library.db.session() as session:
            step.done = session.get_one(RunStep, step.id).done
        return step.done

    def _look(self, step: RunStep) -> None:
        """Look once for what has come in, and wait a little.

        Raises
        ------
        RowLeftOut
            Where the person has ticked the step off.
        """
        self.control.check()
        with self.library.db.session() as session:
            if session.get_one(RunStep, step.id).state not in OPEN:
                raise RowLeftOut
        if self.watch is None:
            self.control.wake.wait(POLL_S)
            self.control.wake.clear()
            return
        for arrival in self.watch.files.whole():
            self._take_in(step, arrival)
        self.watch.files.pause()

    def _take_in(self, current: RunStep, arrival: Arrival) -> None:
        """Hold one frame against the sheet, enter it, and count it or say what is wrong."""
        if arrival.facts is None:
            self._refuse(current, arrival, arrival.trouble)
            return
        if arrival.same_file:
            self._enter(arrival, None)
            return
        steps = self._asking(current)
        serves = which_of(arrival.facts, [self.sheet.asked(s) for s in steps])
        if serves.place is None:
            self._set_aside(current, arrival, serves.why)
            return
        step = steps[serves.place]
        arrival = replace(arrival, facts=self._as_asked(arrival.facts, step))
        try:
            if step.kind == StepKind.FIND:
                self._test_flat(step, arrival)
            else:
                self._count(step, arrival)
        except UnreadableFrame as error:
            self._set_aside(current, arrival, error.message)

    def _as_asked(self, facts: FrameFacts, step: RunStep) -> FrameFacts:
        """What a header does not say of kind and camera is as the sheet asked: without them a frame is in no set."""
        told = {"kind": kind_of(step), "camera": self.rig.camera}
        if self.rig.telescope and self.rig.camera in cameras_alike(self.library):
            told["telescope"] = self.rig.telescope
        return facts.told_by_run(**{n: value for n, value in told.items() if getattr(facts, n) is None})

    def _asking(self, current: RunStep) -> list[RunStep]:
        """Steps that a frame may be for: the one being done, those to come, then those that have all they need."""
        with self.library.db.session() as session:
            steps = [
                s
                for s in self.steps(session)
                if s.kind in (StepKind.FIND, *SERIES) and s.state != StepState.SKIPPED
            ]
        searched = {s.row for s in steps if s.kind == StepKind.FIND and s.state in OPEN}
        # While a row's exposure is being looked for, each of its flats is a test flat.
        steps = [
            s for s in steps if not (s.row in searched and s.kind in (StepKind.FLATS, StepKind.DARK_FLATS))
        ]
        waiting = [s for s in steps if s.state in OPEN and s.id != current.id]
        done = [s for s in steps if s.state == StepState.DONE and s.kind in SERIES]
        return [*(s for s in steps if s.id == current.id), *waiting, *done]

    def _test_flat(self, step: RunStep, arrival: Arrival) -> None:
        timed = self.row(step).source.timed
        flat = measured_flat(arrival, self.sought(step).key.binning, None, self.library.clock.now(), timed)
        frame = self._enter(arrival, A_TEST)
        if frame.state == "duplicate":
            self._refuse(step, arrival, frame.reason)
            return
        self._counted(arrival)
        self._early.setdefault(step.id, []).append(replace(flat, frame_id=frame.id))

    def _count(self, step: RunStep, arrival: Arrival) -> None:
        """A frame of a series: measured, entered, and counted where nothing is wrong with it."""
        assert arrival.facts is not None
        pixels, asked = arrival.pixels(), self.sheet.asked(step)
        lit = asked.kind is FrameKind.FLAT
        pattern = pattern_of_pixels(arrival.facts.bayer_pattern, asked.binning) if lit else None
        stats = flat_statistics(pixels, full_level(pixels, arrival.facts.full_adu), pattern)
        wrong = self.sheet.wrong_level(step, asked, stats)
        frame = self._enter(arrival, wrong)
        with self.library.db.session() as session:
            if counted_elsewhere(session, self.control.job_id, frame.id, arrival.name):
                return
        if wrong or frame.state == "duplicate":
            self._refuse(step, arrival, wrong or frame.reason)
            return
        self._counted(arrival)
        kept = as_kept(ShotStats.of(stats))
        exposure_s = arrival.facts.exposure_s or 0.0
        with self.library.db.session() as session:
            row = session.get_one(RunStep, step.id)
            row.done += 1
            session.add(_shot_of(row, exposure_s, kept, self.library.clock.now(), arrival.name, frame.id))
            if step.kind == StepKind.FLATS and not read(SheetParams, row.params).exposure_known:
                # Nobody looked for it: what the first flat was shot at is what the others, and their dark flats, have.
                for other in self.steps(session):
                    if other.row == step.row and other.kind in SERIES:
                        known = replace(
                            read(SheetParams, other.params), exposure_s=exposure_s, exposure_known=True
                        )
                        other.params = as_kept(known)
        self.tell()

    def _counted(self, arrival: Arrival) -> None:
        assert self.watch is not None
        self.watch.files.counted(arrival)

    def _enter(self, arrival: Arrival, wrong: str | None) -> Frame:
        assert self.watch is not None and arrival.facts is not None
        watch = self.watch
        path = f"{watch.below}{arrival.name}"
        return enter_arrival(
            self.library, watch.folder_id, watch.root, path, arrival.stamp, arrival.facts, wrong
        )

    def _set_aside(self, step: RunStep, arrival: Arrival, why: str) -> None:
        """A frame that nothing on the sheet asks for: in the library, and in no master.

        One of another kind or another camera is told of and left for the next scan: it may be right for somebody else,
        as the lights are that the same program writes into the same tree.
        """
        facts = arrival.facts
        ours = facts is not None and facts.camera in (None, self.rig.camera) and facts.kind in _SHOT_HERE
        if ours and facts is not None and not facts.is_master:
            self._enter(arrival, why)
        self._refuse(step, arrival, why)

    def _refuse(self, step: RunStep, arrival: Arrival, why: str) -> None:
        """Say what is wrong with a file, with the step that waits for frames."""
        with self.library.db.session() as session:
            row = session.get_one(RunStep, step.id)
            kept, done = row.outcome, row.done
        searches = step.kind == StepKind.FIND
        outcome = read(SearchOutcome, kept) if searches else read(SeriesOutcome, kept)
        told = (*outcome.refused, Refused(arrival.path.name, why, done))[-REFUSED_TOLD:]
        self.change(step, outcome=replace(outcome, refused=told))
        self.publish()

    def _ticked_off(self, step: RunStep) -> None:
        """The person says that a step is done: what it has counts, and its frames are found by the next scan."""
        with self.library.db.session() as session:
            row = session.get_one(RunStep, step.id)
            row.ended_at = row.ended_at or self.library.clock.now()

    # -- telling ------------------------------------------------------------------------------------------------

    def ended(self) -> JobResult:
        """What came in."""
        with self.library.db.session() as session:
            steps = self.steps(session)
        left = go_home(self.library, self.rig.id, self.working.beside, self.control.cancel)
        late = (*self.deadline.told(steps), *filter(None, [left]))
        if self.watch is None:
            told = "All that is over: scan" if self.deadline.told(steps) else "All is ticked off: scan"
            return JobResult(f"{told} the folder of its frames, and they are in the library", late)
        frames = sum(s.done for s in steps if s.kind in SERIES)
        masters, failed = self.built(steps)
        came = (
            "One frame came in and was right" if frames == 1 else f"{frames:,} frames came in and were right"
        )
        return JobResult(f"{came}; {masters} master{'s' if masters != 1 else ''} built", (*failed, *late))


def _shot_of(
    step: RunStep, exposure_s: float, stats: dict[str, object], at: object, path: str, frame_id: int
) -> RunShot:
    return RunShot(
        step_id=step.id,
        seq=step.done,
        exposure_s=exposure_s,
        stats=stats,
        taken_at=at,
        path=path,
        frame_id=frame_id,
    )
