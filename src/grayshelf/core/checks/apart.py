"""Frames of a set that lie apart from the others: the wrong filter, light on a dark, an unsettled first frame."""

from __future__ import annotations

import statistics
from collections.abc import Sequence

from grayshelf.core.masters.spread import MAD_TO_SIGMA

#: A frame further than this many robust deviations from its set is apart from it ...
DEVIATIONS = 8.0
#: ... where it is also further than this share of the level, so that a steady set is not picked apart.
SHARE = 0.02
#: ... and further than this, in ADU.
LEAST_ADU = 8.0


def apart_from_set(levels_adu: Sequence[float]) -> dict[int, str]:
    """Which frames lie apart from their set, by index, and why in words.

    A frame is apart where ``|level − median| > max(8·σ, 2 % of the median, 8 ADU)``, with the robust
    ``σ = 1.4826·MAD`` (the limits are common practice, no published source).

    Parameters
    ----------
    levels_adu
        Median level of each frame, ADU. Fewer than four frames are never judged.
    """
    if len(levels_adu) < 4:
        return {}
    middle = statistics.median(levels_adu)
    spread = MAD_TO_SIGMA * statistics.median(abs(v - middle) for v in levels_adu)
    limit = max(DEVIATIONS * spread, SHARE * abs(middle), LEAST_ADU)
    return {
        i: f"its level, {value:,.0f} ADU, lies {abs(value - middle):,.0f} ADU "
        f"{'above' if value > middle else 'below'} the others"
        for i, value in enumerate(levels_adu)
        if abs(value - middle) > limit
    }
