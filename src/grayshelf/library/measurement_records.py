"""What a measurement of a camera keeps beside its readings, as records (`records`)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from grayshelf.library.models import Measurement
from grayshelf.library.records import as_kept, read


@dataclass(frozen=True)
class LightFound:
    """The light at which a gain is measured: brightness, its rate in ADU a second, and a dimmer one for low levels."""

    brightness: int | None
    rate: float
    dim: int | None = None


@dataclass(frozen=True)
class MeasurementSettings:
    """The camera as it was measured, what was asked for, and what was found on the way."""

    white_adu: int
    width: int
    height: int
    bayer_pattern: str | None = None
    sample_step: int | None = None
    """Between neighbouring levels; None until a frame tells."""
    offset_range: tuple[float, float] | None = None
    temp_c: float | None = None
    margin_adu: float | None = None
    long_dark_s: float = 60.0
    """Of the offset."""
    filter_code: str | None = None
    shortest_s: float = 0.5
    offsets: Mapping[str, float] = field(default_factory=dict)
    light: Mapping[str, LightFound] = field(default_factory=dict)
    usual: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    """Of the gain: the offset to use, the light, and the usual pixel's noise in ADU by channel; by gain (`by_gain`)."""
    set_ids: tuple[int, ...] = ()
    """Of frames on disk: the sets that were handed in."""
    came_in: tuple[str, ...] = ()
    """Of frames that another program shot: the files of its folder that were looked at."""

    @property
    def step(self) -> int:
        """The step between neighbouring levels, as far as it is known."""
        return self.sample_step or 1


@dataclass(frozen=True)
class TestReading:
    """What a frame said of the light, in ADU: its median, its brightest 0.1 %, and the share that is full."""

    __test__ = False

    level: float
    brightest: float = 0.0
    saturated: float = 0.0


def by_gain(gain: float) -> str:
    """A gain as the name of what is kept of it."""
    return f"{gain:g}"


def settings_of(row: Measurement) -> MeasurementSettings:
    """What a measurement keeps."""
    return read(MeasurementSettings, row.settings)


def with_light(settings: MeasurementSettings, gain: float, light: LightFound) -> MeasurementSettings:
    """With the light that was found for a gain."""
    return replace(settings, light={**settings.light, by_gain(gain): light})


def with_usual(settings: MeasurementSettings, gain: float, noise: Mapping[str, float]) -> MeasurementSettings:
    """With the usual pixel's noise at a gain, in ADU by channel."""
    return replace(settings, usual={**settings.usual, by_gain(gain): noise})


def keep_settings(row: Measurement, settings: MeasurementSettings) -> None:
    """Put them into the row."""
    row.settings = as_kept(settings)
