"""Finding the flat settings of a rig: row after row, with the rig's devices or by a watched folder.

A job of steps. Each step's shots are rows, so a search that was stopped or killed goes on from them, and what a row
wishes is read anew before every shot, so that bounds and tolerance can be widened while it goes on.
"""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any, cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.diffusers import advise, stops_of
from grayshelf.core.flats.light import fit_light, pedestal_belief, readable
from grayshelf.core.flats.model import Dimmer, Found, NoAnswer, Pedestal, Prior, Shoot, TestShot
from grayshelf.core.flats.panel import PanelResponse, ResponsePoint, fit_response, log_factor
from grayshelf.core.flats.response_plan import next_factor_shot, next_ladder_shot, rates
from grayshelf.core.flats.search import Task, at_level, carried_over, next_step
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.flats.shared import SharedRow, seconds_saved, share_exposure
from grayshelf.core.flats.verdict import widened
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import row_pedestal
from grayshelf.library.library import Library
from grayshelf.library.measurements import measured_gain
from grayshelf.library.models import FlatSetting, Job, LightSource, PanelCurve, RunShot, RunStep
from grayshelf.library.panel_curves import known_points, points_as_json
from grayshelf.library.rig_terms import gain_word
from grayshelf.work.flat_shots import FolderTaker, RigTaker, RowLeftOut, Taker, TestFlat
from grayshelf.work.gates import diffuser_gate, pass_gate, waiting_behind
from grayshelf.work.job_states import StepState
from grayshelf.work.jobs import JobControl, JobRunner, JobState
from grayshelf.work.panel_shots import panel_shots
from grayshelf.work.row_search import RowSearch, as_test_shot, camera_size
from grayshelf.work.shooting import Shooter
from grayshelf.work.steps import OPEN, Stepwise

SHOT_STEPS = ("find", "look", "ladder", "factor")


def key_of(step: RunStep) -> RowKey:
    """The row that a step belongs to."""
    return RowKey(**step.params["key"])


