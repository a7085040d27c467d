"""What a rig does by itself while another program runs its camera: light, filter, focus, angle, cover and mount."""

from __future__ import annotations

from grayshelf.core.planning.by_hand import CAP
from grayshelf.core.planning.sheet import FlatSeries
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.work.by_rig import passes
from grayshelf.work.job_control import JobControl
from grayshelf.work.shooting import set_up


def set_by_rig(devices: RigDevices | None) -> frozenset[str]:
    """The dials that devices set, by the names that the line of what to do has for them; and `CAP`."""
    if devices is None:
        return frozenset()
    there = {
        "filter": devices.wheel,
        "brightness": devices.panel,
        "focus": devices.focuser,
        "angle": devices.rotator,
        CAP: devices.cover,
    }
    return frozenset(name for name, device in there.items() if device is not None)


class BesideCamera:
    """Sets what is attached, before the other program is asked for its frames. The camera is left to that program."""

    def __init__(self, library: Library, control: JobControl, devices: RigDevices) -> None:
        self.devices, self._library, self._control = devices, library, control
        self._stands = ""
        """What cover and mount did last: a mount is not sent again to where it was sent."""

    def passes(self, sign: str) -> None:
        """Do the rig's part of what a gate asks for; hands do the rest, as the line says.

        Raises
        ------
        DeviceError
            Where a device does not do it; so with all of these.
        """
        if sign == self._stands:
            return
        alone = passes(self._library, sign, self.devices, self._control)
        # A cap that a hand puts on moves no mount away.
        if alone or sign in ("panel", "sky"):
            self._stands = sign

    def for_flats(self, row: FlatSeries, brightness: int | None) -> None:
        """As the row's lights had it, before a light of this brightness."""
        if self.devices.cover is not None or self.devices.mount is not None:
            self.passes("panel")
        set_up(self.devices, row.filter_code, row.focus, row.angle_deg)
        if self.devices.panel is not None and brightness is not None:
            self.devices.panel.set_brightness(brightness)

    def for_capped(self) -> None:
        """In the dark."""
        if self.devices.panel is not None:
            self.devices.panel.set_brightness(0)
        self.passes("cap")
