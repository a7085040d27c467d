"""A light that is lit for a set time within each exposure, so that the shutter opens and closes in the dark.

What a search looks for is then the time of light. The exposure is longer by what is dark before and after it, and is what
dark flats have to match.
"""

from __future__ import annotations

from dataclasses import dataclass

from grayshelf.core.errors import GrayShelfError

#: The longest that a light stays dark before or after it was lit, in seconds: more is a slip of the pen.
MOST_DARK_S = 60.0


@dataclass(frozen=True)
class Lit:
    """When the light of one frame is on."""

    before_s: float
    """Seconds from the beginning of the exposure."""
    lit_s: float
    """For so many seconds."""


@dataclass(frozen=True)
class TimedLight:
    """How a light is lit within an exposure: ``exposure = before + lit + after``, all in seconds.

    Raises
    ------
    GrayShelfError
        Where nothing is dark before it, or a time is out of all reason.
    """

    before_s: float
    after_s: float
    shortest_s: float
    """The shortest that it can be lit for, and still gives the same light each time."""

    def __post_init__(self) -> None:
        if not 0.0 < self.before_s <= MOST_DARK_S or not 0.0 < self.after_s <= MOST_DARK_S:
            raise GrayShelfError(
                f"A light that is lit within the exposure is dark before and after it, for up to {MOST_DARK_S:g} s each.",
                "As long as the shutter takes to open, and to close; 0.5 s does for most.",
            )
        if not 1e-5 <= self.shortest_s <= 10.0:
            raise GrayShelfError("The shortest time that it is lit lies between 0.00001 and 10 s.")

    @property
    def dark_s(self) -> float:
        """How much longer the exposure is than the light, in seconds."""
        return self.before_s + self.after_s

    def lit(self, lit_s: float) -> Lit:
        """A frame's light of so many seconds."""
        return Lit(self.before_s, lit_s)


def exposure_of(timed: TimedLight | None, light_s: float) -> float:
    """The exposure for so many seconds of light; the same for a light that stays on."""
    return light_s if timed is None else round(timed.dark_s + light_s, 6)


def light_of(timed: TimedLight | None, exposure_s: float) -> float:
    """The seconds of light in an exposure; none or fewer where it ends before the light is on."""
    return exposure_s if timed is None else round(exposure_s - timed.dark_s, 6)