class FlatSearch(Stepwise):
    """One search for settings, or for how a panel follows its brightness."""

    def __init__(
        self,
        library: Library,
        runner: JobRunner,
        devices: RigDevices | None,
        control: JobControl,
        params: dict[str, Any],
    ) -> None:
        self.library, self.runner, self.devices, self.control = library, runner, devices, control
        self.params = params
        with library.db.session() as session:
            job = session.get_one(Job, control.job_id)
            self.rig = library.rig(session, job.rig_id or 0)
            self.zone = library.zone(session)
            self.size = camera_size(library, self.rig, devices)
            self.widths = {f.code: f.width_nm for f in self.rig.filters}
        self.white: int = min([self.size[2], *self._full_levels()])
        self.taker = self._taker()

    def _taker(self) -> Taker:
        folder = self.params.get("folder")
        if folder:
            return FolderTaker(
                Path(folder),
                float(self.params["since"]),
                self.rig.camera,
                self.zone,
                self.control,
                self.library.clock.now,
                self._refuse,
                self._handled(),
                self._left_out,
                gain_word(self.library, self.rig.camera),
            )
        assert self.devices is not None
        shooter = Shooter(self.library, self.devices, self.control, self.rig, self.zone)
        several = len(self.widths) > 1
        return RigTaker(self.devices, shooter, self.control, self._ask, self._known, several_filters=several)

    def do(self) -> dict[str, Any]:
        """Work through the steps that are open."""
        while (step := self.next_step()) is not None:
            self.control.check()
            self.begin(step)
            try:
                self._do_step(step)
            except RowLeftOut:
                self.end(step, StepState.SKIPPED, next=None)
            self._tell()
        return self._ended()

    def _do_step(self, step: RunStep) -> None:
        if step.kind == "gate":
            self._gate(step)
        elif step.kind == "look":
            self._look(step)
        elif step.kind == "agree":
            self._agree(step)
        elif step.kind in ("ladder", "factor"):
            self._respond(step)
        else:
            self._find(step)

    # -- gates --------------------------------------------------------------------------------------------------

    def _gate(self, step: RunStep) -> None:
        assert self.devices is not None
        if step.params.get("gate") == "diffuser":
            # What hangs now is known only when the gate is reached: others may have come before it.
            more = float(step.params["total"]) - self._hanging_stops()
            self.change(step, params={**step.params, "stops": more})
        answer = pass_gate(self.library, self.runner, self.devices, self.control, step)
        if answer == "leave out":
            self._leave_out(step)
        self.end(step, StepState.SKIPPED if answer == "leave out" else StepState.DONE, answer=answer)
        self.runner.set_state(self.control.job_id, JobState.RUNNING, "", "")

    def _hanging_stops(self) -> float:
        """Stops of what hangs before the light since it was put in its place."""
        stops = 0.0
        with self.library.db.session() as session:
            for step in self._steps(session):
                if step.kind == "gate" and step.state == StepState.DONE:
                    if step.params.get("gate") == "panel":
                        stops = 0.0
                    elif step.params.get("gate") == "diffuser":
                        stops = float(step.params["total"])
        return stops

    def _leave_out(self, gate: RunStep) -> None:
        """What waited behind a gate that is not passed is left out."""
        with self.library.db.session() as session:
            for other in waiting_behind(gate, self._steps(session)):
                other.state = StepState.SKIPPED

    def _ask(self, step: RunStep, what: str, value: str, title: str, advice: str) -> None:
        """A gate in the middle of a step, for something that the rig cannot set."""
        gate = RunStep(
            job_id=step.job_id,
            seq=step.seq,
            kind="gate",
            title=title,
            state=StepState.DOING,
            params={
                "gate": what,
                "value": value,
                "advice": advice,
                "answer": f"{title.removeprefix('Set ')}: go on",
            },
        )
        with self.library.db.session() as session:
            # It comes before its step in the order of the rows, also after the process was killed.
            session.get_one(RunStep, step.id).seq = step.seq + 1
            session.add(gate)
            session.flush()
        step.seq += 1
        self._gate(gate)

    def _known(self, what: str) -> str | None:
        """What was last set by hand in this search."""
        with self.library.db.session() as session:
            passed = [s for s in self._steps(session) if s.kind == "gate" and s.params.get("gate") == what]
            done = [s for s in passed if s.state == StepState.DONE]
            return str(done[-1].params.get("value")) if done else None

    def _steps(self, session: Session) -> list[RunStep]:
        query = select(RunStep).where(RunStep.job_id == self.control.job_id).order_by(RunStep.seq, RunStep.id)
        return list(session.scalars(query))

    def _left_out(self, step: RunStep) -> bool:
        """Whether the person has left a row out while it waits for its test flats."""
        with self.library.db.session() as session:
            return bool(session.get_one(RunStep, step.id).params.get("left_out"))

    # -- shots --------------------------------------------------------------------------------------------------

    def _handled(self) -> set[str]:
        """Files of the watched folder that were read or refused before."""
        with self.library.db.session() as session:
            steps = self._steps(session)
            refused = {str(r["name"]) for s in steps for r in s.outcome.get("refused", [])}
            taken = session.scalars(
                select(RunShot.path).join(RunStep).where(RunStep.job_id == self.control.job_id)
            )
            return refused | set(taken)

    def _full_levels(self) -> list[int]:
        """The levels at which frames of this job were found to be full."""
        with self.library.db.session() as session:
            query = select(RunShot.stats).join(RunStep).where(RunStep.job_id == self.control.job_id)
            return [int(stats["white"]) for stats in session.scalars(query) if "white" in stats]

    def _refuse(self, step: RunStep, name: str, why: str) -> None:
        """A frame came in that is not the one that was asked for: say so, and wait on."""
        refused = [*step.outcome.get("refused", []), {"name": name, "why": why}][-8:]
        self.change(step, outcome={**step.outcome, "refused": refused})
        self.runner.broker.publish("flats", id=self.control.job_id)

    def _shots(self, step: RunStep) -> list[TestShot]:
        """The shots of a row behind the same stack, from its look and its find."""
        with self.library.db.session() as session:
            own = [
                s.id
                for s in self._steps(session)
                if s.kind in SHOT_STEPS
                and s.params["key"] == step.params["key"]
                and s.params.get("stack", []) == step.params.get("stack", [])
            ]
            shots = session.scalars(select(RunShot).where(RunShot.step_id.in_(own)).order_by(RunShot.id))
            return [as_test_shot(s) for s in shots if s.stats.get("counts", True)]

    def _take(self, step: RunStep, row: RowSearch, shot: Shoot) -> TestFlat:
        # Written down before it is shot, so that the page says what comes next and why.
        self.change(step, outcome={**step.outcome, "next": asdict(shot)})
        self._tell()
        with self.library.db.session() as session:
            number = len(session.get_one(RunStep, step.id).shots) + 1
        flat = self.taker.take(step, row.key, row.source, shot, number)
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
                    stats={**flat.stats, "probe": probe, "white": flat.white_adu},
                    taken_at=flat.taken_at,
                    path=flat.path,
                )
            )
            session.get_one(RunStep, step.id).done = number
        step.done = number
        self._tell()
        return flat

    # -- what is known ------------------------------------------------------------------------------------------

    def _row(self, step: RunStep) -> RowSearch:
        with self.library.db.session() as session:
            rig = self.library.rig(session, self.rig.id)
            return RowSearch(self.library, session, rig, self.devices, key_of(step), self.white)

    def _stops(self, row: RowSearch, step: RunStep) -> float:
        return stops_of(step.params.get("stack", []), row.source.diffusers)

    def _points(self, row: RowSearch) -> list[ResponsePoint]:
        """All that is known of the source's response: the measured curve, and this job's shots in any filter."""
        points: list[ResponsePoint] = []
        with self.library.db.session() as session:
            if row.source.id is not None:
                rig = self.library.rig(session, self.rig.id)
                points += known_points(session, row.source.id, rig)
            steps = [(s, list(s.shots)) for s in self._steps(session) if s.kind in SHOT_STEPS]
        for step, shots in steps:
            key = key_of(step)
            pedestal = self._pedestal_of(key)
            found = step.outcome.get("found")
            if pedestal is None and found:
                pedestal = Pedestal(float(found["pedestal_adu"]), 60.0, "the fit")
            seen = [as_test_shot(s) for s in shots]
            lifted = 2.0 ** self._stops(row, step)
            group = (key.filter_code, key.gain, key.binning)
            for point in rates(seen, row.target, pedestal, ""):
                points.append(ResponsePoint(group, point.brightness, point.rate * lifted))
        return points

    def _pedestal_of(self, key: RowKey) -> Pedestal | None:
        return row_pedestal(self.library, self.rig.camera, self.size[0], self.size[1], key, self.white)

    def _guess(
        self, row: RowSearch, points: Sequence[ResponsePoint], response: PanelResponse
    ) -> float | None:
        """ADU a second at the highest brightness: what other filters' shares say, by the widths of the filters."""
        best: float | None = None
        for group in {p.group for p in points}:
            if len(cast("tuple[object, ...]", group)) > 3:
                # Through another telescope: its rates say nothing here.
                continue
            code, gain, binning = cast("tuple[str, float, int]", group)
            factor = log_factor(response, [p for p in points if p.group == group])
            width, own = self.widths.get(code), row.width_nm
            if factor is None or not width or not own:
                continue
            ratio = own / width * (row.key.binning / binning) ** 2
            if gain != row.key.gain:
                here, there = (measured_gain(self.library, self.rig.camera, g) for g in (row.key.gain, gain))
                if here is None or there is None:
                    continue
                ratio *= there.e_per_adu / here.e_per_adu
            guess = math.exp(factor) * ratio
            best = guess if best is None else max(best, guess)
        return best

    def _task(self, step: RunStep, row: RowSearch) -> Task:
        mode = step.params.get("mode") or row.wishes.mode
        dimmer = row.source.dimmer
        if dimmer is None:
            mode = "time"
        exposure = step.params.get("exposure_s") or row.wishes.exposure_s
        stack_stops = self._stops(row, step)
        stack = list(step.params.get("stack", []))
        prior: Prior | None = None
        response: PanelResponse | None = None
        guess: float | None = None
        brightness = row.brightness() if dimmer is not None else None
        same_stack = row.setting is not None and list(row.setting.diffusers) == stack
        if (
            row.setting is not None
            and same_stack
            and row.setting.source in ("", row.source.name)
            and (mode != "time" or row.setting.brightness == brightness)
        ):
            then = row.setting
            prior = at_level(
                Prior(then.exposure_s, then.brightness),
                then.expected_adu,
                then.pedestal_adu or 0.0,
                row.target,
            )
        if dimmer is not None:
            points = self._points(row)
            response = fit_response(points, dimmer)
            if prior is not None and mode != "time":
                prior = carried_over(prior, row.window, mode, exposure or row.wishes.preferred_s, response)
            own = [p for p in points if p.group == (row.key.filter_code, row.key.gain, row.key.binning)]
            factor = log_factor(response, own)
            if factor is not None and prior is None and response.measured:
                prior = self._predicted(row, mode, exposure, brightness, response, factor, stack_stops)
            if factor is None:
                guess = self._guess(row, points, response)
                guess = guess / 2.0**stack_stops if guess is not None else None
                if guess is not None and mode == "time" and brightness is not None:
                    guess *= math.exp(response.log_output(brightness))
        if step.params.get("brightness") is not None:
            prior = Prior(
                float(exposure or row.window.shortest.exposure_s),
                int(step.params["brightness"]),
                "as the shots so far say",
            )
        return Task(
            row.target,
            row.window,
            mode,
            brightness if mode == "time" else None,
            exposure,
            dimmer if mode != "time" else None,
            row.pedestal,
            prior,
            response,
            guess,
            row.source.pulse,
        )

    def _predicted(
        self,
        row: RowSearch,
        mode: str,
        exposure: float | None,
        brightness: int | None,
        response: PanelResponse,
        factor: float,
        stack_stops: float,
    ) -> Prior:
        """What a measured panel says that the setting will be."""
        base = pedestal_belief(row.pedestal, ()).adu
        signal = max(row.target.level_adu - base, 1.0)
        top = math.exp(factor) / 2.0**stack_stops
        why = "as the panel's measured curve says"
        if mode == "time":
            assert brightness is not None
            return Prior(signal / (top * math.exp(response.log_output(brightness))), brightness, why)
        low, high = row.window.shortest.exposure_s, row.window.longest.exposure_s
        at = min(max(exposure or row.wishes.preferred_s, low), high)
        wanted = round(response.brightness_for(math.log(signal / at / top)))
        if mode == "both":
            at = min(max(signal / (top * math.exp(response.log_output(wanted))), low), high)
            at = float(f"{at:.3g}")
        return Prior(at, wanted, why)

    # -- find ---------------------------------------------------------------------------------------------------

    def _find(self, step: RunStep) -> None:
        while True:
            self.control.check()
            row = self._row(step)
            shots = self._shots(step)
            decision = next_step(self._task(step, row), shots)
            if isinstance(decision, Found):
                self._found(step, row, decision)
                return
            if isinstance(decision, NoAnswer):
                self._no_answer(step, row, decision)
                return
            self._take(step, row, decision)

    def _look(self, step: RunStep) -> None:
        """One shot that can be read in each filter that is to share an exposure; or how it fails."""
        while True:
            self.control.check()
            row = self._row(step)
            shots = self._shots(step)
            if any(readable(s, row.pedestal, row.target) for s in shots):
                self.end(step, next=None)
                return
            decision = next_step(self._task(step, row), shots)
            if not isinstance(decision, Shoot):
                self.end(step, StepState.NO_ANSWER, next=None)
                return
            self._take(step, row, decision)

    def _agree(self, step: RunStep) -> None:
        """Choose the exposure that the filters of a group share, and give it to their searches."""
        with self.library.db.session() as session:
            finds = [
                s
                for s in self._steps(session)
                if s.kind == "find" and s.params.get("group") == step.params["group"]
            ]
        rows, by_key = [], {}
        for find in finds:
            row = self._row(find)
            if row.source.dimmer is None:
                continue
            response = fit_response(self._points(row), row.source.dimmer)
            light = fit_light(self._shots(find), row.target, row.pedestal, response)
            if light is not None:
                rows.append(SharedRow(str(row.key), row.target, row.window, light))
                by_key[str(row.key)] = (find, row)
        first = next(iter(by_key.values()), None)
        dimmer: Dimmer | None = first[1].source.dimmer if first else None
        shared = None
        if first is not None and dimmer is not None:
            wish = float(first[0].params.get("exposure_s") or first[1].wishes.preferred_s)
            shared = share_exposure(rows, dimmer, wish, first[1].source.pulse)
        if shared is None:
            self.end(step, message="No exposure serves two of these filters: each gets its own.")
            return
        known: list[float] = []
        for key, brightness in shared.brightness.items():
            find, row = by_key[str(key)]
            self.change(
                find,
                params={
                    **find.params,
                    "mode": "brightness",
                    "exposure_s": shared.exposure_s,
                    "brightness": brightness,
                },
            )
            if row.setting is not None:
                known.append(row.setting.exposure_s)
        n = max(by_key[str(k)][1].wishes.n_dark_flats for k in shared.brightness)
        download = self.devices.camera.facts.download_s if self.devices else 2.0
        saved = seconds_saved(len(shared.brightness), known, shared.exposure_s, n, download)
        left = [by_key[str(k)][1].key.filter_code for k in shared.left_out]
        rows_served = [by_key[str(k)][1] for k in shared.brightness]
        served = [r.key.filter_code for r in sorted(rows_served, key=lambda r: r.wheel_position)]
        self.end(
            step,
            exposure_s=shared.exposure_s,
            served=served,
            left_out=left,
            saved_s=saved,
            saved_frames=n * (len(served) - 1),
        )

    def _found(self, step: RunStep, row: RowSearch, found: Found) -> None:
        with self.library.db.session() as session:
            session.add(
                FlatSetting(
                    rig_id=self.rig.id,
                    **row.key.as_json,
                    brightness=found.brightness,
                    exposure_s=found.exposure_s,
                    expected_adu=found.expected_adu,
                    shots=found.shots,
                    found_at=self.library.clock.now(),
                    source=row.source.name,
                    diffusers=list(step.params.get("stack", [])),
                    target_adu=row.target.level_adu,
                    pedestal_adu=found.pedestal_adu,
                    banding_percent=found.banding_percent,
                    step_id=step.id,
                )
            )
        self.end(step, found=asdict(found), next=None)
        self.runner.broker.publish("flats", id=self.control.job_id)

    def _no_answer(self, step: RunStep, row: RowSearch, no: NoAnswer) -> None:
        """One filter that fails does not stop the rest; where a stack at hand would do, it is tried after them."""
        stack = list(step.params.get("stack", []))
        mode = step.params.get("mode") or row.wishes.mode
        advice = advise(
            no, stack, row.source.diffusers, dims=mode == "brightness" and row.source.dimmer is not None
        )
        told = {**asdict(no), "stack": stack, "widened": widened(no)}
        if advice is not None:
            told |= {"hang": list(advice.names), "short_by": advice.short_by, "sentence": advice.sentence}
        self.end(step, StepState.NO_ANSWER, no_answer=told, next=None)
        tried = set(step.params.get("tried", [])) | {"+".join(stack)}
        if (
            advice is None
            or advice.short_by > 0
            or "+".join(advice.names) in tried
            or advice.names == tuple(stack)
        ):
            return
        self._try_behind(step, row, list(advice.names), sorted(tried))

    def _try_behind(self, step: RunStep, row: RowSearch, names: list[str], tried: list[str]) -> None:
        """Put the row's search behind another stack, after all others; rows that share a stack go together."""
        with self.library.db.session() as session:
            steps = self._steps(session)
            waiting = [s for s in steps if s.params.get("stack") == names and s.state in OPEN]
            gates = [s for s in waiting if s.kind == "gate"]
            last = max(s.seq for s in steps)
            again = RunStep(
                job_id=step.job_id,
                seq=(max(s.seq for s in waiting) if waiting else last + 100) + 2,
                kind="find",
                title=step.title,
                filter_code=step.filter_code,
                row=step.row,
                params={**step.params, "stack": names, "tried": tried, "brightness": None},
            )
            if not gates and not self.taker.by_folder:
                stops = stops_of(names, row.source.diffusers)
                title, params = diffuser_gate(row.source.name, names, stops, "try again")
                session.add(
                    RunStep(job_id=step.job_id, seq=last + 100, kind="gate", title=title, params=params)
                )
            session.add(again)

    # -- response -----------------------------------------------------------------------------------------------

    def _respond(self, step: RunStep) -> None:
        """The ladder in one filter, or the factor of another."""
        while True:
            self.control.check()
            row, shots = self._row(step), self._shots(step)
            dimmer = row.source.dimmer
            if dimmer is None:
                raise GrayShelfError(
                    f"{row.source.name} cannot be dimmed, so there is no curve to measure.",
                    "Choose another light.",
                )
            points = self._points(row)
            response = fit_response(points, dimmer)
            guess = self._guess(row, points, response) if step.kind == "factor" else None
            if step.kind == "ladder":
                shot = next_ladder_shot(shots, dimmer, row.window, row.target, row.pedestal)
            else:
                shot = next_factor_shot(shots, response, row.window, row.target, row.pedestal, guess)
            if shot is None:
                seen = any(readable(s, row.pedestal, row.target) for s in shots)
                self.end(step, StepState.DONE if seen else StepState.NO_ANSWER, next=None)
                return
            self._take(step, row, shot)

    def _keep_curve(self) -> str:
        """Keep what was measured of the panel."""
        with self.library.db.session() as session:
            seen = panel_shots(
                self.library, session, self.rig, self.devices, self._steps(session), self.white
            )
            if not seen.makes_a_curve or seen.source_id is None:
                return "Too little of the panel could be read to keep a curve."
            known = session.scalar(select(PanelCurve.id).where(PanelCurve.job_id == self.control.job_id))
            if known is None:
                session.add(
                    PanelCurve(
                        source_id=seen.source_id,
                        rig_id=self.rig.id,
                        job_id=self.control.job_id,
                        points=points_as_json(seen.points),
                        shots=seen.n_shots,
                        made_at=self.library.clock.now(),
                    )
                )
            name = session.get_one(LightSource, seen.source_id).name
            return f"{name} measured in {seen.n_shots} shots"

    # -- telling ------------------------------------------------------------------------------------------------

    def _tell(self) -> None:
        with self.library.db.session() as session:
            steps = [s for s in self._steps(session) if s.kind != "gate"]
            ended = sum(s.state not in OPEN for s in steps)
            doing = next((s for s in steps if s.state in OPEN), None)
            share = (ended + (min(doing.done, 3) / 4.0 if doing else 0.0)) / max(len(steps), 1)
        self.runner.set_progress(self.control.job_id, share, doing.title if doing else "")
        self.runner.broker.publish("flats", id=self.control.job_id)

    def _ended(self) -> dict[str, Any]:
        said = self._keep_curve() if self.params.get("response") else ""
        with self.library.db.session() as session:
            finds = [s for s in self._steps(session) if s.kind == "find"]
            rows = {str(key_of(s)) for s in finds}
            found = {str(key_of(s)) for s in finds if s.outcome.get("found")}
            shots = sum(s.done for s in self._steps(session))
        if not said:
            said = f"{len(found)} of {len(rows)} settings found in {shots} test shots"
        return {"message": said}


def started_now() -> float:
    """From when on files in a watched folder count."""
    return time.time() - 1.0
