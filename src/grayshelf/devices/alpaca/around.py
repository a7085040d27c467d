"""What stands around a train, on the network: the mount, the safety monitor, the weather station, a lamp on a power port."""

from __future__ import annotations

import math
import threading
from contextlib import suppress
from typing import Any

from grayshelf.core.errors import DeviceError
from grayshelf.core.planning.pointing import hour_angle_and_declination
from grayshelf.core.rigs.device_parts import steps_of_port
from grayshelf.devices.alpaca.asking import AlpacaDevice
from grayshelf.devices.alpaca.errors import DeviceRefused
from grayshelf.devices.alpaca.movers import read_number
from grayshelf.devices.alpaca.waiting import wait_until
from grayshelf.devices.ports import Conditions

#: A mount may take so long to point, and is where it should be within so much.
SLEW_S, POINTS_WITHIN_DEG = 300.0, 1.0
#: A lamp on a power port settles in so long.
LAMP_S = 10.0


class AlpacaMount:
    """A telescope of the Alpaca standard, used to face a light and the sky."""

    def __init__(self, device: AlpacaDevice, *, by_altitude: bool) -> None:
        """`by_altitude`: it slews to altitude and azimuth; else it is sent by hour angle and declination."""
        self._device, self._by_altitude = device, by_altitude

    def point(self, altitude_deg: float, azimuth_deg: float, cancel: threading.Event | None = None) -> None:
        """Point there and stand still, with tracking off."""
        mount = self._device
        mount.connect()
        if mount.has("atpark") is True:
            mount.put("unpark")
            self._stands(cancel)
        if self._by_altitude:
            # By the standard a mount that follows the stars is not sent by altitude.
            self._track(False)
            mount.put("slewtoaltazasync", Azimuth=azimuth_deg % 360.0, Altitude=altitude_deg)
        else:
            self._track(True)
            hour_angle_deg, declination_deg = hour_angle_and_declination(
                altitude_deg, azimuth_deg, read_number(mount, "sitelatitude")
            )
            right_ascension_h = (read_number(mount, "siderealtime") - hour_angle_deg / 15.0) % 24.0
            mount.put("slewtocoordinatesasync", RightAscension=right_ascension_h, Declination=declination_deg)
        self._stands(cancel)
        self._track(False)
        self._see_that_it_is_there(altitude_deg, azimuth_deg)

    def park(self, cancel: threading.Event | None = None) -> None:
        """Go to its parking place."""
        self._device.connect()
        self._device.put("park")
        self._stands(cancel)

    def home(self, cancel: threading.Event | None = None) -> None:
        """Go to its home place."""
        self._device.connect()
        self._device.put("findhome")
        self._stands(cancel)

    def _track(self, on: bool) -> None:
        with suppress(DeviceRefused):
            # Some mounts cannot stop following; some need not.
            self._device.put("tracking", Tracking=on)

    def _stands(self, cancel: threading.Event | None) -> None:
        late = DeviceError(
            f"{self._device.name} still moves after {SLEW_S:.0f} s.", "See what holds it, then go on."
        )
        try:
            wait_until(lambda: self._device.get("slewing") is False, SLEW_S, late, cancel)
        except BaseException:
            with suppress(DeviceError):
                self._device.put("abortslew", within_s=1.5)
            raise

    def _see_that_it_is_there(self, altitude_deg: float, azimuth_deg: float) -> None:
        told = self._device.has("altitude"), self._device.has("azimuth")
        if not all(isinstance(v, int | float) for v in told):
            return
        away = _apart_deg((altitude_deg, azimuth_deg), (float(told[0]), float(told[1])))
        if away > POINTS_WITHIN_DEG:
            raise DeviceError(
                f"{self._device.name} stopped {away:.1f}° away from where it was sent.",
                "See what holds it, then go on.",
            )


def _apart_deg(one: tuple[float, float], other: tuple[float, float]) -> float:
    """Between two places by altitude and azimuth, in degrees."""
    a, b = math.radians(one[0]), math.radians(other[0])
    cosine = math.sin(a) * math.sin(b) + math.cos(a) * math.cos(b) * math.cos(math.radians(one[1] - other[1]))
    return math.degrees(math.acos(max(-1.0, min(1.0, cosine))))


class AlpacaSafety:
    """A safety monitor."""

    def __init__(self, device: AlpacaDevice) -> None:
        self.name, self._device = device.name, device

    def is_safe(self) -> bool:
        """Whether it says so; one that does not answer has not said so."""
        try:
            self._device.connect()
            return self._device.get("issafe") is True
        except DeviceError:
            return False


class AlpacaWeather:
    """A weather station (ObservingConditions)."""

    def __init__(self, device: AlpacaDevice) -> None:
        self._device = device

    def now(self) -> Conditions:
        """What it says now; a sensor that it lacks, or that is not ready, is not told."""
        self._device.connect()
        return Conditions(self._told("temperature"), self._told("humidity"), self._told("starfwhm"))

    def _told(self, what: str) -> float | None:
        try:
            value: Any = self._device.get(what)
        except DeviceRefused:
            return None
        known = isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)
        return float(value) if known else None


class AlpacaLamp:
    """A light on a port of a switch: on and off, or with the port's own steps as its brightness."""

    can_be_timed = False
    lowest = 1

    def __init__(self, device: AlpacaDevice, port: int, span: tuple[float, float, float]) -> None:
        """`span`: lowest value, highest, and step of the port."""
        self._device, self._port = device, port
        self._least, most, self._step = span
        self.highest = steps_of_port(self._least, most, self._step)

    def brightness(self) -> int:
        """Brightness now; 0 is dark."""
        self._device.connect()
        value = self._device.get("getswitchvalue", Id=self._port)
        return round((float(value) - self._least) / self._step)

    def set_brightness(self, value: int) -> None:
        """Set the brightness; 0 is dark."""
        if not 0 <= value <= self.highest:
            raise DeviceError(f"{self._device.name} goes from 0 to {self.highest:,}, not to {value:,}.")
        self._device.connect()
        self._device.put("setswitchvalue", Id=self._port, Value=self._least + value * self._step)
        late = DeviceError(
            f"{self._device.name} was set to {value:,} and is not there after {LAMP_S:.0f} s. No flat was shot under it.",
            "Look at the lamp and its port, then go on.",
        )
        wait_until(lambda: self.brightness() == value, LAMP_S, late)

    def light_within(self, before_s: float, lit_s: float) -> None:
        """No switch of the standard can be lit for a set time."""
        raise DeviceError(f"{self._device.name} cannot be lit for a set time within an exposure.")
