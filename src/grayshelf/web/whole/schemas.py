"""What goes to and fro: what is not of one place: the library’s state, work, search."""

from __future__ import annotations

from datetime import date, datetime

from pydantic import Field

from grayshelf.web.common.schemas import Schema


class RigBrief(Schema):
    """A rig in the rig holder."""

    id: int
    name: str
    camera: str
    telescope: str | None
    has_devices: bool
    n_sets: int
    retired: bool
    """No longer used: it stands behind the others, and is never the first that is shown."""


class StateOut(Schema):
    """What every page needs to know."""

    version: str
    demo: bool
    now: datetime
    clock: str
    """Local time of the site, '01:12'."""
    night: date
    night_title: str
    site: str
    time_zone: str
    rate: float | None
    fast_rate: float
    fast: bool
    rigs: list[RigBrief]
    n_frames: int
    n_masters: int
    n_folders: int
    own_folder: str
    left_out: str
    """Sets that could not be shown, in words; empty where there are none."""


class ClockIn(Schema):
    """Whether the demo's waits pass faster than real ones."""

    fast: bool


class FoundOut(Schema):
    """Something that the search found."""

    kind: str
    title: str
    detail: str
    href: str
    rig_ids: list[int]
    """Rigs at which it is seen; empty where it is seen at any."""


class FindsOut(Schema):
    """What the search found."""

    items: list[FoundOut]


class SearchQuery(Schema):
    """What to search for."""

    q: str = Field(default="", max_length=100)
