"""What goes over the wire for flats on the twilight sky."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal

from pydantic import Field

from grayshelf.core.flats.sky.plan import MOST_WISHED
from grayshelf.core.flats.sky.sun import FIRST_DAY, LAST_DAY
from grayshelf.web.common.degrees import Latitude, Longitude
from grayshelf.web.common.schemas import GateOut, JobOut, PlaceToldOut, Schema
from grayshelf.web.flats.schemas import FlatKeyIn


class SkyChoice(Schema):
    """So many flats of one row."""

    key: FlatKeyIn
    count: int = Field(ge=0, le=MOST_WISHED)


class TwilightIn(Schema):
    """Which twilight to look at; without a choice the rig's own."""

    at: Literal["dusk", "dawn", "last"] | None = None
    day: date | None = Field(default=None, ge=FIRST_DAY, le=LAST_DAY)
    rows: list[SkyChoice] | None = Field(default=None, max_length=200)


class PlaceIn(Schema):
    """Where a rig stands."""

    latitude: Latitude
    """Degrees north."""
    longitude: Longitude
    """Degrees east."""


class StartTwilightIn(Schema):
    """Shoot the next dusk or dawn."""

    at: Literal["dusk", "dawn"]
    rows: list[SkyChoice] = Field(min_length=1, max_length=200)
    folder: str | None = Field(default=None, max_length=2000)
    """Where another program writes its frames; None where the rig shoots them."""


class SkyMark(Schema):
    """A place on the scale of time, in minutes, with what is written there."""

    x: float
    text: str


class SunMark(Schema):
    """When the sun passes a whole degree of altitude, in minutes."""

    x: float
    degree: int
    text: str


class SkyShotOut(Schema):
    """One frame of the sky."""

    x: float
    """When it began, in minutes."""
    what: Literal["flat", "set aside", "look"]
    text: str
    why: str


class SkyRowOut(Schema):
    """A row of the sheet that can be chosen for the sky."""

    key: FlatKeyIn
    gain_text: str
    passband_nm: float | None
    count: int


class TwilightRow(SkyRowOut):
    """One row in a twilight; times are minutes of the chart's scale."""

    done: int
    set_aside: int
    fit: int
    planned: int
    opens: float | None
    shuts: float | None
    begins: float | None
    ends: float | None
    first_exposure_s: float | None
    last_exposure_s: float | None
    window_text: str
    plan_text: str
    exposures_text: str
    light_text: str
    trouble: str
    """Why nothing can be said of it."""
    state: Literal["plan", "waits", "now", "done", "short"]
    shots: list[SkyShotOut]


class TwilightOut(Schema):
    """One dusk or dawn, looked ahead at, going on, or as it was."""

    rig: str
    at: Literal["dusk", "dawn"]
    shows: Literal["plan", "run"]
    day: date
    first_day: date = FIRST_DAY
    """Between this and the last one the sun is known."""
    last_day: date = LAST_DAY
    title: str
    under: str
    zero: datetime
    """Of the chart's scale."""
    from_x: float
    to_x: float
    now_x: float | None
    hours: list[SkyMark]
    sun: list[SunMark]
    rows: list[TwilightRow]
    others: list[SkyRowOut]
    """Rows of the sheet that are not chosen."""
    most: int
    """Flats of one row that can be asked for."""
    fade_text: str
    next_text: str
    known_text: str
    """What the light is reckoned from."""
    place: str
    """Latitude and longitude; empty where nobody entered them."""
    place_told: PlaceToldOut | None
    """What headers say of it, where nobody entered it."""
    can_shoot: bool
    by_folder: bool
    """Another program may shoot it, whose folder is watched."""
    cannot: str
    job: JobOut | None
    gate: GateOut | None
    has_last: bool
    last_text: str
    missed_text: str
    """What the last twilight did not bring, which is picked where nobody chose."""
    failed: list[str]
    """Masters that could not be built, and why."""
