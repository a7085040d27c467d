"""A panel and a cover on the network: the standard's one device for both."""

from __future__ import annotations

from enum import IntEnum

from grayshelf.core.errors import DeviceError
from grayshelf.devices.alpaca.asking import AlpacaDevice
from grayshelf.devices.alpaca.movers import read_number
from grayshelf.devices.alpaca.waiting import wait_until

#: A light settles, and a cover closes, in so long.
LIGHT_S, COVER_S = 30.0, 90.0


class Calibrator(IntEnum):
    """States of a light (Alpaca API reference, CalibratorStatus)."""

    NOT_PRESENT, OFF, NOT_READY, READY, UNKNOWN, ERROR = range(6)


class CoverState(IntEnum):
    """States of a cover (Alpaca API reference, CoverStatus)."""

    NOT_PRESENT, CLOSED, MOVING, OPEN, UNKNOWN, ERROR = range(6)


class AlpacaPanel:
    """A light with brightness."""

    can_be_timed = False

    def __init__(self, device: AlpacaDevice, highest: int, lowest: int = 1) -> None:
        """`highest` as it says; `lowest` is the lowest brightness that gives light, which no device tells."""
        self.lowest, self.highest, self._device = lowest, highest, device

    def brightness(self) -> int:
        """Brightness now; 0 is dark."""
        self._device.connect()
        if self._device.get("calibratorstate") == Calibrator.OFF:
            return 0
        return int(read_number(self._device, "brightness"))

    def set_brightness(self, value: int) -> None:
        """Set the brightness and wait until it is steady; 0 is dark."""
        if not 0 <= value <= self.highest:
            raise DeviceError(f"{self._device.name} goes from 0 to {self.highest:,}, not to {value:,}.")
        device = self._device
        device.connect()
        goal = Calibrator.READY if value else Calibrator.OFF
        if value:
            device.put("calibratoron", Brightness=value)
        else:
            device.put("calibratoroff")
        late = DeviceError(
            f"{device.name} is not steady {LIGHT_S:.0f} s after it was set to {value:,}. No flat was shot under it.",
            "Look at the panel, then go on.",
        )
        wait_until(lambda: self._at(goal), LIGHT_S, late)
        is_ = self.brightness()
        if is_ != value:
            raise DeviceError(
                f"{device.name} was set to {value:,} and says that it is at {is_:,}. No flat was shot under it.",
                "Look at the panel, then go on.",
            )

    def light_within(self, before_s: float, lit_s: float) -> None:
        """No light of the standard can be lit for a set time."""
        raise DeviceError(f"{self._device.name} cannot be lit for a set time within an exposure.")

    def _at(self, goal: Calibrator) -> bool:
        state = self._device.get("calibratorstate")
        if state == Calibrator.ERROR:
            raise DeviceError(
                f"{self._device.name} says that its light is in error. No flat was shot under it.",
                "Look at the panel, then go on.",
            )
        return bool(state == goal)


class AlpacaCover:
    """A cover that moves by itself."""

    def __init__(self, device: AlpacaDevice, *, is_light: bool) -> None:
        self.is_light, self._device = is_light, device

    def shut(self) -> None:
        """Close it."""
        self._to(CoverState.CLOSED, "closecover", "closed")

    def open(self) -> None:
        """Open it."""
        self._to(CoverState.OPEN, "opencover", "open")

    def _to(self, goal: CoverState, how: str, word: str) -> None:
        device = self._device
        device.connect()
        if device.get("coverstate") == goal:
            return
        device.put(how)
        late = DeviceError(
            f"The cover of {device.name} is not {word} after {COVER_S:.0f} s, so nothing was shot.",
            "See what holds it, then go on.",
        )

        def there() -> bool:
            state = device.get("coverstate")
            if state == CoverState.ERROR:
                raise DeviceError(
                    f"The cover of {device.name} says that it is in error, so nothing was shot.",
                    "See what holds it, then go on.",
                )
            return bool(state == goal)

        wait_until(there, COVER_S, late)
