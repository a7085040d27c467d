"""Whether the target is out of reach of all that is permitted, and by how much."""

from __future__ import annotations

import math
from collections.abc import Sequence

from grayshelf.core.flats.model import NoAnswer, Shoot, Step, TestShot
from grayshelf.core.flats.search.compare import least_scale, taken_at
from grayshelf.core.flats.search.dial import dial
from grayshelf.core.flats.search.light import LightModel, is_full, readable
from grayshelf.core.flats.search.span import span_of
from grayshelf.core.flats.search.task import Task
from grayshelf.core.flats.search.verdict import level_range, too_bright, too_dim

#: An amount of stops is measured when its standard error is at most this (natural log): 0.1 stop is 0.07.
SURE_AMOUNT = 0.03
#: Where no further shot can better it, this will do: 0.1 stop is 0.07.
SURE_ENOUGH_AMOUNT = 0.07


def out_of_reach(task: Task, shots: Sequence[TestShot], light: LightModel, level: float) -> Step | None:
    """Whether even the ends of what is permitted miss the level (ADU): the shot that measures by how much, or the answer no.

    None where the level is in reach.
    """
    # What was seen at an end counts before the fit: a panel's steps may lie on no curve.
    tolerance, span = task.target.tolerance_adu, span_of(task, shots, level)
    if _level_at(task, shots, light, task.bright_end) > level + tolerance and span.below is None:
        return _all_too_bright(task, shots, light, level)
    if _level_at(task, shots, light, task.dim_end) < level - tolerance and span.above is None:
        return _all_too_dim(task, shots, light, level)
    return None


def _enough(task: Task) -> float:
    """How unsure an amount may be that no further shot can better; an unknown pedestal is a bias, not chance."""
    return SURE_ENOUGH_AMOUNT if task.pedestal is not None else SURE_AMOUNT


def _all_too_bright(task: Task, shots: Sequence[TestShot], light: LightModel, level: float) -> Step:
    end_s, end_b = task.bright_end
    base = light.pedestal_adu if task.pedestal is None else task.pedestal.adu
    error = _amount_error(task, shots, light, level, task.bright_end)
    seen = any(taken_at(end_s, end_b, s) for s in shots)
    if error > SURE_AMOUNT and not seen and light.level(end_s, end_b) < 0.75 * task.target.white_adu:
        return Shoot(end_s, "too bright by what is known: measured where it is dimmest", brightness=end_b)
    if error > SURE_AMOUNT:
        probe = _probe(task, shots, light, end_s, end_b)
        if probe is not None:
            return probe
    if error <= _enough(task):
        at_end = _level_at(task, shots, light, task.bright_end)
        return too_bright(task.bound(False), end_b, at_end, level, base, at_least=False)
    there = [s for s in shots if s.brightness == end_b]
    read = [s for s in there if readable(s, task.pedestal, task.target)]
    if read:
        shot, spread = read[-1], level_range(task.pedestal, shots, task.target.white_adu)
        base = min(spread, key=lambda p: (shot.level_adu - p) / max(level - p, 1.0))
        scale = least_scale(end_s, shot.exposure_s)
        return too_bright(task.bound(False), end_b, shot.level_adu, level, base, True, scale)
    dark = [s for s in there if not is_full(s, task.target.white_adu)]
    if dark:
        longest = max(s.exposure_s for s in dark)
        exposure = min(dial(8.0 * longest, 0.05), end_s)
        below = exposure < task.window.shortest.exposure_s * 0.999
        return Shoot(exposure, "it was too dark there to be read: longer", below, end_b)
    scale = least_scale(end_s, min(s.exposure_s for s in there))
    return too_bright(task.bound(False), end_b, task.target.white_adu, level, base, True, scale)


