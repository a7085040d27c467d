"""Starting and resuming searches for flat settings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from itertools import takewhile
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, GrayShelfError
from grayshelf.core.flats.filter_words import NO_FILTER, meant_for, named, through
from grayshelf.core.flats.model import Mode
from grayshelf.core.flats.panel.diffusers import stops_of
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.matching.model import RigSays
from grayshelf.core.planning.flat_order import SearchStop, order_response, order_search
from grayshelf.core.planning.gates import hang, light_in_place
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import RowLights, lights_by_row
from grayshelf.library.folders import named_folder
from grayshelf.library.library import Library
from grayshelf.library.models import Job, Rig, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_terms import gain_word, says_of
from grayshelf.library.step_records import JobResult, SearchJob, SearchParams
from grayshelf.work.flats.conditions import RowConditions
from grayshelf.work.flats.finding import FlatSearch, started_now
from grayshelf.work.flats.test_flats import need_devices
from grayshelf.work.gates import gate_step
from grayshelf.work.job_states import OPEN, JobState, StepState
from grayshelf.work.jobs import ALIVE, JobControl, JobRunner, begins_job
from grayshelf.work.rigs.park import RigPark
from grayshelf.work.shooting import leave_dark
from grayshelf.work.steps import SEQ, Working, numbered


class FlatBench:
    """Starts searches, and goes on with them."""

    def __init__(self, library: Library, runner: JobRunner, rigs: RigPark) -> None:
        self.library, self.runner, self.rigs = library, runner, rigs
        runner.register("flats", self._work)

    def devices(self, rig: Rig) -> RigDevices | None:
        """The devices behind a rig, if there are any."""
        return self.rigs.seen(rig)

    @begins_job
    def start(
        self,
        rig_id: int,
        keys: Sequence[RowKey],
        *,
        mode: Mode | None = None,
        exposure_s: float | None = None,
        shared: bool = False,
        response: bool = False,
        folder: str | None = None,
    ) -> int:
        """Start a search; return its job.

        Parameters
        ----------
        mode, exposure_s
            What is looked for in all rows, and the exposure that stays or is to be come near; None leaves it to each.
        shared
            Look for one exposure for all filters of a gain, offset and binning, by their brightness.
        response
            Measure how the panel follows its brightness instead: a ladder in one filter, a shot in each other.
        folder
            Wait for test flats there, which any other program takes, instead of using the rig.
        """
        if not keys:
            raise Conflict("No row is chosen.", "Choose at least one.")
        with self.library.db.session() as session:
            rig = self.library.rig(session, rig_id)
            self.runner.refuse_if_busy(rig.id)
            devices = self.devices(rig)
            keys = list(dict.fromkeys(keys))
            if folder is None:
                refuse_what_the_rig_lacks(need_devices(devices), keys, lights_by_row(self.library, rig.id))
            search = SearchJob(shared, response, mode, exposure_s)
            if folder is not None:
                search = replace(search, folder=str(named_folder(folder)), since=started_now())
            rows = [self._row(session, rig, devices, key) for key in keys]
            if response and any(r.source.dimmer is None or r.source.id is None for r in rows):
                raise Conflict(
                    "The light of these rows cannot be dimmed, or is not entered.",
                    "Enter its name and the range of its brightness first.",
                )
            what = "the panel" if response else f"{len(rows)} flat setting{'s' if len(rows) != 1 else ''}"
            job = Job(
                kind="flats",
                title=f"{rig.name}: {'measuring' if response else 'finding'} {what}",
                state=JobState.QUEUED,
                params=as_kept(search),
                rig_id=rig.id,
                created_at=self.library.clock.now(),
            )
            job.steps = _steps(rows, devices, search)
            session.add(job)
            session.flush()
            job_id = job.id
        self.runner.launch(job_id)
        return job_id

    def _named(self, rig: Rig, key: RowKey) -> str:
        return row_name(key, gain_word(self.library, rig.camera), says_of(self.library, rig))

    def _row(self, session: Session, rig: Rig, devices: RigDevices | None, key: RowKey) -> RowConditions:
        """What a row's search works with; where it cannot be said, why and of which row."""
        try:
            return RowConditions(self.library, session, rig, devices, key)
        except GrayShelfError as error:
            raise Conflict(
                f"{self._named(rig, key)}: {error.message}", f"{error.advice} Or leave that row out.".strip()
            ) from error

    @begins_job
    def again(self, rig_id: int, key: RowKey, *, as_wished: bool) -> int:
        """Look for one row again: in the search that goes on, else in a new one like the last.

        Parameters
        ----------
        as_wished
            By what the row wishes now, whatever the last search was to look for.
        """
        with self.library.db.session() as session:
            job = newest_search(session, rig_id)
            like = SearchJob() if job is None else read(SearchJob, job.params)
            if job is not None and job.state in ALIVE and not like.response:
                steps = list(session.scalars(select(RunStep).where(RunStep.job_id == job.id)))
                own = [s for s in steps if s.kind == "find" and key_of(s) == key]
                if any(s.state in (StepState.TO_DO, StepState.DOING) for s in own):
                    raise Conflict("This row is still being looked for.", "Wait for it.")
                if own:
                    last = own[-1]
                    asked = replace(read(SearchParams, last.params), left_out=False, tried=())
                    if as_wished:
                        asked = replace(asked, mode=None, exposure_s=None, brightness=None)
                    job.steps.append(
                        RunStep(
                            seq=max(s.seq for s in steps) + SEQ,
                            kind="find",
                            title=last.title,
                            filter_code=last.filter_code,
                            params=as_kept(asked),
                        )
                    )
                    return job.id
        mode, exposure_s = (None, None) if as_wished else (like.mode, like.exposure_s)
        return self.start(rig_id, [key], folder=like.folder, mode=mode, exposure_s=exposure_s)

    def leave_out(self, rig_id: int, key: RowKey) -> None:
        """Leave a row out of the search that waits for its test flats in a folder; the others go on.

        Raises
        ------
        Conflict
            Where no such search goes on, or the row has ended.
        """
        with self.library.db.session() as session:
            job = newest_search(session, rig_id)
            steps: list[RunStep] = []
            if job is not None and job.state in ALIVE and read(SearchJob, job.params).folder:
                query = select(RunStep).where(RunStep.job_id == job.id, RunStep.state.in_(OPEN))
                steps = [s for s in session.scalars(query) if s.kind != "agree" and key_of(s) == key]
            if not steps:
                raise Conflict(
                    f"No test flat of {self._named(self.library.rig(session, rig_id), key)} is waited for.",
                    "Look again: it has moved on.",
                )
            for step in steps:
                step.params = as_kept(replace(read(SearchParams, step.params), left_out=True))

    def _work(self, control: JobControl, params: dict[str, Any]) -> JobResult:
        with self.library.db.session() as session:
            job = session.get_one(Job, control.job_id)
            rig = self.library.rig(session, job.rig_id or 0)
            devices, beside = self.rigs.of(rig), self.rigs.beside_camera(rig)
        search = read(SearchJob, params)
        if search.folder is None:
            need_devices(devices)
        driven = devices if search.folder is None else beside
        try:
            return FlatSearch(Working(self.library, self.runner, devices, control, beside), search).do()
        finally:
            # A panel must not stay on. The cooler is left as it is.
            if driven is not None:
                leave_dark(driven)


