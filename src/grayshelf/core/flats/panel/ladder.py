"""Which shots measure how a panel follows its brightness: a ladder in one filter, one shot in each other."""

from __future__ import annotations

import math
from collections.abc import Hashable, Sequence

from grayshelf.core.flats.model import Dimmer, ExposureWindow, FlatTarget, Pedestal, Shoot, TestShot
from grayshelf.core.flats.panel.response import (
    PanelResponse,
    ResponsePoint,
    assumed_response,
    fit_response,
    ladder,
    log_factor,
)
from grayshelf.core.flats.search.dial import dial_between
from grayshelf.core.flats.search.light import is_full, pedestal_belief, readable

#: Shots in the filter that is measured at several brightness values, and in each other one.
MOST_IN_MAIN, MOST_IN_OTHER = 6, 3
#: Level to aim at where the light is known well, and where it is known to a factor of ten; shares of the range.
AIM, CAREFUL_AIM = 0.4, 1.0 / 15.0
#: The pedestal may be off by this share of the light, where a rate is to say something of the panel's shape.
PEDESTAL_SHARE = 0.06
#: Light in an exposure's dead time, in seconds, is reckoned in.
DEAD_TIME_S = 0.001


def rates(
    shots: Sequence[TestShot], target: FlatTarget, pedestal: Pedestal | None, group: Hashable
) -> list[ResponsePoint]:
    """The rates that can be read from shots, in ADU a second above the pedestal."""
    if not shots:
        return []
    base = pedestal_belief(pedestal, shots)
    return [
        ResponsePoint(group, s.brightness, (s.level_adu - base.adu) / (s.exposure_s + DEAD_TIME_S))
        for s in shots
        if s.brightness is not None
        and readable(s, pedestal, target)
        and s.level_adu - base.adu > base.uncertainty_adu / PEDESTAL_SHARE
    ]


def next_ladder_shot(
    shots: Sequence[TestShot],
    dimmer: Dimmer,
    window: ExposureWindow,
    target: FlatTarget,
    pedestal: Pedestal | None,
    guess_rate: float | None = None,
) -> Shoot | None:
    """The next shot of the ladder, or None where the ladder is done.

    Parameters
    ----------
    guess_rate
        ADU a second at the highest brightness, where something tells it to a factor of ten.
    """
    if len(shots) >= MOST_IN_MAIN:
        return None
    points = rates(shots, target, pedestal, "")
    response = fit_response(points, dimmer) if points else assumed_response(dimmer)
    factor = log_factor(response, points)
    if factor is None and guess_rate is not None and not shots:
        factor = math.log(guess_rate)
    values = ladder(dimmer, MOST_IN_MAIN)
    if factor is None:
        return _blind(shots, dimmer, window, target, values[len(values) // 2])
    for brightness in _middle_first(values):
        if any(s.brightness == brightness for s in shots):
            continue
        aim = AIM if points else CAREFUL_AIM
        wanted = aim * target.white_adu / math.exp(factor + response.log_output(brightness))
        low, high = window.shortest.exposure_s, window.longest.exposure_s
        if wanted < 0.35 * low or wanted > 60.0 * high:
            continue
        exposure = dial_between(wanted, 0.1, low, high)
        return Shoot(
            exposure, f"brightness {brightness} of {len(values)} on the ladder", brightness=brightness
        )
    return None


def _middle_first(values: Sequence[int]) -> list[int]:
    middle = len(values) // 2
    return sorted(values, key=lambda b: (abs(values.index(b) - middle), b))


def _blind(
    shots: Sequence[TestShot], dimmer: Dimmer, window: ExposureWindow, target: FlatTarget, middle: int
) -> Shoot | None:
    """Nothing was read yet: from the middle of brightness and time, by large steps. None where all was tried."""
    low, high = window.shortest.exposure_s, window.longest.exposure_s
    if not shots:
        exposure = dial_between(math.sqrt(low * min(high, 40.0 * low)), 0.2, low, high)
        return Shoot(exposure, "nothing is known yet: a middle one", brightness=middle)
    last = shots[-1]
    there = [s for s in shots if s.brightness == last.brightness]
    full = [s.exposure_s for s in there if is_full(s, target.white_adu)]
    dark = [s.exposure_s for s in there if not is_full(s, target.white_adu)]
    exposure, brightness = last.exposure_s, last.brightness
    if full and dark:
        if min(full) <= 1.2 * max(dark):
            return None
        exposure, why = math.sqrt(min(full) * max(dark)), "between one that was full and one that was dark"
    elif full and exposure > low * 1.01:
        exposure, why = exposure / 12.0, "it was full: shorter"
    elif full:
        exposure, brightness, why = low, dimmer.lowest, "it was full: as dim as it goes"
    elif exposure < high * 0.99:
        exposure, why = exposure * 15.0, "it was dark: longer"
    else:
        exposure, brightness, why = high, dimmer.highest, "it was dark: as bright as it goes"
    return _unless_taken(Shoot(dial_between(exposure, 0.2, low, high), why, brightness=brightness), shots)


def _unless_taken(shot: Shoot, shots: Sequence[TestShot]) -> Shoot | None:
    """At the end of what is permitted the same shot once more tells nothing."""
    there = any(s.brightness == shot.brightness and s.exposure_s == shot.exposure_s for s in shots)
    return None if there else shot


def next_factor_shot(
    shots: Sequence[TestShot],
    response: PanelResponse,
    window: ExposureWindow,
    target: FlatTarget,
    pedestal: Pedestal | None,
    guess_rate: float | None,
) -> Shoot | None:
    """The shot that tells a further filter's factor; None where it is told, or cannot be."""
    if any(readable(s, pedestal, target) for s in shots) or len(shots) >= MOST_IN_OTHER:
        return None
    dimmer = response.dimmer
    middle = ladder(dimmer)[2]
    low, high = window.shortest.exposure_s, window.longest.exposure_s
    if not shots:
        if guess_rate is None:
            return _blind(shots, dimmer, window, target, middle)
        product = CAREFUL_AIM * target.white_adu / guess_rate
        exposure = min(max(product / math.exp(response.log_output(middle)), low), min(high, 8.0 * low))
        brightness = round(response.brightness_for(math.log(product / exposure)))
        exposure = dial_between(exposure, 0.1, low, high)
        return Shoot(exposure, "once through this filter, for its share of the light", brightness=brightness)
    last = shots[-1]
    product = last.exposure_s * math.exp(response.log_output(last.brightness or middle))
    product *= 1.0 / 25.0 if is_full(last, target.white_adu) else 40.0
    exposure = min(max(product / math.exp(response.log_output(middle)), low), high)
    brightness = round(response.brightness_for(math.log(product / exposure)))
    word = "full: less" if is_full(last, target.white_adu) else "dark: more"
    exposure = dial_between(exposure, 0.1, low, high)
    return _unless_taken(Shoot(exposure, f"it was {word} light", brightness=brightness), shots)
