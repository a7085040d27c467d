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
