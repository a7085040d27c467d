"""The photon transfer of a camera at one gain: e⁻/ADU, read noise, saturation and linearity from pairs.

After EMVA Standard 1288 (R3.1, R4.0; from memory): σ²_y − σ²_dark = K·(μ_y − μ_dark), K the slope over 0–70 %
of saturation, saturation at the peak of the variance, quantisation adding step²/12. Ours differs in weighing each
pair by its own error, where the Standard weighs all alike, and in naming a full well only where the pixel fills
before the converter does.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from grayshelf.core.sensor.findings import Finding
from grayshelf.core.sensor.pairs import DRIFT_NOTED, DRIFT_REFUSED, EVEN_WITHIN, FULL_SHARE, PairReading

Z95 = 1.96
#: The slope is taken up to this share of saturation (EMVA 1288).
SLOPE_TO = 0.70
#: The line of linearity runs between these shares of saturation; 1 % off it ends the linear range (common practice).
LINE_FROM, LINE_TO, LINEAR_WITHIN = 0.05, 0.70, 0.01
#: Levels this near to the line of most are of one light.
ONE_LIGHT_WITHIN = 0.05
#: σ²_dark below this, in steps of the converter squared, is lost in the quantisation (EMVA 1288).
LOST_IN_STEPS = 0.24
#: Fewer pairs than this within the slope's range are only a quick estimate.
FEWEST_LEVELS = 3
#: Past saturation the variance falls below this share of its peak.
CUT_OFF = 0.6
#: Levels this much apart are two levels.
APART = 1.2
#: Residuals larger than this do not look like photon noise.
STRANGE_RESIDUAL = 0.03


@dataclass(frozen=True)
class Value:
    """A measured number and the half width of its 95 % interval."""

    value: float
    plus_minus: float

    @property
    def relative(self) -> float:
        """`plus_minus` as a share of the value."""
        return self.plus_minus / abs(self.value) if self.value else math.inf


@dataclass(frozen=True)
class TransferPoint:
    """One pair on the transfer curve."""

    pair: PairReading
    signal_adu: float
    photon_variance_adu2: float
    """Variance with the dark's taken off."""
    used: bool
    """In the slope."""
    residual: float | None
    """Of the variance from the fit, as a share."""
    off_line: float | None
    """Of the level from the line of time, as a share of the signal."""


