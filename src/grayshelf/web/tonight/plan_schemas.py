"""What goes to and fro: a night before it begins."""

from __future__ import annotations

from datetime import date

from pydantic import Field

from grayshelf.core.frames.bounds import MOST_TEXT
from grayshelf.core.planning.flats_go import FlatsGo
from grayshelf.web.common.schemas import Schema


class PlannedLightsIO(Schema):
    """Lights of one filter."""

    filter_code: str = Field(min_length=1, max_length=MOST_TEXT)
    exposure_s: float
    count: int
    gain: float
    offset: float
    binning: int = 1


class PlannedTargetIO(Schema):
    """What is imaged of one target."""

    name: str = Field(max_length=200)
    lights: list[PlannedLightsIO] = Field(max_length=60)
    turned: bool = False
    """The camera is turned before it."""


class NightPlanIO(Schema):
    """What a person means to do in a night."""

    targets: list[PlannedTargetIO] = Field(max_length=40)
    go: FlatsGo = FlatsGo.AT_THE_END
    nights: int = 1
    """Over so many nights the set-up stays."""


class CauseOut(Schema):
    """What time is spent on."""

    what: str
    seconds: float
    text: str


class FilterCostOut(Schema):
    """What one filter costs."""

    filter_code: str
    passband_nm: float | None
    seconds: float
    text: str


class RoundOut(Schema):
    """Flats that are shot in one go."""

    when: str
    """'after NGC 7000', 'at the end'."""
    text: str
    """'5 filters, 34 min, needed twice'."""


class DarkCalledOut(Schema):
    """A dark that the lights call for."""

    title: str
    lights: int
    verdict: str
    text: str
    holding_id: int | None
    """What is on the shelf for it."""


class SavingOut(Schema):
    """Another way of doing the same, and what it saves."""

    way: str
    words: str
    text: str
    """'31 min and 2 hands less'."""


class PricedOut(Schema):
    """What a plan costs."""

    headline: str
    """'47 min of flats, needed 3 times.'"""
    seconds: float
    takes: str
    hands: int
    flats: int
    dark_flats: int
    diffusers: int
    turns: int
    lights: int
    lights_take: str
    causes: list[CauseOut]
    filters: list[FilterCostOut]
    rounds: list[RoundOut]
    dark_time: str
    """What of it falls between targets, where lights could be taken; empty where none does."""
    darks: list[DarkCalledOut]
    darks_missing: int
    darks_text: str
    """'47 min to shoot, 2 with care.'"""
    savings: list[SavingOut]
    notes: list[str]
    """What cannot be shot as planned, and what is on the shelf already."""


class LightsHadOut(Schema):
    """Lights planned and taken."""

    target: str
    filter_code: str
    passband_nm: float | None
    planned: int
    taken: int
    kept: int


class HadOut(Schema):
    """What the night really had."""

    summary: str
    flats: str
    time: str
    lights: list[LightsHadOut]


class KeptPlanOut(Schema):
    """A plan that was kept."""

    id: int
    name: str
    night: date | None
    night_text: str
    foretold: str
    plan: NightPlanIO
    had: HadOut | None
    """None while that night is still to come."""


class FilterChoiceOut(Schema):
    """A filter to choose, with what its lights were last taken at."""

    filter_code: str
    passband_nm: float | None
    broad: bool
    exposure_s: float
    count: int
    gain: float
    offset: float
    binning: int


class PlansOut(Schema):
    """Where a plan begins from, and those that were kept."""

    can_plan: bool
    cannot: str
    last: NightPlanIO | None
    """Like the newest night."""
    last_text: str
    filters: list[FilterChoiceOut]
    kept: list[KeptPlanOut]
    tonight: date
    gain_word: str
    """What the camera calls its gain; empty where it has none to set."""


class PriceIn(Schema):
    """Plans to price, side by side."""

    plans: list[NightPlanIO] = Field(min_length=1, max_length=2)
    names: list[str] = Field(default_factory=list, max_length=2)


class PricesOut(Schema):
    """What they cost."""

    prices: list[PricedOut | None]
    wrong: list[str]
    """For each plan what is wrong with it; empty where nothing is."""
    difference: str


class KeepPlanIn(Schema):
    """Keep a plan."""

    name: str = Field(max_length=200)
    night: date | None = None
    plan: NightPlanIO
