"""Finding the exposure of a flat at a fixed brightness, with the fewest test shots.

Model (domain: flats): ``level = p + R · (t + t0)``, clipped at white. `p`, the pedestal, comes from bias or
dark flats of the same settings, or from the fit once two shots at different times exist. From a shot that is
neither full nor lost in the noise, the answer follows by proportion above the pedestal; from any other, the
search steps by a large factor. Everything is a pure function of the shots taken so far, so a search that was
cut short goes on from its shots.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class Bound:
    """One end of the permitted exposures, in seconds, and why it is there."""

    exposure_s: float
    reason: str


@dataclass(frozen=True)
class ExposureWindow:
    """The exposures that are permitted, and the shortest that may be used to measure only."""

    shortest: Bound
    longest: Bound
    probe_s: float = 0.02


@dataclass(frozen=True)
class FlatTarget:
    """The level wanted, in ADU, counted as the median of the frame (brightest channel of a colour sensor)."""

    level_adu: float
    tolerance_adu: float
    white_adu: float = 65535.0
    brightest_limit_adu: float = 60000.0
    """The brightest 0.1 % of the pixels must stay under this: the linear limit."""


@dataclass(frozen=True)
class Pedestal:
    """The level of a capped frame at these settings, and how far it may be off."""

    adu: float
    uncertainty_adu: float
    known_from: str


@dataclass(frozen=True)
class TestShot:
    """One test shot, measured."""

    __test__ = False

    exposure_s: float
    level_adu: float
    brightest_adu: float
    saturated_fraction: float = 0.0
    noise_adu: float = 20.0


@dataclass(frozen=True)
class Shoot:
    """Take a test shot of this exposure, because."""

    exposure_s: float
    why: str
    probe: bool = False


@dataclass(frozen=True)
class Found:
    """The exposure to use, and the level it will give."""

    exposure_s: float
    expected_adu: float
    target_adu: float
    rate_adu_s: float
    pedestal_adu: float
    shots: int


@dataclass(frozen=True)
class NoAnswer:
    """Nothing within the window reaches the target. `stops` says by how much."""

    direction: Literal["too bright", "too dim", "unsteady"]
    stops: float
    at_least: bool
    bound: Bound
    message: str
    advice: str


Step = Shoot | Found | NoAnswer

#: More test shots than this mean that the light is not steady.
MOST_SHOTS = 8
#: Pedestal to start from where nothing is known of it.
GUESSED_PEDESTAL = Pedestal(500.0, 500.0, "a guess")


def dial(exposure_s: float, within: float = 0.015) -> float:
    """Round an exposure to the plainest number people would dial in, not further off than `within`."""
    if exposure_s <= 0:
        return exposure_s
    exponent = math.floor(math.log10(exposure_s))
    for digits in (0, 1, 2, 3):
        scale = 10.0 ** (exponent - digits)
        for multiple in (5.0, 2.0, 1.0):
            rounded = round(exposure_s / (scale * multiple)) * scale * multiple
            if rounded > 0 and abs(rounded / exposure_s - 1.0) <= within:
                return float(f"{rounded:.4g}")
    return float(f"{exposure_s:.4g}")


def _usable(shot: TestShot, pedestal: Pedestal, target: FlatTarget) -> bool:
    """Whether proportion may be drawn from a shot: not full, and clear of the pedestal's uncertainty."""
    signal = shot.level_adu - pedestal.adu
    full = shot.level_adu >= 0.97 * target.white_adu or shot.saturated_fraction > 0.2
    return not full and signal > max(3.0 * pedestal.uncertainty_adu, 0.5 * shot.noise_adu, 60.0)


