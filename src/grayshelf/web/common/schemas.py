"""What goes to and fro: what every place of the page has in common: jobs, gates, rulers and words."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import BaseModel, ConfigDict

from grayshelf.work.job_states import JobState

VerdictWord = Literal["fits", "fits with care", "nothing fits"]


class Schema(BaseModel):
    """Something that goes to a page or comes from it; what checks it is made when it is needed first."""

    model_config = ConfigDict(defer_build=True)


class Done(Schema):
    """It is done."""

    message: str


class PlaceToldOut(Schema):
    """Where headers say that the site is; degrees north and east."""

    latitude: float
    longitude: float
    text: str


class JobOut(Schema):
    """A piece of long work."""

    id: int
    kind: str
    title: str
    state: JobState
    progress: float
    message: str
    advice: str
    rig_id: int | None
    seconds_left: float | None
    can_pause: bool
    can_stop: bool
    can_resume: bool
    ended: str | None
    troubles: list[str]
    """What of it failed, though the rest was done."""


class JobsOut(Schema):
    """Work in progress, and what ended lately."""

    alive: list[JobOut]
    ended: list[JobOut]


class RulerOut(Schema):
    """A tolerance ruler."""

    quantity: str
    kind: Literal["band", "exact", "age"]
    unit: str
    wanted: float | str | None
    measured: float | str | None
    distance: float | None
    tolerance: float | None
    inside: bool
    unknown: bool
    note: str
    from_name: bool
    """One of the two values is only from a file's name."""
    by_hand: bool
    """One of the two values was said by a person."""
    text: str
    """The distance in the trade's unit, '+0.1 °C'."""


class GateOut(Schema):
    """Something for a hand to do before work goes on."""

    job_id: int
    step_id: int
    """0 before the work is begun."""
    sign: str
    title: str
    advice: str
    brief: str
    answer: str
    leave_out: str
    """The words for leaving out what waits behind it; empty where that is not possible."""


class AnswerIn(Schema):
    """The answer at a gate."""

    step_id: int
    answer: Literal["done", "leave out"]


class StartedOut(Schema):
    """A run was started."""

    job_id: int


class RefusedOut(Schema):
    """A frame that came in and was not the one asked for."""

    name: str
    why: str


class SlipAt(Schema):
    """Where a slip is found."""

    night: date | None
    set_id: int
