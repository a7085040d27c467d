"""What goes over the wire for the sheet of flat settings."""

from __future__ import annotations

from datetime import date
from typing import Literal

from pydantic import Field

from grayshelf.core.frames.bounds import BOUNDS, MOST_TEXT
from grayshelf.core.matching.rig_events import RigEventKind
from grayshelf.core.planning.gates import LightKind
from grayshelf.web.common.schemas import GateOut, JobOut, RefusedOut, RulerOut, Schema, SlipAt

SearchMode = Literal["time", "brightness", "both"]


class FlatWishesOut(Schema):
    """What a row wishes, as it is edited; None where it has no such wish."""

    level_percent: float | None = None
    level_adu: float | None = None
    level_electrons: float | None = None
    tolerance_percent: float | None = None
    tolerance_adu: float | None = None
    shortest_s: float | None = None
    shortest_reason: str | None = None
    longest_s: float | None = None
    longest_reason: str | None = None
    mode: SearchMode | None = None
    brightness: int | None = None
    exposure_s: float | None = None
    n_flats: int | None = None
    n_dark_flats: int | None = None
    source: str | None = None
    diffusers: list[str] | None = None


class FlatKeyIn(Schema):
    """Which row."""

    filter_code: str = Field(max_length=MOST_TEXT)
    gain: float = Field(ge=BOUNDS["gain"].lowest, le=BOUNDS["gain"].highest, allow_inf_nan=False)
    offset: float = Field(ge=BOUNDS["offset"].lowest, le=BOUNDS["offset"].highest, allow_inf_nan=False)
    binning: int = Field(ge=1, le=99)


class ChangeRowsIn(Schema):
    """Wishes for rows; a field that is sent as null lets go of the row's own."""

    keys: list[FlatKeyIn] = Field(min_length=1, max_length=200)
    changes: FlatWishesOut


class CopyRowIn(Schema):
    """Give rows the wishes of another."""

    source: FlatKeyIn
    keys: list[FlatKeyIn] = Field(min_length=1, max_length=200)


class RowKeysIn(Schema):
    """Some rows."""

    keys: list[FlatKeyIn] = Field(min_length=1, max_length=200)


class FindIn(Schema):
    """Start a search."""

    keys: list[FlatKeyIn] = Field(min_length=1, max_length=200)
    mode: SearchMode | None = None
    """What is looked for in all of them; None leaves it to each row's wish."""
    exposure_s: float | None = Field(default=None, gt=0, le=3600)
    """The exposure that stays, or is to be come near; None leaves it to each row's wish."""
    shared: bool = False
    response: bool = False
    folder: str | None = Field(default=None, max_length=2000)


class AgainIn(Schema):
    """Look for one row again, with other wishes where some are given."""

    key: FlatKeyIn
    changes: FlatWishesOut | None = None


class DiffuserOut(Schema):
    """Something that hangs before the light."""

    name: str = Field(max_length=60)
    stops: float = Field(allow_inf_nan=False)


class SourceOut(Schema):
    """A light."""

    name: str = Field(max_length=60)
    kind: LightKind = LightKind.PANEL
    dimmable: bool
    lowest: int | None = None
    highest: int | None = None
    pulse_hz: float | None = None
    duty: float | None = None
    before_s: float | None = Field(default=None, allow_inf_nan=False)
    after_s: float | None = Field(default=None, allow_inf_nan=False)
    shortest_lit_s: float | None = Field(default=None, allow_inf_nan=False)
    """Of a light that is lit for a set time within the exposure: dark before it, and after; the shortest that it is lit."""
    diffusers: list[DiffuserOut] = Field(default_factory=list, max_length=8)


class EventIn(Schema):
    """Something was done to the train, the panel or the driver."""

    kind: RigEventKind
    what: str = Field(min_length=1, max_length=120)
    on: date | None = None
    """The day, where it was not just now."""


class EventOut(Schema):
    """What was done, and when."""

    id: int
    what: str
    when: str
    kind: str
    taken_back: bool


class SettingFoundOut(Schema):
    """One setting that was found."""

    id: int
    text: str
    """'5.0 s at 60'."""
    expected: str
    when: str
    shots: str
    diffusers: str
    taken_back: bool
    counts: bool


