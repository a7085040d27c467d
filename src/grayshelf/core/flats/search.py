"""Finding exposure and brightness of a flat with the fewest test shots.

Everything is a pure function of the shots taken so far, so a search that was cut short goes on from its shots. From a
shot that can be read, the answer follows by proportion above the pedestal; from one that is full or lost in the noise
the search steps by a large factor; all shots are fitted together (`light`). It ends as soon as the fit is sure of the
level that a permitted setting gives, or of how far off the nearest permitted one is.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from grayshelf.core.flats.dial import DIAL_WITHIN, Pulse, dial, dial_between
from grayshelf.core.flats.light import LightModel, fit_light, is_full, pedestal_belief, readable
from grayshelf.core.flats.model import (
    Bound,
    Dimmer,
    ExposureWindow,
    FlatTarget,
    Found,
    Mode,
    NoAnswer,
    Pedestal,
    Prior,
    Shoot,
    Step,
    TestShot,
)
from grayshelf.core.flats.panel import PanelResponse, assumed_response
from grayshelf.core.flats.verdict import level_range, stays, too_bright, too_coarse, too_dim, unsteady

#: More test shots than this mean that the light is not steady.
MOST_SHOTS = 24
#: After so many, the panel is like none that is known: its brightness is halved in.
HALVE_AFTER = 6
#: A level is sure enough when its standard error is at most this share of the tolerance; of it, nothing is surer.
SURE_OF_TOLERANCE, SUREST = 0.1, 0.006
#: An amount of stops is measured when its standard error is at most this (natural log): 0.1 stop is 0.07.
SURE_AMOUNT = 0.03
#: Where no further shot can better it, this will do: 0.1 stop is 0.07.
SURE_ENOUGH_AMOUNT = 0.07
#: Light falls into an exposure for so much longer than its time says, at most, in seconds.
LONGEST_DEAD_TIME_S = 0.003
#: Where both are free, an exposure within this factor of the preferred one is as good.
AS_GOOD = 1.6
#: And exposures within this factor are the same.
SAME_EXPOSURE = 1.01


@dataclass(frozen=True)
class Task:
    """What a search is to find, within what is permitted."""

    target: FlatTarget
    window: ExposureWindow
    mode: Mode = "time"
    brightness: int | None = None
    """Where the time is looked for: the brightness that stays."""
    exposure_s: float | None = None
    """Where the brightness is looked for: the exposure that stays. Where both are: the preferred one."""
    dimmer: Dimmer | None = None
    pedestal: Pedestal | None = None
    prior: Prior | None = None
    response: PanelResponse | None = None
    """The panel's, as far as anything of it is known; None takes the usual one."""
    guess_rate: float | None = None
    """ADU a second at the highest brightness, to a factor of ten: from other filters."""
    pulse: Pulse | None = None

    @property
    def known_response(self) -> PanelResponse | None:
        """The response to work with; None where the brightness stays."""
        if self.mode == "time" or self.dimmer is None:
            return None
        return self.response or assumed_response(self.dimmer)

    @property
    def bright_end(self) -> tuple[float, int | None]:
        """The dimmest setting permitted: where too bright a light shows."""
        low = self.window.shortest.exposure_s
        if self.mode == "time" or self.dimmer is None:
            return low, self.brightness
        return (self._fixed if self.mode == "brightness" else low), self.dimmer.lowest

    @property
    def dim_end(self) -> tuple[float, int | None]:
        """The brightest setting permitted: where too dim a light shows."""
        high = self.window.longest.exposure_s
        if self.mode == "time" or self.dimmer is None:
            return high, self.brightness
        return (self._fixed if self.mode == "brightness" else high), self.dimmer.highest

    @property
    def _fixed(self) -> float:
        low, high = self.window.shortest.exposure_s, self.window.longest.exposure_s
        wish = self.exposure_s if self.exposure_s is not None else min(max(2.0, low), math.sqrt(low * high))
        return min(max(wish, low), high)

    @property
    def preferred_s(self) -> float:
        """The exposure to come near where both are free."""
        return self._fixed

    def bound(self, dim: bool) -> Bound:
        """The bound of time that a no is said of."""
        if self.mode == "brightness":
            return Bound(self._fixed, "the exposure that is to stay")
        return self.window.longest if dim else self.window.shortest