def key_of(step: RunStep) -> RowKey | None:
    """The row that a step of a search belongs to; None for a gate."""
    return None if step.kind == "gate" else read(SearchParams, step.params).key


def newest_search(session: Session, rig_id: int) -> Job | None:
    """The newest search of a rig, going on or ended."""
    query = select(Job).where(Job.kind == "flats", Job.rig_id == rig_id).order_by(Job.id.desc()).limit(1)
    return session.scalar(query)


def row_name(key: RowKey, word: str = "gain", says: RigSays = RigSays()) -> str:
    """A row in a sentence."""
    return f"{named(key.filter_code)} at {', '.join([*says.dials(word, key.gain, key.offset), f'binning {key.binning}'])}"


def refuse_what_the_rig_lacks(
    devices: RigDevices, keys: Sequence[RowKey], lights: Mapping[RowKey, RowLights]
) -> None:
    """Rows that this rig can never shoot are told before anything is, so that they do not stop the others.

    Parameters
    ----------
    lights
        Those that ask for rows (`lights_by_row`).

    Raises
    ------
    Conflict
        Where a filter is not in the wheel, the camera has no such gain, offset or binning, or it has an offset to set
        and the lights do not tell theirs.
    """
    facts = devices.camera.facts
    for key in keys:
        name = row_name(key)
        advice = "Leave that row out, or change it."
        if devices.wheel is not None and key.filter_code not in devices.wheel.filters:
            raise Conflict(f"{named(key.filter_code)} is not in the wheel.", advice)
        asking = lights.get(key)
        if facts.offset_range is not None and asking is not None and asking.newest.offset is None:
            raise Conflict(
                f"{name}: the lights do not tell their offset, and {facts.name} has one to set.",
                "Say what it was (Intake, ‘Say what is lacking or wrong’), or leave that row out.",
            )
        for what, value, span in (
            ("gain", key.gain, facts.gain_range),
            ("offset", key.offset, facts.offset_range),
            ("binning", key.binning, (1, facts.most_binning)),
        ):
            if span is not None and not span[0] <= value <= span[1]:
                raise Conflict(f"{name}: {facts.name} has {what} from {span[0]:g} to {span[1]:g}.", advice)


