"""What a device says of itself when it is tried: the numbers that work rests on, once checked."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from grayshelf.core.errors import DeviceError
from grayshelf.devices.alpaca.asking import AlpacaDevice, as_text
from grayshelf.devices.alpaca.camera import number_in
from grayshelf.devices.alpaca.errors import DeviceRefused, Rubbish
from grayshelf.devices.alpaca.hands import HAND
from grayshelf.devices.alpaca.light import Calibrator, CoverState
from grayshelf.devices.alpaca.movers import read_number
from grayshelf.devices.alpaca.saying_around import (
    MountSaid,
    SafetySaid,
    SwitchSaid,
    WeatherSaid,
    mount_says,
    safety_says,
    switch_says,
    weather_says,
)
from grayshelf.devices.ports import CameraFacts

#: A sensor has no more pixels a side, a wheel no more places, a list of gains no more entries.
MOST_SIDE, MOST_PLACES, MOST_LISTED = 40_000, 64, 1_000
#: Sensor types of the standard (Alpaca API reference, SensorType) that are raw frames here.
_MONOCHROME, _COLOUR_MADE, _RGGB = 0, 1, 2
#: By how much the pattern RGGB is shifted, and what stands first then.
_SHIFTED = {(0, 0): "RGGB", (1, 0): "GRBG", (0, 1): "GBRG", (1, 1): "BGGR"}


@dataclass(frozen=True)
class CameraSaid:
    """Of a camera."""

    facts: CameraFacts
    gains: tuple[str, ...] = ()
    """Names of the gains that it can be set to; empty where it takes numbers."""
    offsets: tuple[str, ...] = ()
    longest_s: float | None = None
    has_shutter: bool = False
    can_abort: bool = True
    told_by_hands: bool = False
    """A stand-in, which has to be told what a person's hands did."""


@dataclass(frozen=True)
class WheelSaid:
    """Of a filter wheel."""

    names: tuple[str, ...]
    focus_offsets: tuple[int, ...]


@dataclass(frozen=True)
class LightSaid:
    """Of a panel, a cover, or both in one."""

    highest: int | None
    """Highest brightness; None where there is no light."""
    has_cover: bool


@dataclass(frozen=True)
class RotatorSaid:
    """Of a rotator."""

    mechanical: bool
    """Whether it tells its own angle apart from the sky's."""
    at_deg: float


@dataclass(frozen=True)
class FocuserSaid:
    """Of a focuser."""

    absolute: bool
    most: int | None
    step_um: float | None
    at: int | None


Said = (
    CameraSaid
    | WheelSaid
    | LightSaid
    | RotatorSaid
    | FocuserSaid
    | MountSaid
    | SafetySaid
    | WeatherSaid
    | SwitchSaid
)


@dataclass(frozen=True)
class Tried:
    """A device that answered."""

    name: str
    description: str
    driver: str
    interface: int | None
    said: Said


def try_device(device: AlpacaDevice) -> Tried:
    """Ask a device what it is and can do. It is connected to for that; nothing moves.

    Raises
    ------
    DeviceError
        Where it does not answer, or says what cannot be.
    """
    device.connect()
    driver = f"{as_text(device.has('driverinfo') or '')} {as_text(device.has('driverversion') or '')}".strip()
    interface = device.has("interfaceversion")
    return Tried(
        as_text(device.has("name") or device.name, 80),
        as_text(device.has("description") or "", 200),
        as_text(driver, 200),
        interface if isinstance(interface, int) else None,
        _ASKED[device.kind](device),
    )


# -- each kind ------------------------------------------------------------------------------------------------------


def _camera(device: AlpacaDevice) -> CameraSaid:
    width, height = (_whole(device, what, 1, MOST_SIDE) for what in ("cameraxsize", "cameraysize"))
    gains, gain_range = _settings(device, "gain")
    offsets, offset_range = _settings(device, "offset")
    cooled = device.has("cansetccdtemperature") is True
    facts = CameraFacts(
        name=as_text(device.has("name") or device.name, 80),
        width=width,
        height=height,
        pixel_um=_positive(device, "pixelsizex") or 0.0,
        white_adu=min(int(_positive(device, "maxadu") or 65_535), 65_535),
        bayer_pattern=_pattern(device),
        cooled=cooled,
        download_s=2.0,
        gain_range=gain_range,
        offset_range=offset_range,
        shortest_s=_positive(device, "exposuremin") or 0.001,
        most_binning=min(int(_positive(device, "maxbinx") or 1), int(_positive(device, "maxbiny") or 1), 8),
        tells_temperature=_lacks_not(device, "ccdtemperature"),
        tells_conversion=_lacks_not(device, "electronsperadu"),
    )
    return CameraSaid(
        facts,
        gains,
        offsets,
        longest_s=_positive(device, "exposuremax"),
        has_shutter=device.has("hasshutter") is True,
        can_abort=device.has("canabortexposure") is True,
        told_by_hands=HAND in (device.has("supportedactions") or ()),
    )


