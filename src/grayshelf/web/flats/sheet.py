"""The sheet of flat settings in words: what goes on, and its rows."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.flats.settings import wishes_from
from grayshelf.core.matching.rig_events import USUAL_EVENTS
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import Source, left_out_keys, sheet_rows, source_of, sources, wishes_for
from grayshelf.library.library import Library
from grayshelf.library.models import Job, LightSource, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.step_records import AgreeOutcome, SearchJob, SearchOutcome, SearchParams
from grayshelf.web.common import in_words
from grayshelf.web.common.gates import waiting_gate
from grayshelf.web.common.jobs import job_out
from grayshelf.web.flats.panel import panel_out
from grayshelf.web.flats.rows import dials, key_out, row_out, wishes_out
from grayshelf.web.flats.schemas import (
    DiffuserOut,
    EventOut,
    FlatRowOut,
    FlatSheetOut,
    NextThing,
    RefusedOut,
    SharedOut,
    SourceOut,
    UsualEventOut,
)
from grayshelf.work.flats.conditions import panel_range
from grayshelf.work.flats.finding import SHOT_STEPS
from grayshelf.work.flats.panel_shots import panel_shots
from grayshelf.work.flats.starter import key_of, newest_search
from grayshelf.work.job_states import JobState, StepState
from grayshelf.work.jobs import ALIVE


def sheet_page(library: Library, rig_id: int, devices: RigDevices | None) -> FlatSheetOut:
    """The whole sheet."""
    now = library.clock.now()
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        # The search first: one that has ended by then has left all it found in the rows.
        job = newest_search(session, rig_id)
        rows = sheet_rows(library, session, rig)
        steps = _steps(session, job)
        alive = job is not None and job.state in ALIVE
        current = (
            next((s for s in steps if s.state in (StepState.DOING, StepState.WAITING)), None)
            if alive
            else None
        )
        earlier = _earlier_finds(session, rig_id, job)
        outs = [row_out(library, session, rig, devices, row, steps, earlier, alive, now) for row in rows]
        source = source_of(session, rig, wishes_from(rig.wishes), panel_range(devices))
        lit = source
        at_work = None if current is None else key_of(current)
        if at_work is not None:
            wishes = wishes_for(session, rig, at_work)
            lit = source_of(session, rig, wishes, panel_range(devices))
        busy = session.scalar(
            select(Job).where(
                Job.rig_id == rig_id,
                Job.state.in_(ALIVE),
                Job.kind.in_(("run", "offset", "gain", "twilight")),
            )
        )
        measuring = None
        if job is not None and alive and read(SearchJob, job.params).response:
            measuring = panel_shots(library, session, rig, devices, steps)
        cannot = ""
        if devices is None:
            cannot = "No devices are connected to this rig: watch a folder."
        elif busy is not None:
            cannot = f"The rig is busy: {busy.title}."
        show = job is not None and (
            alive or job.state in (JobState.STOPPED, JobState.FAILED, JobState.INTERRUPTED)
        )
        return FlatSheetOut(
            rig=rig.name,
            camera=rig.camera,
            rows=outs,
            left_out=[key_out(k) for k in left_out_keys(session, rig)],
            headline=_headline(outs, job if alive else None, current),
            can_shoot=not cannot,
            cannot=cannot,
            job=job_out(job, library) if show and job is not None else None,
            searching=None if at_work is None else key_out(at_work),
            gate=waiting_gate(job, steps),
            next=_next_thing(job, current, lit, gain_word(library, rig.camera))
            if alive and job is not None
            else None,
            shared=[_shared(s) for s in steps if s.kind == "agree" and s.state == StepState.DONE],
            sources=[_source(s) for s in sources(session)],
            source=source.name,
            events=[
                EventOut(
                    id=e.id, what=e.what, when=in_words.day(e.at.date()), kind=e.kind, taken_back=e.taken_back
                )
                for e in reversed(rig.entered_events)
            ][:6],
            usual_events=[UsualEventOut(kind=k, label=label, what=what) for k, label, what in USUAL_EVENTS],
            panel=panel_out(session, rig, source, now, measuring),
            defaults=wishes_out(wishes_from(rig.wishes)),
            filters=[x.code for x in rig.filters] or ["none"],
            gains=sorted({r.key.gain for r in rows}),
            offsets=sorted({r.key.offset for r in rows}),
        )


def _steps(session: Session, job: Job | None) -> list[RunStep]:
    if job is None:
        return []
    query = select(RunStep).where(RunStep.job_id == job.id).order_by(RunStep.seq, RunStep.id)
    return list(session.scalars(query))


def _earlier_finds(session: Session, rig_id: int, newest: Job | None) -> list[RunStep]:
    """The searches before the newest one: what had no answer then has none until it is found."""
    query = (
        select(RunStep)
        .join(Job, Job.id == RunStep.job_id)
        .where(Job.kind == "flats", Job.rig_id == rig_id, Job.id != (newest.id if newest else 0))
        .where(RunStep.kind == "find")
        .order_by(RunStep.job_id.desc(), RunStep.seq.desc())
        .limit(200)
    )
    return list(reversed(session.scalars(query).all()))


def _headline(rows: Sequence[FlatRowOut], job: Job | None, current: RunStep | None) -> str:
    if job is not None:
        return current.title if current is not None else job.title
    found = sum(r.state == "found" and not r.stale for r in rows)
    return f"{found} of {in_words.several(len(rows), 'setting')} found"


def _next_thing(job: Job, step: RunStep | None, source: Source, word: str) -> NextThing | None:
    """The one line of large type for somebody whose camera is run by another program."""
    folder = read(SearchJob, job.params).folder
    if not folder or step is None or step.kind not in SHOT_STEPS:
        return None
    outcome, params = read(SearchOutcome, step.outcome), read(SearchParams, step.params)
    coming, key = outcome.next, params.key
    if coming is None:
        return NextThing(line="Reading", detail="", why="", refused=[], folder=folder)
    parts = [key.filter_code] if key.filter_code != "none" else []
    parts += [dials(key, word), f"binning {key.binning}"]
    if coming.brightness is not None:
        parts.append(f"{source.name} at {coming.brightness}")
    if params.stack:
        parts.append(f"behind {listed(params.stack)}")
    refused = [RefusedOut(name=r.name, why=r.why) for r in outcome.refused]
    return NextThing(
        line=f"Shoot one flat of {in_words.seconds(coming.exposure_s)}",
        detail=", ".join(parts),
        why=coming.why,
        refused=list(reversed(refused))[:3],
        folder=folder,
    )


def _shared(step: RunStep) -> SharedOut:
    agreed = read(AgreeOutcome, step.outcome)
    if agreed.exposure_s is None:
        return SharedOut(text=agreed.message, saved="")
    left = f"; {listed(agreed.left_out)} on its own" if agreed.left_out else ""
    saved = f"{agreed.saved_frames} frames and {in_words.duration(agreed.saved_s)} saved"
    return SharedOut(
        text=f"{in_words.seconds(agreed.exposure_s)} serves {listed(agreed.served)}{left}",
        saved=f"one set of dark flats: {saved}",
    )


def _source(row: LightSource) -> SourceOut:
    return SourceOut(
        name=row.name,
        dimmable=row.dimmable,
        lowest=row.lowest,
        highest=row.highest,
        pulse_hz=row.pulse_hz,
        duty=row.duty,
        diffusers=[DiffuserOut(**d) for d in row.diffusers],
    )