class NoOut(Schema):
    """Why there is no answer, and what would help."""

    title: str
    message: str
    advice: str
    stack: str
    """What the diffusers at hand can do; '' where they have no say."""
    stops: float
    at_least: bool
    direction: str
    level: float | None
    level_text: str
    allow: str
    """What to say on the button that widens the window; '' where that does not help."""
    allow_changes: FlatWishesOut | None
    retry: str


RowState = Literal["never", "found", "no answer", "searching", "waiting"]


class FlatRowOut(Schema):
    """One row of the sheet."""

    key: FlatKeyIn
    name: str
    gain: str
    """Empty where the camera was said to have none."""
    passband_nm: float | None
    state: RowState
    lights: str
    added: bool
    target: str
    target_more: str
    tolerance: str
    tolerance_more: str
    window: str
    reasons: str
    mode: SearchMode
    mode_text: str
    source: str
    diffusers: str
    counts: str
    brightness: str
    exposure: str
    expected: str
    ruler: RulerOut | None
    age: str
    shots: int
    banding: str
    stale: str
    drift: str
    own: list[str]
    """Names of the wishes that are the row's own."""
    wishes: FlatWishesOut
    no_answer: NoOut | None
    history: list[SettingFoundOut]


class NextThing(Schema):
    """The next thing to do, for a person at the camera's own program."""

    line: str
    """'Shoot one flat of 2.5 s'."""
    detail: str
    why: str
    refused: list[RefusedOut]
    folder: str


class SharedOut(Schema):
    """One exposure for several filters."""

    text: str
    saved: str


class CurvePointOut(Schema):
    """A measured brightness."""

    brightness: int
    output: float
    filter_code: str


class CurveOut(Schema):
    """How a light follows its brightness."""

    when: str
    shots: int
    points: list[CurvePointOut]
    line: list[list[float]]


class KeptCurveOut(Schema):
    """A measurement of the light, as it is listed."""

    id: int
    text: str
    taken_back: bool
    counts: bool
    """It is the one that searches start from."""


class PanelOut(Schema):
    """What was measured of the rig's light."""

    source: str
    title: str
    """'How Lumen tile follows its brightness', or why that is not known."""
    lowest: int
    highest: int
    now: CurveOut | None
    before: CurveOut | None
    kept: list[KeptCurveOut]
    change: str
    bands: str
    """From when on no exposure bands more than allowed; '' where the light is not pulsed."""


class UsualEventOut(Schema):
    """Something that is often done to a rig."""

    kind: RigEventKind
    label: str
    what: str
    """What is entered where the person says nothing else."""


class UntoldOut(Schema):
    """Lights that do not tell what flats for them are to be set to."""

    text: str
    slip: SlipAt


class FlatSheetOut(Schema):
    """The sheet of a rig's flat settings."""

    rig: str
    camera: str
    rows: list[FlatRowOut]
    untold: UntoldOut | None
    """Why there are no rows, where lights do not tell what they would be set to."""
    left_out: list[FlatKeyIn]
    headline: str
    can_shoot: bool
    cannot: str
    job: JobOut | None
    searching: FlatKeyIn | None
    gate: GateOut | None
    next: NextThing | None
    shared: list[SharedOut]
    sources: list[SourceOut]
    source: str
    events: list[EventOut]
    usual_events: list[UsualEventOut]
    panel: PanelOut | None
    defaults: FlatWishesOut
    filters: list[str]
    usual_gains: dict[str, float]
    """At which filters are usually used, where their sheet says so."""
    gains: list[float]
    offsets: list[float]


class ChartShot(Schema):
    """A test shot on the chart."""

    number: int
    x: float
    y: float
    text: str
    probe: bool
    full: bool
    other: bool
    """Taken at another brightness than the line is drawn for."""
    why: str
    ruler: RulerOut


class FlatChartOut(Schema):
    """The search of one row: its shots, the line through them, the answer."""

    key: FlatKeyIn
    title: str
    under: str
    axis: Literal["exposure", "brightness", "time of light"]
    fixed: str
    target: float
    tolerance: float
    white: float
    low: float
    high: float
    low_reason: str
    high_reason: str
    permitted: str
    shots: list[ChartShot]
    line: list[list[float]]
    line_text: str
    answer_x: float | None
    answer_y: float | None
    answer_text: str
    kept: str
    next: str