def _pattern(device: AlpacaDevice) -> str | None:
    """The colour pattern, by what stands in the first two rows."""
    kind = device.has("sensortype")
    if kind in (None, _MONOCHROME):
        return None
    if kind != _RGGB:
        made = (
            "makes coloured pictures itself"
            if kind == _COLOUR_MADE
            else "has a colour pattern that is no RGGB"
        )
        raise DeviceError(
            f"{device.name} {made}; calibration needs the raw values of a monochrome or RGGB sensor.",
            "Set it to raw in its own program, then try it again.",
        )
    shift = (_whole(device, "bayeroffsetx", 0, 8) % 2, _whole(device, "bayeroffsety", 0, 8) % 2)
    return _SHIFTED[shift]


def _settings(device: AlpacaDevice, what: str) -> tuple[tuple[str, ...], tuple[float, float] | None]:
    """How gain or offset is set: names of a list, or none; and lowest and highest. None where it cannot be set."""
    try:
        lowest, highest = read_number(device, f"{what}min"), read_number(device, f"{what}max")
        return (), (min(lowest, highest), max(lowest, highest))
    except DeviceRefused:
        # By the standard a camera has a range, or a list, or neither; the other is refused, by some with another number.
        pass
    try:
        names = device.get(f"{what}s")
    except DeviceRefused:
        return (), None
    if not isinstance(names, list) or not 0 < len(names) <= MOST_LISTED:
        return (), None
    listed = tuple(as_text(name, 40) for name in names)
    numbers = [n for n in map(number_in, listed) if n is not None]
    return (listed, (min(numbers), max(numbers))) if numbers else ((), None)


def _wheel(device: AlpacaDevice) -> WheelSaid:
    names = device.get("names")
    if not isinstance(names, list) or not 0 < len(names) <= MOST_PLACES:
        raise Rubbish(f"{device.name} does not say what is in its places.")
    offsets = device.has("focusoffsets")
    whole = (
        isinstance(offsets, list) and len(offsets) == len(names) and all(isinstance(o, int) for o in offsets)
    )
    return WheelSaid(
        tuple(as_text(name, 40) for name in names),
        tuple(offsets) if whole and isinstance(offsets, list) else (),
    )


def _light(device: AlpacaDevice) -> LightSaid:
    has_light = device.get("calibratorstate") != Calibrator.NOT_PRESENT
    has_cover = device.get("coverstate") != CoverState.NOT_PRESENT
    if not has_light and not has_cover:
        raise DeviceError(
            f"{device.name} says that it has neither a light nor a cover.", "Choose another device."
        )
    return LightSaid(_whole(device, "maxbrightness", 1, 2**31) if has_light else None, has_cover)


def _rotator(device: AlpacaDevice) -> RotatorSaid:
    mechanical = _lacks_not(device, "mechanicalposition")
    at = read_number(device, "mechanicalposition" if mechanical else "position")
    return RotatorSaid(mechanical, at % 360.0)


def _focuser(device: AlpacaDevice) -> FocuserSaid:
    absolute = device.get("absolute") is True
    most = _positive(device, "maxstep")
    return FocuserSaid(
        absolute,
        int(most) if most else None,
        _positive(device, "stepsize"),
        int(read_number(device, "position")) if absolute else None,
    )


_ASKED: dict[str, Callable[[AlpacaDevice], Said]] = {
    "camera": _camera,
    "filterwheel": _wheel,
    "covercalibrator": _light,
    "rotator": _rotator,
    "focuser": _focuser,
    "telescope": mount_says,
    "safetymonitor": safety_says,
    "observingconditions": weather_says,
    "switch": switch_says,
}
#: The kinds of devices that are driven here.
KINDS = tuple(_ASKED)


# -- single properties ----------------------------------------------------------------------------------------------


def _lacks_not(device: AlpacaDevice, what: str) -> bool:
    try:
        device.get(what)
    except DeviceRefused as refusal:
        return not refusal.lacks
    return True


def _positive(device: AlpacaDevice, what: str) -> float | None:
    """A number above 0; None where the device lacks it or tells another."""
    try:
        value: Any = device.get(what)
    except DeviceRefused:
        return None
    known = isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)
    return float(value) if known and value > 0 else None


def _whole(device: AlpacaDevice, what: str, least: int, most: int) -> int:
    value = read_number(device, what)
    if value != round(value) or not least <= value <= most:
        raise Rubbish(f"{device.name} told {value:g} as its {what}, which cannot be.")
    return int(value)
