"""The words in which matching is asked and answered."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime
from enum import StrEnum
from typing import Literal, NamedTuple

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
    temp_range_c: float = 0.0
    """From the coldest frame of the set to the warmest."""
    held: bool = False
    """Whether a cooler kept the sensor at a set point, as against its being as warm as the night."""
    telescope: str | None = None
    focal_length_mm: float | None = None
    filter_code: str | None = None
    angle: CameraAngle | None = None
    focus: float | None = None
    night: date | None = None
    good_on: date | None = None
    """The last night on which it was measured to be good still; of flats it changes nothing but how old they look."""
    taken: datetime | None = None
    """UTC, of the last frame."""
    from_name: frozenset[str] = frozenset()
    """Quantities that only the files' names say, and nobody has said to be right."""
    by_hand: frozenset[str] = frozenset()
    """Quantities that a person said, where headers are silent or wrong."""
    corner: tuple[int, int] | None = None
    """First column and row on the sensor, in pixels of the frame."""
    lens_stop: float | None = None
    """The focal ratio of a lens, which may be stopped down."""


#: Frames that a master is taken for which does not tell of how many it was made (common practice).
USUAL_FRAMES = 20


@dataclass(frozen=True)
class Holding:
    """A master, or a set not yet combined, that lights may use."""

    key: str
    kind: FrameKind
    settings: CommonSettings
    n_frames: int
    """`USUAL_FRAMES` where it is not known."""
    is_master: bool = True
    care: tuple[str, ...] = ()
    """Reasons, known beforehand, to use it with care: a failed check, drift."""
    empty: bool = False
    """A master in which no pixel holds a number: `care` says so, and it serves no lights."""
    spoiled: bool = False
    """What it was taken for is lost, as far as its level tells: `care` says so, and all others stand before it."""
    noise_e: float | None = None
    pedestal_taken_off: bool | None = None
    """For a flat: whether its dark flat (or a bias) is already taken off."""
    pedestal_is_bias: bool = False
    """For such a flat: that it was a bias, which stood in."""
    pedestal_adu: float | None = None
    """Of capped frames: what their header says was added to every pixel, as it is said."""
    count_known: bool = True
    """Whether it tells of how many frames it was made."""
    level_adu: float | None = None
    """About the middle of one of its frames, where it was looked at when it came in."""
    signal_e: float | None = None
    """For a flat: electrons of one of its frames above the pedestal."""
    scaled_from_s: float | None = None
    """Of a dark that was made of a longer one: the exposure of that."""


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
    focal_length_percent: float = 2.0
    uncooled_same_night_c: float = 5.0
    """Darks of the lights' own night serve a sensor without a cooler up to this far off, with care."""
    mismatch_share: float = 0.1
    """Beyond a tolerance: what a dark may cost of the lights' own background noise."""
    few_frames_percent: float = 10.0
    """What few frames may add to the noise of the lights before they ask for care."""
    dither_positions: int = 1
    train_stays_put: bool = False


@dataclass(frozen=True)
class SensorTraits:
    """What is known of the camera, for costs in electrons."""

    read_noise_e: float = 3.5
    dark_rate_e_s: float = 0.003
    dark_rate_at_c: float = -10.0
    hot_rate_e_s: float = 0.15
    """Dark current that the hottest 0.1 % of the pixels reach or exceed, at the same temperature."""
    electrons_per_adu: float = 1.0
    dark_assumed: bool = True
    """Its dark current is that of usual cooled cameras (common practice), and not this camera's own."""


@dataclass(frozen=True)
class LightsNoise:
    """What the lights' own noise is, against which a mismatch or a thin master is weighed."""

    n_lights: int = 30
    background_e: float | None = None
    """Standard deviation of the background of one light, electrons; None where it was not measured."""
    level_adu: float | None = None
    """About the middle of one of them; None where it was not measured."""


#: Kept among what a person said of a rig: no dark flats are shot, a bias stands in for them.
BIAS_WILL_DO = "dark flat"


