"""What a frame takes beside its exposure, by what a camera's own series showed: read-out, sending, writing, checking."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from itertools import pairwise

#: Fewer pairs of frames than this tell nothing: the first of a series waits for much else.
FEWEST_PAIRS = 4
#: Longer than this, in seconds, something else was waited for: a hand, the weather, another disk.
LONGEST_S = 120.0


@dataclass(frozen=True)
class Begun:
    """A frame of a series."""

    series: int
    at: datetime
    """When its exposure began."""
    exposure_s: float


def beside_exposure_s(frames: Sequence[Begun], pause_s: float = 0.0) -> float | None:
    """Seconds from the end of an exposure to the beginning of the next, without the pause: the median of all pairs.

    Parameters
    ----------
    frames
        In the order in which they were begun.
    pause_s
        What is waited between two frames on purpose, seconds.

    Returns
    -------
    float or None
        Seconds; None where too few pairs tell.
    """
    between = [
        (two.at - one.at).total_seconds() - one.exposure_s - pause_s
        for one, two in pairwise(frames)
        if one.series == two.series
    ]
    told = [max(seconds, 0.0) for seconds in between if seconds < LONGEST_S]
    return statistics.median(told) if len(told) >= FEWEST_PAIRS else None
