"""What moves, on the network: a filter wheel, a focuser, a rotator."""

from __future__ import annotations

import math
from collections.abc import Callable

from grayshelf.core.errors import DeviceError
from grayshelf.devices.alpaca.asking import AlpacaDevice
from grayshelf.devices.alpaca.errors import Rubbish
from grayshelf.devices.alpaca.waiting import wait_until

#: A wheel, a focuser, a rotator may take so long.
WHEEL_S, MOVE_S = 60.0, 180.0
#: A focuser is where it should be within a step, a rotator within this, in degrees.
ANGLE_WITHIN_DEG = 0.3


def read_number(device: AlpacaDevice, what: str) -> float:
    """A property that must be a number.

    Raises
    ------
    Rubbish
        Where it is none.
    """
    value = device.get(what)
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise Rubbish(f"{device.name} told no number as its {what}.")
    return float(value)


class AlpacaWheel:
    """A filter wheel of the Alpaca standard."""

    def __init__(self, device: AlpacaDevice, filters: tuple[str, ...]) -> None:
        """`filters`: what sits in its places, by the rig's own codes."""
        self.filters, self._device = filters, device

    def position(self) -> int:
        """Index of the filter that is in; −1 while it turns."""
        self._device.connect()
        return int(read_number(self._device, "position"))

    def move(self, index: int) -> None:
        """Bring another filter in."""
        if self.position() == index:
            return
        self._device.put("position", Position=index)
        late = DeviceError(
            f"{self._device.name} did not bring {self.filters[index]} in within {WHEEL_S:.0f} s. Flats shot now "
            "could be of another filter, so none are shot.",
            "Free the wheel, then go on.",
        )
        wait_until(lambda: int(read_number(self._device, "position")) == index, WHEEL_S, late)


class AlpacaFocuser:
    """An absolute focuser of the Alpaca standard; positions are its steps."""

    def __init__(self, device: AlpacaDevice, most: int | None = None) -> None:
        self._device, self._most = device, most

    def position(self) -> float:
        """Where it is."""
        self._device.connect()
        return read_number(self._device, "position")

    def move(self, to: float) -> None:
        """Move there."""
        goal = round(to)
        if goal < 0 or (self._most is not None and goal > self._most):
            raise DeviceError(
                f"{self._device.name} goes from 0 to {self._most:,} steps, not to {goal:,}.",
                "Change the focus that is asked for, then go on.",
            )
        if abs(self.position() - goal) < 1:
            return
        self._device.put("move", Position=goal)
        _arrive(
            self._device, lambda: abs(read_number(self._device, "position") - goal), 1.0, f"{goal:,} steps"
        )


class AlpacaRotator:
    """A rotator of the Alpaca standard; positions are its mechanical angle, where it has one."""

    def __init__(self, device: AlpacaDevice, *, mechanical: bool) -> None:
        self._device = device
        self._where = "mechanicalposition" if mechanical else "position"
        self._how = "movemechanical" if mechanical else "moveabsolute"

    def position(self) -> float:
        """Where it is, in degrees from 0 to 360."""
        self._device.connect()
        return read_number(self._device, self._where) % 360.0

    def move(self, to: float) -> None:
        """Move there."""
        goal = to % 360.0
        self.position()
        self._device.put(self._how, Position=goal)
        _arrive(
            self._device,
            lambda: abs((read_number(self._device, self._where) - goal + 180.0) % 360.0 - 180.0),
            ANGLE_WITHIN_DEG,
            f"{goal:.1f}°",
        )


def _arrive(device: AlpacaDevice, away: Callable[[], float], near: float, where: str) -> None:
    """Wait until it stands still, where it should."""
    late = DeviceError(
        f"{device.name} does not come to {where} in {MOVE_S:.0f} s.", "See what holds it, then go on."
    )
    wait_until(lambda: device.get("ismoving") is False, MOVE_S, late)
    if away() > near:
        raise DeviceError(
            f"{device.name} stopped short of {where}: it is {away():.1f} away from it.",
            "See what holds it, then go on.",
        )