@dataclass(frozen=True)
class Transfer:
    """What pairs of one channel at one gain say. ADU on the 16-bit scale; None: cannot be told from these frames."""

    points: tuple[TransferPoint, ...]
    pedestal_adu: float
    dark_variance_adu2: float | None
    sample_step: int
    white_adu: float
    e_per_adu: Value | None
    read_noise_e: Value | None
    """Rms over all pixels."""
    read_noise_lost: bool
    """The read noise is lost in the converter's steps: the value is an upper bound."""
    usual_read_noise_e: float | None
    """Of the usual pixel."""
    saturation_adu: float | None
    """The level at the peak of the variance."""
    capacity_e: Value | None
    """From the pedestal to there."""
    full_well_e: Value | None
    """Where the pixel fills before the converter does."""
    linear_limit_adu: Value | None
    rate_adu_s: float | None
    dynamic_range_stops: Value | None
    quick: bool
    """From too few levels for a slope."""
    findings: tuple[Finding, ...] = field(default=())

    @property
    def quantisation_adu2(self) -> float:
        """What the converter's steps add to each variance."""
        return self.sample_step**2 / 12.0

    @property
    def e_per_step(self) -> Value | None:
        """e⁻ for one native step of the converter."""
        if self.e_per_adu is None:
            return None
        return Value(self.e_per_adu.value * self.sample_step, self.e_per_adu.plus_minus * self.sample_step)


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
        findings.append(
            Finding(
                "There are no two bias frames of this gain and offset, so neither pedestal nor read noise is known.",
                "Take at least two bias frames at these settings.",
                True,
            )
        )
        return _nothing(ordered, sample_step, white_adu, findings)
    pedestal, dark_variance, dark_error = _bias_values(bias)
    kept = _without_unsteady(ordered, findings)
    if kept and kept[0].mean_adu < pedestal - 3 * math.sqrt(dark_variance):
        findings.append(
            Finding(
                f"The bias frames are brighter ({pedestal:,.0f} ADU) than the darkest flats ({kept[0].mean_adu:,.0f} "
                "ADU): light falls on them, or they are of another offset.",
                "Take the bias frames with the cap on, at the flats' offset.",
                True,
            )
        )
    lit = [p for p in kept if p.mean_adu - pedestal > 2.0 * math.sqrt(max(dark_variance, 1.0) / 100.0) + 1.0]
    clear = [p for p in lit if p.full_share < 0.001 and p.variance_adu2 > dark_variance]
    if not clear:
        _say_why_nothing(kept, lit, findings)
        return _nothing(ordered, sample_step, white_adu, findings, pedestal, dark_variance)
    peak = saturation_index([p.variance_adu2 for p in lit])
    # Scatter makes a peak of any few points; past saturation the noise is cut off for good.
    reached = lit[-1].full_share > FULL_SHARE or lit[-1].variance_adu2 < CUT_OFF * lit[peak].variance_adu2
    saturation = lit[peak].mean_adu
    limit = SLOPE_TO * ((saturation if reached else white_adu) - pedestal)
    used = [p for p in clear if p.mean_adu - pedestal <= limit]
    if not used:
        used = clear[:1]
    gain = _slope(used, pedestal, dark_variance, dark_error, findings)
    quick = _distinct([p.mean_adu - pedestal for p in used]) < FEWEST_LEVELS
    read_noise, lost = _read_noise(dark_variance, dark_error, sample_step, gain)
    capacity = None
    if reached:
        saturation, within = _saturation(lit, peak)
        signal = saturation - pedestal
        capacity = Value(signal * gain.value, math.hypot(signal * gain.plus_minus, within * gain.value))
    else:
        findings.append(
            Finding(
                f"The brightest flats ({lit[-1].mean_adu:,.0f} ADU) do not reach saturation, so its capacity and the "
                "linear limit are not measured.",
                "Add flats that are longer still, until the level rises no more.",
            )
        )
    line = _linearity(lit, pedestal, saturation if reached else white_adu, reached)
    rate, off, linear = line.rate_adu_s, line.off, line.limit
    findings += line.findings
    full_well = _full_well(lit, pedestal, gain, white_adu, sample_step) if reached else None
    points = tuple(
        TransferPoint(
            p,
            p.mean_adu - pedestal,
            p.variance_adu2 - dark_variance,
            p in used,
            (p.variance_adu2 - dark_variance) * gain.value / max(p.mean_adu - pedestal, 1e-9) - 1.0
            if p in used
            else None,
            off.get(id(p)),
        )
        for p in lit
    )
    _judge_residuals(points, _distinct([p.signal_adu for p in points if p.used]), findings)
    if lost:
        findings.append(
            Finding(
                f"The read noise is smaller than half a step of the converter ({sample_step} ADU) and is lost in its "
                "steps: what is shown is an upper bound.",
                "Use a higher gain to measure it.",
            )
        )
    stops = None
    if capacity is not None and read_noise is not None and read_noise.value > 0:
        stops = Value(
            math.log2(capacity.value / read_noise.value),
            math.hypot(capacity.relative, read_noise.relative) / math.log(2.0),
        )
    return Transfer(
        points,
        pedestal,
        dark_variance,
        sample_step,
        white_adu,
        gain,
        read_noise,
        lost,
        None if usual_noise_adu is None else usual_noise_adu * gain.value,
        saturation if reached else None,
        capacity,
        full_well,
        linear,
        rate,
        stops,
        quick,
        tuple(findings),
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
                f"{_pairs(len(refused))} left out: the two levels differ by up to {100 * worst:.1f} %, so the light was not "
                "steady.",
                "Let the panel warm up, and take the two frames of a pair one after the other.",
                True,
            )
        )
    if noted:
        worst = max(abs(p.drift) for p in noted)
        findings.append(
            Finding(
                f"In {_pairs(len(noted))} the light drifted by up to {100 * worst:.1f} %; the second frame was scaled to "
                "the first.",
                "",
            )
        )
    return [p for p in pairs if p not in refused]


def _pairs(count: int) -> str:
    return f"{count} pair{'s' if count != 1 else ''}"


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


def _slope(
    used: Sequence[PairReading],
    pedestal: float,
    dark_variance: float,
    dark_error: float,
    findings: list[Finding],
) -> Value:
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


