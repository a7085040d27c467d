"""Choosing, for a set of lights, the dark, flat, dark flat and bias that fit, and saying why.

Hard settings must be the same. Others lie within a tolerance; what is not known is *unknown*, never equal,
and fits with care at best. Among those that fit, the predicted cost in electrons decides, then the newer one,
then the key, so the same shelf always gives the same slip.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.noise import dark_mismatch_e, dark_rate_at, flat_stack_noise
from grayshelf.core.matching import rulers
from grayshelf.core.matching.age import age_in_words
from grayshelf.core.matching.model import (
    Candidate,
    CommonSettings,
    Holding,
    PullSlip,
    Ruler,
    SensorTraits,
    SlipLine,
    Tolerances,
    TrainEvent,
    Verdict,
)

#: Runners-up that are told of in a line.
MOST_RUNNERS_UP = 5
#: Flats shorter than this may do with a bias in place of a dark flat (common practice).
BIAS_STANDS_IN_BELOW_S = 5.0
_ORDER = {Verdict.FITS: 0, Verdict.CARE: 1, Verdict.NOTHING: 2}


def _same_sensor(want: CommonSettings, have: CommonSettings) -> list[str]:
    """Reasons why the two cannot be of one sensor, read out the same way. They make a holding no candidate."""
    reasons: list[str] = []
    if want.camera != have.camera or want.camera is None:
        reasons.append(f"another camera, {have.camera or 'not named'}")
    if (want.width, want.height) != (have.width, have.height):
        reasons.append(f"another size, {have.width} × {have.height}")
    if want.sample_step and have.sample_step and want.sample_step != have.sample_step:
        reasons.append(f"samples in steps of {have.sample_step}, not {want.sample_step}: another driver")
    for name, a, b in (
        ("row order", want.row_order, have.row_order),
        ("colour phase", want.bayer_pattern, have.bayer_pattern),
        ("read-out mode", want.read_mode, have.read_mode),
    ):
        if a is not None and b is not None and a != b:
            reasons.append(f"another {name}, {b}")
    return reasons


def _judge(
    holding: Holding,
    measured: Sequence[Ruler],
    hard: Iterable[str],
    mismatch_e: float,
    noise_e: float,
    tolerances: Tolerances,
    extra_failures: Sequence[str] = (),
    extra_care: Sequence[str] = (),
) -> Candidate:
    """Turn rulers into a verdict. Rulers named in `hard` decide between fitting and not; others ask for care."""
    must = set(hard)
    failures, care = list(extra_failures), list(extra_care)
    for ruler in measured:
        if ruler.unknown:
            care.append(f"{ruler.quantity} is not known")
        elif not ruler.inside:
            (failures if ruler.quantity in must else care).append(_tell(ruler))
    if holding.n_frames < tolerances.fewest_frames:
        care.append(f"only {holding.n_frames} frames")
    care += holding.care
    verdict = Verdict.NOTHING if failures else Verdict.CARE if care else Verdict.FITS
    return Candidate(holding, verdict, tuple(measured), tuple(failures or care), mismatch_e, noise_e)


def _tell(ruler: Ruler) -> str:
    if ruler.kind == "age" and ruler.unit == "days":
        return f"{age_in_words(float(ruler.measured or 0))} old, allowed {age_in_words(float(ruler.tolerance or 0))}"
    if ruler.kind == "age":
        return f"{ruler.measured:.0f} {ruler.unit} old, allowed {ruler.tolerance:.0f}"
    if ruler.kind == "exact":
        return f"{ruler.quantity} {_number(ruler.measured)}, not {_number(ruler.wanted)}"
    sign = "+" if (ruler.distance or 0) > 0 else "−"
    space = "" if ruler.unit == "°" else " "
    return f"{ruler.quantity} off by {sign}{abs(ruler.distance or 0):.3g}{space}{ruler.unit}"


def _number(value: float | str | None) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def _dark_noise(want: CommonSettings, n: int, traits: SensorTraits) -> float:
    temp_c = traits.dark_rate_at_c if want.sensor_temp_c is None else want.sensor_temp_c
    rate = dark_rate_at(traits.dark_rate_e_s, traits.dark_rate_at_c, temp_c)
    return math.sqrt((traits.read_noise_e**2 + rate * (want.exposure_s or 0.0)) / max(n, 1))


def judge_dark(
    want: CommonSettings, holding: Holding, tolerances: Tolerances, traits: SensorTraits
) -> Candidate:
    """How a dark does for lights."""
    have = holding.settings
    measured = (
        rulers.exact("gain", want.gain, have.gain),
        rulers.exact("offset", want.offset, have.offset),
        rulers.exact("binning", want.binning, have.binning),
        rulers.temperature(want, have, tolerances.dark_temp_c),
        rulers.exposure(want, have, tolerances.dark_exposure_percent),
        rulers.age_days(want, have, tolerances.dark_age_days),
    )
    mismatch = 0.0
    if want.sensor_temp_c is not None and have.sensor_temp_c is not None and want.exposure_s:
        rate = dark_rate_at(traits.dark_rate_e_s, traits.dark_rate_at_c, have.sensor_temp_c)
        mismatch = abs(dark_mismatch_e(rate, want.exposure_s, want.sensor_temp_c, have.sensor_temp_c))
    noise = holding.noise_e if holding.noise_e is not None else _dark_noise(want, holding.n_frames, traits)
    hard = ("gain", "offset", "binning", "temperature", "exposure")
    return _judge(holding, measured, hard, mismatch, noise, tolerances)


def judge_bias(
    want: CommonSettings, holding: Holding, tolerances: Tolerances, traits: SensorTraits
) -> Candidate:
    """How a bias does for lights or flats."""
    have = holding.settings
    measured = (
        rulers.exact("gain", want.gain, have.gain),
        rulers.exact("offset", want.offset, have.offset),
        rulers.exact("binning", want.binning, have.binning),
        rulers.age_days(want, have, tolerances.bias_age_days),
    )
    noise = traits.read_noise_e / math.sqrt(max(holding.n_frames, 1))
    return _judge(holding, measured, ("gain", "offset", "binning"), 0.0, noise, tolerances)


def judge_flat(
    want: CommonSettings,
    holding: Holding,
    tolerances: Tolerances,
    traits: SensorTraits,
    events: Sequence[TrainEvent] = (),
) -> Candidate:
    """How a flat does for lights. Another gain or offset asks for care; its own dark flat takes the pedestal off."""
    have = holding.settings
    measured = [
        rulers.exact("gain", want.gain, have.gain),
        rulers.exact("offset", want.offset, have.offset),
        rulers.exact("binning", want.binning, have.binning),
        rulers.angle(want, have, tolerances.flat_angle_deg),
        rulers.band("focus", want.focus, have.focus, tolerances.flat_focus_steps, "steps"),
        rulers.age_nights(want, have, tolerances.flat_nights),
    ]
    failures = []
    if want.train is not None and have.train is not None and want.train != have.train:
        failures.append(f"another train, {have.train}")
    for event in events:
        between = want.taken and have.taken and (want.taken < event.at) != (have.taken < event.at)
        if between:
            failures.append(f"{event.what} between them, {event.at:%-d %b %Y}")
    if tolerances.train_stays_put:
        measured[-1] = replace(measured[-1], inside=True, note="the train is never taken apart")
    care = ["the train is not known"] if want.train is None or have.train is None else []
    signal_e = 25_000.0
    noise = 1000.0 * flat_stack_noise(signal_e, traits.read_noise_e, holding.n_frames, None)
    return _judge(holding, measured, ("binning", "angle", "focus"), 0.0, noise, tolerances, failures, care)


def judge_dark_flat(
    flat: CommonSettings, holding: Holding, tolerances: Tolerances, traits: SensorTraits
) -> Candidate:
    """How a dark flat (or a dark of the flat's exposure) does for a flat."""
    have = holding.settings
    measured = [
        rulers.exact("gain", flat.gain, have.gain),
        rulers.exact("offset", flat.offset, have.offset),
        rulers.exact("binning", flat.binning, have.binning),
        rulers.exposure(flat, have, tolerances.dark_flat_exposure_percent),
        rulers.age_days(flat, have, tolerances.dark_age_days),
    ]
    if flat.sensor_temp_c is not None and have.sensor_temp_c is not None:
        measured.insert(3, rulers.temperature(flat, have, tolerances.dark_flat_temp_c))
    noise = _dark_noise(flat, holding.n_frames, traits)
    return _judge(
        holding, measured, ("gain", "offset", "binning", "temperature", "exposure"), 0.0, noise, tolerances
    )


def _rank(candidate: Candidate) -> tuple[float | str, ...]:
    """Sort key: verdict, then (for flats) nights apart, then cost, then the newer, then masters before loose sets."""
    nights = next(
        (r.distance or 0.0 for r in candidate.rulers if r.quantity == "age" and r.unit == "nights"), 0.0
    )
    taken = candidate.holding.settings.taken
    return (
        _ORDER[candidate.verdict],
        len(candidate.reasons) if candidate.verdict is Verdict.NOTHING else 0,
        nights,
        round(candidate.cost_e, 6),
        -(taken.timestamp() if taken else 0.0),
        0 if candidate.holding.is_master else 1,
        candidate.holding.key,
    )


def _lost_on(winner: Candidate | None, loser: Candidate) -> str:
    if loser.verdict is Verdict.NOTHING or winner is None:
        return "; ".join(loser.reasons)
    if _ORDER[loser.verdict] > _ORDER[winner.verdict]:
        return "; ".join(loser.reasons)
    first, second = _rank(winner), _rank(loser)
    if second[2] != first[2]:
        return "further nights away"
    if second[3] != first[3]:
        return f"costs {loser.cost_e:.2g} e⁻ against {winner.cost_e:.2g}"
    return "older" if second[4] != first[4] else "the same in everything"


def choose(
    kind: FrameKind, holdings: Iterable[Holding], want: CommonSettings, judge: Callable[[Holding], Candidate]
) -> SlipLine:
    """Judge all holdings of one camera and pick the best; the rest are runners-up with their reasons."""
    judged = sorted((judge(h) for h in holdings if not _same_sensor(want, h.settings)), key=_rank)
    fitting = [c for c in judged if c.verdict is not Verdict.NOTHING]
    chosen = fitting[0] if fitting else None
    others = tuple(c for c in judged if c is not chosen)[:MOST_RUNNERS_UP]
    verdict = chosen.verdict if chosen else Verdict.NOTHING
    return SlipLine(kind, verdict, chosen, others, tuple(_lost_on(chosen, c) for c in others))


def pull_slip(
    want: CommonSettings,
    holdings: Sequence[Holding],
    tolerances: Tolerances = Tolerances(),
    traits: SensorTraits = SensorTraits(),
    events: Sequence[TrainEvent] = (),
    *,
    calibrated: bool = False,
    pedestal_adu: float | None = None,
) -> PullSlip:
    """Write the pull slip of a light set.

    Parameters
    ----------
    want
        The settings of the lights.
    holdings
        Everything on the shelf; cameras never mix, so others are simply passed over.
    events
        What was done to the train, and when.
    calibrated
        Whether the lights were calibrated before they came in; then nothing is pulled for them.
    pedestal_adu
        A level that was added to the lights after they were taken, as their header has it.
    """
    if calibrated:
        return PullSlip(
            (), Verdict.NOTHING, ("These lights are already calibrated: nothing is taken off them again.",)
        )
    of = {kind: [h for h in holdings if h.kind is kind] for kind in FrameKind}
    dark = choose(FrameKind.DARK, of[FrameKind.DARK], want, lambda h: judge_dark(want, h, tolerances, traits))
    same_filter = [
        h
        for h in of[FrameKind.FLAT]
        if h.settings.filter_code == want.filter_code or h.settings.filter_code is None
    ]
    flat = choose(
        FrameKind.FLAT, same_filter, want, lambda h: _flat_with_filter(want, h, tolerances, traits, events)
    )
    lines = [dark, flat]
    lines += _pedestal_lines(want, flat, of, tolerances, traits)
    worst = max((line.verdict for line in lines if line.waits_for is None), key=lambda v: _ORDER[v])
    warnings: tuple[str, ...] = ()
    if pedestal_adu:
        warnings = (
            f"A pedestal of {pedestal_adu:g} ADU was added to these lights: take it off with the dark.",
        )
    return PullSlip(tuple(lines), worst, warnings)


def _flat_with_filter(
    want: CommonSettings,
    holding: Holding,
    tolerances: Tolerances,
    traits: SensorTraits,
    events: Sequence[TrainEvent],
) -> Candidate:
    candidate = judge_flat(want, holding, tolerances, traits, events)
    colour = want.bayer_pattern is not None
    if holding.settings.filter_code is None and not colour and candidate.verdict is Verdict.FITS:
        return replace(candidate, verdict=Verdict.CARE, reasons=("filter is not known",))
    return candidate


def _pedestal_lines(
    want: CommonSettings,
    flat: SlipLine,
    of: dict[FrameKind, list[Holding]],
    tolerances: Tolerances,
    traits: SensorTraits,
) -> list[SlipLine]:
    """The dark flat's line, and the bias' where it has to stand in. Flats of the sky take a bias: no exposure fits all."""
    if flat.chosen is None:
        return [
            SlipLine(FrameKind.DARK_FLAT, Verdict.NOTHING, None, (), (), "waits for the flat", FrameKind.FLAT)
        ]
    chosen = flat.chosen.holding
    settings = chosen.settings
    if settings.exposures_differ:
        note = "already taken off in the master flat" if chosen.pedestal_taken_off else ""
        line = choose(
            FrameKind.BIAS,
            of[FrameKind.BIAS],
            settings,
            lambda h: judge_bias(settings, h, tolerances, traits),
        )
        taken_off = bool(note) and line.chosen is None
        said = note or "each flat of the sky has an exposure of its own: a bias is taken off"
        return [replace(line, verdict=Verdict.FITS if taken_off else line.verdict, note=said)]
    line = choose(
        FrameKind.DARK_FLAT,
        of[FrameKind.DARK_FLAT] + of[FrameKind.DARK],
        settings,
        lambda h: judge_dark_flat(settings, h, tolerances, traits),
    )
    if chosen.pedestal_taken_off:
        note = "already taken off in the master flat"
        return [replace(line, verdict=Verdict.FITS if line.chosen is None else line.verdict, note=note)]
    if line.chosen is not None or (settings.exposure_s or math.inf) > BIAS_STANDS_IN_BELOW_S:
        return [line]
    bias = choose(
        FrameKind.BIAS, of[FrameKind.BIAS], settings, lambda h: judge_bias(settings, h, tolerances, traits)
    )
    if bias.chosen is None:
        return [line]
    note = "stands in for the dark flat: the flat is short"
    return [
        replace(line, verdict=Verdict.CARE, note="a bias stands in"),
        replace(bias, verdict=Verdict.CARE, note=note),
    ]


def gap_key(kind: FrameKind, want: CommonSettings) -> tuple[object, ...]:
    """What one missing master is: lights that share this key wait for the same thing."""
    common = (kind.value, want.camera, want.width, want.height, want.binning, want.gain, want.offset)
    if kind is FrameKind.DARK:
        temp = None if want.sensor_temp_c is None else round(want.sensor_temp_c)
        return (*common, want.exposure_s, temp)
    angle = None if want.angle is None else (want.angle.of, round(want.angle.deg) % 360)
    return (*common, want.train, want.filter_code, want.night, angle)
