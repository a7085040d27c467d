"""What a search is to find, within what is permitted, and what it may begin with."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from grayshelf.core.flats.model import (
    Bound,
    Dimmer,
    ExposureWindow,
    FlatTarget,
    Mode,
    Pedestal,
    Prior,
    TestShot,
)
from grayshelf.core.flats.panel.response import PanelResponse, assumed_response
from grayshelf.core.flats.search.dial import Pulse
from grayshelf.core.flats.search.light import pedestal_belief, readable

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
    """A setting that gave one level, for the level that is wished for now (ADU): in proportion above the pedestal,
    ``t·(wished − pedestal) / (then − pedestal)``. Within the tolerance it stays as it was.
    """
    if abs(expected_adu - target.level_adu) <= target.tolerance_adu:
        return prior
    ratio = max(target.level_adu - pedestal_adu, 1.0) / max(expected_adu - pedestal_adu, 1.0)
    return replace(prior, exposure_s=prior.exposure_s * ratio, why=f"{prior.why}, for another level")


def carried_over(
    prior: Prior, window: ExposureWindow, mode: Mode, wanted_s: float, response: PanelResponse
) -> Prior:
    """A setting that did, at the exposure (seconds) that is wanted now: its brightness follows by how the panel goes,
    ``ln output(b) = ln output(b_then) + ln(t_then / t)``.

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


def effective_target(target: FlatTarget, shots: Sequence[TestShot], pedestal: Pedestal | None) -> float:
    """The level to aim at: the one wished for, lowered where the brightest pixels would pass the limit."""
    level, base = target.level_adu, pedestal_belief(pedestal, shots).adu
    for shot in shots:
        if readable(shot, pedestal, target) and shot.brightest_adu < 0.97 * target.white_adu:
            contrast = (shot.brightest_adu - base) / max(shot.level_adu - base, 1.0)
            level = min(level, base + (target.brightest_limit_adu - base) / max(contrast, 1.0))
    return level