@dataclass(frozen=True)
class LineOfTime:
    """The line of levels over exposures at one light, and where they leave it."""

    rate_adu_s: float | None = None
    off: Mapping[int, float] = field(default_factory=dict)
    """For each pair (by its id), the share by which it lies off the line."""
    limit: Value | None = None
    findings: tuple[Finding, ...] = ()


def of_one_light(pairs: Sequence[PairReading], pedestal: float, saturation: float) -> list[PairReading]:
    """The pairs of one source whose levels grow as one light's do: brightness is in no header, so the rate tells.

    Of all lines through two of the pairs, the one that most of the others lie near gathers them (Fischler & Bolles 1981,
    Commun. ACM 24, 381: consensus; from memory): those within `ONE_LIGHT_WITHIN` of it, and brighter ones that fall
    behind it, as full pixels do.
    """
    usable = [p for p in pairs if 0.02 <= (p.mean_adu - pedestal) / (saturation - pedestal) <= LINE_TO]
    if len({p.exposure_s for p in usable}) < 2:
        return list(pairs) if len({p.exposure_s for p in pairs}) < 2 else []
    times = np.array([p.exposure_s for p in usable])
    signals = np.array([p.mean_adu - pedestal for p in usable])
    first, second = np.triu_indices(times.size, 1)
    apart = times[first] != times[second]
    first, second = first[apart], second[apart]
    slopes = (signals[second] - signals[first]) / (times[second] - times[first])
    starts = signals[first] - slopes * times[first]
    expected = starts[:, None] + slopes[:, None] * times
    off = np.abs(signals - expected) / np.maximum(expected, 1.0)
    near = off <= ONE_LIGHT_WITHIN
    # Rising lines only; of those that gather as many, the one they lie nearest to.
    score = np.where(slopes > 0.0, near.sum(axis=1) - np.where(near, off, 0.0).mean(axis=1), -1.0)
    best = int(np.argmax(score))
    if score[best] <= 0.0:
        return []
    start, slope = float(starts[best]), float(slopes[best])

    def belongs(pair: PairReading) -> bool:
        expected = start + slope * pair.exposure_s
        signal = pair.mean_adu - pedestal
        if expected > LINE_TO * (saturation - pedestal):
            # Near the end it may fall behind, by no more than what is cut off.
            return signal <= expected * (1.0 + ONE_LIGHT_WITHIN) and signal >= 0.6 * min(
                expected, saturation - pedestal
            )
        return abs(signal - expected) <= ONE_LIGHT_WITHIN * max(expected, 1.0)

    return [p for p in pairs if belongs(p)]


def _linearity(lit: Sequence[PairReading], pedestal: float, saturation: float, reached: bool) -> LineOfTime:
    """Rate, each pair's share off the line p + R·(t + t₀), and the highest level within 1 % of it.

    Only pairs of one light lie on one line: the light with most of them is used.
    """
    sources = {p.source for p in lit if p.exposure_s > 0}
    by_source = {s: [p for p in lit if p.source == s and p.exposure_s > 0] for s in sources}
    by_light = {s: of_one_light(pairs, pedestal, saturation) for s, pairs in by_source.items()}

    def within(pairs: Sequence[PairReading]) -> list[PairReading]:
        return [
            p
            for p in pairs
            if LINE_FROM * (saturation - pedestal)
            <= p.mean_adu - pedestal
            <= LINE_TO * (saturation - pedestal)
        ]

    name = max(sorted(by_light), key=lambda s: len(within(by_light[s])), default=None)
    best = [] if name is None else by_light[name]
    fitted = within(best)
    if len({p.exposure_s for p in fitted}) < FEWEST_LEVELS:
        several = len(sources) > 1 or any(len(by_light[s]) < len(by_source[s]) for s in sources)
        return LineOfTime(findings=(_no_line(several),) if len(lit) >= FEWEST_LEVELS else ())
    findings: tuple[Finding, ...] = ()
    others = len(by_source[name or ""]) - len(best)
    if others:
        findings = (
            Finding(
                f"{_pairs(others)} {'does' if others == 1 else 'do'} not lie on the line of the others: taken at another "
                "brightness, so left out of the linearity.",
                "",
            ),
        )
    times = np.array([p.exposure_s for p in fitted])
    levels = np.array([p.mean_adu for p in fitted])
    rate, at_zero = np.polyfit(times, levels, 1, w=1.0 / (levels - pedestal))
    off = {
        id(p): (p.mean_adu - (at_zero + rate * p.exposure_s)) / max(p.mean_adu - pedestal, 1.0) for p in best
    }
    ordered = sorted(best, key=lambda p: p.exposure_s)
    upper = [p for p in ordered if p.mean_adu - pedestal >= LINE_FROM * (saturation - pedestal)]
    first_bad = next((i for i, p in enumerate(upper) if abs(off[id(p)]) > LINEAR_WITHIN), None)
    if first_bad is None or first_bad == 0 or not reached:
        return LineOfTime(float(rate), off, None, findings)
    good, bad = upper[first_bad - 1], upper[first_bad]
    # Between the last good and the first bad level, where the two straight pieces cross the one percent.
    share = (LINEAR_WITHIN - abs(off[id(good)])) / max(abs(off[id(bad)]) - abs(off[id(good)]), 1e-9)
    limit = good.mean_adu + share * (bad.mean_adu - good.mean_adu)
    half = max(0.5 * (bad.mean_adu - good.mean_adu), EVEN_WITHIN * limit)
    return LineOfTime(float(rate), off, Value(float(limit), float(half)), findings)


