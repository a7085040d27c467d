"""Darks of a sensor that no cooler holds: it is as warm as the night, so they are shot right after their lights."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

from grayshelf.core.matching.model import CommonSettings


def wanted_now(want: CommonSettings, night: date | None, tonight: date) -> CommonSettings | None:
    """What a dark shot now has to be for lights of a sensor that nobody holds (common practice).

    Parameters
    ----------
    night
        On which the lights were taken.

    Returns
    -------
    Their settings without a temperature to be set: the sensor is about as warm as it was. None where they are of another
    night: how warm it is now is not known.
    """
    return replace(want, sensor_temp_c=None) if night == tonight else None
