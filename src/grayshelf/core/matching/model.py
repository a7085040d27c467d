"""The words in which matching is asked and answered."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime
from enum import StrEnum
from typing import Literal

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.kinds import FrameKind


class Verdict(StrEnum):
    """How a search ended. There are three words and no others."""

    FITS = "fits"
    CARE = "fits with care"
    NOTHING = "nothing fits"


@dataclass(frozen=True)
class CommonSettings:
    """What the frames of a set, a light set or a master have in common. None is 'not known'."""

    camera: str | None
    width: int
    height: int
    binning: tuple[int, int] | None = None
    read_mode: str | None = None
    sample_step: int | None = None
    row_order: str | None = None
    bayer_pattern: str | None = None
    gain: float | None = None
    offset: float | None = None
    exposure_s: float | None = None
    exposures_differ: bool = False
    """For flats of the sky: each frame has an exposure of its own, `exposure_s` is the typical one."""
    sensor_temp_c: float | None = None
    train: str | None = None
    filter_code: str | None = None
    angle: CameraAngle | None = None
    focus: float | None = None
    night: date | None = None
    taken: datetime | None = None
    """UTC, of the last frame."""


@dataclass(frozen=True)
class Holding:
    """A master, or a set not yet combined, that lights may use."""

    key: str
    kind: FrameKind
    settings: CommonSettings
    n_frames: int
    is_master: bool = True
    care: tuple[str, ...] = ()
    """Reasons, known beforehand, to use it with care: a failed check, drift."""
    noise_e: float | None = None
    pedestal_taken_off: bool | None = None
    """For a flat: whether its dark flat is already in it."""


@dataclass(frozen=True)
class Tolerances:
    """How near is near enough. All are the user's."""

    dark_exposure_percent: float = 1.0
    dark_temp_c: float = 1.0
    flat_angle_deg: float = 1.0
    flat_focus_steps: float = 150.0
    flat_nights: int = 2
    dark_flat_exposure_percent: float = 2.0
    dark_flat_temp_c: float = 5.0
    dark_age_days: int = 270
    bias_age_days: int = 365
    fewest_frames: int = 10
    train_stays_put: bool = False


@dataclass(frozen=True)
class SensorTraits:
    """What is known of the camera, for costs in electrons."""

    read_noise_e: float = 3.5
    dark_rate_e_s: float = 0.003
    dark_rate_at_c: float = -10.0
    electrons_per_adu: float = 1.0
    assumed: bool = True


@dataclass(frozen=True)
class TrainEvent:
    """Something was done to the train; flats from before do not fit lights from after, nor the reverse."""

    at: datetime
    what: str


RulerKind = Literal["band", "exact", "age"]


@dataclass(frozen=True)
class Ruler:
    """One comparison: is this number near enough to that one?"""

    quantity: str
    kind: RulerKind
    unit: str
    wanted: float | str | None
    measured: float | str | None
    distance: float | None
    """measured − wanted in `unit`; None where either is not known or is not a number."""
    tolerance: float | None
    inside: bool
    unknown: bool = False
    note: str = ""


@dataclass(frozen=True)
class Candidate:
    """A holding that was considered, and how it did."""

    holding: Holding
    verdict: Verdict
    rulers: tuple[Ruler, ...]
    reasons: tuple[str, ...]
    """Why it does not fit, or only with care; empty where it simply fits."""
    mismatch_e: float
    noise_e: float

    @property
    def cost_e(self) -> float:
        """Predicted cost in electrons: √(mismatch² + noise²)."""
        return float((self.mismatch_e**2 + self.noise_e**2) ** 0.5)


@dataclass(frozen=True)
class SlipLine:
    """One line of a pull slip."""

    kind: FrameKind
    verdict: Verdict
    chosen: Candidate | None
    runners_up: tuple[Candidate, ...]
    lost_on: tuple[str, ...]
    """For each runner-up, what it lost on."""
    note: str = ""
    waits_for: FrameKind | None = None
    """Where this line cannot be settled before another kind is there (one gap, said once)."""


@dataclass(frozen=True)
class PullSlip:
    """What a set of lights needs, and what the shelf has for it."""

    lines: tuple[SlipLine, ...]
    verdict: Verdict
    warnings: tuple[str, ...] = field(default=())
