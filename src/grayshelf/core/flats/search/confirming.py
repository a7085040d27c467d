"""When the test flat that confirmed a setting is as good as the first of the flats shot with it."""

from __future__ import annotations

from grayshelf.core.flats.model import FlatTarget

#: Exposures are the same where they differ by no more than this share: headers round them.
SAME_SHARE = 0.001


def is_a_flat(
    shot: tuple[float, int | None], level_adu: float, setting: tuple[float, int | None], target: FlatTarget
) -> bool:
    """Whether a test flat was taken at the setting, and lies in tolerance.

    Parameters
    ----------
    shot, setting
        Exposure in seconds, and brightness; None where it is not known, or cannot be set.
    level_adu
        Of the test flat.
    """
    (shot_s, shot_brightness), (exposure_s, brightness) = shot, setting
    same = abs(shot_s - exposure_s) <= SAME_SHARE * exposure_s
    as_bright = shot_brightness is None or shot_brightness == brightness
    return same and as_bright and abs(level_adu - target.level_adu) <= target.tolerance_adu
