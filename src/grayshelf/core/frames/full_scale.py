"""Pictures whose values run from 0 to 1: shares of the full scale of 16 bits, in place of ADU.

Programs that combine frames or calibrate them often keep pixels so (common practice, no source). A flat is divided by its own
level, whatever its scale; what is taken off a light has to be in the light's own unit.
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


def may_be_shares(kind: FrameKind | None) -> bool:
    """Whether the unit of frames of a kind matters: all but flats, which are divided by their own level."""
    return kind is not None and kind is not FrameKind.FLAT


def are_shares(kind: FrameKind | None, values: NDArray[np.floating[Any]]) -> bool:
    """Whether values are shares of full scale.

    Parameters
    ----------
    values
        Some of the pixels as the file has them, any shape.
    """
    known = values[np.isfinite(values)]
    if not may_be_shares(kind) or known.size == 0 or known.min() < 0.0 or known.max() > 1.0:
        return False
    most = 1.0 if kind is FrameKind.LIGHT else MOST_CAPPED_ADU / FULL_SCALE_ADU
    return bool(LEAST_ADU / FULL_SCALE_ADU <= np.median(known) <= most)
