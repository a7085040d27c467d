"""What can go wrong with a device on the network, each with what to do."""

from __future__ import annotations

from grayshelf.core.errors import DeviceError

#: The standard's numbers of errors (Alpaca API reference, "Error handling").
NOT_IMPLEMENTED, INVALID_VALUE, VALUE_NOT_SET, NOT_CONNECTED, INVALID_WHILE_PARKED = (
    0x400,
    0x401,
    0x402,
    0x407,
    0x408,
)
ACTION_NOT_IMPLEMENTED = 0x40C


class NotAnswering(DeviceError):
    """No answer came in time, or not a whole one."""

    def __init__(self, message: str, *, cut_off: bool = False) -> None:
        super().__init__(
            message, "See that the device’s program runs and that the network is up, then go on."
        )
        self.cut_off = cut_off
        """It had begun: the connection was there and was lost."""


class Rubbish(DeviceError):
    """An answer came that is none by the standard."""

    def __init__(self, message: str) -> None:
        super().__init__(message, "Restart the device’s program, then go on.")


class DeviceRefused(DeviceError):
    """The device understood and refused."""

    def __init__(self, message: str, advice: str, number: int) -> None:
        super().__init__(message, advice)
        self.number = number

    @property
    def lacks(self) -> bool:
        """Whether it has no such property or function at all."""
        return self.number in (NOT_IMPLEMENTED, ACTION_NOT_IMPLEMENTED)


def refused(name: str, number: object, said: str) -> DeviceRefused:
    """The device's refusal, in its own words."""
    told = number if isinstance(number, int) else -1
    words = f"{name} refused: {said}" if said else f"{name} refused, with error {told:#x} and no word."
    advice = "Go on when that is mended."
    if told == NOT_CONNECTED:
        advice = "Its program lost the device itself: look at its cable and power, then go on."
    return DeviceRefused(words, advice, told)