def _all_too_dim(task: Task, shots: Sequence[TestShot], light: LightModel, level: float) -> Step:
    end_s, end_b = task.dim_end
    base = light.pedestal_adu if task.pedestal is None else task.pedestal.adu
    error = _amount_error(task, shots, light, level, task.dim_end)
    seen = [s for s in shots if taken_at(end_s, end_b, s)]
    if error <= SURE_AMOUNT or (seen and error <= _enough(task)):
        at_end = _level_at(task, shots, light, task.dim_end)
        return too_dim(task.bound(True), end_b, at_end, level, base, at_least=False)
    if not seen:
        return Shoot(end_s, "too dim by what is known: measured where it is brightest", brightness=end_b)
    least = level_range(task.pedestal, shots, task.target.white_adu)[0]
    brightest = max(s.level_adu for s in seen)
    return too_dim(task.bound(True), end_b, brightest, level, least, at_least=True)


def is_denied(task: Task, shots: Sequence[TestShot], no: NoAnswer, level: float) -> bool:
    """Whether a shot within what is permitted came out on the other side of the target (ADU) than the no says."""
    slack = task.target.tolerance_adu
    if no.direction == "too dim":
        return any(s.level_adu > level + slack for s in shots if s.exposure_s <= task.dim_end[0] * 1.001)
    return any(s.level_adu < level - slack for s in shots if s.exposure_s >= task.bright_end[0] * 0.999)


def _level_at(
    task: Task, shots: Sequence[TestShot], light: LightModel, end: tuple[float, int | None]
) -> float:
    """The level at an end of what is permitted: as it was seen there, else as the fit has it."""
    seen = [s.level_adu for s in shots if taken_at(*end, s) and readable(s, task.pedestal, task.target)]
    return sum(seen) / len(seen) if seen else light.level(*end)


def _amount_error(
    task: Task, shots: Sequence[TestShot], light: LightModel, level: float, end: tuple[float, int | None]
) -> float:
    """How sure the amount is by which an end of what is permitted is off: standard error of its natural log."""
    end_s, end_b = end
    read = [s for s in shots if s.brightness == end_b and readable(s, task.pedestal, task.target)]
    if any(taken_at(end_s, end_b, s) for s in read) and task.pedestal is not None:
        # Seen there: only the pedestal is between the levels and their ratio.
        sure = task.pedestal.uncertainty_adu
        return sure / max(light.level(end_s, end_b) - task.pedestal.adu, 1.0) + sure / max(level, 1.0)
    response = task.known_response
    if response is not None and not read and response.spread(end_b or 0) > 0.03:
        return math.inf
    return light.ratio_error(end_s, end_b, level)


def contradict(task: Task, shots: Sequence[TestShot]) -> bool:
    """Whether a longer exposure at the same brightness came out darker than a shorter one by more than the tolerance, or 2 % of
    white (ADU).
    """
    if len(shots) < 3:
        return False
    slack = max(task.target.tolerance_adu, 0.02 * task.target.white_adu)
    return any(
        a.brightness == b.brightness and a.exposure_s >= b.exposure_s and a.level_adu < b.level_adu - slack
        for a in shots
        for b in shots
    )


def _probe(
    task: Task, shots: Sequence[TestShot], light: LightModel, end_s: float, end_b: int | None
) -> Shoot | None:
    """A shot at the dimmest brightness, apart from all there, from which the amount can be read."""
    at_half = light.exposure_for(0.5 * task.target.white_adu, end_b)
    there = [s.exposure_s for s in shots if s.brightness == end_b]
    for wanted in (at_half, 0.4 * min(there, default=at_half), 0.15 * at_half, 0.03 * at_half):
        probe = float(f"{min(max(wanted, task.window.probe_s), end_s):.3g}")
        if all(max(probe / t, t / probe) >= 1.3 for t in there):
            below = probe < task.window.shortest.exposure_s * 0.999
            why = "too bright; how much is measured" + (" shorter than permitted" if below else " here")
            return Shoot(probe, why, below, end_b)
    return None
