"""The sheet of flat settings in words: what goes on, and its rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.digits import several
from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.flats.settings import RowKey, wishes_from
from grayshelf.core.flats.timed_light import exposure_of
from grayshelf.core.matching.model import RigSays
from grayshelf.core.matching.rig_events import USUAL_EVENTS
from grayshelf.core.planning.by_hand import set_by_rig_itself
from grayshelf.core.planning.gates import LightKind, set_to
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import Source, left_out_keys, sheet_rows, source_of, sources, wishes_for
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import Job, LightSource, Rig, RigEvent, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import flat_wishes, gain_word, says_of
from grayshelf.library.step_records import AgreeOutcome, SearchJob, SearchOutcome, SearchParams
from grayshelf.web.common import in_words
from grayshelf.web.common.gates import waiting_gate
from grayshelf.web.common.jobs import job_out
from grayshelf.web.common.schemas import RefusedOut
from grayshelf.web.common.slips import slip_at
from grayshelf.web.flats.panel import panel_out
from grayshelf.web.flats.rows import key_out, row_out, wishes_out
from grayshelf.web.flats.schemas import (
    DiffuserOut,
    EventOut,
    FlatRowOut,
    FlatSheetOut,
    NextThing,
    SharedOut,
    SourceOut,
    UntoldOut,
    UsualEventOut,
)
from grayshelf.work.flats.conditions import panel_range
from grayshelf.work.flats.finding import SHOT_STEPS
from grayshelf.work.flats.panel_shots import PanelShots, panel_shots
from grayshelf.work.flats.starter import key_of, newest_search
from grayshelf.work.job_states import JobState, StepState
from grayshelf.work.jobs import ALIVE
from grayshelf.work.run.reach import not_settable

#: Events of a rig that the sheet tells of.
EVENTS_SHOWN = 6


@dataclass(frozen=True)
class _Newest:
    """The newest search of a rig, going on or ended."""

    job: Job | None
    steps: list[RunStep]

    @property
    def going(self) -> Job | None:
        """Its job, while it goes on."""
        return self.job if self.job is not None and self.job.state in ALIVE else None

    @property
    def shown(self) -> Job | None:
        """Its job, while it goes on or where it did not come to its end."""
        return None if self.job is None or self.job.state == JobState.DONE else self.job

    @property
    def current(self) -> RunStep | None:
        """The step that is done now."""
        doing = (s for s in self.steps if s.state in (StepState.DOING, StepState.WAITING))
        return next(doing, None) if self.going is not None else None

    @property
    def at_work(self) -> RowKey | None:
        """The row that is searched now."""
        return None if self.current is None else key_of(self.current)


def sheet_page(
    library: Library, rig_id: int, devices: RigDevices | None, by_rig: frozenset[str] = frozenset()
) -> FlatSheetOut:
    """The whole sheet.

    `by_rig`: what devices set where another program runs the camera.
    """
    now = library.clock.now()
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        # The search first: one that has ended by then has left all it found in the rows.
        job = newest_search(session, rig_id)
        newest = _Newest(job, _steps(session, job))
        rows = sheet_rows(library, session, rig)
        alive, earlier = newest.going is not None, _earlier_finds(session, rig_id, job)
        outs = [
            row_out(library, session, rig, devices, row, newest.steps, earlier, alive, now) for row in rows
        ]
        source = source_of(session, rig, wishes_from(rig.wishes), panel_range(devices))
        cannot = _cannot_shoot(session, rig, devices)
        at_work = newest.at_work
        return FlatSheetOut(
            rig=rig.name,
            camera=rig.camera,
            rows=outs,
            untold=None if outs else _untold(library, rig),
            left_out=[key_out(k) for k in left_out_keys(session, rig)],
            headline=_headline(outs, newest.going, newest.current),
            can_shoot=not cannot,
            cannot=cannot,
            job=job_out(newest.shown, library) if newest.shown is not None else None,
            searching=None if at_work is None else key_out(at_work),
            gate=waiting_gate(job, newest.steps),
            next=_next_out(library, session, rig, devices, newest, source, by_rig),
            shared=[_shared(s) for s in newest.steps if s.kind == "agree" and s.state == StepState.DONE],
            sources=[source_out(s) for s in sources(session)],
            source=source.name,
            events=[_event(e) for e in reversed(rig.entered_events)][:EVENTS_SHOWN],
            usual_events=usual_events(),
            panel=panel_out(session, rig, source, now, _measuring(library, session, rig, devices, newest)),
            defaults=wishes_out(flat_wishes(library, rig)),
            filters=[x.code for x in rig.filters] or ["none"],
            usual_gains={x.code: x.gain for x in rig.filters if x.gain is not None},
            gains=sorted({r.key.gain for r in rows}),
            offsets=sorted({r.key.offset for r in rows}),
        )


def _untold(library: Library, rig: Rig) -> UntoldOut | None:
    """What the newest of the rig's lights do not tell, and where that can be said."""
    says = says_of(library, rig)
    asking = [s for s in light_sets(library, rig) if not_settable(s.want, says, ("gain",))]
    if not asking:
        return None
    count = sum(s.row.n_kept for s in asking)
    does = "does" if count == 1 else "do"
    text = f"{several(count, 'light')} of this rig {does} not tell a gain, so nobody knows what flats for them are set to."
    return UntoldOut(text=text, slip=slip_at(asking[-1]))


