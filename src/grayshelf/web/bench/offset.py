"""The Bench in words and numbers: what could be measured of a camera, and what was."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace
from typing import cast

from sqlalchemy.orm import Session

from grayshelf.core.sensor.bias import BiasReading, DeadPixel, good_minimum, good_zeros
from grayshelf.core.sensor.findings import Finding
from grayshelf.core.sensor.floor import PedestalLine
from grayshelf.core.sensor.offset import OffsetDone, OffsetEffect, OffsetReading, next_bias
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.measurement_records import settings_of
from grayshelf.library.measurements import accepted, kept_frames, measurement, measurements_of, offset_result
from grayshelf.library.models import CameraValue, Job, Measurement, Rig, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word, offset_warning, wishes_of
from grayshelf.library.step_records import MeasureParams
from grayshelf.web.bench.gain import gains_out
from grayshelf.web.bench.schemas import (
    AcceptedOut,
    BenchItem,
    BenchOut,
    DeadOut,
    DiskOfferOut,
    EffectOut,
    FilterOffer,
    FindingOut,
    FramesOut,
    GainOffer,
    Kind,
    MeasurementOut,
    OffsetGainOut,
    OffsetLine,
    RungOut,
)
from grayshelf.web.common import in_words
from grayshelf.web.common.gates import waiting_gate
from grayshelf.web.common.jobs import job_out
from grayshelf.work.bench import gain as measure_gain
from grayshelf.work.bench import offset as measure_offset
from grayshelf.work.bench.disk import DiskOffer, offers
from grayshelf.work.bench.starter import gains_in_use
from grayshelf.work.job_states import JobState, StepState
from grayshelf.work.jobs import ALIVE

#: Gains that are offered where no light tells which are used, as shares of the range.
LADDER_OF_GAINS = (0.0, 0.25, 0.5, 0.75)
#: More frames of one offset than this need no more dots on the chart.
MOST_DOTS = 48


def bench_page(library: Library, rig_id: int, kind: str, devices: RigDevices | None) -> BenchOut:
    """What can be measured, and what was."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        in_use = gains_in_use(library, rig)
        word = gain_word(library, rig.camera)
        facts = devices.camera.facts if devices else None
        cannot = ""
        if facts is None:
            cannot = "No devices are connected to this rig: use frames on disk."
        elif kind == "offset" and facts.offset_range is None:
            cannot = f"{rig.camera} does not let its offset be set."
        rows = measurements_of(session, rig.camera, kind)
        seconds, frames = _cost(rig, devices, kind)
        return BenchOut(
            kind=cast(Kind, kind),
            camera=rig.camera,
            can_shoot=not cannot,
            cannot=cannot,
            gain_word=word,
            gain_range=list(facts.gain_range) if facts and facts.gain_range else None,
            offset_range=list(facts.offset_range) if facts and facts.offset_range else None,
            gains=_gain_offers(session, rig, kind, in_use, facts.gain_range if facts else None, word),
            filters=[
                FilterOffer(code=f.code, passband_nm=f.passband_nm)
                for f in rig.filters
                if devices is not None and devices.wheel is not None
            ],
            filter_code=_usual_filter(rig) if devices is not None and devices.wheel is not None else None,
            seconds_per_gain=seconds,
            frames_per_gain=frames,
            disk=[_disk_offer(o, kind, word) for o in offers(session, rig.camera, kind)],
            measurements=[_item(r, word) for r in rows],
            accepted=accepted_table(library, session, rig, kind, word),
        )


def _cost(rig: Rig, devices: RigDevices | None, kind: str) -> tuple[float, int]:
    """Seconds and frames for one gain."""
    if devices is None:
        return 0.0, 0
    if kind == "offset":
        return measure_offset.usual_seconds(devices, 1, 60.0), measure_offset.USUAL_FRAMES + 1
    shortest = measure_gain.shortest_for(devices, wishes_of(rig).shortest_s)
    return measure_gain.usual_seconds(
        devices, 1, shortest
    ), 58 if devices.camera.facts.bayer_pattern is None else 86


def _usual_filter(rig: Rig) -> str | None:
    """The narrowest filter: a panel is rarely dim enough for the others."""
    known = [f for f in rig.filters if f.width_nm is not None]
    if known:
        return min(known, key=lambda f: f.width_nm or 0.0).code
    return rig.filters[0].code if rig.filters else None