def at_level(prior: Prior, expected_adu: float, pedestal_adu: float, target: FlatTarget) -> Prior:
    """A setting that gave one level, for the level that is wished for now: in proportion above the pedestal."""
    if abs(expected_adu - target.level_adu) <= target.tolerance_adu:
        return prior
    ratio = max(target.level_adu - pedestal_adu, 1.0) / max(expected_adu - pedestal_adu, 1.0)
    return replace(prior, exposure_s=prior.exposure_s * ratio, why=f"{prior.why}, for another level")


def carried_over(
    prior: Prior, window: ExposureWindow, mode: Mode, wanted_s: float, response: PanelResponse
) -> Prior:
    """A setting that did, at the exposure that is wanted now: its brightness follows by how the panel goes.

    Parameters
    ----------
    wanted_s
        The exposure that stays; where both are looked for, one near it is as good.
    """
    at = min(max(wanted_s, window.shortest.exposure_s), window.longest.exposure_s)
    apart = max(at / prior.exposure_s, prior.exposure_s / at)
    if prior.brightness is None or apart <= (AS_GOOD if mode == "both" else SAME_EXPOSURE):
        return prior
    output = response.log_output(prior.brightness) + math.log(prior.exposure_s / at)
    return Prior(at, round(response.brightness_for(output)), f"{prior.why}, at {at:g} s")


def next_step(task: Task, shots: Sequence[TestShot] = ()) -> Step:
    """Say what to do next: shoot, stop with the answer, or stop with what is in the way.

    Parameters
    ----------
    shots
        All test shots so far, in order, through one filter at one gain, offset and binning.
    """
    if not shots:
        return _first(task)
    step = _next(task, shots)
    if isinstance(step, NoAnswer) and task.mode == "time" and step.brightness is not None:
        return stays(step, task.bound(step.direction == "too dim"))
    return step


def _next(task: Task, shots: Sequence[TestShot]) -> Step:
    if len(shots) >= MOST_SHOTS or _contradict(task, shots):
        return unsteady(task.window.shortest, shots)
    if task.known_response is not None and len(shots) >= HALVE_AFTER:
        return _halved(task, shots)
    if not any(readable(s, task.pedestal, task.target) for s in shots):
        return _step_far(task, shots)
    level = effective_target(task.target, shots, task.pedestal)
    light, setting = _fitted(task, shots, level)
    span = _bracket(task, shots, level)
    if span.below is not None and span.above is not None and span.below + 1 == span.above:
        return _beside(task, span, level)
    out = _out_of_reach(task, shots, light, level)
    if out is not None:
        if not isinstance(out, NoAnswer) or not _denied(task, shots, out, level):
            return out
        step: Step = unsteady(task.window.shortest, shots)
    else:
        step = _settle(task, shots, light, level, setting)
    if isinstance(step, NoAnswer) and step.direction == "unsteady" and task.known_response is not None:
        # It may only be the panel's curve that is not the assumed one.
        return _halved(task, shots)
    return step


def effective_target(target: FlatTarget, shots: Sequence[TestShot], pedestal: Pedestal | None) -> float:
    """The level to aim at: the one wished for, lowered where the brightest pixels would pass the limit."""
    level, base = target.level_adu, pedestal_belief(pedestal, shots).adu
    for shot in shots:
        if readable(shot, pedestal, target) and shot.brightest_adu < 0.97 * target.white_adu:
            contrast = (shot.brightest_adu - base) / max(shot.level_adu - base, 1.0)
            level = min(level, base + (target.brightest_limit_adu - base) / max(contrast, 1.0))
    return level


def _fitted(
    task: Task, shots: Sequence[TestShot], level: float
) -> tuple[LightModel, tuple[float, int | None]]:
    """The light, and the setting that follows from it."""
    response = task.known_response
    light = fit_light(shots, task.target, task.pedestal, response)
    assert light is not None
    setting = _wanted(task, shots, light, level)
    for _ in range(2):
        # Again, with the shots weighed by how far they are from where the answer seems to be.
        light = fit_light(shots, task.target, task.pedestal, response, setting[1]) or light
        setting = _wanted(task, shots, light, level)
    return light, setting


# -- where to look ----------------------------------------------------------------------------------------------


