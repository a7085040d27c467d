"""What goes over the wire. The typed client is generated from these."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal

from pydantic import BaseModel, Field

from grayshelf.work.job_states import JobState, StepState
from grayshelf.work.run.choice import DEFAULT_FRAMES

VerdictWord = Literal["fits", "fits with care", "nothing fits"]


class RigBrief(BaseModel):
    """A rig in the rig holder."""

    id: int
    name: str
    camera: str
    telescope: str | None
    has_devices: bool
    n_sets: int


class StateOut(BaseModel):
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
    usual_flats: int
    """Frames that a series of flats has where nobody chose another number."""
    left_out: str
    """Sets that could not be shown, in words; empty where there are none."""


class ClockIn(BaseModel):
    """Whether the demo's waits pass faster than real ones."""

    fast: bool


class Done(BaseModel):
    """It is done."""

    message: str


class JobOut(BaseModel):
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


class JobsOut(BaseModel):
    """Work in progress, and what ended lately."""

    alive: list[JobOut]
    ended: list[JobOut]


class FolderIn(BaseModel):
    """A folder on this machine."""

    path: str = Field(min_length=1, max_length=4096)


class SiteIn(BaseModel):
    """The site, by whose clock nights are counted."""

    name: str = Field(min_length=1, max_length=80)
    time_zone: str = Field(min_length=1, max_length=64)
    latitude: float | None = Field(default=None, ge=-90, le=90)
    """Degrees north; left as it was where it is not sent."""
    longitude: float | None = Field(default=None, ge=-180, le=180)
    """Degrees east; left as it was where it is not sent."""


class CountOut(BaseModel):
    """A number of frames of one kind or state."""

    name: str
    count: int


class FolderOut(BaseModel):
    """A folder that the user named."""

    id: int
    path: str
    scanned: str | None
    trouble: str
    passed_over: str
    """Files that were seen and cannot be read yet, in words; empty where there are none."""
    total: int
    kinds: list[CountOut]
    to_look_at: int
    missing: int
    """Frames whose files are not where they were; they keep their sets."""
    job: JobOut | None


class ProblemOut(BaseModel):
    """A file that could not be read, or lacks a value that matters."""

    id: int
    path: str
    folder_id: int
    state: str
    reason: str
    advice: str


class ProblemsOut(BaseModel):
    """A page of files to look at."""

    items: list[ProblemOut]
    total: int
    page: int
    pages: int
    counts: list[CountOut]


class SetOut(BaseModel):
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


class SetsOut(BaseModel):
    """A page of sets."""

    items: list[SetOut]
    total: int
    page: int
    pages: int
    to_build: int


class RigZoneOut(BaseModel):
    """Where a rig stands, by its clock; None: at the site."""

    rig_id: int
    name: str
    time_zone: str | None


class IntakeOut(BaseModel):
    """The page Intake."""

    site: str
    time_zone: str
    latitude: float | None
    longitude: float | None
    zones: list[str]
    rig_zones: list[RigZoneOut]
    folders: list[FolderOut]
    own: FolderOut
    """The library’s own."""


class BuildIn(BaseModel):
    """Which sets to combine; None: all that can be."""

    set_ids: list[int] | None


class RulerOut(BaseModel):
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
    text: str
    """The distance in the trade's unit, '+0.1 °C'."""


class SpineOut(BaseModel):
    """A master, or a set not combined yet, as it stands on the shelf."""

    id: int
    kind: str
    title: str
    gain: float | None
    gain_text: str
    frames: int
    date: str
    age_step: int
    age: str
    care: list[str]
    is_master: bool
    row: str
    column: str


class GapOut(BaseModel):
    """A master that lights wait for."""

    key: str
    kind: str
    title: str
    gain: float | None
    gain_text: str
    filter_code: str | None
    lights: int
    targets: list[str]
    nights: str
    row: str
    column: str
    frames: int
    nearest: str
    takes: str
    offer: str | None
    """Key on tonight's sheet, where it can be shot tonight."""
    on_sheet: bool


