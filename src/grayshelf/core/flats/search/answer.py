"""The setting that comes nearest, and whether the shots are sure of it."""

from __future__ import annotations

import math
from collections.abc import Sequence

from grayshelf.core.flats.model import FlatTarget, Found, Shoot, Step, TestShot
from grayshelf.core.flats.search.compare import at_least_as_bright, in_words, shot_in_words, taken_at
from grayshelf.core.flats.search.dial import BANDING_LIMIT, DIAL_WITHIN, dial
from grayshelf.core.flats.search.far import between_full_and_dark
from grayshelf.core.flats.search.light import LightModel, is_full, readable
from grayshelf.core.flats.search.span import span_of
from grayshelf.core.flats.search.task import AS_GOOD, Task
from grayshelf.core.flats.search.verdict import unsteady

#: A level is sure enough when its standard error is at most this share of the tolerance; of it, nothing is surer.
SURE_OF_TOLERANCE, SUREST = 0.1, 0.006
#: A last setting holds where its shot lies within this share of the tolerance.
CONFIRMED_WITHIN = 0.6


def nearest_permitted(
    task: Task, shots: Sequence[TestShot], light: LightModel, level: float
) -> tuple[float, int | None]:
    """The permitted setting, (seconds, brightness), that comes nearest to the level (ADU) by what is known."""
    low, high = task.window.shortest.exposure_s, task.window.longest.exposure_s
    if task.mode == "time" or task.dimmer is None:
        return _dialled(task, light, level, task.brightness), task.brightness
    if task.mode == "both":
        for shot in sorted(shots, key=lambda s: abs(math.log(s.exposure_s / task.preferred_s))):
            if shot.brightness is not None and readable(shot, task.pedestal, task.target):
                exposure = light.exposure_for(level, shot.brightness)
                apart = max(exposure / task.preferred_s, task.preferred_s / exposure)
                # After some shots any exposure that is permitted is good: it ends the search.
                if low <= exposure <= high and (apart <= AS_GOOD or len(shots) > 2):
                    return _dialled(task, light, level, shot.brightness), shot.brightness
    brightness = _brightness_within(task, shots, light, level)
    if task.mode == "brightness":
        return task.preferred_s, brightness
    return _dialled(task, light, level, brightness), brightness


def _brightness_within(task: Task, shots: Sequence[TestShot], light: LightModel, level: float) -> int:
    """The brightness that comes nearest; the middle of the span where the fit points out of what the shots allow."""
    assert task.dimmer is not None
    span = span_of(task, shots, level)
    first, last = span.within(task.dimmer)
    if first > last:
        return min(max(first, task.dimmer.lowest), task.dimmer.highest)
    exact = light.brightness_for(level, task.preferred_s)
    astray = (exact > last + 0.6 and span.above is not None) or (
        exact < first - 0.6 and span.below is not None
    )
    if astray and last > first:
        return (first + last) // 2
    return _nearest_brightness(light, level, task.preferred_s, (first, last))


def _dialled(task: Task, light: LightModel, level: float, brightness: int | None) -> float:
    low, high = task.window.shortest.exposure_s, task.window.longest.exposure_s
    exact = light.exposure_for(level, brightness)
    return min(max(dial(exact, DIAL_WITHIN, task.pulse), low), high)


def _nearest_brightness(light: LightModel, level: float, exposure_s: float, span: tuple[int, int]) -> int:
    """The whole number of brightness that comes nearest, within a span."""
    exact = light.brightness_for(level, exposure_s)
    around = {min(max(b, span[0]), span[1]) for b in (math.floor(exact), math.ceil(exact))}
    return min(around, key=lambda b: abs(light.level(exposure_s, b) - level))


