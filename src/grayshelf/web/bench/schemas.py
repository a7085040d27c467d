"""What goes over the wire for the Bench."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from grayshelf.web.common.schemas import GateOut, JobOut, RefusedOut, Schema

Kind = Literal["offset", "gain"]


#: How a measurement stands at one gain.
GainState = Literal["going on", "done", "no answer", "not begun"]


class FindingOut(Schema):
    """Something about the frames that the reader must know."""

    message: str
    advice: str
    serious: bool


class MeasuredNumber(Schema):
    """A number with its 95 % interval, as it is said."""

    value: float | None
    plus_minus: float | None
    text: str
    """'0.253 ± 0.001', or '–'."""


class EffectOut(Schema):
    """What one offset would do."""

    offset: float
    mean: float
    floor: float
    clipped: float
    cost_percent: float
    cost_stops: float
    holds: bool
    says: str
    """What it would clip or cost, in a sentence."""
    left_behind: str
    """What of the shelf lights at it could not use; empty where there is nothing."""


class RungOut(Schema):
    """All bias frames of one offset."""

    offset: float
    n_frames: int
    mean: float
    darkest_percent: float
    darkest_permyriad: float
    minima: list[int]
    """The darkest good pixel of each frame."""
    zeros: int
    """Good pixels at zero, in all frames together."""
    zeros_text: str


class DeadOut(Schema):
    """A pixel that was left out."""

    column: int
    row: int
    level: float
    share: float


class OffsetLine(Schema):
    """mean = at_zero + slope · offset, and the floor below it."""

    at_zero: float
    slope: float | None
    floor_at_zero: float | None
    """floor = floor_at_zero + slope · offset: 99 in 100 frames have their darkest good pixel above it."""
    floor_from: float | None
    """The offset at which the floor leaves zero."""


class AcceptedOut(Schema):
    """What counts for a camera at one gain."""

    gain: float
    gain_text: str
    value: str
    detail: str
    when: str
    own_choice: bool
    measurement_id: int | None
    warning: str
    """Pairs that lights use and that do not hold, or were never checked."""


class OffsetGainOut(Schema):
    """The offset exercise at one gain."""

    gain: float
    gain_text: str
    headline: str
    reason: str
    cost: str
    next: str
    state: GainState
    n_frames: int
    n_full_ladder: int
    n_pixels: int
    white: float
    rungs: list[RungOut]
    line: OffsetLine | None
    depth: float | None
    """How far below the mean 99 % of frames' darkest good pixels stay above; negative."""
    uncertainty: float | None
    margin: float
    answer: EffectOut | None
    confirmed: bool
    effects: list[EffectOut]
    dead: list[DeadOut]
    findings: list[FindingOut]
    accepted: AcceptedOut | None


class CurvePoint(Schema):
    """A pair of flats on the transfer curve."""

    exposure_s: float
    level: float
    signal: float
    variance: float
    used: bool
    full: bool
    residual_percent: float | None
    off_line_percent: float | None
    source: str


class ChannelOut(Schema):
    """The transfer of one colour channel at one gain."""

    name: str
    points: list[CurvePoint]
    pedestal: float
    quantisation: float
    dark_variance: float | None
    slope: float | None
    """K in ADU/e⁻."""
    saturation_signal: float | None
    linear_signal: float | None
    straight_within_percent: float
    """A level is straight that lies no further from the line."""
    e_per_adu: MeasuredNumber
    e_per_step: MeasuredNumber
    read_noise: MeasuredNumber
    usual_read_noise: MeasuredNumber
    capacity: MeasuredNumber
    full_well: MeasuredNumber
    linear_limit: MeasuredNumber
    stops: MeasuredNumber
    quick: bool
    findings: list[FindingOut]


class GainGainOut(Schema):
    """The gain exercise at one gain."""

    gain: float
    gain_text: str
    offset_text: str
    """'offset 30'; empty of a camera that has none to set."""
    state: GainState
    next: str
    n_frames: int
    channels: list[ChannelOut]
    speaks: str | None
    """The channel that speaks for this gain where gains are compared."""
    findings: list[FindingOut]
    accepted: AcceptedOut | None
    can_accept: bool


