"""What the devices around a train say of themselves when they are tried: mount, safety monitor, weather station, switch."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from grayshelf.core.errors import DeviceError
from grayshelf.devices.alpaca.asking import AlpacaDevice, as_text
from grayshelf.devices.alpaca.errors import DeviceRefused, Rubbish

#: A switch has no more ports.
MOST_PORTS = 200


@dataclass(frozen=True)
class MountSaid:
    """Of a telescope."""

    by_altitude: bool
    """It slews to altitude and azimuth; else by hour angle and declination."""
    can_park: bool
    can_home: bool


@dataclass(frozen=True)
class SafetySaid:
    """Of a safety monitor."""

    safe: bool
    """When it was tried."""


@dataclass(frozen=True)
class WeatherSaid:
    """Of a weather station."""

    tells: tuple[str, ...]
    """Which of the things that a night's log keeps."""


@dataclass(frozen=True)
class Port:
    """A port of a switch that can be set."""

    number: int
    name: str
    lowest: float
    highest: float
    step: float


@dataclass(frozen=True)
class SwitchSaid:
    """Of a switch."""

    ports: tuple[Port, ...]


def mount_says(device: AlpacaDevice) -> MountSaid:
    """Ask a telescope.

    Raises
    ------
    DeviceError
        Where it cannot be sent anywhere without waiting for it.
    """
    by_altitude = device.has("canslewaltazasync") is True
    if not by_altitude and device.has("canslewasync") is not True:
        raise DeviceError(f"{device.name} cannot be sent anywhere by a program.", "Point it by hand.")
    return MountSaid(by_altitude, device.has("canpark") is True, device.has("canfindhome") is True)


def safety_says(device: AlpacaDevice) -> SafetySaid:
    """Ask a safety monitor."""
    return SafetySaid(device.get("issafe") is True)


def weather_says(device: AlpacaDevice) -> WeatherSaid:
    """Ask a weather station which of its sensors there are."""
    told = []
    for what, word in (("temperature", "air"), ("humidity", "humidity"), ("starfwhm", "seeing")):
        try:
            device.get(what)
        except DeviceRefused as refusal:
            if refusal.lacks:
                continue
        told.append(word)
    return WeatherSaid(tuple(told))


def switch_says(device: AlpacaDevice) -> SwitchSaid:
    """Ask a switch for its ports that can be set."""
    count = device.get("maxswitch")
    if not isinstance(count, int) or not 0 <= count <= MOST_PORTS:
        raise Rubbish(f"{device.name} does not say how many ports it has.")
    ports = []
    for number in range(count):
        if device.get("canwrite", Id=number) is not True:
            continue
        name = as_text(device.get("getswitchname", Id=number), 60)
        told = [device.get(what, Id=number) for what in ("minswitchvalue", "maxswitchvalue", "switchstep")]
        if all(_is_number(v) for v in told) and told[1] > told[0] and told[2] > 0:
            ports.append(Port(number, name, *(float(v) for v in told)))
    if not ports:
        raise DeviceError(f"{device.name} has no port that can be set.", "Choose another device.")
    return SwitchSaid(tuple(ports))


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)