def _no_line(several: bool) -> Finding:
    why = (
        "the flats are of several lights or brightnesses"
        if several
        else "there are too few exposures of one light between 5 and 70 % of saturation"
    )
    return Finding(
        f"No line of time can be drawn, since {why}: the linear limit is not measured.",
        "Take pairs at three exposures or more with the panel left as it is.",
    )


def _full_well(
    lit: Sequence[PairReading], pedestal: float, gain: Value, white_adu: float, step: int
) -> Value | None:
    """Electrons at which the pixel is full, where that happens before the converter is at its end."""
    brightest = lit[-1]
    if brightest.full_share > 0.01 or brightest.mean_adu > white_adu - max(3.0 * step, 0.002 * white_adu):
        return None
    steady = [p for p in lit if p.mean_adu > 0.995 * brightest.mean_adu]
    if len(steady) < 2 and brightest.variance_adu2 > 0.5 * max(p.variance_adu2 for p in lit):
        return None
    level = brightest.mean_adu - pedestal
    return Value(level * gain.value, level * gain.value * math.hypot(gain.relative, 0.002))


def _judge_residuals(points: Sequence[TransferPoint], n_levels: int, findings: list[Finding]) -> None:
    used = [p for p in points if p.residual is not None]
    if n_levels < FEWEST_LEVELS:
        findings.append(
            Finding(
                f"Only {n_levels} level{'s' if n_levels != 1 else ''} below 70 % of saturation: this is a quick "
                "estimate, not a slope.",
                "Add pairs at more levels for linearity, saturation and a check of the slope.",
            )
        )
        return
    strange = [
        p
        for p in used
        if p.residual is not None
        and abs(p.residual) > STRANGE_RESIDUAL
        and abs(p.residual) * p.photon_variance_adu2 > 6.0 * p.pair.variance_error_adu2
    ]
    if len(strange) >= 2 or any(abs(p.residual or 0.0) > 3 * STRANGE_RESIDUAL for p in strange):
        worst = max(strange, key=lambda p: abs(p.residual or 0.0))
        findings.append(
            Finding(
                f"The noise does not grow with the light as photon noise does: at {worst.pair.mean_adu:,.0f} ADU it is "
                f"{abs(100 * (worst.residual or 0.0)):.0f} % {'above' if (worst.residual or 0) > 0 else 'below'} "
                "the line. Flicker of the panel, processed frames or mixed settings do that.",
                "Use unprocessed frames of one gain, and exposures of a second or more.",
                True,
            )
        )


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
        points,
        pedestal,
        dark_variance,
        step,
        white,
        None,
        None,
        False,
        None,
        None,
        None,
        None,
        None,
        None,
        None,
        False,
        tuple(findings),
    )


def speaking_channel(found: Mapping[str, Transfer]) -> str | None:
    """The channel that speaks for a gain: the green one of a colour sensor, which has the most light.

    All channels share one converter, so they differ by no more than their noise.
    """
    return "G" if "G" in found else next(iter(found), None)
