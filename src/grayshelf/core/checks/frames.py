"""Checks on frames as they arrive, before anything is built from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from grayshelf.core.masters.noise import dark_rate_at
from grayshelf.core.matching.model import SensorTraits
from grayshelf.core.sensor.statistics import UNSHIFTED_ENDS, FrameStatistics

#: A capped frame may lie this far above its pedestal for dark current and drift (common practice).
LEAK_ALLOWANCE_ADU = 60.0


@dataclass(frozen=True)
class FrameFault:
    """What is wrong with a frame and how big it is."""

    what: str
    size: float
    unit: str
    message: str
    advice: str


#: The lowest level at which a converter of 12 bits or more, filled up to 16, is full: 65536 − 2⁴.
FULL_ADU = 65_520.0
FULL_FLATS = "their pixels are full: what light they held is lost"


def care_with_flats(level_adu: float | None, told_adu: float | None = None) -> tuple[str, ...]:
    """What the median level of flats that are not combined yet says against them; also of a converter of 12 or 14 bits that
    is not filled up to 16, whose full pixels pile up at its end or where its files say (`told_adu`)."""
    full_adu = min(FULL_ADU, told_adu or FULL_ADU)
    full = level_adu is not None and (level_adu >= full_adu or level_adu in UNSHIFTED_ENDS)
    return (FULL_FLATS,) if full else ()


#: Dark current of a camera that nobody measured may be so many times the usual one, and a bit more.
DARK_ALLOWANCE_TIMES, DARK_ALLOWANCE_ADU = 4.0, 100.0


def dark_allowance_adu(traits: SensorTraits, temp_c: float | None, exposure_s: float) -> float:
    """What dark current may add to a dark of `exposure_s` s at `temp_c` °C before light is suspected, in ADU.

    By `dark_rate_at`; a temperature that is not known is taken for that of the rate.
    """
    at_c = traits.dark_rate_at_c if temp_c is None else temp_c
    expected_e = float(dark_rate_at(traits.dark_rate_e_s, traits.dark_rate_at_c, at_c)) * exposure_s
    return DARK_ALLOWANCE_TIMES * expected_e / traits.electrons_per_adu + DARK_ALLOWANCE_ADU


#: The pedestal that a search's fit gave is as sure as this share of the flat's tolerance.
FITTED_WITHIN = 0.1


def capped_level_adu(
    measured_adu: float | None, fitted_adu: float | None, tolerance_adu: float, series_adu: Sequence[float]
) -> float | None:
    """Where a capped frame should lie at most, in ADU; None where nobody knows.

    Parameters
    ----------
    measured_adu
        The pedestal at these settings, by frames on the shelf.
    fitted_adu, tolerance_adu
        Else that of the search in the light whose flats it belongs to, and those flats' tolerance.
    series_adu
        Else the levels of the frames of its own series: as dark as the darkest of them.
    """
    if measured_adu is not None:
        return measured_adu
    if fitted_adu is not None:
        return fitted_adu + FITTED_WITHIN * tolerance_adu
    return min(series_adu, default=None)


def light_leak(
    capped: FrameStatistics, pedestal_adu: float, dark_current_adu: float = 0.0
) -> FrameFault | None:
    """Whether light reached a frame that should be dark; None where it lies no more than `LEAK_ALLOWANCE_ADU` too high.

    Parameters
    ----------
    capped
        Statistics of the capped frame, ADU.
    pedestal_adu
        Where a capped frame of these settings should lie.
    dark_current_adu
        What dark current adds in the exposure.
    """
    excess = capped.median - pedestal_adu - dark_current_adu
    if excess <= LEAK_ALLOWANCE_ADU:
        return None
    return FrameFault(
        "light leak",
        excess,
        "ADU",
        f"The frame lies {excess:,.0f} ADU above a capped one: light reaches the sensor.",
        "Put the cap on, darken the room, and shoot it again.",
    )


def sky_missed(off_adu: float, tolerance_adu: float) -> FrameFault:
    """What to say of a flat of the twilight sky that lies `off_adu` (ADU, with its sign) beside its level."""
    return FrameFault(
        "level",
        off_adu,
        "ADU",
        f"The sky gave {abs(off_adu):,.0f} ADU {'more' if off_adu > 0 else 'less'} than it should have, outside "
        f"±{tolerance_adu:,.0f}: the frame is left out of the master.",
        "A cloud, or the moon behind one? The next exposure follows the sky again.",
    )


def flat_level(stats: FrameStatistics, target_adu: float, tolerance_adu: float) -> FrameFault | None:
    """Whether a flat of a series is too far off to be used (the wrong filter is in, the panel went dark), in ADU.

    Twice the tolerance is allowed: a panel drifts a little, and each flat is scaled to its own median.
    """
    off = stats.median - target_adu
    if abs(off) <= 2.0 * tolerance_adu:
        return None
    return FrameFault(
        "level",
        off,
        "ADU",
        f"The flat lies {abs(off):,.0f} ADU {'above' if off > 0 else 'below'} the target, "
        f"outside ±{2.0 * tolerance_adu:,.0f}, and is left out of the master.",
        "Check the panel and the filter, and find the exposure again.",
    )
