"""What goes to and fro: intake: folders, sets, what to look at."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from grayshelf.web.common.degrees import Latitude, Longitude
from grayshelf.web.common.schemas import JobOut, PlaceToldOut, Schema


class FolderIn(Schema):
    """A folder on this machine."""

    path: str = Field(min_length=1, max_length=4096)


class WatchedIn(Schema):
    """Whether a folder is watched."""

    watched: bool


class SiteIn(Schema):
    """The site, by whose clock nights are counted."""

    name: str = Field(min_length=1, max_length=80)
    time_zone: str = Field(min_length=1, max_length=64)
    latitude: Latitude | None = None
    """Degrees north; left as it was where it is not sent."""
    longitude: Longitude | None = None
    """Degrees east; left as it was where it is not sent."""


class CountOut(Schema):
    """A number of frames of one kind or state."""

    name: str
    count: int


class FolderOut(Schema):
    """A folder that the user named."""

    id: int
    path: str
    scanned: str | None
    trouble: str
    passed_over: str
    """Files that were seen and are not read, in words; empty where there is nothing to say of them."""
    total: int
    kinds: list[CountOut]
    to_look_at: int
    copies: int
    """Files that are once more a frame that counts."""
    missing: int
    """Frames whose files are not where they were; they keep their sets."""
    job: JobOut | None
    watched: bool
    """What comes into it is taken in by itself."""


class ProblemOut(Schema):
    """A file that could not be read, or lacks a value that matters."""

    id: int
    path: str
    folder_id: int
    state: str
    reason: str
    advice: str


class ProblemsOut(Schema):
    """A page of files to look at."""

    items: list[ProblemOut]
    total: int
    page: int
    pages: int
    counts: list[CountOut]


class SetOut(Schema):
    """A set, as Intake lists it."""

    id: int
    kind: str
    title: str
    camera: str
    night: str
    n_frames: int
    state: str
    can_build: bool
    origin: str
    from_name: list[str]
    """Values that only the files' names give: 'gain 100'."""
    names_say: Literal["in doubt", "agree", "right", "wrong"] | None
    """What is thought of them; None where the headers say everything."""
    missing: str
    """'3 of its 20 files are missing'; empty where all are there."""
    come_since: int
    """Frames that came to it since it was combined."""


class SetsOut(Schema):
    """A page of sets."""

    items: list[SetOut]
    total: int
    page: int
    pages: int
    to_build: int


class RigZoneOut(Schema):
    """Where a rig stands, by its clock; None: at the site."""

    rig_id: int
    name: str
    time_zone: str | None


class IntakeOut(Schema):
    """The page Intake."""

    site: str
    time_zone: str
    latitude: float | None
    longitude: float | None
    place_told: PlaceToldOut | None
    """What headers say of it, where nobody entered it."""
    zones: list[str]
    rig_zones: list[RigZoneOut]
    folders: list[FolderOut]
    own: FolderOut
    """The library’s own."""
    doubted_kinds: str
    """Frames that say another kind than the folder that they lie in, in words; empty where there are none."""
    backups: BackupsOut


class BackupIn(Schema):
    """Where the database is copied to; among the library's own copies where no file is named."""

    to: str | None = Field(default=None, max_length=4096)


class BackupsOut(Schema):
    """The copies of the database that are made by themselves."""

    newest: str
    """When; empty where there is none yet."""
    count: int
    folder: str


class BuildIn(Schema):
    """Which sets to combine; None: all that can be."""

    set_ids: list[int] | None


class NamesIn(Schema):
    """Whether what the files' names say of a set is right; None takes the answer back."""

    right: bool | None


class PageQuery(Schema):
    """Which page of a list."""

    page: int = Field(default=1, ge=1, le=1_000_000)
    state: str = ""
    kind: str = ""
