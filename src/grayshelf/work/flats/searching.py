"""Searching for a row's setting: the one engine, of a run of Tonight and of the sheet of flat settings alike.

What decides is in core: what a search sets out with (`outset`), and what comes next (`search`). Here it is gathered,
asked, done and written down. A step's shots are rows, so a search that was stopped or killed goes on from them; what a
row wishes is read anew before every shot, so that bounds and tolerance can be widened while it goes on.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sqlalchemy import select

from grayshelf.core.flats.model import Found, Mode, NoAnswer, Pedestal, Shoot, TestShot
from grayshelf.core.flats.panel.diffusers import stops_of
from grayshelf.core.flats.panel.ladder import rates
from grayshelf.core.flats.panel.response import LightPath, ResponsePoint
from grayshelf.core.flats.search.light import readable
from grayshelf.core.flats.search.next_step import next_step
from grayshelf.core.flats.search.outset import Asked, KnownRates, LastSetting, Light, path_of, search_task
from grayshelf.core.flats.search.task import Task
from grayshelf.core.flats.settings import RowKey
from grayshelf.library.camera_values import measured_gain
from grayshelf.library.flat_sheet import row_pedestal
from grayshelf.library.models import FlatSetting, RunShot, RunStep
from grayshelf.library.panel_curves import known_points
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import SearchOutcome, ShotStats
from grayshelf.work.flats.conditions import RowConditions, as_test_shot, camera_size
from grayshelf.work.flats.test_flats import Taker, TestFlat
from grayshelf.work.job_states import StepState
from grayshelf.work.steps import Stepwise, Working


@dataclass(frozen=True)
class Sought:
    """What a step looks for: its row, what hangs before the light, and what is asked over the row's own wishes."""

    key: RowKey
    stack: tuple[str, ...] = ()
    stack_stops: float | None = None
    """What the stack takes; None where the light's list of diffusers says it."""
    mode: Mode | None = None
    exposure_s: float | None = None
    brightness: int | None = None
    """Where the time is looked for: the brightness that stays."""
    agreed_brightness: int | None = None
    begin_s: float | None = None
    """Where nothing else is known: the exposure to begin with."""
    focus: float | None = None
    """As the lights had it, for the header of a rig that has no focuser."""


