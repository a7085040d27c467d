"""What goes to and fro: nights, and their pull slips."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal

from pydantic import Field

from grayshelf.web.common.schemas import RulerOut, Schema, VerdictWord
from grayshelf.web.intake.schemas import CountOut


class VerdictMark(Schema):
    """How one line of a slip ended."""

    kind: str
    verdict: VerdictWord
    waits: bool
    age_step: int | None
    holding_id: int | None


class NightBrief(Schema):
    """A night in the list."""

    night: date
    day: str
    weekday: str
    targets: list[str]
    kept: int
    taken: int
    marks: list[VerdictWord]


class MonthNightOut(Schema):
    """A night in its month."""

    night: date
    day: int
    hours: float
    """Of lights that are kept."""
    kept: int
    taken: int
    gaps: int
    """Sets of lights that lack something."""
    text: str


class MonthOut(Schema):
    """A month at a glance."""

    name: str
    days: int
    nights: list[MonthNightOut]
    count: int
    hours: float
    hours_text: str
    kept: int
    taken: int
    gaps: int


class NightsOut(Schema):
    """The nights of a rig."""

    rig: str
    nights: list[NightBrief]
    months: list[MonthOut]
    moved: bool
    """Whether a night was parted or joined, which can be taken back."""


class LightSetOut(Schema):
    """A set of lights in a night."""

    id: int
    target: str
    filter_code: str | None
    stamp: str
    """Its filter; where it has none, whether it is of a colour sensor."""
    passband_nm: float | None
    text: str
    kept: int
    taken: int
    begins: datetime | None
    ends: datetime | None
    verdict: VerdictWord
    marks: list[VerdictMark]
    calibrated: bool


class ConditionOut(Schema):
    """A condition of a night."""

    name: str
    text: str


class WeatherOut(Schema):
    """One quantity of the weather, as it can be noted."""

    name: str
    says: str
    unit: str
    value: float | None


class ShotLineOut(Schema):
    """What was shot in a night beside its lights, and what failed."""

    clock: str
    what: str
    how: str
    failed: bool


class NightOut(Schema):
    """One night."""

    night: date
    title: str
    kept: int
    taken: int
    ready: int
    begins: datetime | None
    ends: datetime | None
    hours: list[datetime]
    sets: list[LightSetOut]
    conditions: list[ConditionOut]
    air_from_c: float | None
    air_to_c: float | None
    notes: str
    weather: list[WeatherOut]
    shot: list[ShotLineOut]
    night_from: str
    without_target: bool
    """Whether some of its lights say no target."""


class LogIn(Schema):
    """What is noted of a night; what is not sent stays."""

    notes: str | None = Field(default=None, max_length=4000)
    weather: dict[str, float | None] | None = Field(default=None, max_length=40)
    """By the quantity's name; null takes it out."""


class AddNightIn(Schema):
    """A night without lights, of which something is to be noted."""

    night: date


class MoveIn(Schema):
    """Part a night, or join it to another."""

    into: date
    at: str | None = Field(default=None, max_length=20)
    """'01:30': what was begun from then on goes over; None for all of it."""


class NightFrameOut(Schema):
    """One light of a night."""

    id: int
    name: str
    target: str
    filter_code: str | None
    stamp: str
    """Its filter; where it has none, whether it is of a colour sensor."""
    passband_nm: float | None
    clock: str
    exposure: str
    kept: bool
    in_rejects: bool
    why: str


class NightFramesOut(Schema):
    """The lights of a night."""

    frames: list[NightFrameOut]


class KeptIn(Schema):
    """Lights that are kept, or are not."""

    names: str | None = Field(default=None, max_length=2_000_000)
    """A list of names."""
    frames: list[int] | None = Field(default=None, max_length=20_000)
    kept: bool
    others: bool = False
    """All other lights of the same nights count the other way."""
    every_night: bool = False


class KeptTold(Schema):
    """What came of it."""

    message: str
    changed: list[int]
    not_found: list[str]


