"""Setting the demo up: its frames, its library, its rigs, and the first scan and builds."""

from __future__ import annotations

import json
import shutil
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import select

from grayshelf.clock import SimulatedClock
from grayshelf.core.errors import GrayShelfError
from grayshelf.demo.generate import generate, is_current
from grayshelf.demo.rigs import FILTERS, HERON_NOW, LOGS, MODELS, RIGS, SITE, SOURCES, START
from grayshelf.devices.ports import RigDevices
from grayshelf.devices.simulated.rig import SimulatedWorld, WorldState, devices_of
from grayshelf.library.camera_values import accept, accepted, offset_values
from grayshelf.library.library import Library
from grayshelf.library.lock import LibraryLock
from grayshelf.library.measurements import offset_result
from grayshelf.library.models import (
    CameraRow,
    Folder,
    FrameSet,
    Job,
    LightSource,
    Measurement,
    NightLog,
    Rig,
    RigEvent,
    RigFilter,
)
from grayshelf.library.records import as_kept
from grayshelf.library.room import as_disk_full
from grayshelf.library.step_records import MeasurementJob
from grayshelf.work.bench.disk import plan_disk
from grayshelf.work.bench.disk_offers import offers
from grayshelf.work.job_states import JobState
from grayshelf.work.jobs import ALIVE, ENDED, RESUMABLE, JobRunner
from grayshelf.work.looking import LOOK

#: The offset that the scenario's lights are taken at.
OFFSET_IN_USE = 30.0
#: Under what is kept that the demo is whole.
READY = "demo"

#: How far ahead of what it says the demo's clock is written down; a new start skips at most this.
CLOCK_RESERVE = timedelta(seconds=30)


def bar(title: str) -> Callable[[int, int], None]:
    """A bar in the terminal, or a few plain lines where there is no terminal."""
    told = [-1]

    def show(done: int, total: int) -> None:
        percent = 100 * done // max(total, 1)
        if sys.stdout.isatty():
            print(
                f"\r{title}  {'█' * (percent // 4):<25} {done} of {total}",
                end="\n" if done == total else "",
                flush=True,
            )
        elif percent // 25 > told[0]:
            told[0] = percent // 25
            print(f"{title}  {percent} %", flush=True)

    return show


class KeptClock(SimulatedClock):
    """A simulated clock that goes on later than it ever said, also after a kill.

    It may say only times before a bound that is already on disk, and starts again from that bound: written
    down every few seconds instead, it would say the times since the last note a second time, and two
    different frames could bear the same one.
    """

    def __init__(self, note: Path, rate: float) -> None:
        start = datetime.fromisoformat(json.loads(note.read_text())["now"]) if note.exists() else START
        super().__init__(max(start, START), rate)
        self._note = note
        self._bound = self._start
        self._bound_lock = threading.Lock()

    def now(self) -> datetime:
        """The time, aware, UTC."""
        with self._bound_lock:
            now = super().now()
            if now >= self._bound:
                bound = now + CLOCK_RESERVE
                part = self._note.with_suffix(".part")
                try:
                    part.write_text(json.dumps({"now": bound.isoformat()}))
                    part.replace(self._note)
                except OSError as error:
                    if as_disk_full(error, self._note.parent) is None:
                        raise
                    # It stands still rather than say a time that it could say again after a new start.
                    return self._bound
                self._bound = bound
        return now


def demo_devices(folder: Path, clock: SimulatedClock, size: str) -> dict[str, RigDevices]:
    """The simulated rigs of the scenario."""
    starts = {
        "heron": replace(HERON_NOW),
        "bittern": WorldState(focus=8_400.0, sensor_c=0.0, set_point_c=0.0),
    }
    return {
        name: devices_of(
            SimulatedWorld(MODELS[name](size), clock, folder / f"rig-{name}.json", start),
            wheel=name == "heron",
            rotator=name == "heron",
        )
        for name, start in starts.items()
    }


def enter_cards(library: Library) -> None:
    """Site, rigs and night notes, as a person would have typed them in."""
    with library.db.session() as session:
        if session.scalar(select(Rig.id)) is not None:
            return
        library.set_setting(session, "site", SITE)
        lights: dict[str, int] = {}
        for values in SOURCES:
            light = LightSource(**values)
            session.add(light)
            session.flush()
            lights[light.name] = light.id
        for card, filters in zip(RIGS, FILTERS.values(), strict=True):
            rig = Rig(**{k: v for k, v in card.items() if k not in ("events", "source", "camera_card")})
            session.add(CameraRow(name=rig.camera, traits=card["camera_card"]))
            rig.source_id = lights[card["source"]]
            rig.entered_events = [RigEvent(at=at, what=what, kind=kind) for at, what, kind in card["events"]]
            rig.filters = [
                RigFilter(
                    position=i, code=code, name=name, passband_nm=nm, width_nm=width, brightness=brightness
                )
                for i, (code, name, nm, width, brightness) in enumerate(filters)
            ]
            session.add(rig)
            session.flush()
        rigs = {r.name: r.id for r in session.scalars(select(Rig))}
        for name, night, conditions, notes in LOGS:
            session.add(NightLog(rig_id=rigs[name], night=night, conditions=conditions, notes=notes))


