"""How fast a cooler brings its sensor to a set point, by what its own runs showed."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

#: A smaller step tells little: most of its time is the last tenth of a degree.
LEAST_TELLING_C = 3.0
#: So many of the newest are looked at; the weather of long ago is another.
NEWEST = 5


@dataclass(frozen=True)
class Cooled:
    """A set point that was reached."""

    by_c: float
    """How far the sensor was from it."""
    seconds: float
    """Until it was there, without settling."""


def seconds_per_c(newest_first: Sequence[Cooled]) -> float | None:
    """Seconds that a cooler takes for a degree: the median of the newest steps that tell; None where none does."""
    told = [one.seconds / one.by_c for one in newest_first if one.by_c >= LEAST_TELLING_C][:NEWEST]
    return statistics.median(told) if told else None