def _stack(row: RowConditions) -> tuple[str, ...]:
    """What is to hang before the source at first: what the row wishes, else what its last setting had."""
    if row.wishes.diffusers:
        return row.wishes.diffusers
    return tuple(row.setting.diffusers) if row.setting is not None else ()


def _steps(rows: Sequence[RowConditions], devices: RigDevices | None, search: SearchJob) -> list[RunStep]:
    """The steps of a search in order, with the gates that a person is needed at."""
    stops, order = _order(rows, devices, search)
    steps: list[RunStep] = []
    before: SearchStop | None = None
    for place, index in enumerate(order):
        row, stop = rows[index], stops[index]
        if search.folder is None:
            steps += _gates(row, stop, before)
        before = stop
        asked = SearchParams(
            row.key, stop.stack, _group(row, stop.stack), mode=search.mode, exposure_s=search.exposure_s
        )
        code = row.key.filter_code
        if search.response and place == 0:
            steps.append(_step("ladder", f"How the panel follows{through(code)}", asked))
        elif search.response:
            steps.append(_step("factor", f"The share of {named(code)}", asked))
        elif search.shared:
            asked = replace(asked, mode="both")
            steps.append(_step("look", "A look" if code == NO_FILTER else f"A look at {code}", asked))
            steps.append(_step("find", f"The setting{meant_for(code)}", asked))
        else:
            steps.append(_step("find", f"The setting{meant_for(code)}", asked))
    return numbered(_agreed(steps) if search.shared else steps)


def _order(
    rows: Sequence[RowConditions], devices: RigDevices | None, search: SearchJob
) -> tuple[list[SearchStop], list[int]]:
    """What bears on the order of rows, and that order."""
    stops = [
        SearchStop(
            i,
            row.source.name,
            _stack(row),
            stops_of(_stack(row), row.source.diffusers),
            row.key.gain,
            row.key.binning,
            row.wheel_position,
            row.brightness() if (search.mode or row.wishes.mode) == "time" else None,
            row.key.filter_code,
            row.width_nm,
        )
        for i, row in enumerate(rows)
    ]
    wheel_at = devices.wheel.position() if devices is not None and devices.wheel is not None else None
    by_hand = devices is None or devices.panel is None
    if search.response:
        return stops, order_response(stops)
    return stops, order_search(stops, wheel_at, dims_by_hand=by_hand)


def _group(row: RowConditions, stack: Sequence[str]) -> str:
    """Rows that one set of dark flats could serve."""
    return f"{row.source.name}|{'+'.join(stack)}|{row.key.gain:g}|{row.key.offset:g}|{row.key.binning}"


def _agreed(steps: list[RunStep]) -> list[RunStep]:
    """First a look at every filter of a group, then the agreement, then the searches."""
    result: list[RunStep] = []
    params = {id(s): read(SearchParams, s.params) for s in steps if s.kind != "gate"}
    for group in dict.fromkeys(p.group for p in params.values()):
        members = [s for s in steps if id(s) in params and params[id(s)].group == group]
        first = min(steps.index(m) for m in members)
        gates = list(takewhile(lambda s: s.kind == "gate", reversed(steps[:first])))
        asked = SearchParams(params[id(members[0])].key, group=group)
        result += [*reversed(gates), *(m for m in members if m.kind == "look")]
        result.append(
            RunStep(kind="agree", title="One exposure for all", filter_code=None, params=as_kept(asked))
        )
        result += [m for m in members if m.kind == "find"]
    return result


def _step(kind: str, title: str, asked: SearchParams) -> RunStep:
    return RunStep(kind=kind, title=title, filter_code=asked.key.filter_code, params=as_kept(asked))


def _gates(row: RowConditions, stop: SearchStop, before: SearchStop | None) -> list[RunStep]:
    """What a hand has to do before a row: the light in place, what hangs before it."""
    light, gates = row.source.name, []
    moved = before is None or before.source != light
    if moved:
        gates.append(light_in_place(light, dimmable=row.source.dimmer is not None, kind=row.source.kind))
    if stop.stack != (() if moved or before is None else before.stack):
        gates.append(hang(light, stop.stack, stop.stack_stops, can_leave_out=True))
    return [gate_step(gate) for gate in gates]
