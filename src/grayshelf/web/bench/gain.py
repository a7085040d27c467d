"""The gain exercise in words and numbers."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.sensor.findings import Finding
from grayshelf.core.sensor.gain_choice import ConversionSwitch, GainChoice, GainFigures, choose_gain
from grayshelf.core.sensor.gain_words import ONE_GAIN, gain_named
from grayshelf.core.sensor.linearity import LINEAR_WITHIN
from grayshelf.core.sensor.transfer import speaking_channel
from grayshelf.core.sensor.transfer_points import Transfer, TransferPoint, Value
from grayshelf.library.library import Library
from grayshelf.library.measurement_records import settings_of
from grayshelf.library.measurements import transfers
from grayshelf.library.models import Job, Measurement, MeasurementShot, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import offsets_told
from grayshelf.library.step_records import MeasureOutcome
from grayshelf.web.bench.left_behind import capped_shelf
from grayshelf.web.bench.left_behind import of_gain as left_by_gain
from grayshelf.web.bench.offset import finding_out, goes_on
from grayshelf.web.bench.schemas import (
    AcceptedOut,
    ChannelOut,
    CurvePoint,
    FindingOut,
    GainGainOut,
    GainsOut,
    GainState,
    MeasuredNumber,
    SuggestionOut,
)
from grayshelf.web.common import in_words
from grayshelf.work.job_states import StepState


def gains_out(
    library: Library,
    session: Session,
    row: Measurement,
    word: str,
    steps: Mapping[float, RunStep],
    job: Job | None,
    known: Mapping[float, AcceptedOut],
) -> GainsOut:
    """All gains of a measurement, side by side."""
    gains, figures = [], []
    step = settings_of(row).step
    for gain in row.gains:
        found = transfers(session, row, gain)
        if (of_gain := _figures(gain, found, step)) is not None:
            figures.append(of_gain)
        gains.append(_gain(library, session, row, gain, word, found, steps.get(gain), job, known.get(gain)))
    choice = choose_gain(figures, word)
    switch, shelf = choice.switch, capped_shelf(library, row.camera)
    return GainsOut(
        gains=gains,
        unity_gain=choice.unity_gain,
        unity_text=_unity_text(choice, word) if figures and word != ONE_GAIN else "",
        switch=[switch.below, switch.above] if switch is not None and switch.certain else None,
        switch_text="" if switch is None else _switch_text(switch, figures, word),
        suggestions=[
            SuggestionOut(
                **vars(s), gain_text=gain_named(word, s.gain), left_behind=left_by_gain(shelf, s.gain, word)
            )
            for s in choice.suggestions
        ],
        step=step,
    )


def _figures(gain: float, found: Mapping[str, Transfer], step: int) -> GainFigures | None:
    """What a gain is weighed by, where it was measured."""
    chosen = found.get(speaking_channel(found) or "")
    if chosen is None or not chosen.e_per_adu or not chosen.read_noise_e:
        return None
    capacity = chosen.capacity_e.value if chosen.capacity_e else None
    return GainFigures(gain, chosen.e_per_adu.value, chosen.read_noise_e.value, capacity, step)


def _unity_text(choice: GainChoice, word: str) -> str:
    if choice.unity_gain is None:
        return choice.unity_note
    return f"about {word} {choice.unity_gain:.0f}, {choice.unity_note}"


def _switch_text(switch: ConversionSwitch, figures: Sequence[GainFigures], word: str) -> str:
    below, above = (next(f for f in figures if f.gain == g) for g in (switch.below, switch.above))
    said = (
        ": the sensor switches its conversion there."
        if switch.certain
        else ". Does the sensor switch its conversion there? A gain between the two, or beside them, would tell."
    )
    return (
        f"Between {word} {below.gain:g} and {above.gain:g} the read noise drops from {below.read_noise_e:.1f} to "
        f"{above.read_noise_e:.1f} e⁻{said}"
    )


def _gain(
    library: Library,
    session: Session,
    row: Measurement,
    gain: float,
    word: str,
    found: Mapping[str, Transfer],
    step: RunStep | None,
    job: Job | None,
    known: AcceptedOut | None,
) -> GainGainOut:
    going = goes_on(job, step)
    count, offset = session.execute(
        select(func.count(), func.max(MeasurementShot.offset)).where(
            MeasurementShot.measurement_id == row.id, MeasurementShot.gain == gain
        )
    ).one()
    done = any(t.e_per_adu is not None for t in found.values())
    measured_now = going and step is not None and step.state == StepState.DOING
    return GainGainOut(
        gain=gain,
        gain_text=gain_named(word, gain),
        offset_text=_offset_text(library, row, offset or 0.0),
        state="going on" if going else _ended_as(done, count),
        next=job.message if measured_now and job is not None else "",
        n_frames=count,
        channels=[_channel(name, t) for name, t in found.items()],
        speaks=speaking_channel(found),
        findings=_no_answer(step) + ([] if going else _findings(found)),
        accepted=known,
        can_accept=done and not going,
    )


def _offset_text(library: Library, row: Measurement, offset: float) -> str:
    """'offset 30'; empty where 0 stands for none to set."""
    is_one = offset or settings_of(row).offset_range is not None or 0.0 in offsets_told(library, row.camera)
    return f"offset {offset:g}" if is_one else ""


def _ended_as(done: bool, n_frames: int) -> GainState:
    if done:
        return "done"
    return "no answer" if n_frames else "not begun"


def _no_answer(step: RunStep | None) -> list[FindingOut]:
    if step is None or step.state != StepState.NO_ANSWER:
        return []
    return [FindingOut(message=read(MeasureOutcome, step.outcome).message, advice="", serious=True)]


def _findings(found: Mapping[str, Transfer]) -> list[FindingOut]:
    """Those of all channels, first of the one that speaks for them; what others say but for its numbers is told once."""
    told: dict[str, Finding] = {}
    first = speaking_channel(found)
    for name in sorted(found, key=lambda name: name != first):
        for item in found[name].findings:
            told.setdefault(re.sub(r"\d[\d,.]*", "", item.message), item)
    return [finding_out(item) for item in told.values()]


def _curve_point(p: TransferPoint) -> CurvePoint:
    return CurvePoint(
        exposure_s=p.pair.exposure_s,
        level=p.pair.mean_adu,
        signal=p.signal_adu,
        variance=p.photon_variance_adu2,
        used=p.used,
        full=p.pair.full_share > 0.5,
        residual_percent=None if p.residual is None else 100 * p.residual,
        off_line_percent=None if p.off_line is None else 100 * p.off_line,
        source=p.pair.source,
    )


def _channel(name: str, t: Transfer) -> ChannelOut:
    slope = 1.0 / t.e_per_adu.value if t.e_per_adu else None
    usual = Value(t.usual_read_noise_e, 0.0) if t.usual_read_noise_e is not None else None
    return ChannelOut(
        name=name,
        points=[_curve_point(p) for p in t.points],
        pedestal=t.pedestal_adu,
        quantisation=t.quantisation_adu2,
        dark_variance=t.dark_variance_adu2,
        slope=slope,
        saturation_signal=t.saturation_adu - t.pedestal_adu if t.saturation_adu is not None else None,
        linear_signal=t.linear_limit_adu.value - t.pedestal_adu if t.linear_limit_adu else None,
        straight_within_percent=100.0 * LINEAR_WITHIN,
        e_per_adu=number(t.e_per_adu),
        e_per_step=number(t.e_per_step),
        read_noise=number(t.read_noise_e, at_most=t.read_noise_lost),
        usual_read_noise=number(usual, bare=True),
        capacity=number(t.capacity_e),
        full_well=number(t.full_well_e),
        linear_limit=number(t.linear_limit_adu),
        stops=number(t.dynamic_range_stops, most_digits=2),
        quick=t.quick,
        findings=[finding_out(f) for f in t.findings],
    )


def number(
    value: Value | None, *, at_most: bool = False, bare: bool = False, most_digits: int = 6
) -> MeasuredNumber:
    """A value with its interval, to as many digits as the interval bears."""
    if value is None or not math.isfinite(value.value):
        return MeasuredNumber(value=None, plus_minus=None, text="–")
    if bare or value.plus_minus <= 0:
        return MeasuredNumber(value=value.value, plus_minus=None, text=f"{value.value:#.3g}".rstrip("."))
    # Two digits of the interval where it begins with 1, else one.
    exponent = math.floor(math.log10(value.plus_minus))
    leading = value.plus_minus / 10.0**exponent
    digits = min(max(-exponent + (1 if leading < 2 else 0), 0), most_digits)
    # Never '± 0': the last digit shown is the least that can be said.
    reach = max(value.plus_minus, 10.0**-digits)
    text = f"{in_words.number(value.value, digits)} ± {in_words.number(reach, digits)}"
    if exponent >= 1:
        text = f"{in_words.number(round(value.value, -exponent))} ± {in_words.number(round(value.plus_minus, -exponent))}"
    return MeasuredNumber(
        value=value.value, plus_minus=value.plus_minus, text=f"≤ {text}" if at_most else text
    )