def _line(
    shots: Sequence[TestShot], pedestal: Pedestal, target: FlatTarget
) -> tuple[float, float, bool] | None:
    """Rate (ADU/s), intercept (ADU), and whether that was fitted; None where no shot is usable."""
    usable = sorted((s for s in shots if _usable(s, pedestal, target)), key=lambda s: s.exposure_s)
    straight = [s for s in usable if s.brightest_adu <= target.brightest_limit_adu] or usable
    if not straight:
        return None
    top = straight[-1]
    others = [s for s in straight[:-1] if top.exposure_s / max(s.exposure_s, 1e-6) >= 1.3]
    if others and top.level_adu - others[0].level_adu > 0.1 * top.level_adu:
        rate = (top.level_adu - others[0].level_adu) / (top.exposure_s - others[0].exposure_s)
        intercept = top.level_adu - rate * top.exposure_s
        if rate > 0 and abs(intercept - pedestal.adu) <= max(
            4 * pedestal.uncertainty_adu, 0.1 * top.level_adu
        ):
            return rate, intercept, True
    return (top.level_adu - pedestal.adu) / top.exposure_s, pedestal.adu, False


def effective_target(target: FlatTarget, shots: Sequence[TestShot], pedestal: Pedestal) -> float:
    """The level to aim at: the one wished for, lowered where the brightest pixels would pass the limit."""
    level = target.level_adu
    for shot in shots:
        if _usable(shot, pedestal, target) and shot.brightest_adu < 0.97 * target.white_adu:
            contrast = (shot.brightest_adu - pedestal.adu) / (shot.level_adu - pedestal.adu)
            level = min(
                level, pedestal.adu + (target.brightest_limit_adu - pedestal.adu) / max(contrast, 1.0)
            )
    return level


def next_step(
    target: FlatTarget,
    window: ExposureWindow,
    shots: Sequence[TestShot] = (),
    pedestal: Pedestal | None = None,
    prior_exposure_s: float | None = None,
) -> Step:
    """Say what to do next: shoot, stop with the answer, or stop with what is in the way.

    Parameters
    ----------
    target, window
        What is wanted, and within which exposures.
    shots
        All test shots so far, in order, at one brightness of one source.
    pedestal
        Where bias or dark flats tell it; otherwise it is found on the way.
    prior_exposure_s
        The last setting for this filter, if there is one: one confirming shot should do.
    """
    known = pedestal or GUESSED_PEDESTAL
    if not shots:
        return _first(window, prior_exposure_s)
    if pedestal is None:
        known = _lowered(known, shots)
    line = _line(shots, known, target)
    if len(shots) >= MOST_SHOTS:
        return _unsteady(window, shots)
    if line is None:
        return _step_far(target, window, shots, known, _pedestal_range(pedestal, shots, target)[0])
    rate, intercept, fitted = line
    level = effective_target(target, shots, known)
    wanted = (level - intercept) / rate
    answer = _answer(target, level, window, shots, rate, intercept)
    if answer is not None:
        return answer
    low, high = window.shortest, window.longest
    brightest = level + target.tolerance_adu
    dimmest = level - target.tolerance_adu
    # Light that falls in the dead time t0 is light too: where the pedestal is known, the amount counts from it.
    floor = intercept if pedestal is None else pedestal.adu
    at_low = intercept + rate * low.exposure_s
    at_high = intercept + rate * high.exposure_s
    least, most = _pedestal_range(pedestal, shots, target)
    signal = max(s.level_adu for s in shots if _usable(s, known, target)) - most
    reliable = fitted or min(signal, level - most) > 12 * (most - least)
    if at_low > brightest:
        probe = _second_probe(target, window, shots, rate, intercept)
        if reliable:
            return _too_bright(low, at_low, level, floor, at_least=False)
        if probe is None:
            return _bright_bound(
                low, level, [s for s in shots if _usable(s, known, target)][-1], (least, most)
            )
        why = "too bright; how much is measured shorter than permitted, since the pedestal is not known"
        return Shoot(probe, why, probe=True)
    if at_high < dimmest and reliable:
        return _too_dim(high, at_high, level, floor, at_least=False)
    if at_high < dimmest and _tried(shots, high.exposure_s):
        # Measured at the bound, but the pedestal is too uncertain for an amount: all of the level may be light.
        return _too_dim(high, max(s.level_adu for s in shots), level, least, at_least=True)
    exposure = min(max(dial(wanted), low.exposure_s), high.exposure_s)
    if _tried(shots, exposure):
        exposure = min(max(float(f"{wanted:.4g}"), low.exposure_s), high.exposure_s)
        if _tried(shots, exposure):
            expected = intercept + rate * exposure
            if abs(expected - level) <= target.tolerance_adu:
                return Found(exposure, expected, level, rate, intercept, len(shots))
            return _unsteady(window, shots)
    last = shots[-1]
    return Shoot(
        exposure,
        f"{last.exposure_s:g} s gave {last.level_adu:,.0f} ADU; in proportion above the pedestal of "
        f"{intercept:,.0f} ADU, {exposure:g} s gives {intercept + rate * exposure:,.0f}",
    )


