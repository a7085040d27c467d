"""How straight a sensor answers to light, how far, and whether what its pairs say can be trusted."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from grayshelf.core.sensor.findings import Finding
from grayshelf.core.sensor.pairs import EVEN_WITHIN, PairReading
from grayshelf.core.sensor.transfer_points import TransferPoint, Value, pairs_in_words

#: The line of linearity runs between these shares of saturation; 1 % off it ends the linear range (common practice).
LINE_FROM, LINE_TO, LINEAR_WITHIN = 0.05, 0.70, 0.01
#: Levels this near to the line of most are of one light.
ONE_LIGHT_WITHIN = 0.05
#: Fewer pairs than this within the slope's range are only a quick estimate.
FEWEST_LEVELS = 3
#: Residuals larger than this do not look like photon noise.
STRANGE_RESIDUAL = 0.03


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


def judge_linearity(
    lit: Sequence[PairReading], pedestal: float, saturation: float, reached: bool
) -> LineOfTime:
    """Rate, each pair's share off the line p + R·(t + t₀), and the highest level within 1 % of it.

    Only pairs of one light lie on one line: the light with most of them is used.
    """
    light = _light_of_most(lit, pedestal, saturation)
    if len({p.exposure_s for p in light.fitted}) < FEWEST_LEVELS:
        return LineOfTime(findings=(_no_line(light.several),) if len(lit) >= FEWEST_LEVELS else ())
    findings = (_of_another_brightness(light.others),) if light.others else ()
    times = np.array([p.exposure_s for p in light.fitted])
    levels = np.array([p.mean_adu for p in light.fitted])
    rate, at_zero = np.polyfit(times, levels, 1, w=1.0 / (levels - pedestal))
    off = {
        id(p): (p.mean_adu - (at_zero + rate * p.exposure_s)) / max(p.mean_adu - pedestal, 1.0)
        for p in light.pairs
    }
    line_from = pedestal + LINE_FROM * (saturation - pedestal)
    limit = _last_on_line([p for p in light.pairs if p.mean_adu >= line_from], off) if reached else None
    return LineOfTime(float(rate), off, limit, findings)


@dataclass(frozen=True)
class _OneLight:
    """Pairs of one light at one brightness."""

    pairs: Sequence[PairReading] = ()
    fitted: Sequence[PairReading] = ()
    """Of these, those through which the line is drawn."""
    others: int = 0
    """Pairs of the same source that lie on no line with them."""
    several: bool = False
    """Whether there was more than one light, or brightness."""


def _light_of_most(lit: Sequence[PairReading], pedestal: float, saturation: float) -> _OneLight:
    """The light with most pairs between which a line can be drawn."""
    by_source: dict[str, list[PairReading]] = {}
    for pair in lit:
        if pair.exposure_s > 0:
            by_source.setdefault(pair.source, []).append(pair)
    by_light = {s: of_one_light(pairs, pedestal, saturation) for s, pairs in by_source.items()}
    span = saturation - pedestal

    def within(pairs: Sequence[PairReading]) -> list[PairReading]:
        return [p for p in pairs if LINE_FROM * span <= p.mean_adu - pedestal <= LINE_TO * span]

    if not by_light:
        return _OneLight()
    name = max(sorted(by_light), key=lambda s: len(within(by_light[s])))
    best = by_light[name]
    several = len(by_source) > 1 or any(len(by_light[s]) < len(by_source[s]) for s in by_source)
    return _OneLight(best, within(best), len(by_source[name]) - len(best), several)


def _last_on_line(upper: Sequence[PairReading], off: Mapping[int, float]) -> Value | None:
    """The highest level within 1 % of the line; None where no pair leaves it, or all of them do.

    It lies between the last good level and the first bad one, where the two straight pieces cross the one percent.
    """
    ordered = sorted(upper, key=lambda p: p.exposure_s)
    first_bad = next((i for i, p in enumerate(ordered) if abs(off[id(p)]) > LINEAR_WITHIN), 0)
    if first_bad == 0:
        return None
    good, bad = ordered[first_bad - 1], ordered[first_bad]
    share = (LINEAR_WITHIN - abs(off[id(good)])) / max(abs(off[id(bad)]) - abs(off[id(good)]), 1e-9)
    limit = good.mean_adu + share * (bad.mean_adu - good.mean_adu)
    half = max(0.5 * (bad.mean_adu - good.mean_adu), EVEN_WITHIN * limit)
    return Value(float(limit), float(half))


def _of_another_brightness(count: int) -> Finding:
    return Finding(
        f"{pairs_in_words(count)} {'does' if count == 1 else 'do'} not lie on the line of the others: taken at another "
        "brightness, so left out of the linearity.",
        "",
    )


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


def full_well(
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


def judge_residuals(points: Sequence[TransferPoint], n_levels: int, findings: list[Finding]) -> None:
    """Say of points that lie off the line by more than their noise (shares of the level) what that means."""
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
