"""What a run does where nobody is there and the cooler does not hold its set point."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.planning.cooling_pace import Cooled
from grayshelf.core.planning.sensor_then import SensorThen
from grayshelf.core.planning.sheet import COOLER_SETTLES_S, SERIES, StepKind
from grayshelf.library.models import Job, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import RunJob, SeriesOutcome, SheetParams
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.run.cooling import OFF_SET_POINT_C, cool_to, warm_up

if TYPE_CHECKING:
    from grayshelf.work.run.run import Run


def off_set_point(goal_c: float | None, sensor_c: float | None) -> str:
    """What is wrong with a dark whose sensor was not at its set point; empty where it was, or that is not known."""
    if goal_c is None or sensor_c is None or abs(sensor_c - goal_c) <= OFF_SET_POINT_C:
        return ""
    told = f"The sensor was at {sensor_c:.1f} °C, not at {goal_c:.1f} °C: it is no dark of this set point."
    return told.replace("-", "−")


class Unattended:
    """A run that has to do with what the night gives."""

    def __init__(self, run: Run) -> None:
        self.run = run
        self._astray: Counter[int] = Counter()

    def cool(self, step: RunStep) -> None:
        """Bring the sensor to its set point and let it settle; where it does not get there, go on with the next one."""
        goal = read(SheetParams, step.params).set_temp_c
        assert goal is not None
        before, began = self.run.devices.camera.cooler().sensor_c, self.run.library.clock.now()
        try:
            self.hold(goal)
            took = (self.run.library.clock.now() - began).total_seconds() - COOLER_SETTLES_S
            cooled = None if before is None else Cooled(abs(before - goal), took)
            self.run.end(step, outcome=SeriesOutcome(cooled=cooled))
        except CoolerGaveUp as error:
            self.give_up(step, goal, error)

    def hold(self, goal_c: float) -> None:
        """Bring the sensor to a set point, or back to it.

        Raises
        ------
        CoolerGaveUp
        """
        run = self.run
        try:
            cool_to(goal_c, run.devices.camera, run.library.clock, run.control)
        except GrayShelfError as error:
            if run.devices.camera.cooler().set_point_c is None:
                raise
            raise CoolerGaveUp(error.message, error.advice) from error

    def hold_again(self, step: RunStep, goal_c: float) -> None:
        """After a frame that was off the set point: bring the sensor back, a few times in one series.

        Raises
        ------
        CoolerGaveUp
        """
        self._astray[step.id] += 1
        if self._astray[step.id] > MOST_ASTRAY:
            raise CoolerGaveUp(
                f"The sensor left {goal_c:.0f} °C {MOST_ASTRAY} times in one series.".replace("-", "−"),
                "Choose a warmer set point: this one is at the end of what the cooler can.",
            )
        self.hold(goal_c)

    def give_up(self, step: RunStep, goal_c: float, error: CoolerGaveUp) -> None:
        """Nothing more is shot at a set point that the cooler does not hold; what was shot there counts."""
        run = self.run
        with run.library.db.session() as session:
            for other in run.steps(session):
                same = (
                    read(SheetParams, other.params).set_temp_c == goal_c
                    if other.kind in AT_SET_POINT
                    else False
                )
                if other.id != step.id and other.state in OPEN and same:
                    other.state = StepState.SKIPPED
        told = read(SeriesOutcome, step.outcome)
        known = SeriesOutcome(told.place, told.drop_first, told.refused, f"{error.message} {error.advice}")
        run.change(step, count=step.done) if step.kind in SERIES else None
        run.end(step, StepState.SKIPPED, known)

    def warm_after(self, step: RunStep) -> None:
        """Warm the sensor after the last step that needs it cold, where that was asked for."""
        if step.kind not in AT_SET_POINT:
            return
        with self.run.library.db.session() as session:
            more = any(s.kind in AT_SET_POINT and s.state in OPEN for s in self.run.steps(session))
        if not more:
            self._warm(SensorThen.AFTER_DARKS)

    def warm_at_the_end(self) -> None:
        """Warm the sensor, where that was asked for; also where more was shot since the darks."""
        self._warm(SensorThen.AT_THE_END, SensorThen.AFTER_DARKS)

    def _warm(self, *where: SensorThen) -> None:
        run = self.run
        with run.library.db.session() as session:
            asked = read(RunJob, session.get_one(Job, run.control.job_id).params).sensor_then
        if asked in where and run.devices.camera.facts.cooled:
            warm_up(run.devices.camera, run.library.clock, run.control)

    def told(self, steps: list[RunStep]) -> list[str]:
        """What was given up, a sentence each."""
        return [
            trouble
            for s in steps
            if s.kind in AT_SET_POINT and (trouble := read(SeriesOutcome, s.outcome).trouble)
        ]


#: So often a sensor may leave its set point in one series before the series is given up.
MOST_ASTRAY = 5


class CoolerGaveUp(GrayShelfError):
    """The sensor does not reach its set point, or left it and does not come back."""


#: Steps that belong to a set point.
AT_SET_POINT = (StepKind.COOL, StepKind.DARKS)
