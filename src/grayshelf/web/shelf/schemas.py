"""What goes to and fro: the shelf: its walls and cards."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import Field

from grayshelf.web.common.schemas import RulerOut, Schema, VerdictWord


class SpineOut(Schema):
    """A master, or a set not combined yet, as it stands on the shelf."""

    id: int
    kind: str
    title: str
    gain: float | None
    gain_text: str
    """Empty where the camera was said to have none."""
    foot: str
    """What tells it from its neighbours: its gain, with its offset where several of one gain stand side by side."""
    frames: int
    """As tall as it stands: where it is not known, as many as is usual."""
    frames_text: str
    frames_words: str
    date: str
    age_step: int
    age: str
    care: list[str]
    is_master: bool
    row: str
    column: str


class GapOut(Schema):
    """A master that lights wait for."""

    key: str
    kind: str
    title: str
    gain: float | None
    gain_text: str
    filter_code: str | None
    lights: int
    targets: list[str]
    nights: str
    row: str
    column: str
    frames: int
    nearest: str
    takes: str
    offer: str | None
    """Key on tonight's sheet, where it can be shot tonight."""
    on_sheet: bool
    against: str
    """What speaks against shooting it now, where it is not on the sheet."""


class HeadOut(Schema):
    """A row or a column of a wall."""

    key: str
    title: str
    detail: str


class WallOut(Schema):
    """A wall of the shelf."""

    rows: list[HeadOut]
    columns: list[HeadOut]
    spines: list[SpineOut]
    gaps: list[GapOut]


class ShelfOut(Schema):
    """The page Shelf."""

    rig: str
    camera: str
    about: str
    gains: list[float]
    gain_word: str
    darks: WallOut
    flats: WallOut
    bias: list[SpineOut]
    gaps: list[GapOut]
    no_bias: str
    """Which lights wait for a bias, in a sentence; empty where none do."""
    empty: bool


class FigureOut(Schema):
    """A number on a card."""

    name: str
    value: float
    text: str
    unit: str


class InputOut(Schema):
    """A frame of a set or master."""

    frame_id: int | None
    name: str
    mean: float | None
    noise: float | None
    temp: float | None
    by_hand: Literal["", "in", "out"]
    """What a person said of it since, or before."""
    level: float | None
    used: bool
    reason: str
    clipped_percent: float
    sha256: str


class FindingOfMasterOut(Schema):
    """Something that was found wrong with a master or its frames."""

    fault: str
    size_text: str
    message: str
    advice: str
    left_out: bool
    """Whether frames were left out for it."""
    place: PlaceOut | None


class PlaceOut(Schema):
    """A part of the picture, as shares of its width and height."""

    left: float
    top: float
    width: float
    height: float


class EnoughOut(Schema):
    """What so many frames cost the lights that use a master, in percent of their noise."""

    lights: str
    fewest: int
    percent: list[float]
    """For `fewest` frames, one more, and so on."""
    ruled: str
    """Of a dark: whether its read-out or its dark current rules its noise."""


class FrameUseIn(Schema):
    """Whether a frame goes into the next master of its set."""

    use: Literal["in", "out", "as found"]


class CombineIn(Schema):
    """How a set is to be combined."""

    method: Literal["clipped mean", "mean", "median", "mean without extremes"] = "clipped mean"
    kappa: float = Field(default=3.3, ge=1.5, le=10.0, allow_inf_nan=False)
    rounds: int = Field(default=3, ge=1, le=10)
    spread: Literal["pooled", "std", "mad"] = "pooled"


class ShadowOut(Schema):
    """The shadow of a speck on a flat."""

    number: int
    x: float
    y: float
    diameter: float
    """In pixels, as its place."""
    depth_percent: float
    depth_text: str
    distance_text: str
    """How far in front of the sensor the speck lies; empty where that cannot be told."""
    surface: str
    why: str
    since: str


class LightFallOut(Schema):
    """How the light falls on a flat."""

    middle_x: float | None
    middle_y: float | None
    middle_text: str
    rings: list[list[float]]
    """Percent of the half diagonal, and percent of the middle's light there."""
    contours: list[list[float]]
    """Percent of the middle's light, and how many pixels from the middle it falls to that."""
    corners: list[float]
    """Upper left, upper right, lower left, lower right, in percent of the middle's light."""


class LightChangeOut(Schema):
    """What changed in how the light falls since the last flat."""

    since: str
    frame_id: int
    percent: float
    text: str


class DustOut(Schema):
    """The dust on a flat, and how its light falls."""

    set_id: int
    frame_id: int
    width: int
    height: int
    shadows: list[ShadowOut]
    flats: int
    """So many flats were looked at, this one among them."""
    left: int
    """So many are still to be looked at: ask again."""
    no_distance: str
    advice: str
    light: LightFallOut
    change: LightChangeOut | None
    steady: str
    """What shadows that do not come back to their place mean; else empty."""


class ServedOut(Schema):
    """Lights that use a master."""

    set_id: int
    rig_id: int
    """Of the rig that took them: several may have the camera."""
    night: date
    night_title: str
    target: str
    filter_code: str | None
    passband_nm: float | None
    text: str
    verdict: VerdictWord
    ruler: RulerOut | None


class PictureOut(Schema):
    """Where a picture is, and its stretch."""

    url: str
    width: int
    height: int
    black: str
    white: str
    unit: str


class FrameViewOut(Schema):
    """A frame of the set, to step through."""

    frame_id: int
    name: str


class CardOut(Schema):
    """The card of a spine."""

    spine: SpineOut
    title: str
    subtitle: str
    picture: PictureOut | None
    picture_trouble: str
    figures: list[FigureOut]
    settings: list[FigureOut]
    made: str
    noise: list[FigureOut]
    enough: EnoughOut | None
    findings: list[FindingOfMasterOut]
    empty: bool
    """No pixel of it holds a number: it serves no lights, and there is nothing on it to look for."""
    checked: bool
    """Whether its frames, or it, were looked at; an older one was not."""
    can_remake: bool
    few_frames: bool
    """So few that the lowest and the highest of each pixel may be left out."""
    pending: int
    """Frames of which something else was said since it was made."""
    inputs: list[InputOut]
    inputs_note: str
    level_unit: str
    serves: list[ServedOut]
    n_lights: int
    file: str
    can_build: bool
    taken_off: bool
    still_good: HeldOut | None
    """None where it is no master."""
    frames: list[FrameViewOut]


class NewerOut(Schema):
    """Something that a master can be held against."""

    frame_id: int
    title: str
    detail: str


class StillGoodOut(Schema):
    """How a master did when it was held against something newer."""

    serves: Literal["still good", "use with care", "make it anew"]
    line: str
    against: str
    frame_id: int | None
    """Of what it was held against, where that is still there."""
    own_frame_id: int
    shadows: list[list[float]]
    """Of flats, those that came, went or moved: column, row, diameter in pixels, depth in percent."""


class HeldOut(Schema):
    """What a master can be held against, and how it did last."""

    newer: list[NewerOut]
    held: StillGoodOut | None


class HoldIn(Schema):
    """What it is to be held against."""

    frame_id: int = Field(ge=1, le=2**53)


class PictureQuery(Schema):
    """How large a picture."""

    size: int = Field(default=640, ge=16, le=1280)
