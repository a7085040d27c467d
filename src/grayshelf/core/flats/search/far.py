"""The first shot, and what to do while no shot can be read: all are full, or lost in the noise."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from grayshelf.core.flats.model import Shoot, Step, TestShot
from grayshelf.core.flats.search.compare import (
    least_scale,
    output_at,
    output_at_shot,
    shot_in_words,
    taken_at,
)
from grayshelf.core.flats.search.dial import dial, dial_between
from grayshelf.core.flats.search.light import is_full, pedestal_belief
from grayshelf.core.flats.search.task import Task
from grayshelf.core.flats.search.verdict import level_range, too_bright, too_dim


def first_shot(task: Task) -> Shoot:
    """The shot to begin with: the prior, a guess from other filters, or so little light that it can be read."""
    low, high = task.window.shortest.exposure_s, task.window.longest.exposure_s
    if task.prior is not None:
        exposure = min(max(task.prior.exposure_s, low), high)
        brightness = task.brightness
        if task.mode != "time" and task.dimmer is not None:
            exposure = task.preferred_s if task.mode == "brightness" else exposure
            wish = task.prior.brightness
            if wish is not None:
                brightness = min(max(wish, task.dimmer.lowest), task.dimmer.highest)
        if brightness is not None or task.mode == "time":
            return Shoot(exposure, task.prior.why, brightness=brightness)
    if task.guess_rate is not None:
        signal = task.target.white_adu / 15.0
        return _placed(task, signal / task.guess_rate, "as far as the other filters tell")
    least, most = _least_and_most(task)
    readable_adu = 300.0 if task.pedestal is not None else 600.0
    if task.mode == "both":
        # Over so wide a range no shot can be read everywhere: bright lights are the usual ones.
        return _placed(task, 3.0 * least, "nothing is known yet: dim and short, so that it can be read")
    product = min(max(least, most * readable_adu / task.target.level_adu), most)
    return _placed(
        task, product, "nothing is known yet: little light, so that it can be read wherever the answer is"
    )


def _least_and_most(task: Task) -> tuple[float, float]:
    """The least and the most light that is permitted, as exposure times output relative to the highest."""
    response = task.known_response
    ends = []
    for exposure, brightness in (task.bright_end, task.dim_end):
        output = math.exp(response.log_output(brightness or 0)) if response is not None else 1.0
        ends.append(exposure * output)
    return ends[0], ends[1]


def _placed(task: Task, product: float, why: str) -> Shoot:
    """A shot of so much light: with a panel at a middle output, else by its exposure alone."""
    low, high = task.window.shortest.exposure_s, task.window.longest.exposure_s
    response, dimmer = task.known_response, task.dimmer
    if response is None or dimmer is None:
        exposure = dial_between(max(product, task.window.probe_s), 0.05, task.window.probe_s, high)
        return Shoot(exposure, why, exposure < low * 0.999, task.brightness)
    top = task.preferred_s
    floor = response.log_output(dimmer.lowest)
    exposure = min(max(product / math.exp(floor / 2.0), low), max(top, low))
    if product > exposure:
        exposure = min(product, high)
    output = math.log(max(product / exposure, 1e-9))
    if output < floor:
        exposure = max(product / math.exp(floor), task.window.probe_s)
    brightness = min(max(round(response.brightness_for(output)), dimmer.lowest), dimmer.highest)
    exposure = dial_between(exposure, 0.05, low if exposure >= low else task.window.probe_s, high)
    return Shoot(exposure, why, exposure < low * 0.999, brightness)


def step_far(task: Task, shots: Sequence[TestShot]) -> Step:
    """What to shoot where no shot can be read: all are full, or all lost in the noise, or some of each.

    From a full one 20 times less light (8 where the pedestal is not known), from a dark one 15 times more, never beyond what
    is permitted but by probes down to the window's `probe_s` seconds; at its ends the answer is no.
    """
    white, base = task.target.white_adu, pedestal_belief(task.pedestal, shots).adu
    full = [s for s in shots if is_full(s, white) or s.level_adu > base + 0.5 * (white - base)]
    dark = [s for s in shots if s not in full]
    if full and dark:
        return between_full_and_dark(task, full, dark)
    if full:
        least = min(full, key=lambda s: s.exposure_s * output_at_shot(task, s))
        product = least.exposure_s * output_at_shot(task, least)
        if task.prior is not None and len(shots) == 1:
            # The last setting says nothing of this light: begin as if there were none, if that is dimmer.
            anew = first_shot(replace(task, prior=None))
            if anew.exposure_s * output_at(task, anew.brightness) < product / 3.0:
                return replace(anew, why=f"{shot_in_words(least)} was full: the last setting no longer holds")
        end_s, end_b = task.bright_end
        if least.exposure_s <= task.window.probe_s * 1.01 and (least.brightness == end_b or end_b is None):
            scale = least_scale(end_s, least.exposure_s)
            return too_bright(task.bound(False), end_b, white, task.target.level_adu, base, True, scale)
        less = 20.0 if task.pedestal is not None else 8.0
        shot = _placed(task, product / less, f"{shot_in_words(least)} was full: much less light")
        if shot.probe:
            why = f"{shot_in_words(least)} was full: shorter than permitted, only to measure"
            shot = Shoot(shot.exposure_s, why, True, end_b)
        if any(taken_at(shot.exposure_s, shot.brightness, s) for s in shots):
            shot = Shoot(task.window.probe_s, shot.why, True, end_b)
        return shot
    most = max(dark, key=lambda s: s.exposure_s * output_at_shot(task, s))
    product = most.exposure_s * output_at_shot(task, most)
    end_s, end_b = task.dim_end
    if not any(taken_at(end_s, end_b, s) for s in shots):
        shot = _placed(
            task, product * 15.0, f"{shot_in_words(most)} was hardly above the pedestal: much more light"
        )
        near_end = product * 15.0 >= 0.6 * _least_and_most(task)[1]
        if near_end or any(taken_at(shot.exposure_s, shot.brightness, s) for s in shots):
            shot = Shoot(end_s, shot.why, brightness=end_b)
        return shot
    # The higher the pedestal, the less of the level is light: the lowest one gives the bound.
    brightest = max(s.level_adu for s in shots)
    least_base = level_range(task.pedestal, shots, white)[0]
    target = task.target.level_adu
    return too_dim(task.bound(True), end_b, brightest, target, least_base, at_least=True, none_seen=True)


def between_full_and_dark(task: Task, full: Sequence[TestShot], dark: Sequence[TestShot]) -> Step:
    """Some shots were full and some dark: half way, in time where that is apart, else in brightness."""
    bright = min(full, key=lambda s: (s.brightness or 0, s.exposure_s))
    dim = max(dark, key=lambda s: (s.brightness or 0, s.exposure_s))
    why = "between one that was full and one that was dark"
    exposure = math.sqrt(bright.exposure_s * dim.exposure_s)
    brightness = bright.brightness
    if task.known_response is not None and bright.brightness != dim.brightness:
        assert bright.brightness is not None and dim.brightness is not None
        brightness = round((bright.brightness + dim.brightness) / 2.0)
        if brightness in (bright.brightness, dim.brightness):
            brightness, exposure = bright.brightness, bright.exposure_s / 8.0
    exposure = max(dial(exposure, 0.05), task.window.probe_s)
    there = [s.exposure_s for s in full if s.brightness == brightness and s.exposure_s <= exposure * 1.002]
    if there:
        exposure = max(dial(min(there) / 8.0, 0.05), task.window.probe_s)
    return Shoot(exposure, why, exposure < task.window.shortest.exposure_s * 0.999, brightness)
