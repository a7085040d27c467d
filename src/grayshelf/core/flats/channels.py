"""The channels of a colour sensor behind one flat: the brightest sets the level, and the weakest must not starve."""

from __future__ import annotations

#: With less than this share of the brightest channel's light, the weakest one's flat is noisier than people would take
#: (common practice: flats run from a tenth of the range up; a tenth of the light has three times the noise).
STARVING = 0.1


def channel_share(weakest_adu: float, brightest_adu: float, pedestal_adu: float) -> float:
    """Light of the weakest channel against the brightest one's, 0 … 1, by their levels in one frame (ADU):
    ``(weakest − pedestal) / (brightest − pedestal)``.
    """
    return max(weakest_adu - pedestal_adu, 0.0) / max(brightest_adu - pedestal_adu, 1.0)


def starves(share: float) -> bool:
    """Whether the weakest channel gets too little for a good flat (under 10 % of the brightest), however that is placed."""
    return share < STARVING
