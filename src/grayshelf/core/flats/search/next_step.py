"""Finding exposure and brightness of a flat with the fewest test shots.

Everything is a pure function of the shots taken so far, so a search that was cut short goes on from its shots. From a
shot that can be read, the answer follows by proportion above the pedestal; from one that is full or lost in the noise
the search steps by a large factor; all shots are fitted together (`light`). It ends as soon as the fit is sure of the
level that a permitted setting gives, or of how far off the nearest permitted one is.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from grayshelf.core.flats.model import Found, NoAnswer, Shoot, Step, TestShot
from grayshelf.core.flats.search.answer import found_or_shoot, nearest_permitted
from grayshelf.core.flats.search.dial import dial_between
from grayshelf.core.flats.search.far import first_shot, step_far
from grayshelf.core.flats.search.light import LightModel, fit_light, readable
from grayshelf.core.flats.search.reach import contradict, is_denied, out_of_reach
from grayshelf.core.flats.search.span import Span, span_of
from grayshelf.core.flats.search.task import Task, effective_target
from grayshelf.core.flats.search.verdict import stays, too_coarse, unsteady

#: More test shots than this mean that the light is not steady.
MOST_SHOTS = 24
#: After so many, the panel is like none that is known: its brightness is halved in.
HALVE_AFTER = 6


def next_step(task: Task, shots: Sequence[TestShot] = ()) -> Step:
    """Say what to do next: shoot, stop with the answer, or stop with what is in the way.

    Parameters
    ----------
    shots
        All test shots so far, in order, through one filter at one gain, offset and binning.
    """
    if not shots:
        return first_shot(task)
    step = _step_from(task, shots)
    if isinstance(step, NoAnswer) and task.mode == "time" and step.brightness is not None:
        return stays(step, task.bound(step.direction == "too dim"))
    return step


def _step_from(task: Task, shots: Sequence[TestShot]) -> Step:
    if len(shots) >= MOST_SHOTS or contradict(task, shots):
        return unsteady(task.window.shortest, shots)
    if task.known_response is not None and len(shots) >= HALVE_AFTER:
        return _halved(task, shots)
    if not any(readable(s, task.pedestal, task.target) for s in shots):
        return step_far(task, shots)
    level = effective_target(task.target, shots, task.pedestal)
    light, setting = _fitted(task, shots, level)
    span = span_of(task, shots, level)
    if span.below is not None and span.above is not None and span.below + 1 == span.above:
        return _beside(task, span, level)
    out = out_of_reach(task, shots, light, level)
    if out is not None:
        if not isinstance(out, NoAnswer) or not is_denied(task, shots, out, level):
            return out
        step: Step = unsteady(task.window.shortest, shots)
    else:
        step = found_or_shoot(task, shots, light, level, setting)
    if isinstance(step, NoAnswer) and step.direction == "unsteady" and task.known_response is not None:
        # It may only be the panel's curve that is not the assumed one.
        return _halved(task, shots)
    return step


def _fitted(
    task: Task, shots: Sequence[TestShot], level: float
) -> tuple[LightModel, tuple[float, int | None]]:
    """The light, and the setting that follows from it."""
    response = task.known_response
    light = fit_light(shots, task.target, task.pedestal, response)
    assert light is not None
    setting = nearest_permitted(task, shots, light, level)
    for _ in range(2):
        # Again, with the shots weighed by how far they are from where the answer seems to be.
        light = fit_light(shots, task.target, task.pedestal, response, setting[1]) or light
        setting = nearest_permitted(task, shots, light, level)
    return light, setting


def _halved(task: Task, shots: Sequence[TestShot]) -> Step:
    """Where the panel follows no curve: one brightness after the other, by time alone.

    Time is straight at any brightness, so each is answered for certain; what is too bright or too dim at one is so at
    all beyond it. Those seen already come first.
    """
    assert task.dimmer is not None
    span = span_of(task, shots, effective_target(task.target, shots, task.pedestal))
    first, last = span.within(task.dimmer)
    while first <= last:
        seen = [s.brightness for s in shots if s.brightness is not None and first <= s.brightness <= last]
        middle = (first + last) / 2.0
        brightness = min(seen or [int(middle)], key=lambda b: abs(b - middle))
        step = _by_time_at(task, shots, brightness)
        if isinstance(step, Found):
            return replace(step, shots=len(shots))
        if not isinstance(step, NoAnswer) or step.direction == "unsteady":
            return step
        if step.direction == "too bright":
            last = brightness - 1
        else:
            first = brightness + 1
    if first == task.dimmer.lowest or last == task.dimmer.highest:
        return _by_time_at(task, shots, max(last, task.dimmer.lowest))
    below, above = _by_time_at(task, shots, last), _by_time_at(task, shots, first)
    if isinstance(below, NoAnswer) and isinstance(above, NoAnswer):
        return _beside(
            task, Span(last, first, below.level_adu or 0.0, above.level_adu or 0.0), task.target.level_adu
        )
    return above if isinstance(below, NoAnswer) else below


def _by_time_at(task: Task, shots: Sequence[TestShot], brightness: int) -> Step:
    """What the shots at one brightness say of the time there."""
    there = [s for s in shots if s.brightness == brightness]
    window = task.window
    if task.mode == "brightness":
        window = replace(window, shortest=task.bound(False), longest=task.bound(True))
    if there:
        return _step_from(replace(task, mode="time", brightness=brightness, window=window), there)
    exposure = task.preferred_s
    if task.mode == "both":
        low = window.shortest.exposure_s
        exposure = dial_between(math.sqrt(low * exposure), 0.05, low, window.longest.exposure_s)
    return Shoot(exposure, "the panel follows no curve: the middle of what is left", brightness=brightness)


def _beside(task: Task, span: Span, level: float) -> NoAnswer:
    """Two neighbouring brightness values of which one is too dim and the other too bright."""
    assert span.below is not None and span.above is not None
    below, above = (span.below, span.level_below), (span.above, span.level_above)
    return too_coarse((task.bound(True), *below), (task.bound(False), *above), level)
