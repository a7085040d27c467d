"""What one frame says of itself, in one language whatever program wrote it."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Any

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.colours import pattern_of_pixels

#: Where a value came from that only the file's name says.
FILE_NAME = "file name"
#: How the words begin for what a person said of a frame; the day on which it was said stands behind them.
SAID = "said by hand"
#: In a header written here: names of the values that a person said of the frames it was made of.
SAID_CARD = "GSSAID"
#: In a header written here: the exposure of the dark that this one was scaled from, seconds.
SCALED_CARD = "GSSCALED"
#: Said by the run in whose folder a frame came in; its header does not say it.
THE_RUN = "the run"
#: The words for what may come from a file's name, in the order in which they are told.
NAMED = {
    "kind": "kind of frame",
    "gain": "gain",
    "offset": "offset",
    "binning": "binning",
    "exposure_s": "exposure",
    "sensor_temp_c": "temperature",
    "target": "target",
}


@dataclass(frozen=True)
class FrameFacts:
    """Settings and circumstances of one frame, as its header (or, failing that, its name) has them.

    None always means *not known*, never a default. `origins` says where a value came from when that
    was not the usual keyword; `complaints` lists in plain words what was there but could not be used.
    """

    width: int
    height: int
    bits: int
    kind: FrameKind | None = None
    is_master: bool = False
    n_combined: int | None = None
    camera: str | None = None
    exposure_s: float | None = None
    gain: float | None = None
    offset: float | None = None
    binning_x: int | None = None
    binning_y: int | None = None
    corner_x: int | None = None
    """The first column on the sensor, counted from 0 in pixels of the frame: above 0 where only a part was read out."""
    corner_y: int | None = None
    """The same of the first row."""
    lit_section: str | None = None
    """The part that light can reach, as headers write it (`core.frames.lit_part`); None where that is all of it."""
    read_mode: str | None = None
    sensor_temp_c: float | None = None
    temp_range_c: float = 0.0
    """Of a set: from its coldest frame to its warmest."""
    set_temp_c: float | None = None
    filter_code: str | None = None
    target: str | None = None
    telescope: str | None = None
    focal_length_mm: float | None = None
    aperture_mm: float | None = None
    pixel_um: float | None = None
    electrons_per_adu: float | None = None
    angle: CameraAngle | None = None
    focus: float | None = None
    of_sky: bool = False
    """A flat of the twilight sky: every frame of its set has an exposure of its own."""
    bayer_pattern: str | None = None
    row_order: str | None = None
    pedestal_adu: float | None = None
    calibrated: bool = False
    """See `calibration_told.was_calibrated`."""
    scaled_from_s: float | None = None
    """Of a dark that was made of a longer one: the exposure of that."""
    stacked: bool = False
    """A light that was made of others: nothing is taken off it, and it is no light to be stacked."""
    utc: datetime | None = None
    night: date | None = None
    night_from: str = ""
    night_before: date | None = None
    """The night that it tells, where a person moved it to another."""
    clock_ahead_h: float | None = None
    """How far the clock by which its header counts nights is ahead of UTC."""
    said: dict[str, Any] = field(default_factory=dict)
    """What a person said of it, as plain data (`core.frames.said.Saying`)."""
    as_read: dict[str, Any] = field(default_factory=dict)
    """What was read of each value that a person said otherwise, with where it was from: {"gain": [None, None]}."""
    air_temp_c: float | None = None
    full_adu: float | None = None
    """The level at which its pixels are full, as its file says."""
    origins: dict[str, str] = field(default_factory=dict)
    as_written: dict[str, str] = field(default_factory=dict)
    """Names as the header has them, where they are kept by another: {"filter": "H-alpha"} for Ha."""
    complaints: tuple[str, ...] = ()

    @property
    def corner(self) -> tuple[int, int] | None:
        """First column and row on the sensor; None where either is not known."""
        return None if self.corner_x is None or self.corner_y is None else (self.corner_x, self.corner_y)

    @property
    def lens_stop(self) -> float | None:
        """The focal ratio of a lens, which may be stopped down; None of what has a name, and so is a telescope."""
        if self.telescope or not self.focal_length_mm or not self.aperture_mm:
            return None
        return self.focal_length_mm / self.aperture_mm

    @property
    def binning(self) -> tuple[int, int] | None:
        """Pixels joined in a row and in a column."""
        return (self.binning_x, self.binning_y or self.binning_x) if self.binning_x else None

    @property
    def pixel_pattern(self) -> str | None:
        """The pattern of filters that neighbouring pixels lie under; None where they lie under the same."""
        return pattern_of_pixels(self.bayer_pattern, self.binning_x)

    @property
    def from_name(self) -> tuple[str, ...]:
        """Words for the values that only the file's name says."""
        return tuple(word for what, word in NAMED.items() if self.origins.get(what) == FILE_NAME)

    @property
    def by_hand(self) -> tuple[str, ...]:
        """Names of the values that a person said."""
        return tuple(name for name, origin in self.origins.items() if origin.startswith(SAID))

    def told_by_run(self, **told: Any) -> FrameFacts:
        """With what a run knows of a frame and its header does not say, noted as such."""
        return replace(self, **told, origins={**self.origins, **dict.fromkeys(told, THE_RUN)})

    def read_again(self, before: FrameFacts) -> FrameFacts:
        """As its header, read again, has it, with what a run told of it before: it holds while it is the same exposure
        and the header still does not say it."""
        if self.utc != before.utc:
            return self
        told = [name for name, origin in before.origins.items() if origin == THE_RUN]
        return self.told_by_run(
            **{name: getattr(before, name) for name in told if getattr(self, name) in (None, False)}
        )


def lacking(facts: FrameFacts) -> tuple[str, ...]:
    """Name the values that matter for a frame of this kind and are not known."""
    missing: list[str] = []
    if facts.kind is None:
        missing.append("kind of frame")
    if facts.camera is None:
        missing.append("camera")
    if facts.exposure_s is None and facts.kind is not FrameKind.BIAS:
        missing.append("exposure")
    if facts.night is None:
        missing.append("date")
    if facts.kind in (FrameKind.DARK, FrameKind.LIGHT) and facts.sensor_temp_c is None:
        missing.append("sensor temperature")
    if facts.gain is None and facts.kind is not None:
        missing.append("gain")
    if facts.kind in (FrameKind.FLAT, FrameKind.LIGHT) and not facts.filter_code and not facts.bayer_pattern:
        missing.append("filter")
    return tuple(missing)


#: Keywords that call a gain ISO.
ISO_KEYWORDS = ("ISO", "ISOSPEED")


def uses_iso(gains: Sequence[float | None], keywords: Collection[str | None] = ()) -> bool:
    """Whether a camera's gains are ISO values: its headers call them so, or they are hundreds, none below 100.

    (The latter is common practice, with no source.)
    """
    if any(k in ISO_KEYWORDS for k in keywords):
        return True
    known = [g for g in gains if g is not None]
    return bool(known) and min(known) >= 100 and max(known) >= 800
