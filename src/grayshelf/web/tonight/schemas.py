"""What goes to and fro: tonight: the sheet, and its run."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from grayshelf.core.planning.flats_go import FlatsGo
from grayshelf.core.planning.sensor_then import SensorThen
from grayshelf.web.common.schemas import GateOut, JobOut, RefusedOut, RulerOut, Schema, SlipAt
from grayshelf.work.job_states import StepState


class OfferOut(Schema):
    """Flats or a dark that could be on tonight's sheet."""

    key: str
    kind: str
    title: str
    filter_code: str | None
    passband_nm: float | None
    detail: str
    note: str
    lights: int
    hole: bool
    on_sheet: bool
    more: bool = False
    """No lights wait for it."""


class StepOut(Schema):
    """A step of a sheet or run."""

    id: int
    kind: str
    title: str
    filter_code: str | None
    passband_nm: float | None
    count: int
    done: int
    state: StepState
    start: datetime
    end: datetime
    start_clock: str
    end_clock: str
    exposure: str | None
    exposure_known: bool
    needs_person: bool
    row: int | None
    gate: GateOut | None
    lights: int
    wanted: bool
    """Lights wait for this, and nothing on the shelf fits them."""
    outcome: str
    tick: Literal["off", "open", ""] = ""
    """Of a run by hand: whether the step can be ticked off, or opened again."""
    line: str = ""
    """And what it asks for, in one line."""


class ChoiceOut(Schema):
    """A number of frames, its cost and its end."""

    frames: int
    cost: float | None
    done_at: str
    chosen: bool


class ReadyOut(Schema):
    """One line of what to know before the start."""

    what: str
    text: str
    good: bool
    stops: bool
    ruler: RulerOut | None


class CoveredOut(Schema):
    """What the shelf holds already for tonight's lights."""

    holding_id: int
    kind: str
    title: str
    lights: int
    age_step: int
    ruler: RulerOut | None


class OutOfReachOut(Schema):
    """Lights that wait for something that cannot be shot now."""

    kind: str
    title: str
    lights: int
    why: str
    slip: SlipAt | None
    """On which what is not known can be said, where that is why."""


class ReminderOut(Schema):
    """Something that a person wants to be told."""

    when: str
    text: str = Field(max_length=500)


class RemindersIn(Schema):
    """All of a rig's."""

    reminders: list[ReminderOut] = Field(max_length=100)


class GateNameOut(Schema):
    """Where a reminder can stand."""

    when: str
    says: str


class TonightOut(Schema):
    """The page Tonight before a run."""

    rig_id: int
    clock: str
    headline: str
    empty_text: str
    """What it means that nothing is on the sheet, and what can be done; empty where something is."""
    start_label: str
    can_start: bool
    steps: list[StepOut]
    go: FlatsGo
    """Where tonight's flats go."""
    go_by_rule: bool
    """Whether that is so by the house rules."""
    go_text: str
    """What it means for this sheet."""
    shared: str
    """'One set of dark flats serves L, R and G.'; empty where each filter has its own."""
    offers: list[OfferOut]
    choices: list[ChoiceOut]
    cost_untold: str
    """Why none of the choices has a cost; empty where they have one."""
    cost_told_at: str | None
    """Where that can be mended."""
    ready: list[ReadyOut]
    covered: list[CoveredOut]
    covered_lights: int
    waiting_lights: int
    hands_free: str | None
    end: str | None
    has_devices: bool
    by_hand_label: str
    """'Shoot 25 flats in 4 filters yourself'; empty where nothing is on the sheet."""
    out_of_reach: list[OutOfReachOut]
    reminders: list[ReminderOut]
    reminded_at: list[GateNameOut]
    again: str
    """What the last run shot, where it can be shot again: 'flats in 5 filters and 2 darks'."""


class TestShotOut(Schema):
    """A shot of a run."""

    __test__ = False

    number: int
    exposure_s: float
    exposure: str
    level: float
    level_text: str
    ruler: RulerOut
    why: str
    probe: bool
    picture: str