def _first(task: Task) -> Shoot:
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
    least, most = _products(task)
    readable_adu = 300.0 if task.pedestal is not None else 600.0
    if task.mode == "both":
        # Over so wide a range no shot can be read everywhere: bright lights are the usual ones.
        return _placed(task, 3.0 * least, "nothing is known yet: dim and short, so that it can be read")
    product = min(max(least, most * readable_adu / task.target.level_adu), most)
    return _placed(
        task, product, "nothing is known yet: little light, so that it can be read wherever the answer is"
    )


def _products(task: Task) -> tuple[float, float]:
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


def _output(task: Task, shot: TestShot) -> float:
    return _relative(task, shot.brightness)


def _relative(task: Task, brightness: int | None) -> float:
    """Output of a brightness, relative to the highest, as far as the panel is known."""
    response = task.known_response
    return math.exp(response.log_output(brightness or 0)) if response is not None else 1.0


def _step_far(task: Task, shots: Sequence[TestShot]) -> Step:
    """No shot can be read: all are full, or all lost in the noise, or some of each."""
    white, base = task.target.white_adu, pedestal_belief(task.pedestal, shots).adu
    full = [s for s in shots if is_full(s, white) or s.level_adu > base + 0.5 * (white - base)]
    dark = [s for s in shots if s not in full]
    if full and dark:
        return _between(task, full, dark)
    if full:
        least = min(full, key=lambda s: s.exposure_s * _output(task, s))
        product = least.exposure_s * _output(task, least)
        if task.prior is not None and len(shots) == 1:
            # The last setting says nothing of this light: begin as if there were none, if that is dimmer.
            anew = _first(replace(task, prior=None))
            if anew.exposure_s * _relative(task, anew.brightness) < product / 3.0:
                return replace(anew, why=f"{_said(least)} was full: the last setting no longer holds")
        end_s, end_b = task.bright_end
        if least.exposure_s <= task.window.probe_s * 1.01 and (least.brightness == end_b or end_b is None):
            scale = _least_scale(end_s, least.exposure_s)
            return too_bright(task.bound(False), end_b, white, task.target.level_adu, base, True, scale)
        less = 20.0 if task.pedestal is not None else 8.0
        shot = _placed(task, product / less, f"{_said(least)} was full: much less light")
        if shot.probe:
            why = f"{_said(least)} was full: shorter than permitted, only to measure"
            shot = Shoot(shot.exposure_s, why, True, end_b)
        if any(_same(shot.exposure_s, shot.brightness, s) for s in shots):
            shot = Shoot(task.window.probe_s, shot.why, True, end_b)
        return shot
    most = max(dark, key=lambda s: s.exposure_s * _output(task, s))
    product = most.exposure_s * _output(task, most)
    end_s, end_b = task.dim_end
    if not any(_same(end_s, end_b, s) for s in shots):
        shot = _placed(task, product * 15.0, f"{_said(most)} was hardly above the pedestal: much more light")
        near_end = product * 15.0 >= 0.6 * _products(task)[1]
        if near_end or any(_same(shot.exposure_s, shot.brightness, s) for s in shots):
            shot = Shoot(end_s, shot.why, brightness=end_b)
        return shot
    # The higher the pedestal, the less of the level is light: the lowest one gives the bound.
    brightest = max(s.level_adu for s in shots)
    least_base = level_range(task.pedestal, shots, white)[0]
    return too_dim(task.bound(True), end_b, brightest, task.target.level_adu, least_base, at_least=True)


def _between(task: Task, full: Sequence[TestShot], dark: Sequence[TestShot]) -> Step:
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


# -- out of reach -----------------------------------------------------------------------------------------------


def _out_of_reach(task: Task, shots: Sequence[TestShot], light: LightModel, level: float) -> Step | None:
    """A shot that measures how far off the nearest permitted setting is, or the answer no; None if in reach."""
    # What was seen at an end counts before the fit: a panel's steps may lie on no curve.
    tolerance, span = task.target.tolerance_adu, _bracket(task, shots, level)
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
    seen = any(_same(end_s, end_b, s) for s in shots)
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
        scale = _least_scale(end_s, shot.exposure_s)
        return too_bright(task.bound(False), end_b, shot.level_adu, level, base, True, scale)
    dark = [s for s in there if not is_full(s, task.target.white_adu)]
    if dark:
        longest = max(s.exposure_s for s in dark)
        exposure = min(dial(8.0 * longest, 0.05), end_s)
        below = exposure < task.window.shortest.exposure_s * 0.999
        return Shoot(exposure, "it was too dark there to be read: longer", below, end_b)
    scale = _least_scale(end_s, min(s.exposure_s for s in there))
    return too_bright(task.bound(False), end_b, task.target.white_adu, level, base, True, scale)