class HeadOut(BaseModel):
    """A row or a column of a wall."""

    key: str
    title: str
    detail: str


class WallOut(BaseModel):
    """A wall of the shelf."""

    rows: list[HeadOut]
    columns: list[HeadOut]
    spines: list[SpineOut]
    gaps: list[GapOut]


class ShelfOut(BaseModel):
    """The page Shelf."""

    rig: str
    camera: str
    about: str
    gains: list[float]
    gain_word: str
    darks: WallOut
    flats: WallOut
    bias: list[SpineOut]
    gaps: list[GapOut]
    empty: bool


class FigureOut(BaseModel):
    """A number on a card."""

    name: str
    value: float
    text: str
    unit: str


class InputOut(BaseModel):
    """A frame of a set or master."""

    name: str
    level: float | None
    used: bool
    reason: str
    clipped_percent: float
    sha256: str


class ServedOut(BaseModel):
    """Lights that use a master."""

    set_id: int
    night: date
    night_title: str
    target: str
    filter_code: str | None
    passband_nm: float | None
    text: str
    verdict: VerdictWord
    ruler: RulerOut | None


class PictureOut(BaseModel):
    """Where a picture is, and its stretch."""

    url: str
    width: int
    height: int
    black: str
    white: str
    unit: str


class FrameViewOut(BaseModel):
    """A frame of the set, to step through."""

    frame_id: int
    name: str


class CardOut(BaseModel):
    """The card of a spine."""

    spine: SpineOut
    title: str
    subtitle: str
    picture: PictureOut | None
    picture_trouble: str
    figures: list[FigureOut]
    settings: list[FigureOut]
    made: str
    noise: list[FigureOut]
    inputs: list[InputOut]
    inputs_note: str
    level_unit: str
    serves: list[ServedOut]
    n_lights: int
    file: str
    can_build: bool
    taken_off: bool
    frames: list[FrameViewOut]


class VerdictMark(BaseModel):
    """How one line of a slip ended."""

    kind: str
    verdict: VerdictWord
    waits: bool
    age_step: int | None
    holding_id: int | None


class NightBrief(BaseModel):
    """A night in the list."""

    night: date
    day: str
    weekday: str
    targets: list[str]
    kept: int
    taken: int
    marks: list[VerdictWord]


class NightsOut(BaseModel):
    """The nights of a rig."""

    rig: str
    nights: list[NightBrief]


class LightSetOut(BaseModel):
    """A set of lights in a night."""

    id: int
    target: str
    filter_code: str | None
    passband_nm: float | None
    text: str
    kept: int
    taken: int
    begins: datetime | None
    ends: datetime | None
    verdict: VerdictWord
    marks: list[VerdictMark]
    calibrated: bool


class ConditionOut(BaseModel):
    """A condition of a night."""

    name: str
    text: str


class NightOut(BaseModel):
    """One night."""

    night: date
    title: str
    kept: int
    taken: int
    ready: int
    begins: datetime | None
    ends: datetime | None
    hours: list[datetime]
    sets: list[LightSetOut]
    conditions: list[ConditionOut]
    air_from_c: float | None
    air_to_c: float | None
    notes: str
    night_from: str


class NotesIn(BaseModel):
    """What is noted of a night."""

    notes: str = Field(max_length=4000)


class CandidateOut(BaseModel):
    """A holding that was considered for a line."""

    holding_id: int
    title: str
    detail: str
    verdict: VerdictWord
    is_master: bool
    age_step: int
    care: bool
    rulers: list[RulerOut]
    reasons: list[str]
    lost_on: str
    cost: str


class SlipLineOut(BaseModel):
    """A line of a slip."""

    kind: str
    verdict: VerdictWord
    chosen: CandidateOut | None
    runners_up: list[CandidateOut]
    note: str
    waits: bool


class QuestionOut(BaseModel):
    """Something that no header tells, asked once."""

    quantity: str
    text: str
    fixed: str
    """What the answer 'fixed' says, in words."""
    moves: str


class PartSaid(BaseModel):
    """What was said of a part of the rig, with a way back."""

    quantity: str
    text: str


