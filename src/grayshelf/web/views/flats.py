"""The sheet of flat settings in words and numbers."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.model import FlatTarget
from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.flats.settings import FlatWishes, RowKey, wishes_from
from grayshelf.core.matching import rulers
from grayshelf.core.matching.rig_events import USUAL_EVENTS
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import (
    SheetRow,
    Source,
    left_out_keys,
    row_conversion,
    sheet_rows,
    source_of,
    sources,
    wishes_for,
)
from grayshelf.library.library import Library
from grayshelf.library.models import FlatSetting, Job, LightSource, Rig, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.step_records import AgreeOutcome, NoAnswerKept, SearchJob, SearchOutcome, SearchParams
from grayshelf.web import schemas_flats as f
from grayshelf.web.views import words as w
from grayshelf.web.views.flat_panel import panel_out
from grayshelf.web.views.gates import waiting_gate
from grayshelf.web.views.jobs import job_out
from grayshelf.web.views.nights import passbands
from grayshelf.work.flats.conditions import RowConditions, is_colour, panel_range
from grayshelf.work.flats.finding import SHOT_STEPS
from grayshelf.work.flats.panel_shots import panel_shots
from grayshelf.work.flats.starter import key_of, newest_search
from grayshelf.work.job_states import JobState, StepState
from grayshelf.work.jobs import ALIVE


def key_in(key: f.FlatKeyIn) -> RowKey:
    """A row's key from the wire."""
    return RowKey(key.filter_code.strip(), key.gain, key.offset, key.binning)


def key_out(key: RowKey) -> f.FlatKeyIn:
    """A row's key for the wire."""
    return f.FlatKeyIn(**key.as_json)


def sheet_page(library: Library, rig_id: int, devices: RigDevices | None) -> f.FlatSheetOut:
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
        outs = [_row(library, session, rig, devices, row, steps, earlier, alive, now) for row in rows]
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
        return f.FlatSheetOut(
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
                f.EventOut(
                    id=e.id, what=e.what, when=w.day(e.at.date()), kind=e.kind, taken_back=e.taken_back
                )
                for e in reversed(rig.entered_events)
            ][:6],
            usual_events=[f.UsualEventOut(kind=k, label=label, what=what) for k, label, what in USUAL_EVENTS],
            panel=panel_out(session, rig, source, now, measuring),
            defaults=_wishes_out(wishes_from(rig.wishes)),
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


def _headline(rows: Sequence[f.FlatRowOut], job: Job | None, current: RunStep | None) -> str:
    if job is not None:
        return current.title if current is not None else job.title
    found = sum(r.state == "found" and not r.stale for r in rows)
    return f"{found} of {w.several(len(rows), 'setting')} found"


def _next_thing(job: Job, step: RunStep | None, source: Source, word: str) -> f.NextThing | None:
    """The one line of large type for somebody whose camera is run by another program."""
    folder = read(SearchJob, job.params).folder
    if not folder or step is None or step.kind not in SHOT_STEPS:
        return None
    outcome, params = read(SearchOutcome, step.outcome), read(SearchParams, step.params)
    coming, key = outcome.next, params.key
    if coming is None:
        return f.NextThing(line="Reading", detail="", why="", refused=[], folder=folder)
    parts = [key.filter_code] if key.filter_code != "none" else []
    parts += [dials(key, word), f"binning {key.binning}"]
    if coming.brightness is not None:
        parts.append(f"{source.name} at {coming.brightness}")
    if params.stack:
        parts.append(f"behind {listed(params.stack)}")
    refused = [f.RefusedOut(name=r.name, why=r.why) for r in outcome.refused]
    return f.NextThing(
        line=f"Shoot one flat of {w.seconds(coming.exposure_s)}",
        detail=", ".join(parts),
        why=coming.why,
        refused=list(reversed(refused))[:3],
        folder=folder,
    )


def _shared(step: RunStep) -> f.SharedOut:
    agreed = read(AgreeOutcome, step.outcome)
    if agreed.exposure_s is None:
        return f.SharedOut(text=agreed.message, saved="")
    left = f"; {listed(agreed.left_out)} on its own" if agreed.left_out else ""
    saved = f"{agreed.saved_frames} frames and {w.duration(agreed.saved_s)} saved"
    return f.SharedOut(
        text=f"{w.seconds(agreed.exposure_s)} serves {listed(agreed.served)}{left}",
        saved=f"one set of dark flats: {saved}",
    )


def _source(row: LightSource) -> f.SourceOut:
    return f.SourceOut(
        name=row.name,
        dimmable=row.dimmable,
        lowest=row.lowest,
        highest=row.highest,
        pulse_hz=row.pulse_hz,
        duty=row.duty,
        diffusers=[f.DiffuserOut(**d) for d in row.diffusers],
    )


# -- rows -------------------------------------------------------------------------------------------------------


