"""What compiled loops have to know of how outliers are left out."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

#: How the spread of a pixel's samples is known, by which outliers are told; or none is told, but the lowest and the highest
#: sample are left out whatever they are.
POOLED, STD, MAD, NO_CLIPPING, EXTREMES = 0, 1, 2, 3, 4


class Clip(NamedTuple):
    """How the samples of a pixel are combined; see `CombineSettings` and `StackNoise`."""

    how: int
    """One of those above."""
    kappa: float
    rounds: int
    median_only: bool
    levels: NDArray[np.float64]
    variances: NDArray[np.float64]
    least_above: NDArray[np.float64]
    quantum: float
    noisy_above: float
    own_factor: float
    trimmed: int