def _all_too_dim(task: Task, shots: Sequence[TestShot], light: LightModel, level: float) -> Step:
    end_s, end_b = task.dim_end
    base = light.pedestal_adu if task.pedestal is None else task.pedestal.adu
    error = _amount_error(task, shots, light, level, task.dim_end)
    seen = [s for s in shots if _same(end_s, end_b, s)]
    if error <= SURE_AMOUNT or (seen and error <= _enough(task)):
        at_end = _level_at(task, shots, light, task.dim_end)
        return too_dim(task.bound(True), end_b, at_end, level, base, at_least=False)
    if not seen:
        return Shoot(end_s, "too dim by what is known: measured where it is brightest", brightness=end_b)
    least = level_range(task.pedestal, shots, task.target.white_adu)[0]
    brightest = max(s.level_adu for s in seen)
    return too_dim(task.bound(True), end_b, brightest, level, least, at_least=True)


def _least_scale(end_s: float, shot_s: float) -> float:
    """How many times more light an exposure has than a shorter one, at least."""
    return max((end_s + LONGEST_DEAD_TIME_S) / (shot_s + LONGEST_DEAD_TIME_S), 1.0)


def _denied(task: Task, shots: Sequence[TestShot], no: NoAnswer, level: float) -> bool:
    """Whether a shot within what is permitted came out on the other side of the target than the no says."""
    slack = task.target.tolerance_adu
    if no.direction == "too dim":
        return any(s.level_adu > level + slack for s in shots if s.exposure_s <= task.dim_end[0] * 1.001)
    return any(s.level_adu < level - slack for s in shots if s.exposure_s >= task.bright_end[0] * 0.999)


def _level_at(
    task: Task, shots: Sequence[TestShot], light: LightModel, end: tuple[float, int | None]
) -> float:
    """The level at an end of what is permitted: as it was seen there, else as the fit has it."""
    seen = [s.level_adu for s in shots if _same(*end, s) and readable(s, task.pedestal, task.target)]
    return sum(seen) / len(seen) if seen else light.level(*end)


def _amount_error(
    task: Task, shots: Sequence[TestShot], light: LightModel, level: float, end: tuple[float, int | None]
) -> float:
    """How sure the amount is by which an end of what is permitted is off: standard error of its natural log."""
    end_s, end_b = end
    read = [s for s in shots if s.brightness == end_b and readable(s, task.pedestal, task.target)]
    if any(_same(end_s, end_b, s) for s in read) and task.pedestal is not None:
        # Seen there: only the pedestal is between the levels and their ratio.
        sure = task.pedestal.uncertainty_adu
        return sure / max(light.level(end_s, end_b) - task.pedestal.adu, 1.0) + sure / max(level, 1.0)
    response = task.known_response
    if response is not None and not read and response.spread(end_b or 0) > 0.03:
        return math.inf
    return light.ratio_error(end_s, end_b, level)


def _contradict(task: Task, shots: Sequence[TestShot]) -> bool:
    """Whether a longer exposure at the same brightness came out clearly darker than a shorter one."""
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


# -- a panel like none that is known ------------------------------------------------------------------------------


def _halved(task: Task, shots: Sequence[TestShot]) -> Step:
    """Where the panel follows no curve: one brightness after the other, by time alone.

    Time is straight at any brightness, so each is answered for certain; what is too bright or too dim at one is so at
    all beyond it. Those seen already come first.
    """
    assert task.dimmer is not None
    span = _bracket(task, shots, effective_target(task.target, shots, task.pedestal))
    first, last = span.within(task.dimmer)
    while first <= last:
        seen = [s.brightness for s in shots if s.brightness is not None and first <= s.brightness <= last]
        middle = (first + last) / 2.0
        brightness = min(seen or [int(middle)], key=lambda b: abs(b - middle))
        step = _at(task, shots, brightness)
        if isinstance(step, Found):
            return replace(step, shots=len(shots))
        if not isinstance(step, NoAnswer) or step.direction == "unsteady":
            return step
        if step.direction == "too bright":
            last = brightness - 1
        else:
            first = brightness + 1
    if first == task.dimmer.lowest or last == task.dimmer.highest:
        return _at(task, shots, max(last, task.dimmer.lowest))
    below, above = _at(task, shots, last), _at(task, shots, first)
    if isinstance(below, NoAnswer) and isinstance(above, NoAnswer):
        return _beside(
            task, _Span(last, first, below.level_adu or 0.0, above.level_adu or 0.0), task.target.level_adu
        )
    return above if isinstance(below, NoAnswer) else below