def _second_probe(
    target: FlatTarget, window: ExposureWindow, shots: Sequence[TestShot], rate: float, intercept: float
) -> float | None:
    """An exposure, apart from all tried, that gives the line its second point where the window is too bright."""
    below_full = (0.6 * target.white_adu - intercept) / rate
    for wanted in (0.4 * min(s.exposure_s for s in shots), below_full):
        probe = float(f"{wanted:.3g}")
        apart = all(max(probe / s.exposure_s, s.exposure_s / probe) >= 1.3 for s in shots)
        if window.probe_s <= probe <= window.shortest.exposure_s and apart:
            return probe
    return None


def _tried(shots: Sequence[TestShot], exposure_s: float) -> bool:
    """Whether a shot of this exposure was taken already."""
    return any(abs(s.exposure_s / exposure_s - 1.0) < 0.002 for s in shots)


def _lowered(guess: Pedestal, shots: Sequence[TestShot]) -> Pedestal:
    """No pedestal is higher than the darkest frame seen."""
    lowest = min(s.level_adu for s in shots)
    if lowest >= guess.adu + guess.uncertainty_adu:
        return guess
    half = max(lowest, 2.0) / 2.0
    return Pedestal(max(lowest - half, 0.0), half, guess.known_from)


def _pedestal_range(
    pedestal: Pedestal | None, shots: Sequence[TestShot], target: FlatTarget
) -> tuple[float, float]:
    """Between which levels the pedestal lies: what is known of it, else from zero to the darkest frame seen."""
    lowest = min(s.level_adu for s in shots)
    if pedestal is not None:
        least = pedestal.adu - pedestal.uncertainty_adu
        return max(min(least, lowest - 1.0), 0.0), min(pedestal.adu + pedestal.uncertainty_adu, lowest)
    return 0.0, min(lowest, 0.05 * target.white_adu)


def _first(window: ExposureWindow, prior_exposure_s: float | None) -> Shoot:
    low, high = window.shortest.exposure_s, window.longest.exposure_s
    if prior_exposure_s is not None:
        return Shoot(min(max(prior_exposure_s, low), high), "the last setting for this filter")
    middle = min(max(dial(math.sqrt(low * high), within=0.3), low), high)
    return Shoot(middle, "nothing is known yet: the middle of what is permitted")


def _step_far(
    target: FlatTarget,
    window: ExposureWindow,
    shots: Sequence[TestShot],
    pedestal: Pedestal,
    least_pedestal_adu: float,
) -> Step:
    """No shot can be used: all are full, or all lost in the noise, or some of each."""
    full = [
        s.exposure_s for s in shots if s.level_adu > pedestal.adu + 0.5 * (target.white_adu - pedestal.adu)
    ]
    dark = [s.exposure_s for s in shots if s.exposure_s not in full]
    low, high = window.shortest.exposure_s, window.longest.exposure_s
    if full and dark:
        between = math.sqrt(min(full) * max(dark))
        return Shoot(dial(between, 0.1), "between one that was full and one that was dark")
    if full:
        shortest = min(full)
        if shortest > low * 1.01:
            return Shoot(max(dial(shortest / 12.0, 0.2), low), f"{shortest:g} s was full: much shorter")
        if shortest > window.probe_s * 1.01:
            probe = max(dial(shortest / 12.0, 0.2), window.probe_s)
            return Shoot(
                probe, f"{shortest:g} s was full: shorter than permitted, only to measure", probe=True
            )
        return _too_bright(
            window.shortest,
            target.white_adu,
            target.level_adu,
            pedestal.adu,
            at_least=True,
            scale=low / shortest,
        )
    longest = max(dark)
    if longest < high * 0.99:
        return Shoot(
            min(dial(longest * 15.0, 0.2), high), f"{longest:g} s was hardly above the pedestal: much longer"
        )
    # The higher the pedestal, the less of the level is light: the lowest one gives the bound.
    level = max(s.level_adu for s in shots)
    return _too_dim(window.longest, level, target.level_adu, least_pedestal_adu, at_least=True)


