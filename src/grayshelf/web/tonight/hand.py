"""A run by any hands in words: what to do next, what has come in, and what was wrong with it."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from grayshelf.core.flats.settings import wishes_from
from grayshelf.core.flats.timed_light import exposure_of
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.by_hand import HandLine, capped_line, flats_line
from grayshelf.core.planning.sheet import SERIES, StepKind
from grayshelf.library.flat_sheet import source_of
from grayshelf.library.library import Library
from grayshelf.library.models import Job, Rig, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word, says_of
from grayshelf.library.step_records import Refused, RunJob, SearchOutcome, SeriesOutcome, SheetParams
from grayshelf.web.common import in_words
from grayshelf.web.common.schemas import RefusedOut
from grayshelf.web.tonight.schemas import DialOut, HandOut
from grayshelf.work.job_states import OPEN, StepState
from grayshelf.work.run.starter import TICKED


def come_in(begun: RunJob, steps: Sequence[RunStep]) -> str:
    """Of a run by hand: how many of its frames are in, or of its steps are ticked off."""
    if begun.folder is None:
        asked = [s for s in steps if s.kind in TICKED]
        done = sum(s.state not in OPEN for s in asked)
        return f"{done} of {in_words.several(len(asked), 'step')} are ticked off."
    series = [s for s in steps if s.kind in SERIES and s.state != StepState.SKIPPED]
    done, count = sum(min(s.done, s.count) for s in series), sum(s.count for s in series)
    return f"{done} of {in_words.several(count, 'frame')} are in."


def hand_out(
    library: Library, job: Job, step: RunStep | None, by_rig: frozenset[str] = frozenset()
) -> HandOut | None:
    """What a run by hand waits for; None where it is no such run, or waits for nothing.

    Parameters
    ----------
    step
        The one that is open.
    by_rig
        What devices of the rig set meanwhile (`set_by_rig`).
    """
    begun = read(RunJob, job.params)
    if not begun.by_hand or step is None or step.kind not in TICKED:
        return None
    with library.db.session() as session:
        rig, left = library.rig(session, job.rig_id or 0), max(step.count - step.done, 1)
        line = _line(library, session, rig, begun, step, left, by_rig)
    if by_rig and _sets_itself(step):
        line = HandLine("Nothing is to be done for a moment.", "The rig sets itself up", (), line.by_rig)
    refused = _refused(step)
    return HandOut(
        step_id=step.id,
        kind=step.kind,
        filter_code=step.filter_code,
        before=line.before,
        by_rig=line.by_rig,
        what=line.what,
        dials=[DialOut(name=d.name, text=d.text, copied=d.copied) for d in line.dials],
        done=step.done,
        count=0 if step.kind == StepKind.FIND else step.count,
        why=_why(step),
        refused=[RefusedOut(name=r.name, why=r.why) for r in reversed(refused)],
        wrong_now=bool(refused) and refused[-1].done >= step.done,
        folder=begun.folder,
    )


def hand_lines(
    library: Library, job: Job, steps: Sequence[RunStep], by_rig: frozenset[str] = frozenset()
) -> dict[int, str]:
    """What each step of a run by hand asks for in all, by its number, so that the whole sheet can be worked from paper."""
    begun = read(RunJob, job.params)
    if not begun.by_hand:
        return {}
    with library.db.session() as session:
        rig = library.rig(session, job.rig_id or 0)
        asked = [s for s in steps if s.kind in TICKED]
        return {s.id: _line(library, session, rig, begun, s, s.count, by_rig).what for s in asked}


def _line(
    library: Library,
    session: Session,
    rig: Rig,
    begun: RunJob,
    step: RunStep,
    frames: int,
    by_rig: frozenset[str],
) -> HandLine:
    params, word, says = read(SheetParams, step.params), gain_word(library, rig.camera), says_of(library, rig)
    exposure = params.exposure_s if params.exposure_known else None
    if step.row is None:
        kind = SERIES[StepKind(step.kind)]
        temp = params.set_temp_c if kind is FrameKind.DARK else None
        settings = params.gain or 0.0, params.offset or 0.0, params.binning or 1
        return capped_line(
            kind,
            frames,
            *settings,
            exposure,
            temp,
            gain_word=word,
            read_mode=params.read_mode,
            by_rig=by_rig,
            says=says,
        )
    row = begun.rows[step.row]
    if step.kind == StepKind.DARK_FLATS:
        return capped_line(
            FrameKind.DARK_FLAT,
            frames,
            row.gain,
            row.offset,
            row.binning,
            exposure,
            gain_word=word,
            read_mode=row.read_mode,
            by_rig=by_rig,
            says=says,
        )
    light = source_of(session, rig, wishes_from(rig.wishes), None)
    test, brightness = step.kind == StepKind.FIND, row.brightness
    coming = read(SearchOutcome, step.outcome).next if test else None
    lit = params.lit
    if test:
        exposure = exposure_of(light.timed, coming.exposure_s) if coming is not None else None
        lit = light.timed.lit(coming.exposure_s) if coming is not None and light.timed else None
        brightness = coming.brightness if coming is not None else brightness
    return flats_line(
        row,
        frames,
        exposure,
        brightness if light.dimmer is not None else None,
        test=test,
        light=light.name,
        gain_word=word,
        lit=lit,
        by_rig=by_rig,
        says=says,
    )


def _sets_itself(step: RunStep) -> bool:
    """Whether devices are still being set for a step: it has not begun, or its next test flat is not asked for yet."""
    if step.state == StepState.TO_DO:
        return True
    return step.kind == StepKind.FIND and read(SearchOutcome, step.outcome).next is None


def _why(step: RunStep) -> str:
    """Why this test flat comes next."""
    coming = read(SearchOutcome, step.outcome).next if step.kind == StepKind.FIND else None
    return "" if coming is None else f"{coming.why[:1].upper()}{coming.why[1:]}."


def _refused(step: RunStep) -> tuple[Refused, ...]:
    if step.kind == StepKind.FIND:
        return read(SearchOutcome, step.outcome).refused
    return read(SeriesOutcome, step.outcome).refused
