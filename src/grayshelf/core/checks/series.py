"""What the levels of a set tell, frame after frame: drift, first frames that have not settled, frames that lie apart.

The limits are common practice, without a published source; each holds beside the scatter of the frames themselves, so that
a set whose frames scatter by nature is not picked apart.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.findings import Fault, SetFinding
from grayshelf.core.masters.spread import MAD_TO_SIGMA

#: A drift of a set is told from here on: of a light, as a share of its level; of a capped level, in ADU.
DRIFT_SHARE, DRIFT_ADU = 0.012, 2.0
#: And so are first frames beside the others.
UNSETTLED_SHARE, UNSETTLED_ADU = 0.004, 1.0
#: What is told lies this many of its own uncertainties from nothing.
SURE = 6.0
#: Electrons that were gathered raise the variance by this much for each ADU at least: no camera has over 50 e⁻/ADU.
LEAST_SHOT = 0.02
#: Fewer frames than this are no series.
FEWEST = 6
#: A drift may leave its straight line by this share of itself.
BENDS = 0.5
#: No more of the first frames than this are called unsettled.
MOST_UNSETTLED = 5


def scatter_of(values: NDArray[np.float64]) -> float:
    """From frame to frame, without a drift: ``1.4826·median|v(i+1) − v(i)| / √2``, in the values' unit."""
    return MAD_TO_SIGMA * float(np.median(np.abs(np.diff(values)))) / math.sqrt(2.0)


def steady_slope(values: NDArray[np.float64]) -> float:
    """What a value gains from one frame to the next: the median of all pairs' slopes (Theil 1950, Sen 1968)."""
    pairs = [(values[j] - values[i]) / (j - i) for i, j in combinations(range(values.size), 2)]
    return float(np.median(pairs))


def without_drift(levels: Sequence[float]) -> list[float]:
    """Levels in the order taken without what they gain from frame to frame, about their middle, in ADU."""
    values = np.asarray(levels, float)
    if values.size < FEWEST:
        return list(levels)
    straight = values - steady_slope(values) * (np.arange(values.size) - (values.size - 1) / 2.0)
    return [float(v) for v in straight]


def unsettled(values: Sequence[float], least: float) -> int:
    """How many of the first frames lie beside where the others' drift leads back to: each by more than `least`, the first by
    the most.

    Parameters
    ----------
    values, least
        Levels in the order taken, and what is no matter, in ADU.
    """
    found = np.asarray(values, float)
    if found.size < FEWEST:
        return 0
    for many in range(min(MOST_UNSETTLED, found.size // 3), 0, -1):
        rest, slope = found[many:], _sure_slope(found[many:])
        places = np.arange(found.size) - (many + (rest.size - 1) / 2.0)
        away = (found - np.median(rest) - slope * places)[:many]
        # A drift is seldom straight: what it may bend by is no matter.
        limit = max(least, SURE * scatter_of(rest), BENDS * abs(slope) * rest.size)
        falling = all(abs(a) >= abs(b) for a, b in zip(away, away[1:], strict=False))
        if falling and bool(np.all(np.sign(away) == np.sign(away[0]))) and abs(away[-1]) > limit:
            return many
    return 0


def _sure_slope(values: NDArray[np.float64]) -> float:
    """What a value surely gains from one frame to the next; nought where that may be chance."""
    slope = steady_slope(values)
    return slope if abs(slope) * (values.size - 1) > SURE * _scatter_of_slope(values) else 0.0


def _scatter_of_slope(values: NDArray[np.float64]) -> float:
    """The slope of n values scatters by √12·σ over the whole of them, divided by √n."""
    return scatter_of(values) * math.sqrt(12.0 / values.size)


def first_frames(levels: Sequence[float], *, lit: bool) -> list[SetFinding]:
    """First frames that have not settled: a camera that warms up, a bias that creeps, a light just switched on.

    Parameters
    ----------
    levels
        Mean level of each frame in the order taken, ADU.
    """
    middle = float(np.median(levels)) if len(levels) else 0.0
    least = UNSETTLED_SHARE * abs(middle) if lit else UNSETTLED_ADU
    many = unsettled(levels, least)
    if not many:
        return []
    rest = np.asarray(levels[many:], float)
    off = levels[0] - float(np.median(rest)) + _sure_slope(rest) * (many + (rest.size - 1) / 2.0)
    size, unit = (100.0 * off / middle, "%") if lit else (off, "ADU")
    which = "The first frame lies" if many == 1 else f"The first {many} frames lie"
    return [
        SetFinding(
            Fault.UNSETTLED,
            size,
            unit,
            f"{which} beside the others, the very first by {size:+,.1f} {unit}: not settled yet.".replace(
                "-", "−"
            ),
            "Drop them: say on the camera’s sheet how many of a series are not settled.",
            tuple(range(many)),
            leave_out=True,
        )
    ]


def gathers(levels: NDArray[np.float64], noises: NDArray[np.float64]) -> bool:
    """Whether capped frames whose level moves gathered electrons: then their variance moves with it, by 1/K ADU² for each ADU
    at K e⁻/ADU (EMVA 1288, the photon transfer). A pedestal that moves leaves the noise as it is.

    Parameters
    ----------
    levels, noises
        Mean and noise of a pixel of each frame in the order taken, ADU.
    """
    variances = noises * noises
    more = steady_slope(variances) * (variances.size - 1)
    share = more / (steady_slope(levels) * (levels.size - 1))
    return bool(share > LEAST_SHOT and abs(more) > SURE * _scatter_of_slope(variances))


def drift(levels: Sequence[float], noises: Sequence[float], *, lit: bool) -> list[SetFinding]:
    """A level that moves over the whole set: a panel that warms up, a pedestal or a sensor that does, light that comes in.

    Parameters
    ----------
    levels, noises
        Mean and noise of a pixel of each frame in the order taken, ADU; apart ones left out. No noises where they tell nothing
        of light.
    """
    values = np.asarray(levels, float)
    if values.size < FEWEST:
        return []
    total, middle = steady_slope(values) * (values.size - 1), float(np.median(values))
    sure = SURE * _scatter_of_slope(values)
    if abs(total) <= max(DRIFT_SHARE * abs(middle) if lit else DRIFT_ADU, sure):
        return []
    if lit:
        size = 100.0 * total / middle
        return [
            SetFinding(
                Fault.PANEL_DRIFT,
                size,
                "%",
                f"The light drifted by {size:+.1f} % over the set; each frame is scaled to its own median.".replace(
                    "-", "−"
                ),
                "Let the panel warm up for some minutes before the first flat.",
            )
        ]
    words = f"The level of the capped frames drifted by {total:+,.1f} ADU over the set".replace("-", "−")
    if noises and gathers(values, np.asarray(noises, float)):
        words += ", and their noise with it, as light has it: it reached the sensor."
        advice = "Cap on, the room dark, the gap at the focuser covered; then shoot them again."
        return [SetFinding(Fault.LEAK, abs(total), "ADU", words, advice)]
    return [
        SetFinding(
            Fault.PEDESTAL_DRIFT,
            total,
            "ADU",
            f"{words}.",
            "Let the camera settle at its temperature first; shoot them again if lights are held against this level.",
        )
    ]
