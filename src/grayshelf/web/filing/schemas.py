"""What goes to and fro: how frames are filed, what would go where, what was filed."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from grayshelf.core.filing.filing import Sort
from grayshelf.library.filing import FiledBy
from grayshelf.web.common.schemas import JobOut, Schema
from grayshelf.web.intake.schemas import CountOut
from grayshelf.web.mending.schemas import FolderNamedOut, FramesMeantIn, NamedOut


class PatternIn(Schema):
    """The pattern for one sort of frames."""

    sort: Sort
    text: str = Field(max_length=400)


class FilingIn(Schema):
    """Which frames are filed, and how."""

    choice: FramesMeantIn
    root: str = Field(default="", max_length=4096)
    """The folder that is filed into."""
    patterns: list[PatternIn]
    unknown: str = Field(default="unknown", max_length=40)
    """What stands for a value that is not known, outside of brackets."""
    way: Literal[FiledBy.MOVE, FiledBy.COPY]
    along: bool
    """Files that are no frames go along with their folder."""


class FiledOut(Schema):
    """Something that was filed before."""

    id: int
    on: str
    words: str
    root: str
    way: FiledBy
    size_text: str
    """Of what is in its place, as it was before."""
    counts: list[CountOut]
    taken_back: str
    """When; empty while it stands."""
    can_take_back: bool
    can_delete: bool
    """It was thrown away, and can be deleted for good."""
    job: JobOut | None
    """What files it, or brings it back, where that can be stopped or gone on with."""


class PatternOut(Schema):
    """The pattern for one sort of frames, and the one that this begins with."""

    sort: Sort
    text: str
    usual: str


class FilingOut(Schema):
    """The page File."""

    root: str
    patterns: list[PatternOut]
    unknown: str
    way: Literal[FiledBy.MOVE, FiledBy.COPY]
    along: bool
    parts: list[NamedOut]
    folders: list[FolderNamedOut]
    cameras: list[str]
    kinds: list[str]
    may_lack: list[str]
    from_now_on: list[int]
    """Folders whose new frames are filed by themselves."""
    filed: list[FiledOut]


class FromNowOnIn(Schema):
    """Folders whose new frames are filed by themselves."""

    folder_ids: list[int] = Field(max_length=1000)


class FiledRowOut(Schema):
    """A file: where it is, where it goes, or why it stays."""

    source: str
    target: str
    stays: str


class ExampleOut(Schema):
    """One frame's path by the pattern of its sort."""

    sort: Sort
    path: str
    count: int


class FilingPreviewOut(Schema):
    """What would go where."""

    frames: int
    going: int
    in_place: int
    along: int
    size_text: str
    examples: list[ExampleOut]
    folders: list[CountOut]
    more_folders: int
    stays: list[CountOut]
    """Why frames stay where they are, with how many."""
    rows: list[FiledRowOut]
    trouble: str
    advice: str