def _at(task: Task, shots: Sequence[TestShot], brightness: int) -> Step:
    """What the shots at one brightness say of the time there."""
    there = [s for s in shots if s.brightness == brightness]
    window = task.window
    if task.mode == "brightness":
        window = replace(window, shortest=task.bound(False), longest=task.bound(True))
    if there:
        return _next(replace(task, mode="time", brightness=brightness, window=window), there)
    exposure = task.preferred_s
    if task.mode == "both":
        low = window.shortest.exposure_s
        exposure = dial_between(math.sqrt(low * exposure), 0.05, low, window.longest.exposure_s)
    return Shoot(exposure, "the panel follows no curve: the middle of what is left", brightness=brightness)


def _beside(task: Task, span: _Span, level: float) -> NoAnswer:
    """Two neighbouring brightness values of which one is too dim and the other too bright."""
    assert span.below is not None and span.above is not None
    below, above = (span.below, span.level_below), (span.above, span.level_above)
    return too_coarse((task.bound(True), *below), (task.bound(False), *above), level)


# -- the answer -------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Span:
    """The brightness values next to the answer by the shots alone, and the levels they give; None where none is."""

    below: int | None
    above: int | None
    level_below: float = 0.0
    level_above: float = 0.0

    def within(self, dimmer: Dimmer) -> tuple[int, int]:
        """First and last brightness that may still be the answer; the first is larger where none is left."""
        first = dimmer.lowest if self.below is None else self.below + 1
        return first, dimmer.highest if self.above is None else self.above - 1


def _bracket(task: Task, shots: Sequence[TestShot], level: float) -> _Span:
    """Between which brightness values the answer lies, by the shots alone: any monotone panel is followed."""
    below: tuple[int, float] | None = None
    above: tuple[int, float] | None = None
    if task.mode == "time" or task.dimmer is None:
        return _Span(None, None)
    tolerance = task.target.tolerance_adu
    # What the fit says of the pedestal is no proof: the bounds hold wherever it may lie.
    bases = level_range(task.pedestal, shots, task.target.white_adu)
    for shot in shots:
        if shot.brightness is None:
            continue
        most = max(p + (shot.level_adu - p) * task.dim_end[0] / shot.exposure_s for p in bases)
        least = min(p + (shot.level_adu - p) * task.bright_end[0] / shot.exposure_s for p in bases)
        if is_full(shot, task.target.white_adu):
            if least > level + tolerance and (above is None or shot.brightness < above[0]):
                above = shot.brightness, least
        elif most < level - tolerance and (below is None or shot.brightness > below[0]):
            below = shot.brightness, most
        elif least > level + tolerance and (above is None or shot.brightness < above[0]):
            above = shot.brightness, least
    return _Span(
        below[0] if below else None,
        above[0] if above else None,
        below[1] if below else 0.0,
        above[1] if above else 0.0,
    )


def _wanted(
    task: Task, shots: Sequence[TestShot], light: LightModel, level: float
) -> tuple[float, int | None]:
    """The permitted setting that comes nearest to the target by what is known."""
    low, high = task.window.shortest.exposure_s, task.window.longest.exposure_s
    if task.mode == "time" or task.dimmer is None:
        return _timed(task, light, level, task.brightness), task.brightness
    if task.mode == "both":
        for shot in sorted(shots, key=lambda s: abs(math.log(s.exposure_s / task.preferred_s))):
            if shot.brightness is not None and readable(shot, task.pedestal, task.target):
                exposure = light.exposure_for(level, shot.brightness)
                apart = max(exposure / task.preferred_s, task.preferred_s / exposure)
                # After some shots any exposure that is permitted is good: it ends the search.
                if low <= exposure <= high and (apart <= AS_GOOD or len(shots) > 2):
                    return _timed(task, light, level, shot.brightness), shot.brightness
    brightness = _within(task, shots, light, level)
    if task.mode == "brightness":
        return task.preferred_s, brightness
    return _timed(task, light, level, brightness), brightness


