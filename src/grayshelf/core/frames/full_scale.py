"""Pictures whose values run from 0 to 1: shares of the full scale of 16 bits, in place of ADU.

Programs that combine frames or calibrate them often keep pixels so (common practice, no source). What is taken off a light or
a flat has to be in its own unit. A master flat that was divided by its own level, or by its brightest, is in none: it lies higher
than any flat is exposed to.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.frames.kinds import FrameKind

#: What 1 stands for.
FULL_SCALE_ADU = 65_535.0
#: No pedestal is lower: a picture of such a level is in ADU, and clipped at zero.
LEAST_ADU = 5.0
#: No frame behind the cap is brighter.
MOST_CAPPED_ADU = FULL_SCALE_ADU / 4.0
#: No flat is exposed to three quarters of the full scale (common practice: half of it at most).
HIGHEST_FLAT = 0.75


def are_shares(kind: FrameKind | None, values: NDArray[np.floating[Any]]) -> bool:
    """Whether values are shares of full scale.

    Parameters
    ----------
    values
        Some of the pixels as the file has them, any shape.
    """
    known = values[np.isfinite(values)]
    if kind is None or known.size == 0 or known.min() < 0.0 or known.max() > 1.0:
        return False
    most = {FrameKind.LIGHT: 1.0, FrameKind.FLAT: HIGHEST_FLAT}.get(kind, MOST_CAPPED_ADU / FULL_SCALE_ADU)
    return bool(LEAST_ADU / FULL_SCALE_ADU <= np.median(known) <= most)
