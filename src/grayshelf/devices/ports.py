"""The ports: what the work needs of a device, whoever made it."""

from __future__ import annotations

import threading
from dataclasses import dataclass
from datetime import datetime
from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class CameraFacts:
    """What a camera says of itself."""

    name: str
    width: int
    height: int
    pixel_um: float
    white_adu: int
    bayer_pattern: str | None
    cooled: bool
    download_s: float
    gain_range: tuple[float, float] | None = None
    """Lowest and highest gain setting; None where the camera does not say."""
    offset_range: tuple[float, float] | None = None
    shortest_s: float = 0.001
    repeatable_from_s: float = 0.0
    """Shorter exposures than this do not repeat, and are no measure of light."""
    shutter: Literal["electronic", "slow", "curtain"] = "electronic"
    """A slow shutter shades short exposures; a curtain is as wide as the frame from about 1/60 s."""
    most_binning: int = 1
    tells_temperature: bool = True
    tells_conversion: bool = True
    """Whether it says how many electrons an ADU is."""


@dataclass(frozen=True)
class Exposed:
    """A frame fresh from the camera."""

    pixels: NDArray[np.uint16]
    began: datetime
    sensor_temp_c: float | None
    """None where the camera does not tell."""
    electrons_per_adu: float | None


@dataclass(frozen=True)
class CoolerState:
    """Where the sensor is, where it should be, and how hard the cooler works."""

    sensor_c: float | None
    """None where the camera does not tell."""
    set_point_c: float | None
    power_percent: float


class Camera(Protocol):
    """A camera."""

    facts: CameraFacts

    def expose(
        self,
        exposure_s: float,
        gain: float,
        offset: float,
        binning: int,
        cancel: threading.Event | None = None,
        *,
        shutter_open: bool = True,
    ) -> Exposed:
        """Take one frame; gain, offset and binning are always explicit.

        `shutter_open`: whether a camera with a shutter opens it; darks and bias keep it shut.
        """
        ...

    def cooler(self) -> CoolerState:
        """The cooler's state."""
        ...

    def set_temperature(self, set_point_c: float) -> None:
        """Give the cooler a set point."""
        ...

    def cooler_off(self) -> None:
        """Let the sensor be as warm as it will."""
        ...


class Cover(Protocol):
    """A cover before the telescope that moves by itself."""

    is_light: bool
    """Whether it is the panel, too: shut, the telescope looks at it."""

    def shut(self) -> None:
        """Close it; returns when it is closed."""
        ...

    def open(self) -> None:
        """Open it; returns when it is open."""
        ...


class FilterWheel(Protocol):
    """A filter wheel."""

    filters: tuple[str, ...]

    def position(self) -> int:
        """Index of the filter that is in."""
        ...

    def move(self, index: int) -> None:
        """Bring another filter in; returns when it is there."""
        ...


class Panel(Protocol):
    """A light source with integer brightness."""

    lowest: int
    highest: int
    can_be_timed: bool
    """Whether it can be lit for a set time within an exposure."""

    def light_within(self, before_s: float, lit_s: float) -> None:
        """Be dark, and be lit in the next exposure alone: so many seconds after it begins, for so many seconds.

        With the brightness that was set.
        """
        ...

    def brightness(self) -> int:
        """Brightness now; 0 is dark."""
        ...

    def set_brightness(self, value: int) -> None:
        """Set the brightness; 0 is dark."""
        ...


class Positioner(Protocol):
    """A focuser (steps) or a rotator (degrees)."""

    def position(self) -> float:
        """Where it is."""
        ...

    def move(self, to: float) -> None:
        """Move there; returns when it is there."""
        ...


class Mount(Protocol):
    """A mount that points the telescope."""

    def point(self, altitude_deg: float, azimuth_deg: float, cancel: threading.Event | None = None) -> None:
        """Point there and stand still, with tracking off; returns when it stands."""
        ...

    def park(self, cancel: threading.Event | None = None) -> None:
        """Go to its parking place."""
        ...

    def home(self, cancel: threading.Event | None = None) -> None:
        """Go to its home place."""
        ...


class Safety(Protocol):
    """Something that says whether it is safe to work: rain, wind, a door."""

    name: str

    def is_safe(self) -> bool:
        """Whether it is."""
        ...


@dataclass(frozen=True)
class Conditions:
    """What a weather station says now; None is not told."""

    air_c: float | None = None
    humidity_percent: float | None = None
    seeing_arcsec: float | None = None


class Weather(Protocol):
    """A weather station."""

    def now(self) -> Conditions:
        """What it says now."""
        ...


class Hands(Protocol):
    """What a person does at the telescope. A real rig has nothing here: the person's word is taken."""

    def did(self, gate: str) -> None:
        """The person says that it is done: 'panel', 'cap', 'uncap' ..."""
        ...

    def hung(self, stops: float) -> None:
        """The person hung a diffuser of so many stops before the panel, on top of what hangs there."""
        ...


@dataclass(frozen=True)
class RigDevices:
    """The devices of one rig. What is None is done by the person, who is told the number."""

    camera: Camera
    wheel: FilterWheel | None
    panel: Panel | None
    rotator: Positioner | None
    focuser: Positioner | None
    hands: Hands | None = None
    cover: Cover | None = None
    mount: Mount | None = None
    safety: Safety | None = None
    weather: Weather | None = None