def _within(task: Task, shots: Sequence[TestShot], light: LightModel, level: float) -> int:
    """The brightness that comes nearest; the middle of the span where the fit points out of what the shots allow."""
    assert task.dimmer is not None
    span = _bracket(task, shots, level)
    first, last = span.within(task.dimmer)
    if first > last:
        return min(max(first, task.dimmer.lowest), task.dimmer.highest)
    exact = light.brightness_for(level, task.preferred_s)
    astray = (exact > last + 0.6 and span.above is not None) or (
        exact < first - 0.6 and span.below is not None
    )
    if astray and last > first:
        return (first + last) // 2
    return _nearest(light, level, task.preferred_s, (first, last))


def _timed(task: Task, light: LightModel, level: float, brightness: int | None) -> float:
    low, high = task.window.shortest.exposure_s, task.window.longest.exposure_s
    exact = light.exposure_for(level, brightness)
    return min(max(dial(exact, DIAL_WITHIN, task.pulse), low), high)


def _nearest(light: LightModel, level: float, exposure_s: float, span: tuple[int, int]) -> int:
    """The whole number of brightness that comes nearest, within a span."""
    exact = light.brightness_for(level, exposure_s)
    around = {min(max(b, span[0]), span[1]) for b in (math.floor(exact), math.ceil(exact))}
    return min(around, key=lambda b: abs(light.level(exposure_s, b) - level))


def _settle(
    task: Task, shots: Sequence[TestShot], light: LightModel, level: float, setting: tuple[float, int | None]
) -> Step:
    """The answer, if the fit is sure of it; else the shot that makes it so."""
    exposure, brightness = _seen_near(task, shots, level) or setting
    expected, error = light.level(exposure, brightness), light.error(exposure, brightness)
    seen = [s for s in shots if _same(exposure, brightness, s) and readable(s, task.pedestal, task.target)]
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
    if any(_no_less(exposure, brightness, s) for s in full):
        # Where less light was full already, the fit is led astray by a pedestal that is not known.
        read = [s for s in shots if readable(s, task.pedestal, task.target)]
        best = max(read, key=lambda s: (s.brightness or 0, s.exposure_s, s.level_adu))
        return _between(task, full, [best])
    last = shots[-1]
    return Shoot(
        exposure,
        f"{_said(last)} gave {last.level_adu:,.0f} ADU; above the pedestal of "
        f"{light.pedestal_adu:,.0f} ADU, {_words(exposure, brightness)} should give {expected:,.0f}",
        brightness=brightness,
    )


def _sure_enough(target: FlatTarget, level: float) -> float:
    """How large the standard error of a level may be, in ADU."""
    return min(max(SURE_OF_TOLERANCE * target.tolerance_adu, SUREST * level), target.tolerance_adu / 3.0)


def _seen_near(task: Task, shots: Sequence[TestShot], level: float) -> tuple[float, int | None] | None:
    """A brightness that was seen to do: a neighbour that might do a little better is not worth a shot."""
    if task.mode != "brightness":
        return None
    near = min(0.02 * level, task.target.tolerance_adu / 2.0)
    for shot in shots:
        if abs(shot.level_adu - level) <= near and _same(task.preferred_s, shot.brightness, shot):
            return shot.exposure_s, shot.brightness
    return None


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
    if again and not any(_same(exact, brightness, s) for s in shots):
        return Shoot(exact, "it came out otherwise than the line says: once more", brightness=brightness)
    return unsteady(task.window.shortest, shots)


def _no_less(exposure_s: float, brightness: int | None, shot: TestShot) -> bool:
    """Whether a setting gives at least the light of a shot."""
    return exposure_s >= shot.exposure_s * 0.999 and (brightness or 0) >= (shot.brightness or 0)


def _same(exposure_s: float, brightness: int | None, shot: TestShot) -> bool:
    """Whether a shot was taken like this."""
    return abs(shot.exposure_s / exposure_s - 1.0) < 0.002 and shot.brightness == brightness


def _words(exposure_s: float, brightness: int | None) -> str:
    return f"{exposure_s:g} s" + (f" at brightness {brightness}" if brightness is not None else "")


def _said(shot: TestShot) -> str:
    return _words(shot.exposure_s, shot.brightness)
