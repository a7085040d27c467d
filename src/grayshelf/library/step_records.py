"""What jobs, their steps and their shots keep, as records (`records`)."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from grayshelf.core.flats.model import ExposureWindow, FlatTarget, Found, Mode, NoAnswer, Shoot
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.flats.timed_light import Lit
from grayshelf.core.masters.combine import CombineSettings
from grayshelf.core.planning.cooling_pace import Cooled
from grayshelf.core.planning.gates import Gate
from grayshelf.core.planning.sensor_then import SensorThen
from grayshelf.core.planning.sheet import FlatSeries
from grayshelf.core.sensor.statistics import FlatStatistics

# -- jobs: `Job.params` -----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class RunJob:
    """A run of Tonight: the rows of its sheet; a step tells its row by its place here."""

    rows: tuple[FlatSeries, ...] = ()
    put_away: bool = False
    """It has ended, and Tonight shows the next sheet."""
    by_hand: bool = False
    """Another program shoots it, or the person's own hands."""
    folder: str | None = None
    """Its frames are waited for there; None where steps are only ticked off."""
    since: float = 0.0
    """From when on files there count, in seconds since 1970."""
    until: datetime | None = None
    """When it has to be over: no frame is begun that would end later. None: when all is shot."""
    sensor_then: SensorThen = SensorThen.KEPT_COLD


@dataclass(frozen=True)
class SearchJob:
    """A search for flat settings, or a measurement of a panel."""

    shared: bool = False
    """One exposure for all filters of a gain, offset and binning."""
    response: bool = False
    """How the panel follows its brightness is measured instead."""
    mode: Mode | None = None
    exposure_s: float | None = None
    """What is looked for in all rows; None leaves it to each."""
    folder: str | None = None
    """Test flats are waited for there, instead of being taken by the rig."""
    since: float = 0.0
    """From when on files there count, in seconds since 1970."""


@dataclass(frozen=True)
class TwilightJob:
    """A dusk or a dawn."""

    dawn: bool
    day: date
    folder: str | None = None
    """Where another program writes its frames; None where the rig shoots them."""
    since: float = 0.0
    """From when on files in it count, in seconds since 1970."""


@dataclass(frozen=True)
class MeasurementJob:
    """An exercise on the Bench."""

    measurement_id: int
    folder: str | None = None
    """Where another program writes its frames; None where the rig shoots them."""
    since: float = 0.0
    """From when on files in it count, in seconds since 1970."""


@dataclass(frozen=True)
class ScanJob:
    """A look through a folder."""

    folder_id: int


@dataclass(frozen=True)
class KeptJoin:
    """A spelling that stands for a name (`core.rigs.propose.Join`)."""

    about: str
    camera: str
    spelled: str
    name: str


@dataclass(frozen=True)
class NamesJob:
    """Frames to be told anew after names were joined or parted."""

    joins: tuple[KeptJoin, ...]


@dataclass(frozen=True)
class BuildJob:
    """Masters to be built of these sets."""

    set_ids: tuple[int, ...]
    again: bool = False
    """Also where they have their master: it is made anew."""
    settings: CombineSettings = CombineSettings()


@dataclass(frozen=True)
class LookJob:
    """A look at all masters that nobody looked at."""


@dataclass(frozen=True)
class HoldJob:
    """A master to be held against something newer."""

    set_id: int
    frame_id: int


@dataclass(frozen=True)
class JobResult:
    """What a job came to: `Job.result`."""

    message: str = ""
    failed: tuple[str | dict[str, Any], ...] = ()
    """What could not be done, each in a sentence; an older version kept more than that of some."""
    afterwards: tuple[str, ...] = ()
    """What is left for hands to do."""


# -- steps: `RunStep.params` ------------------------------------------------------------------------------------


@dataclass(frozen=True)
class GateParams:
    """A gate: what a hand has to do, and its forecast."""

    gate: str
    advice: str = ""
    brief: str = ""
    answer: str = "Go on"
    stack: tuple[str, ...] = ()
    total: float | None = None
    """Stops of all that hangs then."""
    stops: float = 0.0
    """And how many more than before that are."""
    value: str = ""
    can_leave_out: bool = False
    leave_out: str = ""
    """Not empty where an older version let what waits behind it be left out."""
    needs_person: bool = False
    seconds: float = 0.0

    @property
    def may_leave_out(self) -> bool:
        """Whether what waits behind it may be left out instead."""
        return self.can_leave_out or bool(self.leave_out)

    @classmethod
    def of(cls, gate: Gate, seconds: float = 0.0) -> GateParams:
        """A gate that is to be passed."""
        return cls(
            gate=gate.sign,
            advice=gate.advice,
            brief=gate.brief,
            answer=gate.answer,
            stack=gate.stack,
            total=gate.total_stops,
            value=gate.value,
            can_leave_out=gate.can_leave_out,
            needs_person=gate.needs_person,
            seconds=seconds,
        )