def _answer(
    target: FlatTarget,
    level: float,
    window: ExposureWindow,
    shots: Sequence[TestShot],
    rate: float,
    intercept: float,
) -> Found | None:
    """The answer, once a shot inside the window came within half the tolerance of the target."""
    low, high = window.shortest.exposure_s, window.longest.exposure_s
    near = [
        s
        for s in shots
        if low * 0.999 <= s.exposure_s <= high * 1.001
        and abs(s.level_adu - level) <= target.tolerance_adu / 2
    ]
    if not near:
        return None
    best = min(near, key=lambda s: abs(s.level_adu - level))
    exposure = best.exposure_s
    if abs(best.level_adu - level) > 0.02 * level:
        exposure = min(max(dial((level - intercept) / rate), low), high)
    expected = best.level_adu + rate * (exposure - best.exposure_s)
    return Found(exposure, expected, level, rate, intercept, len(shots))


def _unsteady(window: ExposureWindow, shots: Sequence[TestShot]) -> NoAnswer:
    return NoAnswer(
        "unsteady",
        0.0,
        False,
        window.shortest,
        f"{len(shots)} test shots do not lie on one line: the light is not steady.",
        "Let the panel warm up, keep other light away, and try again.",
    )


def _bright_bound(
    bound: Bound, target_adu: float, shot: TestShot, pedestals_adu: tuple[float, float]
) -> NoAnswer:
    """Too bright by at least so much: the least that any possible pedestal makes of one shot."""

    def scaled(pedestal: float) -> float:
        return (shot.level_adu - pedestal) / max(target_adu - pedestal, 1.0)

    pedestal = min(pedestals_adu, key=scaled)
    return _too_bright(
        bound, shot.level_adu, target_adu, pedestal, at_least=True, scale=bound.exposure_s / shot.exposure_s
    )


def _too_bright(
    bound: Bound,
    level_at_bound: float,
    target_adu: float,
    pedestal_adu: float,
    at_least: bool,
    scale: float = 1.0,
) -> NoAnswer:
    factor = (level_at_bound - pedestal_adu) * scale / (target_adu - pedestal_adu)
    stops = math.log2(max(factor, 1.0))
    least = "at least " if at_least else ""
    return NoAnswer(
        "too bright",
        stops,
        at_least,
        bound,
        f"At {bound.exposure_s:g} s, the shortest permitted ({bound.reason}), the level is {least}{factor:.1f} "
        "times too high. Flats shot like this would be clipped or unusable.",
        f"Add {least}{stops:.1f} stops of diffuser, or dim the source.",
    )


def _too_dim(
    bound: Bound, level_at_bound: float, target_adu: float, pedestal_adu: float, at_least: bool
) -> NoAnswer:
    factor = (target_adu - pedestal_adu) / max(level_at_bound - pedestal_adu, 1e-9)
    stops = math.log2(max(factor, 1.0))
    least = "at least " if at_least else ""
    return NoAnswer(
        "too dim",
        stops,
        at_least,
        bound,
        f"At {bound.exposure_s:g} s, the longest permitted ({bound.reason}), the level is {least}{factor:.1f} "
        "times too low.",
        f"Take off {least}{stops:.1f} stops of diffuser, brighten the source, or permit longer exposures.",
    )