def found_or_shoot(
    task: Task, shots: Sequence[TestShot], light: LightModel, level: float, setting: tuple[float, int | None]
) -> Step:
    """The answer, if the fit is sure of it to a tenth of the tolerance (ADU); else the shot that makes it so."""
    exposure, brightness = _seen_near(task, shots, level) or setting
    expected, error = light.level(exposure, brightness), light.error(exposure, brightness)
    seen = [s for s in shots if taken_at(exposure, brightness, s) and readable(s, task.pedestal, task.target)]
    if seen:
        expected, error = sum(s.level_adu for s in seen) / len(seen), min(error, SUREST * level)
    permitted = any(
        s.exposure_s >= task.window.shortest.exposure_s * 0.999 and readable(s, task.pedestal, task.target)
        for s in shots
    )
    sure = error <= _sure_enough(task.target, expected) and permitted
    sure = sure and _vouched_for(task, shots, light, level, setting)
    near = abs(expected - level) <= task.target.tolerance_adu
    if near and (sure or seen):
        banding = None if task.pulse is None else 100.0 * task.pulse.banding(exposure)
        return Found(
            exposure,
            expected,
            level,
            light.rate(brightness),
            light.pedestal_adu,
            len(shots),
            brightness,
            error,
            banding,
        )
    if seen:
        return _not_there(task, shots, light, level, setting)
    full = [s for s in shots if is_full(s, task.target.white_adu)]
    if any(at_least_as_bright(exposure, brightness, s) for s in full):
        # Where less light was full already, the fit is led astray by a pedestal that is not known.
        read = [s for s in shots if readable(s, task.pedestal, task.target)]
        best = max(read, key=lambda s: (s.brightness or 0, s.exposure_s, s.level_adu))
        return between_full_and_dark(task, full, [best])
    last = shots[-1]
    return Shoot(
        exposure,
        f"{shot_in_words(last)} gave {last.level_adu:,.0f} ADU; above the pedestal of "
        f"{light.pedestal_adu:,.0f} ADU, {in_words(exposure, brightness)} should give {expected:,.0f}",
        brightness=brightness,
    )


def _sure_enough(target: FlatTarget, level: float) -> float:
    """How large the standard error of a level may be, in ADU."""
    return min(max(SURE_OF_TOLERANCE * target.tolerance_adu, SUREST * level), target.tolerance_adu / 3.0)


def _seen_near(task: Task, shots: Sequence[TestShot], level: float) -> tuple[float, int | None] | None:
    """A setting, (seconds, brightness), that was seen to do: one beside it that might do a little better is not worth
    a shot, and the one that was taken is the first of the flats."""
    near = min(0.02 * level, task.target.tolerance_adu / 2.0)
    if task.prior is not None and len(shots) == 1:
        # What was known is confirmed by being in tolerance, with room for a light that drifts.
        near = CONFIRMED_WITHIN * task.target.tolerance_adu
    for shot in shots:
        if abs(shot.level_adu - level) <= near and _may_stay(task, shot):
            return shot.exposure_s, shot.brightness
    return None


def _may_stay(task: Task, shot: TestShot) -> bool:
    """Whether a shot was taken at a setting that the search may answer with."""
    if task.mode == "brightness":
        return taken_at(task.preferred_s, shot.brightness, shot)
    if task.mode == "both" or not readable(shot, task.pedestal, task.target):
        return False
    low, high = task.window.shortest.exposure_s, task.window.longest.exposure_s
    bands = task.pulse is not None and task.pulse.banding(shot.exposure_s) >= BANDING_LIMIT
    return shot.brightness == task.brightness and low <= shot.exposure_s <= high and not bands


def _vouched_for(
    task: Task, shots: Sequence[TestShot], light: LightModel, level: float, setting: tuple[float, int | None]
) -> bool:
    """Whether a brightness need not be seen: the panel was measured, or shots about it leave no room for a surprise.

    Time is straight, so any exposure follows from another at the same brightness; between two brightness values
    all that is sure of an unmeasured panel is that it is monotone.
    """
    exposure, brightness = setting
    if task.known_response is None or brightness is None or task.known_response.spread(brightness) < 0.03:
        return True
    below, above = False, False
    for shot in shots:
        if shot.brightness is None or not readable(shot, task.pedestal, task.target):
            continue
        there = light.pedestal_adu + (shot.level_adu - light.pedestal_adu) * exposure / shot.exposure_s
        near = abs(there - level) <= 0.2 * task.target.tolerance_adu
        below = below or (shot.brightness <= brightness and near)
        above = above or (shot.brightness >= brightness and near)
    return below and above


def _not_there(
    task: Task, shots: Sequence[TestShot], light: LightModel, level: float, setting: tuple[float, int | None]
) -> Step:
    """The setting that should do was shot and does not: the light is not steady."""
    brightness = setting[1]
    exact = float(f"{light.exposure_for(level, brightness):.4g}")
    low, high = task.window.shortest.exposure_s, task.window.longest.exposure_s
    again = task.mode != "brightness" and low <= exact <= high
    if again and not any(taken_at(exact, brightness, s) for s in shots):
        return Shoot(exact, "it came out otherwise than the line says: once more", brightness=brightness)
    return unsteady(task.window.shortest, shots)
