"""A camera that another program runs, in the place of one that is connected."""

from __future__ import annotations

from threading import Event

from grayshelf.core.errors import DeviceError
from grayshelf.devices.ports import CameraFacts, CoolerState, Exposed


class HandCamera:
    """A camera that another program runs: what its frames tell of it."""

    def __init__(self, facts: CameraFacts) -> None:
        self.facts = facts

    def expose(
        self,
        exposure_s: float,
        gain: float,
        offset: float,
        binning: int,
        cancel: Event | None = None,
        *,
        shutter_open: bool = True,
    ) -> Exposed:
        """Nothing here can make it expose."""
        raise DeviceError("No device is connected: another program shoots.", "Let it shoot.")

    def cooler(self) -> CoolerState:
        """How warm it is now is not known here."""
        return CoolerState(None, None, 0.0)

    def set_temperature(self, set_point_c: float) -> None:
        """Nothing here can set it."""
        raise DeviceError("No device is connected: another program sets the cooler.", "")

    def cooler_off(self) -> None:
        """Nothing here can switch it."""
        raise DeviceError("No device is connected: another program sets the cooler.", "")