def _gain_offers(
    session: Session,
    rig: Rig,
    kind: str,
    in_use: dict[float, set[float]],
    span: tuple[float, float] | None,
    word: str,
) -> list[GainOffer]:
    known = accepted(session, rig.camera, kind)
    ladder = [round(span[0] + share * (span[1] - span[0])) for share in LADDER_OF_GAINS] if span else []
    gains = sorted({*in_use, *known, *([float(g) for g in ladder] if kind == "gain" or not in_use else [])})
    result = []
    for gain in gains:
        said = []
        if gain in in_use:
            at = in_words.listed(f"{o:g}" for o in sorted(in_use[gain]))
            said.append(f"lights at offset {at}" if at else "lights")
        said.append(
            f"measured {in_words.day(known[gain].accepted_at.date())}" if gain in known else "never measured"
        )
        result.append(
            GainOffer(gain=gain, text=f"{word} {gain:g}", in_use=gain in in_use, note=", ".join(said))
        )
    return result


def _disk_offer(offer: DiskOffer, kind: str, word: str) -> DiskOfferOut:
    nights = f", {in_words.days(offer.nights)}" if offer.nights else ""
    if kind == "offset":
        text = (
            f"{offer.n_bias} bias frames at offset {in_words.listed(f'{o:g}' for o in offer.offsets)}{nights}"
        )
        quick = len(offer.offsets) < 2
    else:
        text = f"{offer.n_flats} flats at {in_words.several(offer.levels, 'level')}, {offer.n_bias} bias frames{nights}"
        quick = offer.levels < 3
    return DiskOfferOut(
        gain=offer.gain,
        gain_text=f"{word} {offer.gain:g}",
        text=text,
        set_ids=list(offer.set_ids),
        quick=quick,
    )


def _item(row: Measurement, word: str) -> BenchItem:
    gains = in_words.listed(f"{g:g}" for g in row.gains)
    return BenchItem(
        id=row.id,
        title=f"{word} {gains}",
        when=in_words.day(row.made_at.date()),
        gains=row.gains,
        source="shot here" if row.source == "shot" else "from frames on disk",
    )


# -- what was accepted ------------------------------------------------------------------------------------------


def accepted_table(library: Library, session: Session, rig: Rig, kind: str, word: str) -> list[AcceptedOut]:
    """The camera's card: what counts at each gain, and which pairs the lights use unchecked."""
    known = accepted(session, rig.camera, kind)
    in_use = gains_in_use(library, rig)
    rows = []
    for gain in sorted({*known, *in_use}):
        warning = ""
        if kind == "offset":
            told = [offset_warning(library, rig.camera, gain, o) for o in sorted(in_use.get(gain, ()))]
            warning = " ".join(t.message for t in told if t)
        row = known.get(gain)
        if row is None:
            rows.append(
                AcceptedOut(
                    gain=gain,
                    gain_text=f"{word} {gain:g}",
                    value="–",
                    detail="never measured",
                    when="",
                    own_choice=False,
                    measurement_id=None,
                    warning=warning,
                )
            )
        else:
            rows.append(_accepted(row, word, warning))
    return rows


def _accepted(row: CameraValue, word: str, warning: str = "") -> AcceptedOut:
    v = row.values
    if row.kind == "offset":
        value = f"{v['offset']:g}"
        detail = f"floor {in_words.number(v['floor'])}{in_words.THIN}ADU, costs {in_words.number(v['cost_percent'], 2)} %"
        if row.own_choice:
            detail += f"; your choice, measured {v['lowest']:g}"
    else:
        value = f"{v['e_per_adu']:.3g}{in_words.THIN}e⁻/ADU"
        detail = f"read noise {v['read_noise_e']:.2f}{in_words.THIN}e⁻"
        if v.get("linear_limit_adu"):
            detail += f", linear to {in_words.number(v['linear_limit_adu'])}{in_words.THIN}ADU"
        if v.get("quick"):
            detail += "; a quick estimate"
    return AcceptedOut(
        gain=row.gain,
        gain_text=f"{word} {row.gain:g}",
        value=value,
        detail=detail,
        when=in_words.day(row.accepted_at.date()),
        own_choice=row.own_choice,
        measurement_id=row.measurement_id,
        warning=warning,
    )


# -- one measurement --------------------------------------------------------------------------------------------