def _wishes_out(wishes: FlatWishes) -> f.FlatWishesOut:
    """What counts, for the editor; of ADU, percent and electrons the one that is given."""
    values = {name: getattr(wishes, name) for name in f.FlatWishesOut.model_fields}
    values["diffusers"] = list(wishes.diffusers)
    if wishes.level_adu is not None or wishes.level_electrons is not None:
        values["level_percent"] = None
    if wishes.tolerance_adu is not None:
        values["tolerance_percent"] = None
    return f.FlatWishesOut(**values)


def _last_find(steps: Sequence[RunStep], key: RowKey) -> RunStep | None:
    own = [s for s in steps if s.kind in ("find", "look") and key_of(s) == key]
    begun = [s for s in own if s.state not in (StepState.TO_DO, StepState.SKIPPED)]
    return begun[-1] if begun else (own[0] if own else None)


def _row(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    row: SheetRow,
    steps: Sequence[RunStep],
    earlier: Sequence[RunStep],
    alive: bool,
    now: datetime,
) -> f.FlatRowOut:
    search = search_or_trouble(library, session, rig, devices, row)
    step = _last_find(steps, row.key) or _last_find(earlier, row.key)
    wishes, setting = row.wishes, row.setting
    target = None if isinstance(search, GrayShelfError) else search.target
    source = None if isinstance(search, GrayShelfError) else search.source
    none = _newest_no(row, step, target)
    hung = wishes.diffusers if setting is None else setting.diffusers
    ruler = None
    if setting is not None and target is not None:
        ruler = w.ruler_out(
            rulers.band("level", target.level_adu, setting.expected_adu, target.tolerance_adu, "ADU")
        )
    return f.FlatRowOut(
        key=key_out(row.key),
        name=_name(row.key, gain_word(library, rig.camera)),
        passband_nm=passbands(rig).get(row.key.filter_code),
        state=_row_state(row, step, steps, none, alive),
        lights=w.several(row.lights, "light") if row.lights else "no lights",
        added=row.added,
        target=f"{w.number(target.level_adu)}{w.THIN}ADU" if target else "–",
        target_more=_target_more(library, rig, devices, row.key, search),
        tolerance=f"±{w.number(target.tolerance_adu)}" if target else "–",
        tolerance_more=(
            f"{100.0 * target.tolerance_adu / target.level_adu:.0f} % of the target" if target else ""
        ),
        window=_window_words(search)[0],
        reasons=_window_words(search)[1],
        mode=wishes.mode,
        mode_text=_mode_text(wishes, source),
        source=source.name if source else "",
        diffusers=listed(hung) if hung or wishes.diffusers else "",
        counts=f"{wishes.n_flats} + {wishes.n_dark_flats}",
        brightness="–" if setting is None or setting.brightness is None else str(setting.brightness),
        exposure="–" if setting is None else w.seconds(setting.exposure_s),
        expected="–" if setting is None else f"{w.number(setting.expected_adu)}{w.THIN}ADU",
        ruler=ruler,
        age="" if setting is None else _age(setting.found_at, now),
        shots=step.done if step is not None and alive else (setting.shots if setting is not None else 0),
        banding=""
        if setting is None or setting.banding_percent is None
        else banding(setting.banding_percent),
        stale=row.stale,
        drift=_drift_words(row, target),
        own=sorted(row.own),
        wishes=_wishes_out(wishes),
        no_answer=none,
        history=_history(row),
    )


def _newest_no(row: SheetRow, step: RunStep | None, target: FlatTarget | None) -> f.NoOut | None:
    """What the last search came to, where that was no answer and nothing was found since."""
    if step is None or step.state != StepState.NO_ANSWER:
        return None
    no = read(SearchOutcome, step.outcome).no_answer
    if no is None:
        return None
    if row.setting is not None and step.ended_at is not None and row.setting.found_at >= step.ended_at:
        return None
    return _no(row, no, target.white_adu if target else 65535.0)


def _row_state(
    row: SheetRow, step: RunStep | None, steps: Sequence[RunStep], none: f.NoOut | None, alive: bool
) -> f.RowState:
    if alive and step is not None and step.state in (StepState.DOING, StepState.WAITING):
        return "searching"
    if alive and any(
        s.state == StepState.TO_DO and s.kind in ("find", "look") and key_of(s) == row.key for s in steps
    ):
        return "waiting"
    if none is not None:
        return "no answer"
    return "never" if row.setting is None else "found"


def _target_more(
    library: Library,
    rig: Rig,
    devices: RigDevices | None,
    key: RowKey,
    search: RowConditions | GrayShelfError,
) -> str:
    """'45 % of the range, 22,100 e⁻; median', or what is in the way of a target."""
    if isinstance(search, GrayShelfError):
        return search.message
    target, conversion, electrons = search.target, row_conversion(library, rig, key), ""
    if conversion is not None:
        base = search.pedestal.adu if search.pedestal else 0.0
        who = "" if conversion.measured else " by the headers"
        electrons = f", {w.number((target.level_adu - base) * conversion.e_per_adu)}{w.THIN}e⁻{who}"
    brightest = " of the brightest channel" if is_colour(library, rig, devices) else ""
    return f"{100.0 * target.level_adu / target.white_adu:.0f} % of the range{electrons}; median{brightest}"