class PartIn(BaseModel):
    """Whether a quantity is fixed on this rig (or the part absent), or moves; None takes the answer back."""

    quantity: Literal[
        "filter",
        "telescope",
        "focal length",
        "gain",
        "offset",
        "binning",
        "temperature",
        "angle",
        "focus",
        "dark flat",
    ]
    says: Literal["fixed", "moves"] | None


class NamesIn(BaseModel):
    """Whether what the files' names say of a set is right; None takes the answer back."""

    right: bool | None


class RigZoneIn(BaseModel):
    """The time zone of the place where a rig stands; None is that of the site."""

    time_zone: str | None = Field(default=None, max_length=64)


class SlipOut(BaseModel):
    """A pull slip."""

    set_id: int
    title: str
    target: str
    filter_code: str | None
    passband_nm: float | None
    verdict: VerdictWord
    lines: list[SlipLineOut]
    columns: list[CountOut]
    warnings: list[str]
    questions: list[QuestionOut]
    said: list[PartSaid]
    rig_id: int
    gain_word: str
    advice: str
    offer: str | None


class OfferOut(BaseModel):
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


class GateOut(BaseModel):
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


class StepOut(BaseModel):
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


class ChoiceOut(BaseModel):
    """A number of frames, its cost and its end."""

    frames: int
    cost: float | None
    done_at: str
    chosen: bool


class ReadyOut(BaseModel):
    """One line of what to know before the start."""

    what: str
    text: str
    good: bool
    stops: bool
    ruler: RulerOut | None


class CoveredOut(BaseModel):
    """What the shelf holds already for tonight's lights."""

    holding_id: int
    kind: str
    title: str
    lights: int
    age_step: int
    ruler: RulerOut | None


class OutOfReachOut(BaseModel):
    """Lights that wait for something that cannot be shot now."""

    kind: str
    title: str
    lights: int
    why: str


class TonightOut(BaseModel):
    """The page Tonight before a run."""

    rig_id: int
    clock: str
    headline: str
    start_label: str
    can_start: bool
    steps: list[StepOut]
    offers: list[OfferOut]
    choices: list[ChoiceOut]
    ready: list[ReadyOut]
    covered: list[CoveredOut]
    covered_lights: int
    waiting_lights: int
    hands_free: str | None
    end: str | None
    has_devices: bool
    out_of_reach: list[OutOfReachOut]


class TestShotOut(BaseModel):
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


class SearchOut(BaseModel):
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


class SeriesOut(BaseModel):
    """A series being shot."""

    step_id: int
    title: str
    done: int
    count: int
    statistic: str
    """What the level is: the median of the frame, or of its brightest channel."""
    last: TestShotOut | None


class RunOut(BaseModel):
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


class CurrentRunOut(BaseModel):
    """The run of a rig, if there is one to show."""

    run: RunOut | None


class StartIn(BaseModel):
    """What to put on the sheet."""

    rig_id: int
    frames: int = Field(ge=3, le=500)
    leave_out: list[str]
    add: list[str]


class StartedOut(BaseModel):
    """A run was started."""

    job_id: int


class AnswerIn(BaseModel):
    """The answer at a gate."""

    step_id: int
    answer: Literal["done", "leave out"]


class FoundOut(BaseModel):
    """Something that the search found."""

    kind: str
    title: str
    detail: str
    href: str


class FindsOut(BaseModel):
    """What the search found."""

    items: list[FoundOut]


class TonightQuery(BaseModel):
    """What the person chose for the sheet."""

    frames: int = Field(default=DEFAULT_FRAMES, ge=3, le=500)
    leave_out: str = ""
    add: str = ""


class PageQuery(BaseModel):
    """Which page of a list."""

    page: int = Field(default=1, ge=1, le=1_000_000)
    state: str = ""
    kind: str = ""


class SearchQuery(BaseModel):
    """What to search for."""

    q: str = Field(default="", max_length=100)


class PictureQuery(BaseModel):
    """How large a picture."""

    size: int = Field(default=640, ge=16, le=1280)
