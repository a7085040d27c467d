"""Finding the flat settings of a rig: row after row, with the rig's devices or by a watched folder."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from sqlalchemy import select

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.model import Found, NoAnswer
from grayshelf.core.flats.panel.diffusers import StackAdvice, advise, stops_of
from grayshelf.core.flats.panel.ladder import next_factor_shot, next_ladder_shot
from grayshelf.core.flats.panel.one_exposure import SharedExposure, SharedRow, seconds_saved, share_exposure
from grayshelf.core.flats.panel.response import fit_response
from grayshelf.core.flats.search.light import LightModel, fit_light, readable
from grayshelf.core.flats.search.outset import guessed_rate
from grayshelf.core.flats.search.verdict import widened
from grayshelf.core.flats.timed_light import exposure_of
from grayshelf.core.planning.gates import hang
from grayshelf.library.models import LightSource, PanelCurve, RunShot, RunStep
from grayshelf.library.panel_curves import points_as_json
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.step_records import (
    AgreeOutcome,
    JobResult,
    NoAnswerKept,
    Refused,
    SearchJob,
    SearchOutcome,
    SearchParams,
)
from grayshelf.work.flats.conditions import RowConditions
from grayshelf.work.flats.panel_shots import panel_shots
from grayshelf.work.flats.searching import Searching, Sought
from grayshelf.work.flats.test_flats import FolderTaker, RigTaker, RowLeftOut, Taker
from grayshelf.work.gates import gate_step, waiting_behind
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.steps import SEQ, Handler, Working
from grayshelf.work.watched import WatchedFolder

#: Steps that take test shots.
SHOT_STEPS = ("find", "look", "ladder", "factor")
#: So many of a row's refused files are told of.
REFUSED_TOLD = 8
#: A row's search takes about so many shots, for telling how far it is.
USUAL_SHOTS = 3


class FlatSearch(Searching):
    """One search for settings, or for how a panel follows its brightness."""

    topic = "flats"

    def __init__(self, working: Working, job: SearchJob) -> None:
        super().__init__(working)
        self.job = job
        self.taker = self._taker()

    def _taker(self) -> Taker:
        if self.job.folder is not None:
            watched = WatchedFolder(
                Path(self.job.folder), self.job.since, self.zone, self.control, self._handled()
            )
            word = gain_word(self.library, self.rig.camera)
            now = self.library.clock.now
            return FolderTaker(
                watched, self.rig.camera, now, self._refuse, self._left_out, word, self.working.beside
            )
        return RigTaker(
            self.devices,
            self.shooter(),
            self.control,
            self.ask,
            self.by_hand,
            several_filters=len(self.widths) > 1,
            names="flats",
        )

    def handlers(self) -> Mapping[str, Handler]:
        """What is done with each kind of step."""
        return {
            "find": self.find,
            "look": self.look,
            "agree": self._agree,
            "ladder": self._measure_panel,
            "factor": self._measure_panel,
        }

    def do_step(self, step: RunStep) -> None:
        """Do one step to its end, or until its row is left out."""
        try:
            super().do_step(step)
        except RowLeftOut:
            self.end_search(step, StepState.SKIPPED)

    # -- what is searched ---------------------------------------------------------------------------------------

    def sought(self, step: RunStep) -> Sought:
        """What a step looks for, as it was put down when the search was begun."""
        params = read(SearchParams, step.params)
        return Sought(
            params.key,
            params.stack,
            mode=params.mode,
            exposure_s=params.exposure_s,
            agreed_brightness=params.brightness,
        )

    def searches(self, steps: Sequence[RunStep]) -> list[RunStep]:
        """Steps that take test shots."""
        return [s for s in steps if s.kind in SHOT_STEPS]

    def leave_out(self, gate: RunStep) -> None:
        """What waited behind a gate that is not passed is left out."""
        with self.library.db.session() as session:
            for other in waiting_behind(gate, self.steps(session)):
                other.state = StepState.SKIPPED

    # -- a watched folder ---------------------------------------------------------------------------------------

    def _left_out(self, step: RunStep) -> bool:
        """Whether the person has left a row out while it waits for its test flats."""
        with self.library.db.session() as session:
            return read(SearchParams, session.get_one(RunStep, step.id).params).left_out

    def _handled(self) -> set[str]:
        """Files of the watched folder that were read or refused before."""
        with self.library.db.session() as session:
            searches = self.searches(self.steps(session))
            refused = {r.name for s in searches for r in read(SearchOutcome, s.outcome).refused}
            taken = session.scalars(
                select(RunShot.path).join(RunStep).where(RunStep.job_id == self.control.job_id)
            )
            return refused | set(taken)

    def _refuse(self, step: RunStep, name: str, why: str) -> None:
        """A frame came in that is not the one that was asked for: say so, and wait on."""
        outcome = read(SearchOutcome, step.outcome)
        refused = (*outcome.refused, Refused(name, why))[-REFUSED_TOLD:]
        self.change(step, outcome=replace(outcome, refused=refused))
        self.publish()

    # -- answers ------------------------------------------------------------------------------------------------

    def found(self, step: RunStep, row: RowConditions, found: Found) -> None:
        """The row is done."""
        self.end_search(step)
        self.publish()

    def no_answer(self, step: RunStep, row: RowConditions, no: NoAnswer) -> None:
        """One filter that fails does not stop the rest; where a stack at hand would do, it is tried after them."""
        params = read(SearchParams, step.params)
        mode = params.mode or row.wishes.mode
        dims = mode == "brightness" and row.source.dimmer is not None
        advice = advise(no, params.stack, row.source.diffusers, dims=dims)
        told = NoAnswerKept(**vars(no), stack=params.stack, widened=widened(no))
        if advice is not None:
            told = replace(told, hang=advice.names, short_by=advice.short_by, sentence=advice.sentence)
        outcome = replace(read(SearchOutcome, step.outcome), no_answer=told, next=None)
        self.end(step, StepState.NO_ANSWER, outcome)
        tried = {*params.tried, "+".join(params.stack)}
        if advice is not None and not advice.short_by and "+".join(advice.names) not in tried:
            self._try_behind(step, row, advice, tuple(sorted(tried)))

    def _try_behind(
        self, step: RunStep, row: RowConditions, advice: StackAdvice, tried: tuple[str, ...]
    ) -> None:
        """Put the row's search behind another stack, after all others; rows that share a stack go together."""
        params = replace(read(SearchParams, step.params), stack=advice.names, tried=tried, brightness=None)
        with self.library.db.session() as session:
            steps = self.steps(session)
            last = max(s.seq for s in steps)
            searches = [s for s in self.searches(steps) if s.state in OPEN]
            waiting = [s for s in searches if self.sought(s).stack == advice.names]
            again = RunStep(
                job_id=step.job_id,
                seq=(max(s.seq for s in waiting) if waiting else last + SEQ) + 2,
                kind="find",
                title=step.title,
                filter_code=step.filter_code,
                row=step.row,
                params=as_kept(params),
            )
            if not waiting and not self.taker.by_folder:
                stops = stops_of(advice.names, row.source.diffusers)
                gate = gate_step(hang(row.source.name, advice.names, stops, "try again", can_leave_out=True))
                gate.job_id, gate.seq = step.job_id, last + SEQ
                session.add(gate)
            session.add(again)

    # -- one exposure for several filters -----------------------------------------------------------------------

    def _agree(self, step: RunStep) -> None:
        """Choose the exposure that the filters of a group share, and give it to their searches."""
        group = read(SearchParams, step.params).group
        with self.library.db.session() as session:
            finds = [s for s in self.steps(session) if s.kind == "find"]
            finds = [s for s in finds if read(SearchParams, s.params).group == group]
        members: dict[str, tuple[RunStep, RowConditions]] = {}
        lights: list[SharedRow] = []
        for find in finds:
            row = self.row(find)
            light = self._light(find, row)
            if light is not None:
                members[str(row.key)] = find, row
                lights.append(SharedRow(str(row.key), row.target, row.window, light))
        shared = self._share(members, lights)
        if shared is None:
            message = "No exposure serves two of these filters: each gets its own."
            self.end(step, outcome=AgreeOutcome(message))
            return
        for key, brightness in shared.brightness.items():
            find = members[str(key)][0]
            asked = replace(
                read(SearchParams, find.params),
                mode="brightness",
                exposure_s=shared.exposure_s,
                brightness=brightness,
            )
            self.change(find, params=asked)
        self.end(step, outcome=self._agreed(shared, members))

    def _light(self, find: RunStep, row: RowConditions) -> LightModel | None:
        """The light of a row that can be dimmed, by its shots so far."""
        if row.source.dimmer is None:
            return None
        response = fit_response(self.points(row), row.source.dimmer)
        return fit_light(self.seen(find), row.target, row.pedestal, response)

    def _share(
        self, members: Mapping[str, tuple[RunStep, RowConditions]], lights: Sequence[SharedRow]
    ) -> SharedExposure | None:
        for find, row in members.values():
            assert row.source.dimmer is not None
            wish = read(SearchParams, find.params).exposure_s or row.wishes.preferred_s
            return share_exposure(lights, row.source.dimmer, wish, row.source.pulse)
        return None

    def _agreed(
        self, shared: SharedExposure, members: Mapping[str, tuple[RunStep, RowConditions]]
    ) -> AgreeOutcome:
        """The exposure, whom it serves, and what it saves."""
        rows = [members[str(key)][1] for key in shared.brightness]
        n = max(row.wishes.n_dark_flats for row in rows)
        known = [r.setting.exposure_s + r.setting.dark_s for r in rows if r.setting is not None]
        devices = self.working.devices
        download = devices.camera.facts.download_s if devices is not None else 2.0
        return AgreeOutcome(
            exposure_s=shared.exposure_s,
            served=tuple(r.key.filter_code for r in sorted(rows, key=lambda r: r.wheel_position)),
            left_out=tuple(members[str(key)][1].key.filter_code for key in shared.left_out),
            saved_s=seconds_saved(
                len(rows), known, exposure_of(rows[0].source.timed, shared.exposure_s), n, download
            ),
            saved_frames=n * (len(rows) - 1),
        )

    # -- how the panel follows its brightness -------------------------------------------------------------------

    def _measure_panel(self, step: RunStep) -> None:
        """The ladder in one filter, or the factor of another."""
        while True:
            self.control.check()
            row, seen = self.row(step), self.seen(step)
            dimmer = row.source.dimmer
            if dimmer is None:
                raise GrayShelfError(
                    f"{row.source.name} cannot be dimmed, so there is no curve to measure.",
                    "Choose another light.",
                )
            if step.kind == "ladder":
                shot = next_ladder_shot(seen, dimmer, row.window, row.target, row.pedestal)
            else:
                known = self.known_rates(row)
                response = fit_response(known.points, dimmer)
                guess = guessed_rate(row.key, known, response)
                shot = next_factor_shot(seen, response, row.window, row.target, row.pedestal, guess)
            if shot is None:
                has_read = any(readable(s, row.pedestal, row.target) for s in seen)
                self.end_search(step, StepState.DONE if has_read else StepState.NO_ANSWER)
                return
            self.take(step, row, shot)

    def _keep_curve(self) -> str:
        """Keep what was measured of the panel."""
        with self.library.db.session() as session:
            rig = self.library.rig(session, self.rig.id)
            steps = self.steps(session)
            measured = panel_shots(self.library, session, rig, self.working.devices, steps, self.white)
            if not measured.makes_a_curve or measured.source_id is None:
                return "Too little of the panel could be read to keep a curve."
            known = session.scalar(select(PanelCurve.id).where(PanelCurve.job_id == self.control.job_id))
            if known is None:
                session.add(
                    PanelCurve(
                        source_id=measured.source_id,
                        rig_id=self.rig.id,
                        job_id=self.control.job_id,
                        points=points_as_json(measured.points),
                        shots=measured.n_shots,
                        made_at=self.library.clock.now(),
                    )
                )
            name = session.get_one(LightSource, measured.source_id).name
            return f"{name} measured in {measured.n_shots} shots"

    # -- telling ------------------------------------------------------------------------------------------------

    def progress_of(self, steps: list[RunStep]) -> tuple[float, str]:
        """Share of the rows that are at their end, and the row that is not."""
        steps = [s for s in steps if s.kind != "gate"]
        ended = sum(s.state not in OPEN for s in steps)
        doing = next((s for s in steps if s.state in OPEN), None)
        part = min(doing.done, USUAL_SHOTS) / (USUAL_SHOTS + 1.0) if doing is not None else 0.0
        return (ended + part) / max(len(steps), 1), doing.title if doing is not None else ""

    def ended(self) -> JobResult:
        """How many settings were found, or what was measured."""
        if self.job.response:
            return JobResult(self._keep_curve())
        with self.library.db.session() as session:
            steps = self.steps(session)
        finds = [s for s in steps if s.kind == "find"]
        rows = {self.sought(s).key for s in finds}
        found = {self.sought(s).key for s in finds if read(SearchOutcome, s.outcome).found is not None}
        shots = sum(s.done for s in steps)
        return JobResult(f"{len(found)} of {len(rows)} settings found in {shots} test shots")


def started_now() -> float:
    """From when on files in a watched folder count."""
    return time.time() - 1.0