def _window_words(search: RowConditions | GrayShelfError) -> tuple[str, str]:
    """The window of exposures, and what bounds it."""
    if isinstance(search, GrayShelfError) or search.window is None:
        return "–", ""
    shortest, longest = search.window.shortest, search.window.longest
    return (
        f"{w.plain(shortest.exposure_s)} to {w.seconds(longest.exposure_s)}",
        f"shorter: {shortest.reason}; longer: {longest.reason}",
    )


def _drift_words(row: SheetRow, target: FlatTarget | None) -> str:
    if row.drift is None or target is None or abs(row.drift.off_adu) <= target.tolerance_adu:
        return ""
    sign = "+" if row.drift.off_adu > 0 else ""
    return f"flats of {row.drift.when} came out {sign}{w.number(row.drift.off_adu)} ADU off"


def banding(percent: float) -> str:
    """How deep the bands of a pulsed source are, in words."""
    said = "under 0.05" if percent < 0.05 else f"{percent:.2g}"
    return f"bands {said} %"


def _name(key: RowKey, word: str) -> str:
    binned = f", binning {key.binning}" if key.binning != 1 else ""
    return f"{key.filter_code}, {dials(key, word)}{binned}"


def dials(key: RowKey, word: str) -> str:
    """Gain and offset as this camera calls them: 'gain 200, offset 30', 'ISO 1600'."""
    if word == "ISO":
        return f"ISO {key.gain:g}"
    return f"gain {key.gain:g}, offset {key.offset:g}"


def _mode_text(wishes: FlatWishes, source: Source | None) -> str:
    if source is not None and source.dimmer is None:
        return "time"
    if wishes.mode == "brightness":
        return f"brightness at {w.seconds(wishes.preferred_s)}"
    if wishes.mode == "both":
        return f"both, near {w.seconds(wishes.preferred_s)}"
    return "time" if wishes.brightness is None else f"time at {wishes.brightness}"


def _age(found_at: datetime, now: datetime) -> str:
    span = now - found_at
    if span < timedelta(hours=20):
        return "today" if span > timedelta(minutes=5) else "just now"
    return (
        w.several(max(span.days, 1), "day") if span.days < 60 else w.several(round(span.days / 30.4), "month")
    )


def _history(row: SheetRow) -> list[f.SettingFoundOut]:
    outs = []
    for found in row.history[:8]:
        outs.append(
            f.SettingFoundOut(
                id=found.id,
                text=setting_text(found),
                expected=f"{w.number(found.expected_adu)}{w.THIN}ADU",
                when=w.day(found.found_at.date()),
                shots=w.several(found.shots, "shot"),
                diffusers=listed(found.diffusers) if found.diffusers else "",
                taken_back=found.taken_back,
                counts=row.setting is not None and row.setting.id == found.id,
            )
        )
    return outs


def setting_text(found: FlatSetting) -> str:
    """'5.0 s at 60'."""
    at = "" if found.brightness is None else f" at {found.brightness}"
    return f"{w.seconds(found.exposure_s)}{at}"


def search_or_trouble(
    library: Library, session: Session, rig: Rig, devices: RigDevices | None, row: SheetRow
) -> RowConditions | GrayShelfError:
    """What a row's search works with, or why it cannot be said."""
    try:
        return RowConditions(library, session, rig, devices, row.key, row=row)
    except GrayShelfError as error:
        return error


def _no(row: SheetRow, no: NoAnswerKept, white: float) -> f.NoOut:
    direction, stops = no.direction, no.stops
    allow, changes = "", None
    bound = no.widened
    if bound is not None:
        allow = f"Allow {w.seconds(bound)} for {row.key.filter_code}"
        why = "allowed for this filter"
        if direction == "too bright":
            changes = f.FlatWishesOut(shortest_s=bound, shortest_reason=why)
        else:
            changes = f.FlatWishesOut(longest_s=bound, longest_reason=why)
    if direction == "too coarse":
        allow = "Let time and brightness both be found"
        changes = f.FlatWishesOut(mode="both")
    titles = {
        "too bright": f"{row.key.filter_code} cannot get dim enough",
        "too dim": f"{row.key.filter_code} does not get enough light",
        "too coarse": f"The steps of the panel are too coarse for {row.key.filter_code}",
        "unsteady": f"The light for {row.key.filter_code} is not steady",
    }
    level = no.level_adu
    beyond = level is not None and level > white
    return f.NoOut(
        title=titles[direction],
        message=no.message + (f" The camera is full at {w.number(white)} ADU." if beyond else ""),
        advice=no.advice,
        stack=no.sentence,
        stops=stops,
        at_least=no.at_least,
        direction=direction,
        level=level,
        level_text="" if level is None else f"{w.number(level)}{w.THIN}ADU",
        allow=allow,
        allow_changes=changes,
        retry=f"Try {row.key.filter_code} again",
    )