def _cannot_shoot(session: Session, rig: Rig, devices: RigDevices | None) -> str:
    """Why the rig cannot search now; empty where it can."""
    if devices is None:
        return "No devices are connected to this rig: watch a folder."
    kinds = ("run", "offset", "gain", "twilight")
    busy = session.scalar(select(Job).where(Job.rig_id == rig.id, Job.state.in_(ALIVE), Job.kind.in_(kinds)))
    return "" if busy is None else f"The rig is busy: {busy.title}."


def _measuring(
    library: Library, session: Session, rig: Rig, devices: RigDevices | None, newest: _Newest
) -> PanelShots | None:
    """What a measurement of the panel that goes on has seen."""
    if newest.going is None or not read(SearchJob, newest.going.params).response:
        return None
    return panel_shots(library, session, rig, devices, newest.steps)


def _next_out(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    newest: _Newest,
    source: Source,
    by_rig: frozenset[str],
) -> NextThing | None:
    """What somebody is to shoot next whose camera is run by another program."""
    if newest.going is None:
        return None
    if newest.at_work is not None:
        wishes = wishes_for(library, session, rig, newest.at_work)
        source = source_of(session, rig, wishes, panel_range(devices))
    return _next_thing(
        newest.going, newest.current, source, gain_word(library, rig.camera), says_of(library, rig), by_rig
    )


def _event(event: RigEvent) -> EventOut:
    when = in_words.day(event.at.date())
    return EventOut(id=event.id, what=event.what, when=when, kind=event.kind, taken_back=event.taken_back)


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


def _next_thing(
    job: Job, step: RunStep | None, source: Source, word: str, says: RigSays, by_rig: frozenset[str]
) -> NextThing | None:
    """The one line of large type for somebody whose camera is run by another program."""
    folder = read(SearchJob, job.params).folder
    if not folder or step is None or step.kind not in SHOT_STEPS:
        return None
    outcome, params = read(SearchOutcome, step.outcome), read(SearchParams, step.params)
    coming, key = outcome.next, params.key
    if coming is None:
        return NextThing(line="Reading", detail="", why="", refused=[], folder=folder)
    by_hand: list[str] = []
    driven: list[str] = []
    if key.filter_code != "none":
        (driven if "filter" in by_rig else by_hand).append(key.filter_code)
    by_hand += [*says.dials(word, key.gain, key.offset), f"binning {key.binning}"]
    lit = None if source.timed is None else source.timed.lit(coming.exposure_s)
    if value := set_to(coming.brightness, lit):
        (driven if "brightness" in by_rig else by_hand).append(f"{source.name} at {value}")
    if params.stack:
        by_hand.append(f"behind {listed(params.stack)}")
    refused = [RefusedOut(name=r.name, why=r.why) for r in outcome.refused]
    return NextThing(
        line=f"Shoot one flat of {in_words.seconds(exposure_of(source.timed, coming.exposure_s))}",
        detail=", ".join(by_hand) + (f"; {set_by_rig_itself(driven)}" if driven else ""),
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


def usual_events() -> list[UsualEventOut]:
    """What is often done to a rig, to choose from."""
    return [UsualEventOut(kind=k, label=label, what=what) for k, label, what in USUAL_EVENTS]


def source_out(row: LightSource) -> SourceOut:
    """A light."""
    return SourceOut(
        name=row.name,
        dimmable=row.dimmable,
        lowest=row.lowest,
        highest=row.highest,
        kind=LightKind(row.kind),
        pulse_hz=row.pulse_hz,
        duty=row.duty,
        before_s=row.before_s,
        after_s=row.after_s,
        shortest_lit_s=row.shortest_lit_s,
        diffusers=[DiffuserOut(**d) for d in row.diffusers],
    )
