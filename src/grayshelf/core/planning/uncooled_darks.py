"""Darks of a sensor that no cooler holds: it is as warm as the night, so they are shot right after their lights."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

from grayshelf.core.matching.model import Candidate, CommonSettings

#: Darks of a night that are fewer are worth shooting again (common practice).
ENOUGH = 10


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


def near_as_can_be(chosen: Candidate | None, tonight: date) -> bool:
    """Whether darks were shot right after their lights, enough of them and like these in all but how warm the sensor was:
    others of this night would be no nearer."""
    if chosen is None or chosen.holding.settings.night != tonight or chosen.holding.n_frames < ENOUGH:
        return False
    return all(r.inside or r.unknown or r.quantity == "temperature" for r in chosen.rulers)
