"""What a run sheet is made of: series of frames, steps, and how fast the rig is beside exposing."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.gates import Gate

#: After the sensor has reached its set point (common practice).
COOLER_SETTLES_S = 30.0
#: So far off its set point a sensor is said to hold it while a run goes on (common practice).
COOLER_HOLDS_WITHIN_C = 0.5


class StepKind(StrEnum):
    """What is done in one step of a sheet."""

    GATE = "gate"
    FIND = "find"
    FLATS = "flats"
    DARK_FLATS = "dark flats"
    COOL = "cool"
    DARKS = "darks"
    BIAS = "bias"
    BUILD = "build"


#: Steps that take a series of frames, and of which kind these are.
SERIES = {
    StepKind.FLATS: FrameKind.FLAT,
    StepKind.DARK_FLATS: FrameKind.DARK_FLAT,
    StepKind.DARKS: FrameKind.DARK,
    StepKind.BIAS: FrameKind.BIAS,
}


@dataclass(frozen=True)
class FlatSeries:
    """One filter's flats, as the lights that wait for them were taken."""

    filter_code: str
    gain: float
    offset: float
    binning: int
    n_flats: int
    n_dark_flats: int
    lights: int = 0
    focus: float | None = None
    angle_deg: float | None = None
    brightness: int | None = None
    prior_exposure_s: float | None = None
    begin_s: float | None = None
    """Where it is tried again behind something else: the exposure to begin with."""
    stack: tuple[str, ...] = ()
    """Diffusers that hang before the light, and what they take."""
    stack_stops: float = 0.0
    wheel_position: int = 0
    targets: tuple[str, ...] = ()
    hole: bool = False
    """Nothing on the shelf fits these lights; False: something does, with care, and is renewed."""
    read_mode: str | None = None
    """The read-out mode that the lights have."""


@dataclass(frozen=True)
class DarkSeries:
    """Capped frames that belong to no row of flats: a dark, a bias, or the dark flats of flats that are there already."""

    exposure_s: float
    set_temp_c: float | None
    gain: float
    offset: float
    binning: int
    n_frames: int
    lights: int = 0
    targets: tuple[str, ...] = ()
    kind: FrameKind = FrameKind.DARK
    """A dark flat for flats that are there already is shot like a dark, at the flats' exposure."""
    filters: tuple[str, ...] = ()
    """For a dark flat: the filters of those flats."""
    read_mode: str | None = None
    """The read-out mode of the frames that they serve."""

    @property
    def for_flats(self) -> bool:
        """Whether it is a dark flat: it stands the sensor some degrees off, so nothing is cooled for it."""
        return self.kind is FrameKind.DARK_FLAT


@dataclass(frozen=True)
class RigPace:
    """How long the rig takes for what is not exposing."""

    download_s: float = 1.5
    wheel_s: float = 4.0
    focus_s: float = 5.0
    gate_s: float = 120.0
    cooling_s_per_c: float = 45.0
    settle_s: float = COOLER_SETTLES_S
    build_s: float = 20.0
    pause_s: float = 0.0
    """Between frames of a series."""
    drop_first: int = 0
    """Frames at the start of a series that are shot and set aside."""


def series_seconds(count: int, exposure_s: float, pace: RigPace) -> float:
    """How long so many frames take, in seconds, with their downloads: ``(n + dropped)·(t + download + pause)``."""
    return (count + pace.drop_first) * (exposure_s + pace.download_s + pace.pause_s)


@dataclass(frozen=True)
class SheetStep:
    """One step of a run sheet."""

    kind: StepKind
    title: str
    seconds: float
    needs_person: bool = False
    filter_code: str | None = None
    count: int = 0
    exposure_s: float | None = None
    exposure_known: bool = False
    row: int | None = None
    """Index of the flat wish that this step belongs to."""
    gate: Gate | None = None
    """Where a hand is needed: for what."""
    dark: DarkSeries | None = None
    """For frames that belong to no row: how they are to be taken."""
    served_by: int | None = None
    """For dark flats: the row whose dark flats serve these flats, too. They are not shot."""


@dataclass(frozen=True)
class RunSheet:
    """What to shoot, in order."""

    steps: tuple[SheetStep, ...]
    rows: tuple[FlatSeries, ...]
    darks: tuple[DarkSeries, ...]

    @property
    def times_needed(self) -> int:
        """How often a person has to act."""
        return sum(step.needs_person for step in self.steps)