@dataclass(frozen=True)
class SheetParams:
    """A step of a run sheet other than a gate: its forecast, and how its frames are to be taken."""

    seconds: float = 0.0
    needs_person: bool = False
    exposure_s: float | None = None
    exposure_known: bool = False
    gain: float | None = None
    offset: float | None = None
    binning: int | None = None
    """Of frames that belong to no row: darks, and dark flats for flats that were shot before."""
    set_temp_c: float | None = None
    lights: int = 0
    target: FlatTarget | None = None
    window: ExposureWindow | None = None
    """What was wished when its frames were taken."""
    stack: tuple[str, ...] | None = None
    stack_stops: float = 0.0
    """And what hung before the light; None where it has not begun."""
    read_mode: str | None = None
    """Of frames that belong to no row, too."""
    lit: Lit | None = None
    """When the light of its flats is on, where that is within the exposure."""
    served_by: int | None = None
    """Of dark flats that are not shot: the row whose dark flats serve."""


@dataclass(frozen=True)
class SearchParams:
    """A step of a search: a row behind a stack of diffusers."""

    key: RowKey
    stack: tuple[str, ...] = ()
    group: str = ""
    """Rows that one set of dark flats could serve."""
    mode: Mode | None = None
    exposure_s: float | None = None
    brightness: int | None = None
    """What is asked for over the row's own wishes."""
    tried: tuple[str, ...] = ()
    """Stacks that it was tried behind."""
    left_out: bool = False


@dataclass(frozen=True)
class SkyParams:
    """A row's flats on the twilight sky."""

    key: RowKey


@dataclass(frozen=True)
class MeasureParams:
    """One gain of an exercise."""

    gain: float


# -- steps: `RunStep.outcome` -----------------------------------------------------------------------------------


@dataclass(frozen=True)
class GateOutcome:
    """How a gate was answered: 'done' or 'leave out'."""

    answer: str = ""


@dataclass(frozen=True)
class NoAnswerKept(NoAnswer):
    """Why nothing that is permitted reaches the target, and what could be done about it."""

    stack: tuple[str, ...] = ()
    """What hung before the light."""
    widened: float | None = None
    """The bound of time at which it would do, in seconds."""
    hang: tuple[str, ...] = ()
    short_by: float = 0.0
    sentence: str = ""
    """What of the diffusers at hand helps, the stops still missing then, and both in words."""


@dataclass(frozen=True)
class Refused:
    """A file that is not what was asked for."""

    name: str
    why: str
    done: int = 0
    """Frames that were in by then."""


@dataclass(frozen=True)
class SearchOutcome:
    """How far a search is, and what came of it."""

    next: Shoot | None = None
    found: Found | None = None
    no_answer: NoAnswerKept | None = None
    refused: tuple[Refused, ...] = ()


@dataclass(frozen=True)
class SeriesOutcome:
    """Where the frames of a series lie: folder and first part of the name, fixed at the first of them."""

    place: str = ""
    drop_first: int = 0
    """So many of its first frames are set aside, since they have not settled."""
    refused: tuple[Refused, ...] = ()
    """Files that came in for it and are not what was asked for."""
    trouble: str = ""
    """Why it was not shot to its end."""
    cooled: Cooled | None = None
    """Of a set point that was reached: how fast."""


@dataclass(frozen=True)
class SkyNext:
    """What comes next of a row on the sky: a frame, or a wait."""

    exposure_s: float | None = None
    test: bool = False
    until: datetime | None = None
    why: str = ""


@dataclass(frozen=True)
class SkyOutcome:
    """How far a row on the sky is; `why` it has fewer flats than wished."""

    place: str = ""
    next: SkyNext | None = None
    why: str = ""


@dataclass(frozen=True)
class NotBuilt:
    """A master that could not be built, and why."""

    title: str
    message: str
    advice: str = ""


@dataclass(frozen=True)
class BuildOutcome:
    """What was built of a job's frames: masters by their numbers."""

    masters: tuple[int, ...] = ()
    failed: tuple[NotBuilt, ...] = ()


@dataclass(frozen=True)
class AgreeOutcome:
    """The exposure that filters share, or why there is none."""

    message: str = ""
    exposure_s: float | None = None
    served: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()
    saved_s: float = 0.0
    saved_frames: int = 0


@dataclass(frozen=True)
class MeasureOutcome:
    """What one gain of an exercise came to; until then, what is asked of another program."""

    message: str = ""
    asks: str = ""
    before: str = ""
    """What has to be so before the frame is shot."""
    dials: tuple[tuple[str, str], ...] = ()
    """Each number to set: its name, and as it is copied."""
    refused: tuple[Refused, ...] = ()


# -- shots: `RunShot.stats` -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class ShotStats:
    """What a shot measured, in ADU, and what it is."""

    median: float
    brightest_permille: float = 0.0
    saturated_fraction: float = 0.0
    mean: float = 0.0
    spread: float = 0.0
    minimum: int = 0
    maximum: int = 0
    zeros: int = 0
    n_pixels: int = 0
    weakest_median: float | None = None
    """Of the channel of a colour sensor that has the least light."""
    white: int | None = None
    """The level at which its camera is full."""
    probe: bool = False
    """Shorter than permitted: it measures, and is no setting."""
    signal: float | None = None
    brightest_signal: float | None = None
    """Of the sky: above the pedestal."""
    test: bool = False
    counts: bool = True
    read: bool = False
    """Of the sky: a look at it; a flat; one from which its light can be told."""

    @classmethod
    def of(cls, stats: FlatStatistics) -> ShotStats:
        """What a frame measured."""
        return cls(**vars(stats))