def make_room(folder: Path, size: str, *, everything: bool) -> None:
    """Take away what is of the demo's own making and not of this size and scenario, or all of it."""
    frames = folder / "frames"
    stale = (frames / "made.json").exists() and not is_current(frames, size)
    if (stale or everything) and (folder / "library").is_dir():
        # Not under the hands of another process that has it open.
        LibraryLock(folder / "library").release()
    if stale:
        shutil.rmtree(frames)
    if not (stale or everything):
        return
    for name in ("library", "clock.json", "rig-heron.json", "rig-bittern.json"):
        target = folder / name
        if target.is_dir():
            shutil.rmtree(target)
        else:
            target.unlink(missing_ok=True)


def prepare(folder: Path, size: str, library: Library, runner: JobRunner) -> None:
    """Make what is missing of the demo; the frames come in by the same door as anybody's own.

    Each part asks whether it is done, so that a first start that was killed is finished by the next one.
    """
    frames = folder / "frames"
    generate(frames, size, bar("Making frames"))
    enter_cards(library)
    with library.db.session() as session:
        known = session.scalar(select(Folder).where(Folder.path == str(frames.resolve())))
        if known is None:
            known = Folder(path=str(frames.resolve()), added_at=library.clock.now())
            session.add(known)
            session.flush()
        folder_id, scanned = known.id, known.scanned_at is not None
        ready = library.setting(session, READY, {}).get("ready", False)
    if ready:
        return
    if not scanned:
        _do(library, runner, "scan", "Scan of the demo's frames", {"folder_id": folder_id}, "Scanning   ")
    with library.db.session() as session:
        raw = session.scalars(
            select(FrameSet.id).where(
                FrameSet.kind.in_(("flat", "dark flat")),
                FrameSet.is_master.is_(False),
                FrameSet.master_set_id.is_(None),
                FrameSet.n_frames > 3,
                FrameSet.night < START.date(),
            )
        ).all()
    if raw:
        _do(library, runner, "build", "Masters of the demo's sets", {"set_ids": list(raw)}, "Building   ")
    _check_offset(library, runner)
    with library.db.session() as session:
        going = list(session.scalars(select(Job.id).where(Job.kind == LOOK, Job.state.in_(ALIVE))))
    for job_id in going:
        _wait(library, job_id, "Looking    ")
    with library.db.session() as session:
        library.set_setting(session, READY, {"ready": True})


def _check_offset(library: Library, runner: JobRunner) -> None:
    """The offset at gain 100, as it was looked at in October: measured from its frames and kept."""
    with library.db.session() as session:
        rig = session.scalars(select(Rig).where(Rig.devices == "heron")).one()
        if accepted(session, rig.camera, "offset"):
            return
        row = session.scalar(select(Measurement).where(Measurement.source == "disk"))
        if row is None:
            offered = [o for o in offers(session, rig.camera, "offset") if len(o.offsets) > 2]
            if not offered:
                return
            row = plan_disk(session, library, rig.camera, rig.id, "offset", offered[0].set_ids)
        measurement_id, gain = row.id, float(row.gains[0])
    params = as_kept(MeasurementJob(measurement_id))
    _do(library, runner, "measure", "Offset of the demo's camera", params, "Measuring  ")
    with library.db.session() as session:
        row = session.get_one(Measurement, measurement_id)
        values = offset_values(offset_result(library, session, row, gain)[1], OFFSET_IN_USE)
        if values is not None:
            accept(library, session, row, gain, values, own_choice=True)


def _do(
    library: Library, runner: JobRunner, kind: str, title: str, params: dict[str, Any], told_as: str
) -> None:
    """Do a piece of work to its end; go on with it where a killed start had begun it."""
    with library.db.session() as session:
        begun = session.scalar(
            select(Job.id).where(Job.kind == kind, Job.title == title, Job.state.in_(RESUMABLE))
        )
    if begun is not None:
        runner.resume(begun)
    _wait(library, begun or runner.start(kind, title, params), told_as)


def _wait(library: Library, job_id: int, title: str) -> None:
    show = bar(title)
    while True:
        with library.db.session() as session:
            job = session.get_one(Job, job_id)
            state, progress, message, advice = job.state, job.progress, job.message, job.advice
        show(int(progress * 100), 100)
        if state in ENDED:
            if state != JobState.DONE:
                raise GrayShelfError(
                    f"The demo could not be made ({title.strip().lower()}: {state}). {message}", advice
                )
            return
        time.sleep(0.2)
