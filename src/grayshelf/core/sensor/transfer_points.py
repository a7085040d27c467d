"""Points of a photon transfer, what they say together, and values with their errors."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from grayshelf.core.sensor.findings import Finding
from grayshelf.core.sensor.pairs import PairReading


@dataclass(frozen=True)
class Value:
    """A measured number and the half width of its 95 % interval."""

    value: float
    plus_minus: float

    @property
    def relative(self) -> float:
        """`plus_minus` as a share of the value."""
        return self.plus_minus / abs(self.value) if self.value else math.inf


@dataclass(frozen=True)
class TransferPoint:
    """One pair on the transfer curve."""

    pair: PairReading
    signal_adu: float
    photon_variance_adu2: float
    """Variance with the dark's taken off."""
    used: bool
    """In the slope."""
    residual: float | None
    """Of the variance from the fit, as a share."""
    off_line: float | None
    """Of the level from the line of time, as a share of the signal."""


@dataclass(frozen=True)
class Transfer:
    """What pairs of one channel at one gain say. ADU on the 16-bit scale; None: cannot be told from these frames."""

    points: tuple[TransferPoint, ...]
    pedestal_adu: float
    dark_variance_adu2: float | None
    sample_step: int
    white_adu: float
    e_per_adu: Value | None
    read_noise_e: Value | None
    """Rms over all pixels."""
    read_noise_lost: bool
    """The read noise is lost in the converter's steps: the value is an upper bound."""
    usual_read_noise_e: float | None
    """Of the usual pixel."""
    saturation_adu: float | None
    """The level at the peak of the variance."""
    capacity_e: Value | None
    """From the pedestal to there."""
    full_well_e: Value | None
    """Where the pixel fills before the converter does."""
    linear_limit_adu: Value | None
    rate_adu_s: float | None
    dynamic_range_stops: Value | None
    quick: bool
    """From too few levels for a slope."""
    findings: tuple[Finding, ...] = field(default=())

    @property
    def quantisation_adu2(self) -> float:
        """What the converter's steps add to each variance."""
        return self.sample_step**2 / 12.0

    @property
    def e_per_step(self) -> Value | None:
        """e⁻ for one native step of the converter."""
        if self.e_per_adu is None:
            return None
        return Value(self.e_per_adu.value * self.sample_step, self.e_per_adu.plus_minus * self.sample_step)


def pairs_in_words(count: int) -> str:
    """'1 pair', '3 pairs'."""
    return f"{count} pair{'s' if count != 1 else ''}"
