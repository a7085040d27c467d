"""What a device on the network can be for a rig: a part of its train, or something beside it."""

from __future__ import annotations

from enum import StrEnum


class DevicePart(StrEnum):
    """Parts of the train by their names there, and what stands beside it."""

    CAMERA = "camera"
    FILTERS = "filters"
    LIGHT = "light"
    COVER = "cover"
    ROTATOR = "rotator"
    FOCUSER = "focuser"
    MOUNT = "mount"
    SAFETY = "safety"
    WEATHER = "weather"


def steps_of_port(lowest: float, highest: float, step: float) -> int:
    """Steps above its lowest value that a power port can be set to: the brightness of a lamp on it goes from 1 to this.

    >>> steps_of_port(0.0, 1.0, 1.0), steps_of_port(10.0, 60.0, 0.5)
    (1, 100)
    """
    return max(round((highest - lowest) / step), 1)
