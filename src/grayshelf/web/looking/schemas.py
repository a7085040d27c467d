"""What goes to and fro: pictures that are looked at closely."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from grayshelf.web.common.schemas import Schema

#: More than any number in the library, and any side of a frame.
_NUMBER = Field(default=None, ge=1, le=2**53)


class ViewQuery(Schema):
    """What is looked at (see `library.views.View`)."""

    how: Literal["alone", "minus", "over", "calibrated"] = "alone"
    other: int | None = _NUMBER
    dark: int | None = _NUMBER
    flat: int | None = _NUMBER
    bias: int | None = _NUMBER
    share: float = Field(default=1.0, gt=0.0, le=1.0)
    colour: Literal["red", "green", "blue"] | None = None


class TileQuery(ViewQuery):
    """Which part of it."""

    level: int = Field(default=1, ge=1, le=1024)
    column: int = Field(default=0, ge=0, le=100_000)
    row: int = Field(default=0, ge=0, le=100_000)


class ProfileQuery(ViewQuery):
    """Which line through it."""

    along: Literal["row", "column", "radius"] = "row"
    place: int = Field(default=0, ge=0, le=1_000_000)
    band: int = Field(default=1, ge=1, le=101)


class ViewOut(Schema):
    """A picture that can be looked at: its size, its unit, and the stretch that it begins with."""

    name: str
    title: str
    """Of the set it is from."""
    width: int
    height: int
    unit: str
    digits: int
    """Behind the point, for its levels."""
    black: float
    white: float
    tile: int
    """Side of a tile in its own pixels."""
    colours: list[Literal["red", "green", "blue"]]
    version: str


class HistogramOut(Schema):
    """How often each level occurs in a picture."""

    first: float
    step: float
    counts: list[int]
    below: int
    above: int
    lowest: float
    highest: float
    median: float
    mean: float
    unknown: int


class ProfileOut(Schema):
    """Levels along a line; null where no pixel holds a number."""

    at: list[float]
    level: list[float | None]
    step: float


class BesideFrameOut(Schema):
    """A picture that another can be held against."""

    frame_id: int
    title: str
    detail: str


class BesideGroupOut(Schema):
    """Such pictures of one origin."""

    title: str
    frames: list[BesideFrameOut]


class BesideOut(Schema):
    """What a picture can be held against."""

    groups: list[BesideGroupOut]


class ReadValueOut(Schema):
    """A value that was read of a frame; empty where it is not known."""

    word: str
    value: str
    origin: str
    """Where it is from, where that is not the usual keyword."""


class CardLineOut(Schema):
    """A card of a header."""

    keyword: str
    value: str
    comment: str


class FrameSheetOut(Schema):
    """All that is known of one frame."""

    id: int
    name: str
    path: str
    state: str
    reason: str
    advice: str
    size_text: str
    sha256: str
    values: list[ReadValueOut]
    cards: list[CardLineOut]
    trouble: str
    """Why its header cannot be read now; empty where it can."""
    twin: BesideFrameOut | None
    """What counts in place of it, where it is a duplicate."""
    can_be_seen: bool