@dataclass(frozen=True)
class RigSays:
    """What a person said of the parts that no header tells of."""

    fixed: frozenset[str] = frozenset()
    """Quantities that never change on this rig, or that it has no part for: they are not judged."""
    moves: frozenset[str] = frozenset()
    """Quantities that do change: an unknown one stays unknown, and is not asked for again."""
    untold: frozenset[str] = frozenset()
    """Settings that no frame of the camera tells: a 0 that stands for one is none to set."""

    def can_set(self, quantity: str, value: float | None) -> bool:
        """Whether a setting is known, or need not be: it is always the same, or there is none."""
        return value is not None or quantity in self.fixed

    def to_set(self, quantity: str, value: float | None) -> float | None:
        """What a gain or an offset is to be; None where no frame tells it, or it is always the same, or there is none."""
        return None if quantity in self.fixed | self.untold and not value else value

    def dials(self, gain_word: str, gain: float, offset: float) -> list[str]:
        """Gain and offset as this camera calls them: 'gain 200', 'offset 30'; 'ISO 1600'; none of one that has none."""
        told = [] if self.to_set("gain", gain) is None else [f"{gain_word} {gain:g}"]
        has_offset = gain_word != "ISO" and self.to_set("offset", offset) is not None
        return [*told, f"offset {offset:g}"] if has_offset else told

    @property
    def bias_will_do(self) -> bool:
        """A house rule: a bias stands in for dark flats."""
        return BIAS_WILL_DO in self.fixed


@dataclass(frozen=True)
class PartQuestion:
    """Something that neither the lights nor what serves them tell, asked once."""

    quantity: str
    text: str
    fixed_label: str
    moves_label: str


@dataclass(frozen=True)
class TrainEvent:
    """Something was done to the train; flats from before do not fit lights from after, nor the reverse."""

    at: datetime
    what: str


RulerKind = Literal["band", "exact", "age"]


class Ruler(NamedTuple):
    """One comparison: is this number near enough to that one?

    A named tuple, since a slip makes thousands: it is made, and made anew with a change, in a fraction of the time.
    """

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
    decides: bool = False
    """Whether, outside, it forbids the holding; else it asks for care."""
    from_name: bool = False
    """One of the two values is only from a file's name."""
    by_hand: bool = False
    """One of the two values was said by a person."""
    told: bool = False
    """Already told of, with what it costs."""
    later: bool = False
    """Of an age: it was taken after the lights."""


@dataclass(frozen=True)
class Scaling:
    """How a master dark is brought to a shorter exposure: ``bias + share·(dark − bias)``."""

    bias_key: str
    """Of the master bias (`Holding.key`)."""
    from_s: float
    """Exposure of the dark."""
    to_s: float
    """Exposure of the lights."""

    @property
    def share(self) -> float:
        """Of the dark's current that the lights have, too: 0 … 1."""
        return self.to_s / self.from_s


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
    doubts: tuple[int, ...] = ()
    """In the order of `DOUBTED`: 0 known, 1 from a file's name only, 2 not known."""
    scaling: Scaling | None = None
    """Where it is not used as it is: how it is scaled to the lights. Rulers, reasons and costs are those of the scaled one."""
    nights_off: float | None = None
    """Of dark flats, which go with their flats: nights from these, infinity where that is not known. None of all else, of
    which the newer one comes first."""

    @property
    def answer(self) -> str:
        """The same for the same pixels: the holding's key, of a dark that is scaled with that of its bias."""
        scaled = f" scaled with {self.scaling.bias_key}" if self.scaling is not None else ""
        return f"{self.holding.key}{scaled}"

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
    by_hand: bool = False
    """A person chose it."""

    @property
    def scaled(self) -> bool:
        """Whether a longer dark, scaled, only stands in: one that fits is still to be shot."""
        return self.chosen is not None and self.chosen.scaling is not None


@dataclass(frozen=True)
class PullSlip:
    """What a set of lights needs, and what the shelf has for it."""

    lines: tuple[SlipLine, ...]
    verdict: Verdict
    warnings: tuple[str, ...] = field(default=())
    questions: tuple[PartQuestion, ...] = field(default=())
