"""What a search for a flat's setting works with: what is wanted, what was seen, what to do next."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Mode = Literal["time", "brightness", "both"]
Direction = Literal["too bright", "too dim", "too coarse", "unsteady"]


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
class Dimmer:
    """The whole numbers a panel's brightness can be set to; below `lowest` it is dark or unsteady."""

    lowest: int
    highest: int

    def __contains__(self, brightness: object) -> bool:
        return isinstance(brightness, int) and self.lowest <= brightness <= self.highest


@dataclass(frozen=True)
class TestShot:
    """One test shot, measured."""

    __test__ = False

    exposure_s: float
    level_adu: float
    brightest_adu: float
    saturated_fraction: float = 0.0
    noise_adu: float = 20.0
    brightness: int | None = None


@dataclass(frozen=True)
class Prior:
    """A setting that did before: of the last search, or what a measured panel predicts."""

    exposure_s: float
    brightness: int | None = None
    why: str = "the last setting for this filter"


@dataclass(frozen=True)
class Shoot:
    """Take a test shot like this, because."""

    exposure_s: float
    why: str
    probe: bool = False
    """Shorter than permitted: to measure only, never a setting."""
    brightness: int | None = None


@dataclass(frozen=True)
class Found:
    """The setting to use, and the level it will give."""

    exposure_s: float
    expected_adu: float
    target_adu: float
    rate_adu_s: float
    pedestal_adu: float
    shots: int
    brightness: int | None = None
    uncertainty_adu: float = 0.0
    banding_percent: float | None = None
    """Peak to peak, as the source's pulses predict it; None where the source is not pulsed."""


@dataclass(frozen=True)
class NoAnswer:
    """Nothing that is permitted reaches the target. `stops` says by how much."""

    direction: Direction
    stops: float
    at_least: bool
    bound: Bound
    message: str
    advice: str
    brightness: int | None = None
    level_adu: float | None = None
    """Level at the bound, by proportion: it may lie beyond full."""


Step = Shoot | Found | NoAnswer
