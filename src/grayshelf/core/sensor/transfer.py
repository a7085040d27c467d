"""The photon transfer of a camera at one gain: e⁻/ADU, read noise, saturation and linearity from pairs.

After EMVA Standard 1288 (R3.1, R4.0; from memory): σ²_y − σ²_dark = K·(μ_y − μ_dark), K the slope over 0–70 %
of saturation, saturation at the peak of the variance, quantisation adding step²/12. Ours differs in weighing each
pair by its own error, where the Standard weighs all alike, and in naming a full well only where the pixel fills
before the converter does.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from grayshelf.core.sensor.findings import Finding
from grayshelf.core.sensor.linearity import FEWEST_LEVELS, full_well, judge_linearity, judge_residuals
from grayshelf.core.sensor.pairs import DRIFT_NOTED, DRIFT_REFUSED, FULL_SHARE, PairReading
from grayshelf.core.sensor.transfer_points import Transfer, TransferPoint, Value, pairs_in_words

Z95 = 1.96
#: The slope is taken up to this share of saturation (EMVA 1288).
SLOPE_TO = 0.70
#: σ²_dark below this, in steps of the converter squared, is lost in the quantisation (EMVA 1288).
LOST_IN_STEPS = 0.24
#: Past saturation the variance falls below this share of its peak.
CUT_OFF = 0.6
#: Levels this much apart are two levels.
APART = 1.2


def _bias_values(bias: Sequence[PairReading]) -> tuple[float, float, float]:
    """Level, variance and its standard error, from all bias pairs."""
    level = float(np.mean([b.mean_adu for b in bias]))
    variance = float(np.mean([b.variance_adu2 for b in bias]))
    error = math.sqrt(sum(b.variance_error_adu2**2 for b in bias)) / len(bias)
    return level, variance, error


def saturation_index(variances: Sequence[float]) -> int:
    """Index of the variance's peak (ADU²), coming down from the brightest level; small bumps are passed over (EMVA Standard
    1288: saturation is where the variance has its maximum; from memory).
    """
    best, at = 0.0, len(variances) - 1
    for i in range(len(variances) - 1, -1, -1):
        if variances[i] >= best:
            best, at = variances[i], i
        elif variances[i] < 0.8 * best and variances[max(i - 1, 0)] < 0.8 * best:
            break
    return at


def read_transfer(
    pairs: Sequence[PairReading],
    bias: Sequence[PairReading],
    *,
    white_adu: float = 65535.0,
    sample_step: int = 1,
    usual_noise_adu: float | None = None,
) -> Transfer:
    """Read the pairs of one channel at one gain.

    Parameters
    ----------
    pairs
        Pairs of equal flats, any order.
    bias
        Pairs of bias frames of the same gain and offset; without any, nothing but levels can be told.
    usual_noise_adu
        Read noise of the usual pixel, where it was measured.
    """
    findings: list[Finding] = []
    ordered = sorted(pairs, key=lambda p: p.mean_adu)
    if not bias:
        findings.append(NO_BIAS)
        return _nothing(ordered, sample_step, white_adu, findings)
    dark = _bias_values(bias)
    pedestal, dark_variance, _ = dark
    kept = _without_unsteady(ordered, findings)
    findings += _bright_bias(kept, pedestal, dark_variance)
    lit = [p for p in kept if p.mean_adu - pedestal > 2.0 * math.sqrt(max(dark_variance, 1.0) / 100.0) + 1.0]
    clear = [p for p in lit if p.full_share < 0.001 and p.variance_adu2 > dark_variance]
    if not clear:
        _say_why_nothing(kept, lit, findings)
        return _nothing(ordered, sample_step, white_adu, findings, pedestal, dark_variance)
    frames = _Frames(lit, clear, pedestal, dark_variance, dark[2], sample_step, white_adu, usual_noise_adu)
    return _read_lit(frames, findings)


class _Frames(NamedTuple):
    """What a transfer is read from, once there is light and darkness."""

    lit: Sequence[PairReading]
    clear: Sequence[PairReading]
    """Of these, those below saturation with more noise than the dark."""
    pedestal: float
    dark_variance: float
    dark_error: float
    sample_step: int
    white_adu: float
    usual_noise_adu: float | None


def _read_lit(of: _Frames, findings: list[Finding]) -> Transfer:
    """The transfer of pairs that light fell on."""
    lit, pedestal = of.lit, of.pedestal
    peak = saturation_index([p.variance_adu2 for p in lit])
    # Scatter makes a peak of any few points; past saturation the noise is cut off for good.
    reached = lit[-1].full_share > FULL_SHARE or lit[-1].variance_adu2 < CUT_OFF * lit[peak].variance_adu2
    top = lit[peak].mean_adu if reached else of.white_adu
    used = [p for p in of.clear if p.mean_adu - pedestal <= SLOPE_TO * (top - pedestal)] or of.clear[:1]
    gain = _slope(used, pedestal, of.dark_variance, of.dark_error)
    read_noise, lost = _read_noise(of.dark_variance, of.dark_error, of.sample_step, gain)
    saturation, within = _saturation(lit, peak) if reached else (None, 0.0)
    capacity = None if saturation is None else _capacity(saturation - pedestal, within, gain)
    if saturation is None:
        findings.append(_not_reached(lit[-1].mean_adu))
    line = judge_linearity(lit, pedestal, of.white_adu if saturation is None else saturation, reached)
    findings += line.findings
    points = _points(lit, used, pedestal, of.dark_variance, gain, line.off)
    judge_residuals(points, _distinct([p.signal_adu for p in points if p.used]), findings)
    if lost:
        findings.append(_lost_in_steps(of.sample_step))
    return Transfer(
        points=points,
        pedestal_adu=pedestal,
        dark_variance_adu2=of.dark_variance,
        sample_step=of.sample_step,
        white_adu=of.white_adu,
        e_per_adu=gain,
        read_noise_e=read_noise,
        read_noise_lost=lost,
        usual_read_noise_e=None if of.usual_noise_adu is None else of.usual_noise_adu * gain.value,
        saturation_adu=saturation,
        capacity_e=capacity,
        full_well_e=full_well(lit, pedestal, gain, of.white_adu, of.sample_step) if reached else None,
        linear_limit_adu=line.limit,
        rate_adu_s=line.rate_adu_s,
        dynamic_range_stops=_stops_between(read_noise, capacity),
        quick=_distinct([p.mean_adu - pedestal for p in used]) < FEWEST_LEVELS,
        findings=tuple(findings),
    )


def _capacity(signal_adu: float, within_adu: float, gain: Value) -> Value:
    """Electrons of a full pixel, with what the gain and the ladder leave open."""
    return Value(signal_adu * gain.value, math.hypot(signal_adu * gain.plus_minus, within_adu * gain.value))


def _stops_between(noise: Value | None, capacity: Value | None) -> Value | None:
    """Dynamic range in stops: log2(capacity / read noise)."""
    if capacity is None or noise is None or noise.value <= 0:
        return None
    relative = math.hypot(capacity.relative, noise.relative)
    return Value(math.log2(capacity.value / noise.value), relative / math.log(2.0))


def _points(
    lit: Sequence[PairReading],
    used: Sequence[PairReading],
    pedestal: float,
    dark_variance: float,
    gain: Value,
    off: Mapping[int, float],
) -> tuple[TransferPoint, ...]:
    """The pairs as points of the curve; those of the slope with how far their photon noise lies off it."""

    def point(p: PairReading) -> TransferPoint:
        signal, photons, of_slope = p.mean_adu - pedestal, p.variance_adu2 - dark_variance, p in used
        residual = photons * gain.value / max(signal, 1e-9) - 1.0 if of_slope else None
        return TransferPoint(p, signal, photons, of_slope, residual, off.get(id(p)))

    return tuple(point(p) for p in lit)


#: Without bias frames nothing but levels is known.
NO_BIAS = Finding(
    "There are no two bias frames of this gain and offset, so neither pedestal nor read noise is known.",
    "Take at least two bias frames at these settings.",
    True,
)


def _bright_bias(pairs: Sequence[PairReading], pedestal: float, dark_variance: float) -> list[Finding]:
    """That light fell on the bias frames, or they are others' than the flats'."""
    if not pairs or pairs[0].mean_adu >= pedestal - 3 * math.sqrt(dark_variance):
        return []
    return [
        Finding(
            f"The bias frames are brighter ({pedestal:,.0f} ADU) than the darkest flats "
            f"({pairs[0].mean_adu:,.0f} ADU): light falls on them, or they are of another offset.",
            "Take the bias frames with the cap on, at the flats' offset.",
            True,
        )
    ]


def _not_reached(brightest: float) -> Finding:
    return Finding(
        f"The brightest flats ({brightest:,.0f} ADU) do not reach saturation, so its capacity and the "
        "linear limit are not measured.",
        "Add flats that are longer still, until the level rises no more.",
    )


def _lost_in_steps(sample_step: int) -> Finding:
    return Finding(
        f"The read noise is smaller than half a step of the converter ({sample_step} ADU) and is lost in its "
        "steps: what is shown is an upper bound.",
        "Use a higher gain to measure it.",
    )


def _saturation(lit: Sequence[PairReading], peak: int) -> tuple[float, float]:
    """Level of saturation, and half of what it may be off by: it lies between the level of the variance's peak and the
    next brighter one, at which the noise is cut off already. The ladder says no more than its steps allow.
    """
    below = lit[peak].mean_adu
    above = next((p.mean_adu for p in lit[peak + 1 :] if p.mean_adu > below), below)
    # The peak itself scatters, and a flat of full pixels stands for all levels about it.
    half = 0.5 * (above - below) * 1.3 + 0.002 * above
    return 0.5 * (below + above), half


def _distinct(signals: Sequence[float]) -> int:
    """How many truly different levels there are: flats of several filters all lie near one target."""
    count, last = 0, 0.0
    for signal in sorted(signals):
        if signal > last * APART:
            count, last = count + 1, signal
    return count


def _without_unsteady(pairs: Sequence[PairReading], findings: list[Finding]) -> list[PairReading]:
    """Leave out pairs whose two levels differ too much, and say so; say so too of those that were scaled."""
    refused = [p for p in pairs if abs(p.drift) > DRIFT_REFUSED and p.full_share < FULL_SHARE]
    noted = [p for p in pairs if DRIFT_NOTED < abs(p.drift) <= DRIFT_REFUSED and p.full_share < FULL_SHARE]
    if refused:
        worst = max(abs(p.drift) for p in refused)
        findings.append(
            Finding(
                f"{pairs_in_words(len(refused))} left out: the two levels differ by up to {100 * worst:.1f} %, so the light was not "
                "steady.",
                "Let the panel warm up, and take the two frames of a pair one after the other.",
                True,
            )
        )
    if noted:
        worst = max(abs(p.drift) for p in noted)
        findings.append(
            Finding(
                f"In {pairs_in_words(len(noted))} the light drifted by up to {100 * worst:.1f} %; the second frame was scaled to "
                "the first.",
                "",
            )
        )
    return [p for p in pairs if p not in refused]


def _say_why_nothing(
    kept: Sequence[PairReading], lit: Sequence[PairReading], findings: list[Finding]
) -> None:
    if not kept:
        findings.append(Finding("There is no pair of flats to measure.", "Add pairs of equal flats.", True))
    elif not lit:
        findings.append(
            Finding(
                "All flats are as dark as the bias frames: no light reached the sensor.",
                "Turn the panel on, or expose longer.",
                True,
            )
        )
    else:
        findings.append(
            Finding(
                "All flats are full: their noise is cut off, so it says nothing of the gain.",
                "Add shorter ones.",
                True,
            )
        )


def _slope(used: Sequence[PairReading], pedestal: float, dark_variance: float, dark_error: float) -> Value:
    """e⁻/ADU with its 95 % half width: 1/K, K the weighted slope of photon variance over signal."""
    signal = np.array([p.mean_adu - pedestal for p in used])
    variance = np.array([p.variance_adu2 - dark_variance for p in used])
    error = np.array([max(p.variance_error_adu2, 1e-9) for p in used])
    weights = 1.0 / error**2
    bottom = float((weights * signal**2).sum())
    slope = float((weights * signal * variance).sum()) / bottom
    # The dark's variance is common to all of them; a pedestal's error matters for the faintest only.
    common = float((weights * signal).sum()) / bottom * dark_error
    chi_square = float((weights * (variance - slope * signal) ** 2).sum())
    freedom = len(used) - 1
    scatter = max(1.0, chi_square / freedom) if freedom > 0 else 1.0
    sigma = math.sqrt(scatter / bottom + common**2)
    # With few levels the scatter itself is uncertain.
    return Value(1.0 / slope, Z95 * sigma / slope**2)


def _read_noise(dark_variance: float, dark_error: float, step: int, gain: Value) -> tuple[Value | None, bool]:
    """Read noise in e⁻ (rms over the pixels) with the converter's steps taken off, and whether it is lost in them."""
    lost = dark_variance < LOST_IN_STEPS * step**2
    net = max(dark_variance, LOST_IN_STEPS * step**2) - step**2 / 12.0
    noise = math.sqrt(net)
    relative = math.hypot(Z95 * dark_error / (2.0 * net), gain.relative)
    return Value(noise * gain.value, noise * gain.value * relative), lost


def _nothing(
    pairs: Sequence[PairReading],
    step: int,
    white: float,
    findings: Sequence[Finding],
    pedestal: float = 0.0,
    dark_variance: float | None = None,
) -> Transfer:
    points = tuple(TransferPoint(p, p.mean_adu - pedestal, p.variance_adu2, False, None, None) for p in pairs)
    return Transfer(
        points=points,
        pedestal_adu=pedestal,
        dark_variance_adu2=dark_variance,
        sample_step=step,
        white_adu=white,
        e_per_adu=None,
        read_noise_e=None,
        read_noise_lost=False,
        usual_read_noise_e=None,
        saturation_adu=None,
        capacity_e=None,
        full_well_e=None,
        linear_limit_adu=None,
        rate_adu_s=None,
        dynamic_range_stops=None,
        quick=False,
        findings=tuple(findings),
    )


def speaking_channel(found: Mapping[str, Transfer]) -> str | None:
    """The channel that speaks for a gain: the green one of a colour sensor, which has the most light.

    All channels share one converter, so they differ by no more than their noise.
    """
    return "G" if "G" in found else next(iter(found), None)
