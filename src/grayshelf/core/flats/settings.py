"""What a rig wants of its flats, in the units people use."""

from __future__ import annotations

from dataclasses import dataclass

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.exposure import Bound, ExposureWindow, FlatTarget


@dataclass(frozen=True)
class FlatWishes:
    """Target, tolerance and window for the flats of a rig.

    Common practice, no published source: a third to a half of the range, ±10 % of the target.
    """

    level_percent: float = 45.0
    """Of the range from 0 to white."""
    tolerance_percent: float = 10.0
    """Of the target."""
    shortest_s: float = 0.5
    shortest_reason: str = "the panel flickers below it"
    longest_s: float = 30.0
    longest_reason: str = "your limit"
    linear_limit_percent: float = 92.0

    def __post_init__(self) -> None:
        if not 1.0 <= self.level_percent <= 90.0:
            raise GrayShelfError("The target level must lie between 1 and 90 % of the range.")
        if not 0.5 <= self.tolerance_percent <= 50.0:
            raise GrayShelfError("The tolerance must lie between 0.5 and 50 % of the target.")
        if not 0.0 < self.shortest_s < self.longest_s:
            raise GrayShelfError("The shortest exposure must be above zero and below the longest.")

    def target(self, white_adu: float, linear_limit_adu: float | None = None) -> FlatTarget:
        """The target in ADU for a camera that is full at `white_adu`.

        Parameters
        ----------
        linear_limit_adu
            As measured at the gain to be used; None takes the usual share of the range.
        """
        level = white_adu * self.level_percent / 100.0
        return FlatTarget(
            level,
            level * self.tolerance_percent / 100.0,
            white_adu,
            white_adu * self.linear_limit_percent / 100.0 if linear_limit_adu is None else linear_limit_adu,
        )

    def window(self, probe_s: float = 0.02) -> ExposureWindow:
        """The permitted exposures with the reasons of their bounds."""
        return ExposureWindow(
            Bound(self.shortest_s, self.shortest_reason), Bound(self.longest_s, self.longest_reason), probe_s
        )
