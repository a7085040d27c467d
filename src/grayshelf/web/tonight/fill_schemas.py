"""What goes to and fro: filling the shelf."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from grayshelf.core.planning.sensor_then import SensorThen
from grayshelf.web.common.schemas import Schema
from grayshelf.web.tonight.schemas import OutOfReachOut, ReadyOut, StepOut

#: No camera’s gain or offset goes further.
MOST_SET = 1e6
#: How a cell of the wall stands: shot, not shot, taken out by hand, not to be held by the cooler, or only on the shelf.
CellState = Literal["on", "off", "out", "too cold", "there"]


class FillQuery(Schema):
    """What the person chose; lists are divided by commas, counts are 'key=30'."""

    until: str | None = Field(default=None, max_length=8)
    hours: float | None = None
    battery_wh: float | None = None
    watts: float | None = None
    air_c: float | None = Field(default=None, ge=-60, le=60)
    put_on: str = Field(default="", max_length=20_000)
    left_out: str = Field(default="", max_length=20_000)
    counts: str = Field(default="", max_length=20_000)


class FillIn(FillQuery):
    """What to start."""

    by_hand: bool = False
    sensor_then: SensorThen = SensorThen.KEPT_COLD
    folder: str | None = Field(default=None, max_length=2000)


class LadderIn(Schema):
    """A ladder of exposures at some set points."""

    exposures: str = Field(max_length=500)
    temps: str = Field(default="", max_length=200)
    """Empty: as warm as the sensor is."""
    set_up: str = Field(default="", max_length=200)
    """Of a wall; empty where the three below say it."""
    gain: float = Field(default=0.0, ge=0.0, le=MOST_SET)
    offset: float = Field(default=0.0, ge=0.0, le=MOST_SET)
    binning: int = Field(default=1, ge=1, le=16)


class LadderOut(Schema):
    """What it puts on the sheet."""

    keys: list[str]


class FillCellOut(Schema):
    """One exposure at one set point; or a bias."""

    key: str
    kind: str
    title: str
    temp: str
    exposure: str
    state: CellState
    asked: bool
    """The person put it on."""
    frames: int
    """On the sheet."""
    usual: int
    there: str
    """'50 frames, 3 weeks old'; empty where nothing stands there."""
    there_id: int | None
    age_step: int
    lights: int
    missing: bool
    """Lights wait for it that have nothing."""
    why: str
    for_whom: str
    helps: str
    """What it adds: lights served, percent of noise."""
    takes: str


class FillRowOut(Schema):
    """A set point."""

    temp: str
    power: str
    """'62 % of the cooler’s power'; empty where that is not known."""
    held: bool
    cells: list[FillCellOut | None]


class FillWallOut(Schema):
    """Darks of one way the camera is set."""

    set_up: str
    title: str
    columns: list[str]
    rows: list[FillRowOut]
    light_exposures: str
    """Exposures of the lights that were taken so: '60, 300 s'."""


class FillOut(Schema):
    """The page before it starts."""

    rig_id: int
    clock: str
    until: str
    """'05:30', for the field."""
    there_is_end: datetime
    set_by: str
    headline: str
    end: str | None
    over: str
    """Where what was asked for does not fit into the time."""
    series: int
    frames: int
    takes: str
    left: str
    """Of the time that there is."""
    space: str
    served: int
    waiting: int
    """Lights that have no dark now."""
    walls: list[FillWallOut]
    bias: list[FillCellOut]
    warnings: list[str]
    air: str
    coldest: str
    not_now: str
    """What would help and does not fit into the time."""
    out_of_reach: list[OutOfReachOut]
    """Darks that are asked for and cannot be shot so, whatever the time."""
    ready: list[ReadyOut]
    steps: list[StepOut]
    start_label: str
    can_start: bool
    has_devices: bool
