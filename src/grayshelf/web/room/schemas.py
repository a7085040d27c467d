"""What goes to and fro: room on the disks, and raw frames that are let go."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from grayshelf.core.filing.letting_go import RawFrames
from grayshelf.library.filing import FiledBy
from grayshelf.web.common.schemas import Schema
from grayshelf.web.filing.schemas import FiledOut
from grayshelf.web.intake.schemas import CountOut

LetGoBy = Literal[FiledBy.PACK, FiledBy.MOVE, FiledBy.THROW]


class RoomOfKindOut(Schema):
    """Room that one kind of frame takes."""

    kind: str
    title: str
    n_frames: int
    size_text: str
    share: float
    """Of all, 0 … 1."""
    by_age: list[str]
    """Sizes in the order of `ages`."""


class DiskOut(Schema):
    """A disk on which folders of the library lie."""

    folders: list[str]
    free_text: str
    whole_text: str
    taken_share: float
    """Of the disk, by whatever lies on it, 0 … 1."""


class RawNightOut(Schema):
    """Raw frames of one kind and night."""

    key: str
    kind: str
    title: str
    night: str
    set_ids: list[int]
    n_frames: int
    n_packed: int
    size_bytes: int
    size_text: str
    kept_for: str
    """Why they are not thrown away; empty where they may be."""
    wished: RawFrames
    """What the house rule wishes of them today."""


class RoomOut(Schema):
    """The page Room."""

    total_text: str
    n_frames: int
    ages: list[str]
    kinds: list[RoomOfKindOut]
    disks: list[DiskOut]
    nights: list[RawNightOut]
    more_nights: int
    """Nights with little that are not listed."""
    filed: list[FiledOut]


class LetGoIn(Schema):
    """Raw frames of which sets are let go, and how."""

    set_ids: list[int] = Field(max_length=20_000)
    way: LetGoBy
    root: str = Field(default="", max_length=4096)
    """The folder on another disk that they are moved into."""


class LetGoPreviewOut(Schema):
    """What would become of raw frames."""

    n_frames: int
    size_text: str
    lost: list[str]
    """What could no longer be done, in sentences."""
    stays: list[CountOut]
    trouble: str
    advice: str