class Searching(Stepwise):
    """Work whose steps look for settings."""

    taker: Taker

    def __init__(self, working: Working) -> None:
        super().__init__(working)
        with self.library.db.session() as session:
            rig = self.library.rig(session, self.rig.id)
            self.widths = {f.code: f.width_nm for f in rig.filters}
            self.size = camera_size(self.library, rig, working.devices)
        self.white: int = min([self.size[2], *self._full_levels()])

    # -- to be said by who searches -----------------------------------------------------------------------------

    def sought(self, step: RunStep) -> Sought:
        """What a step looks for."""
        raise NotImplementedError

    def searches(self, steps: Sequence[RunStep]) -> list[RunStep]:
        """Those of a job's steps that take test shots."""
        raise NotImplementedError

    def found(self, step: RunStep, row: RowConditions, found: Found) -> None:
        """A setting was found; it is kept already."""
        raise NotImplementedError

    def no_answer(self, step: RunStep, row: RowConditions, no: NoAnswer) -> None:
        """Nothing that is permitted does."""
        raise NotImplementedError

    # -- the search ---------------------------------------------------------------------------------------------

    def find(self, step: RunStep) -> None:
        """Look for the setting of a step's row, to the answer."""
        while True:
            self.control.check()
            row = self.row(step)
            decision = next_step(self.task(step, row), self.seen(step))
            if isinstance(decision, Found):
                self._keep(step, row, decision)
                self.found(step, row, decision)
                return
            if isinstance(decision, NoAnswer):
                self.no_answer(step, row, decision)
                return
            self.take(step, row, decision)

    def look(self, step: RunStep) -> None:
        """One shot that can be read, or how it fails."""
        while True:
            self.control.check()
            row, seen = self.row(step), self.seen(step)
            decision = next_step(self.task(step, row), seen)
            has_read = any(readable(s, row.pedestal, row.target) for s in seen)
            if has_read or not isinstance(decision, Shoot):
                self.end_search(step, StepState.DONE if has_read else StepState.NO_ANSWER)
                return
            self.take(step, row, decision)

    def end_search(self, step: RunStep, state: StepState = StepState.DONE) -> None:
        """A search is at its end: nothing comes next."""
        self.end(step, state, replace(read(SearchOutcome, step.outcome), next=None))

    def task(self, step: RunStep, row: RowConditions) -> Task:
        """What the search of a step is to find, with all that is known by now."""
        sought = self.sought(step)
        stays = sought.brightness if sought.brightness is not None else row.brightness()
        asked = Asked(
            sought.mode or row.wishes.mode,
            sought.exposure_s or row.wishes.exposure_s,
            row.wishes.preferred_s,
            stays,
            sought.agreed_brightness,
            sought.begin_s,
        )
        source = row.source
        light = Light(source.name, source.dimmer, source.pulse, sought.stack, self.stops(sought, row))
        known = self.known_rates(row)
        last = None if row.setting is None else last_setting(row.setting)
        return search_task(row.key, asked, light, row.target, row.window, row.pedestal, last, known)

    def row(self, step: RunStep) -> RowConditions:
        """What a step's row wishes, as it is at this moment."""
        with self.library.db.session() as session:
            rig = self.library.rig(session, self.rig.id)
            key = self.sought(step).key
            return RowConditions(self.library, session, rig, self.working.devices, key, self.white)

    def stops(self, sought: Sought, row: RowConditions) -> float:
        """What hangs before the light takes."""
        if sought.stack_stops is not None:
            return sought.stack_stops
        return stops_of(sought.stack, row.source.diffusers)

    # -- shots --------------------------------------------------------------------------------------------------

    def seen(self, step: RunStep) -> list[TestShot]:
        """The shots of a step's row behind the same stack, also those of the look before the search."""
        sought = self.sought(step)
        with self.library.db.session() as session:
            own = []
            for other in self.searches(self.steps(session)):
                theirs = self.sought(other)
                if (theirs.key, theirs.stack) == (sought.key, sought.stack):
                    own.append(other.id)
            shots = session.scalars(select(RunShot).where(RunShot.step_id.in_(own)).order_by(RunShot.id))
            return [as_test_shot(s) for s in shots if read(ShotStats, s.stats).counts]

    def take(self, step: RunStep, row: RowConditions, shot: Shoot) -> TestFlat:
        """Take a test shot; what comes next, and why, is written down before it is taken, so that the page says it."""
        if self.taker.sets_itself:
            # Nothing is asked of anybody until the light is as it should be.
            self.change(step, outcome=replace(read(SearchOutcome, step.outcome), next=None))
            self.tell()
            self.taker.make_ready(step, row.key, shot)
        self.change(step, outcome=replace(read(SearchOutcome, step.outcome), next=shot))
        self.tell()
        with self.library.db.session() as session:
            number = len(session.get_one(RunStep, step.id).shots) + 1
        flat = self.taker.take(step, row.key, row.source, shot, number, self.sought(step).focus)
        # Only a full frame tells that a driver does not shift its samples up: what it said is not unsaid by a darker one.
        self.white = min(self.white, flat.white_adu)
        probe = flat.exposure_s < row.window.shortest.exposure_s * 0.999
        with self.library.db.session() as session:
            session.add(
                RunShot(
                    step_id=step.id,
                    seq=number,
                    exposure_s=flat.exposure_s,
                    brightness=flat.brightness,
                    why=shot.why,
                    stats=as_kept(replace(flat.stats, probe=probe, white=flat.white_adu)),
                    taken_at=flat.taken_at,
                    path=flat.path,
                    frame_id=flat.frame_id,
                )
            )
            session.get_one(RunStep, step.id).done = number
        step.done = number
        self.tell()
        return flat

    def _full_levels(self) -> list[int]:
        """The levels at which frames of this job were found to be full."""
        with self.library.db.session() as session:
            query = select(RunShot.stats).join(RunStep).where(RunStep.job_id == self.control.job_id)
            levels = [read(ShotStats, stats).white for stats in session.scalars(query)]
            return [level for level in levels if level is not None]

    # -- what is known ------------------------------------------------------------------------------------------

    def points(self, row: RowConditions) -> list[ResponsePoint]:
        """All that is known of a light's rates: the measured curve, and this job's shots in any filter."""
        points: list[ResponsePoint] = []
        with self.library.db.session() as session:
            if row.source.id is not None:
                rig = self.library.rig(session, self.rig.id)
                points += known_points(session, row.source.id, rig)
            searched = [(s, list(s.shots)) for s in self.searches(self.steps(session))]
        for step, shots in searched:
            sought = self.sought(step)
            pedestal = self.pedestal_of(sought.key)
            found = read(SearchOutcome, step.outcome).found
            if pedestal is None and found is not None:
                pedestal = Pedestal(found.pedestal_adu, 60.0, "the fit")
            lifted = 2.0 ** self.stops(sought, row)
            seen = [as_test_shot(s) for s in shots]
            for point in rates(seen, row.target, pedestal, path_of(sought.key)):
                points.append(replace(point, rate=point.rate * lifted))
        return points

    def known_rates(self, row: RowConditions) -> KnownRates:
        """The same, with what lets the rate in one filter tell of another."""
        points = self.points(row)
        return KnownRates(points, self.widths, self._conversions(row.key, points))

    def pedestal_of(self, key: RowKey) -> Pedestal | None:
        """The level of a capped frame at a row's settings."""
        return row_pedestal(self.library, self.rig.camera, self.size[0], self.size[1], key, self.white)

    def _conversions(self, key: RowKey, points: Sequence[ResponsePoint]) -> dict[float, float]:
        """Electrons in an ADU at the row's gain and at those of the rates, where they were measured."""
        gains = {p.group.gain for p in points if isinstance(p.group, LightPath)}
        known = {g: measured_gain(self.library, self.rig.camera, g) for g in {key.gain, *gains}}
        return {gain: value.e_per_adu for gain, value in known.items() if value is not None}

    def _keep(self, step: RunStep, row: RowConditions, found: Found) -> None:
        """Keep a setting that was found; of the search, what came of it."""
        with self.library.db.session() as session:
            if self.can_be_shot_again(step):
                session.add(self._setting(step, row, found))
        self.change(step, outcome=replace(read(SearchOutcome, step.outcome), found=found, next=None))

    def can_be_shot_again(self, step: RunStep) -> bool:
        """Whether what hangs before the light is known, so that the setting is of use another time."""
        return True

    def _setting(self, step: RunStep, row: RowConditions, found: Found) -> FlatSetting:
        return FlatSetting(
            rig_id=self.rig.id,
            **row.key.as_json,
            brightness=found.brightness,
            exposure_s=found.exposure_s,
            dark_s=row.source.timed.dark_s if row.source.timed else 0.0,
            expected_adu=found.expected_adu,
            shots=found.shots,
            found_at=self.library.clock.now(),
            source=row.source.name,
            diffusers=list(self.sought(step).stack),
            target_adu=row.target.level_adu,
            pedestal_adu=found.pedestal_adu,
            banding_percent=found.banding_percent,
            step_id=step.id,
        )


def last_setting(setting: FlatSetting) -> LastSetting:
    """A kept setting in the words of the search."""
    return LastSetting(
        setting.exposure_s,
        setting.brightness,
        setting.expected_adu,
        setting.pedestal_adu,
        setting.source,
        tuple(setting.diffusers),
    )