def measurement_page(library: Library, measurement_id: int) -> MeasurementOut:
    """One measurement, with everything it says."""
    with library.db.session() as session:
        row = measurement(session, measurement_id)
        word = gain_word(library, row.camera)
        job = session.get(Job, row.job_id) if row.job_id else None
        steps = _steps(job)
        kept = kept_frames(session, row)
        known = accepted(session, row.camera, row.kind)
        others = [m for m in measurements_of(session, row.camera, row.kind) if m.id != row.id]
        return MeasurementOut(
            id=row.id,
            kind=cast(Kind, row.kind),
            camera=row.camera,
            title=_item(row, word).title,
            when=in_words.day(row.made_at.date()),
            source=_item(row, word).source,
            conditions=_conditions(row, kept.count),
            notes=list(row.notes),
            frames=FramesOut(count=kept.count, size=in_words.size(kept.size_bytes), state=kept.state),
            job=job_out(job, library) if job is not None and job.state != JobState.DONE else None,
            gate=waiting_gate(job, [] if job is None else job.steps),
            offset=[
                _offset_gain(library, session, row, gain, word, steps.get(gain), job, known.get(gain))
                for gain in (row.gains if row.kind == "offset" else [])
            ],
            gain=gains_out(session, row, word, steps, job, {g: _accepted(v, word) for g, v in known.items()})
            if row.kind == "gain"
            else None,
            earlier=[_item(m, word) for m in others],
        )


def _steps(job: Job | None) -> dict[float, RunStep]:
    """The steps of an exercise by gain."""
    return (
        {} if job is None else {read(MeasureParams, s.params).gain: s for s in job.steps if s.kind != "gate"}
    )


def _conditions(row: Measurement, count: int) -> str:
    parts = [row.camera]
    temp_c = settings_of(row).temp_c
    if temp_c is not None:
        parts.append(in_words.degrees_c(temp_c))
    parts.append(in_words.several(count, "frame"))
    return ", ".join(parts)


def _finding(item: Finding) -> FindingOut:
    return FindingOut(message=item.message, advice=item.advice, serious=item.serious)


def _offset_gain(
    library: Library,
    session: Session,
    row: Measurement,
    gain: float,
    word: str,
    step: RunStep | None,
    job: Job | None,
    known: CameraValue | None,
) -> OffsetGainOut:
    readings, result = offset_result(library, session, row, gain)
    alive = job is not None and job.state in ALIVE
    going = alive and (step is None or step.state in (StepState.TO_DO, StepState.DOING))
    coming = ""
    if going and row.source == "shot" and step is not None and step.state == StepState.DOING:
        decision = next_bias(readings, result.ladder)
        if not isinstance(decision, OffsetDone):
            frames = in_words.several(decision.count, "frame")
            coming = f"Next: {frames} at offset {decision.offset:g}. Why: {decision.why}."
    if going and (result.line is None or result.line.slope is None):
        # One offset alone is no answer yet while others are still to come.
        result = replace(result, answer=None)
    ladder = result.ladder
    depth = result.tail.depth(ladder.share_of_frames) if result.tail else None
    effects = [
        e for o in _every(ladder.lowest, ladder.highest, ladder.quantum, readings) if (e := result.effect(o))
    ]
    headline, reason = _headline(result, readings, gain, word, going)
    return OffsetGainOut(
        gain=gain,
        gain_text=f"{word} {gain:g}",
        headline=headline,
        reason=reason,
        cost=_cost_sentence(result.answer, ladder.white_adu) if result.answer else "",
        next=coming,
        state="going on"
        if going
        else "not begun"
        if not readings
        else "done"
        if result.answer
        else "no answer",
        n_frames=len(readings),
        n_full_ladder=ladder.frames_of_full_ladder,
        n_pixels=readings[0].n_pixels if readings else 0,
        white=ladder.white_adu,
        rungs=_rungs(readings, result.dead),
        line=_line(result.line, depth) if result.line else None,
        depth=depth,
        uncertainty=result.uncertainty_adu,
        margin=result.margin_adu,
        answer=_effect(result.answer, result) if result.answer else None,
        confirmed=result.confirmed,
        effects=[_effect(e, result) for e in effects],
        dead=[_dead(d, settings_of(row).width) for d in result.dead],
        findings=[_finding(f) for f in result.findings] if not going else [],
        accepted=_accepted(known, word) if known else None,
    )


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


def _effect(effect: OffsetEffect, result: OffsetReading) -> EffectOut:
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