class SearchOut(Schema):
    """A search for an exposure."""

    step_id: int
    filter_code: str
    passband_nm: float | None
    gain: float
    brightness: int | None
    target: float
    tolerance: float
    white: float
    shortest: float
    longest: float
    shortest_reason: str
    longest_reason: str
    pedestal: float
    rate: float | None
    shots: list[TestShotOut]
    next: str
    found: str | None
    found_s: float | None
    no_answer: str | None
    advice: str | None
    came_out: RulerOut | None
    """Of the flats that were shot with it, else of the level that it foretold, else of its last test shot."""


class SeriesOut(Schema):
    """A series being shot."""

    step_id: int
    title: str
    done: int
    count: int
    statistic: str
    """What the level is: the median of the frame, or of its brightest channel."""
    last: TestShotOut | None


class DialOut(Schema):
    """One number to set by hand: what it is called, as it is read, and as it is copied."""

    name: str
    text: str
    copied: str


class HandOut(Schema):
    """What a run by hand waits for."""

    step_id: int
    kind: str
    filter_code: str | None
    before: str
    """What has to be so before a frame is shot."""
    what: str
    """What to shoot, in one line."""
    by_rig: str = ""
    """What devices of the rig set meanwhile; empty where hands, or the other program, set all."""
    dials: list[DialOut]
    done: int
    count: int
    """0 where as many test flats are taken as are needed."""
    why: str
    refused: list[RefusedOut]
    """Files that came in and are not what was asked for, the newest first."""
    wrong_now: bool
    """No right frame has come in since the newest of them."""
    folder: str | None


class TickIn(Schema):
    """Tick a step of a run by hand off, or take that back."""

    step_id: int
    done: bool = True


class SeriesIn(Schema):
    """What is changed of a series that has not begun."""

    step_id: int
    count: int | None = None
    left_out: bool | None = None


class EndIn(Schema):
    """When a run has to be over: a time by the clock of the site; none takes it back."""

    until: str | None = Field(default=None, max_length=8)
    sensor_then: SensorThen = SensorThen.KEPT_COLD


class RunOut(Schema):
    """A run."""

    job: JobOut
    headline: str
    subline: str
    clock: str
    rig_id: int
    steps: list[StepOut]
    current: int | None
    search: SearchOut | None
    series: SeriesOut | None
    searches: list[SearchOut]
    afterwards: list[str]
    end_clock: str | None
    hands: int
    sensor: RulerOut | None
    sensor_text: str
    hand: HandOut | None
    """Where the person's own program shoots it: what comes next."""
    by_hand: bool
    until: str
    """'05:30', where it has to be over by a time."""
    sensor_then: SensorThen
    cools: bool
    """The rig has a cooler."""


class CurrentRunOut(Schema):
    """The run of a rig, if there is one to show."""

    run: RunOut | None


class MoreOut(Schema):
    """A series that can be put on the end of a run."""

    key: str
    group: str
    """'Flats' or 'Darks and bias'."""
    title: str
    why: str
    frames: int
    """As many as are usual."""
    text: str
    """'30 frames, 2 h 31 min'."""


class MoreListOut(Schema):
    """All that can be put on the end."""

    offers: list[MoreOut]


class MoreIn(Schema):
    """Put a series on the end."""

    key: str = Field(max_length=200)
    frames: int


class StartIn(Schema):
    """What to put on the sheet."""

    rig_id: int
    frames: int | None = Field(default=None, ge=3, le=500)
    """Of each filter; None leaves it to the house rules."""
    leave_out: list[str]
    add: list[str]
    go: FlatsGo | None = None
    until: str | None = Field(default=None, max_length=20)
    """'05:30': no frame is begun that would end later."""
    sensor_then: SensorThen = SensorThen.KEPT_COLD
    by_hand: bool = False
    """The person's own program shoots it."""
    folder: str | None = Field(default=None, max_length=2000)
    """Where its frames are waited for; None where steps are ticked off by hand."""


class TonightQuery(Schema):
    """What the person chose for the sheet."""

    frames: int | None = Field(default=None, ge=3, le=500)
    leave_out: str = ""
    add: str = ""
    go: FlatsGo | None = None
    """Where the flats go tonight; without it as the house rules have it."""
