"""The Bench in words and numbers: what could be measured of a camera, and what was."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace

from sqlalchemy.orm import Session

from grayshelf.core.sensor.bias import BiasReading, DeadPixel, good_minimum, good_zeros
from grayshelf.core.sensor.findings import Finding
from grayshelf.core.sensor.floor import PedestalLine
from grayshelf.core.sensor.offset import OffsetDone, OffsetEffect, OffsetReading, next_bias
from grayshelf.library.library import Library
from grayshelf.library.measurement_records import settings_of
from grayshelf.library.measurements import offset_result
from grayshelf.library.models import CameraValue, Job, Measurement, RunStep
from grayshelf.web.bench.left_behind import capped_shelf, of_offset
from grayshelf.web.bench.page import accepted_out
from grayshelf.web.bench.schemas import (
    DeadOut,
    EffectOut,
    FindingOut,
    GainState,
    OffsetGainOut,
    OffsetLine,
    RungOut,
)
from grayshelf.web.common import in_words
from grayshelf.work.job_states import StepState
from grayshelf.work.jobs import ALIVE

#: More frames of one offset than this need no more dots on the chart.
MOST_DOTS = 48


def offset_of_gain(
    library: Library,
    session: Session,
    row: Measurement,
    gain: float,
    word: str,
    step: RunStep | None,
    job: Job | None,
    known: CameraValue | None,
) -> OffsetGainOut:
    """What bias frames at one gain say of the offset."""
    readings, read = offset_result(library, session, row, gain)
    result = read
    going = goes_on(job, step)
    shooting = going and row.source == "shot" and step is not None and step.state == StepState.DOING
    if going and (result.line is None or result.line.slope is None):
        # One offset alone is no answer yet while others are still to come.
        result = replace(result, answer=None)
    ladder, answer = result.ladder, result.answer
    depth = result.tail.depth(ladder.share_of_frames) if result.tail else None
    state = "going on" if going else _ended_as(result, readings)
    headline, reason = _headline(result, readings, gain, word, going)
    shelf = capped_shelf(library, row.camera)

    def effect_out(effect: OffsetEffect) -> EffectOut:
        return _effect(effect, result, of_offset(shelf, gain, effect.offset, word))

    return OffsetGainOut(
        gain=gain,
        gain_text=f"{word} {gain:g}",
        headline=headline,
        reason=reason,
        cost="" if answer is None else _cost_sentence(answer, ladder.white_adu),
        next=_coming(readings, read) if shooting else "",
        state=state,
        n_frames=len(readings),
        n_full_ladder=ladder.frames_of_full_ladder,
        n_pixels=readings[0].n_pixels if readings else 0,
        white=ladder.white_adu,
        rungs=_rungs(readings, result.dead),
        line=_line(result.line, depth) if result.line else None,
        depth=depth,
        uncertainty=result.uncertainty_adu,
        margin=result.margin_adu,
        answer=effect_out(answer) if answer else None,
        confirmed=result.confirmed,
        effects=[effect_out(e) for e in _effects(result, readings)],
        dead=[_dead(d, settings_of(row).width) for d in result.dead],
        findings=[] if going else [finding_out(f) for f in result.findings],
        accepted=accepted_out(known, word) if known else None,
    )


def goes_on(job: Job | None, step: RunStep | None) -> bool:
    """Whether something at one gain is being measured, or still to be."""
    if job is None or job.state not in ALIVE:
        return False
    return step is None or step.state in (StepState.TO_DO, StepState.DOING)


def _coming(readings: Sequence[BiasReading], read: OffsetReading) -> str:
    """What is shot next, and why."""
    decision = next_bias(readings, read.ladder, read)
    if isinstance(decision, OffsetDone):
        return ""
    frames = in_words.several(decision.count, "frame")
    return f"Next: {frames} at offset {decision.offset:g}. Why: {decision.why}."


def _ended_as(result: OffsetReading, readings: Sequence[BiasReading]) -> GainState:
    if not readings:
        return "not begun"
    return "done" if result.answer else "no answer"


def _effects(result: OffsetReading, readings: Sequence[BiasReading]) -> list[OffsetEffect]:
    """What each offset would do."""
    ladder = result.ladder
    offsets = _every(ladder.lowest, ladder.highest, ladder.quantum, readings)
    return [e for offset in offsets if (e := result.effect(offset))]


def _line(line: PedestalLine, depth: float | None) -> OffsetLine:
    floor = None if depth is None else line.at_zero + depth
    leaves_zero = None if floor is None or not line.slope else max(-floor / line.slope, 0.0)
    return OffsetLine(at_zero=line.at_zero, slope=line.slope, floor_at_zero=floor, floor_from=leaves_zero)


def _every(low: float, high: float, quantum: float, readings: Sequence[BiasReading]) -> list[float]:
    """Every offset there is, no further than a little above what was looked at."""
    top = min(high, max((r.offset for r in readings), default=high))
    count = int((top - low) / quantum) + 1
    return [low + i * quantum for i in range(min(count, 512))]


def _rungs(readings: Sequence[BiasReading], dead: Sequence[DeadPixel]) -> list[RungOut]:
    by_offset: dict[float, list[BiasReading]] = defaultdict(list)
    for reading in readings:
        if reading.exposure_s == 0.0:
            by_offset[reading.offset].append(reading)
    rungs = []
    for offset, items in sorted(by_offset.items()):
        zeros = sum(good_zeros(r, dead) for r in items)
        n = len(items)
        rungs.append(
            RungOut(
                offset=offset,
                n_frames=n,
                mean=sum(r.mean for r in items) / n,
                darkest_percent=sum(r.darkest_percent for r in items) / n,
                darkest_permyriad=sum(r.darkest_permyriad for r in items) / n,
                minima=[good_minimum(r, dead) for r in items][:MOST_DOTS],
                zeros=zeros,
                zeros_text=in_words.many(zeros),
            )
        )
    return rungs


def _dead(pixel: DeadPixel, width: int) -> DeadOut:
    column, row = pixel.place(width)
    return DeadOut(column=column, row=row, level=pixel.level_adu, share=pixel.share_of_frames)


def _effect(effect: OffsetEffect, result: OffsetReading, left_behind: str) -> EffectOut:
    holds = effect.floor_adu >= result.margin_adu - 1e-6 or effect is result.answer
    return EffectOut(
        offset=effect.offset,
        mean=effect.mean_adu,
        floor=effect.floor_adu,
        clipped=effect.clipped_per_frame,
        cost_percent=effect.cost_percent,
        cost_stops=effect.cost_stops,
        holds=holds,
        says=_says(effect, result, holds),
        left_behind=left_behind,
    )


def _says(effect: OffsetEffect, result: OffsetReading, holds: bool) -> str:
    cost = _cost_sentence(effect, result.ladder.white_adu)
    if holds:
        more = effect.offset - (result.answer.offset if result.answer else effect.offset)
        spare = effect.floor_adu
        if more <= 0:
            return f"{in_words.number(spare)} ADU clear of zero. {cost}"
        return f"{in_words.number(spare)} ADU clear of zero, {in_words.number(spare - result.margin_adu)} more than asked for. {cost}"
    least = "at least " if effect.at_least else ""
    if effect.clipped_per_frame >= 0.95:
        return f"Clips {least}{in_words.many(round(effect.clipped_per_frame))} good pixels in every frame. {cost}"
    if effect.floor_adu < 0:
        each = max(round(1.0 / max(effect.clipped_per_frame, 1e-9)), 2)
        return f"Clips a good pixel in about one frame of {in_words.number(each)}. {cost}"
    return f"Only {in_words.number(effect.floor_adu)} ADU clear of zero, {in_words.number(result.margin_adu)} are asked for. {cost}"


def _cost_sentence(effect: OffsetEffect, white: float) -> str:
    return (
        f"Every frame starts {in_words.number(effect.mean_adu)} ADU up: {in_words.number(effect.cost_percent, 2)} % of the range, "
        f"{in_words.number(effect.cost_stops, 3)} stop."
    )


def _headline(
    result: OffsetReading, readings: Sequence[BiasReading], gain: float, word: str, going: bool
) -> tuple[str, str]:
    if not readings:
        return ("Not begun", "No frame was taken at this gain yet.")
    if result.answer is None:
        if going:
            return ("Measuring", "Too early for an answer.")
        serious = next((f for f in result.findings if f.serious), None) or next(iter(result.findings), None)
        return ("No answer", serious.message if serious else "The frames do not tell.")
    a = result.answer
    sure = f" ±{in_words.number(result.uncertainty_adu)}" if result.uncertainty_adu is not None else ""
    reason = (
        f"The lowest offset at which the darkest good pixel of 99 frames in 100 stays "
        f"{in_words.number(a.floor_adu)}{sure} ADU above zero; {in_words.number(result.margin_adu)} are asked for."
    )
    if result.line is not None and result.line.slope is None:
        reason = (
            f"The only offset looked at: the darkest good pixel of 99 frames in 100 stays {in_words.number(a.floor_adu)}{sure} "
            "ADU above zero. Whether a lower one would do is not known."
        )
    elif result.confirmed:
        there = [r for r in readings if r.offset == a.offset and r.exposure_s == 0.0]
        reason += f" Confirmed: no good pixel at zero in {len(there)} frames."
    elif not going:
        reason += " Not confirmed with frames taken there."
    return (f"Offset {a.offset:g}" + (" so far" if going else ""), reason)


def finding_out(item: Finding) -> FindingOut:
    """A finding, as the page tells it."""
    return FindingOut(message=item.message, advice=item.advice, serious=item.serious)