class SuggestionOut(Schema):
    """A gain to use."""

    purpose: str
    gain: float
    gain_text: str
    reason: str
    runner_up: str
    left_behind: str
    """What of the shelf lights at it could not use; empty where there is nothing."""


class GainsOut(Schema):
    """All gains of a measurement, side by side."""

    gains: list[GainGainOut]
    unity_gain: float | None
    unity_text: str
    switch: list[float] | None
    switch_text: str
    suggestions: list[SuggestionOut]
    step: int


class FramesOut(Schema):
    """The frames of a measurement."""

    count: int
    size: str
    state: str


class NumberToSetOut(Schema):
    """A number to set, and as it is copied."""

    name: str
    copied: str


class HandAskOut(Schema):
    """What another program is asked to shoot next."""

    line: str
    before: str
    dials: list[NumberToSetOut]
    refused: list[RefusedOut]
    folder: str


class MeasurementOut(Schema):
    """One measurement, with everything it says."""

    id: int
    kind: Kind
    camera: str
    title: str
    when: str
    source: str
    conditions: str
    notes: list[str]
    frames: FramesOut
    job: JobOut | None
    gate: GateOut | None
    hand: HandAskOut | None
    offset: list[OffsetGainOut]
    gain: GainsOut | None
    earlier: list[BenchItem]
    """Measurements of the same camera and kind made before, to lay under this one."""


class BenchItem(Schema):
    """A measurement in a list."""

    id: int
    title: str
    when: str
    gains: list[float]
    source: str


class GainOffer(Schema):
    """A gain that could be measured."""

    gain: float
    text: str
    in_use: bool
    note: str


class FilterOffer(Schema):
    """A filter that could be in while a gain is measured."""

    code: str
    passband_nm: float | None


class DiskOfferOut(Schema):
    """Frames on disk that could be measured."""

    gain: float
    gain_text: str
    text: str
    set_ids: list[int]
    quick: bool


class NoneToSetOut(Schema):
    """A camera that has no offset, as far as is known."""

    head: str
    why: str


class BenchOut(Schema):
    """What the Bench can measure of a rig's camera, and what it has."""

    kind: Kind
    camera: str
    can_shoot: bool
    by_folder: bool
    """Whether another program may shoot it, into a folder."""
    cannot: str
    none_to_set: NoneToSetOut | None
    """Why there is no offset to find; None where there may be."""
    gain_word: str
    one_gain: bool
    """Whether there is one gain and no dial for it: 0 stands for it."""
    gain_range: list[float] | None
    offset_range: list[float] | None
    gains: list[GainOffer]
    filters: list[FilterOffer]
    filter_code: str | None
    seconds_per_gain: float
    frames_per_gain: int
    disk: list[DiskOfferOut]
    measurements: list[BenchItem]
    accepted: list[AcceptedOut]


class ShootIn(Schema):
    """Measure with the rig."""

    gains: list[float] = Field(min_length=1, max_length=24)
    margin_adu: float | None = Field(default=None, ge=0, le=5000)
    long_dark_s: float = Field(default=60.0, ge=0, le=3600)
    filter_code: str | None = None
    folder: str | None = Field(default=None, max_length=4096)
    """Where another program writes the frames; None lets the rig shoot them."""
    offset_from: float = Field(default=0.0, ge=0, le=65_535)
    offset_to: float = Field(default=100.0, ge=0, le=65_535)
    """The offsets that the camera has, where another program sets them."""


class DiskIn(Schema):
    """Measure from frames on disk."""

    set_ids: list[int] = Field(min_length=1, max_length=2000)


class AcceptIn(Schema):
    """Keep a value with the camera."""

    gain: float
    offset: float | None = None


class ForgetIn(Schema):
    """Take the newest accepted value back."""

    kind: Kind
    gain: float


class MeasuringOut(Schema):
    """A measurement that was started."""

    job_id: int
    measurement_id: int