class ScaleOut(Schema):
    """What a person agrees to who lets a longer dark be scaled."""

    action: str
    """'scale to 180 s'."""
    told: list[str]
    """Sentences."""


class CandidateOut(Schema):
    """A holding that was considered for a line."""

    holding_id: int
    title: str
    detail: str
    verdict: VerdictWord
    is_master: bool
    age_step: int
    care: bool
    rulers: list[RulerOut]
    reasons: list[str]
    lost_on: str
    cost: str
    scaled: bool
    """It is scaled to the lights."""
    scale: ScaleOut | None
    """How it could be scaled to the lights, where nothing fits them as it is."""


class SlipLineOut(Schema):
    """A line of a slip."""

    kind: str
    verdict: VerdictWord
    chosen: CandidateOut | None
    runners_up: list[CandidateOut]
    note: str
    waits: bool
    by_hand: bool
    """A person chose it."""


class ChoiceIn(Schema):
    """What a person chooses for a line of a slip; None leaves it to the shelf again."""

    kind: Literal["dark", "flat", "dark flat"]
    holding_id: int | None
    scaled: bool = False
    """A longer dark is scaled to the lights."""


class QuestionOut(Schema):
    """Something that no header tells, asked once."""

    quantity: str
    text: str
    fixed: str
    """What the answer 'fixed' says, in words."""
    moves: str


class PartSaid(Schema):
    """What was said of a part of the rig, with a way back."""

    quantity: str
    text: str


class PartIn(Schema):
    """Whether a quantity is fixed on this rig (or the part absent), or moves; None takes the answer back."""

    quantity: Literal[
        "filter",
        "telescope",
        "focal length",
        "gain",
        "offset",
        "binning",
        "temperature",
        "angle",
        "focus",
        "dark flat",
    ]
    says: Literal["fixed", "moves"] | None


class RigZoneIn(Schema):
    """The time zone of the place where a rig stands; None is that of the site."""

    time_zone: str | None = Field(default=None, max_length=64)


class SlipOut(Schema):
    """A pull slip."""

    set_id: int
    title: str
    target: str
    filter_code: str | None
    passband_nm: float | None
    verdict: VerdictWord
    lines: list[SlipLineOut]
    columns: list[CountOut]
    warnings: list[str]
    questions: list[QuestionOut]
    said: list[PartSaid]
    rig_id: int
    gain_word: str
    advice: str
    offers: list[str]
    """Of what could be on tonight's sheet, what brings these lights what they lack."""
    against: str
    """What speaks against shooting it now."""


class SeenLightOut(Schema):
    """A light that can be looked at."""

    frame_id: int
    name: str
    rejected: bool


class CorrectionOut(Schema):
    """Whether a slip's flat corrects one of its lights."""

    set_id: int
    frame_id: int
    lights: list[SeenLightOut]
    dark_frame_id: int | None
    flat_frame_id: int | None
    bias_frame_id: int | None
    dark_share: float
    """Where the dark is scaled: with which bias, and how much of it is taken."""
    used: str
    lacking: list[str]
    """What keeps the light from being calibrated whole."""
    corrects: (
        Literal["it corrects", "it corrects too little", "it corrects too much", "it cannot be told"] | None
    )
    slope_text: str
    corner_text: str
    meaning: str


class LightQuery(Schema):
    """Which light."""

    frame: int | None = Field(default=None, ge=1, le=2**53)


class MatchIn(Schema):
    """Files and folders of lights."""

    paths: list[str] = Field(min_length=1, max_length=10_000)


class MatchedOut(Schema):
    """A set of lights that was asked about, and its slip."""

    frames: int
    """So many of its frames were asked about."""
    night: date | None
    """The evening of its night; none where no clock told it."""
    slip: SlipOut


class MatchOut(Schema):
    """Slips for files and folders."""

    verdict: str
    """The worst of all."""
    matched: list[MatchedOut]
    not_known: list[str]
    """Files and folders in which the library knows no light."""
