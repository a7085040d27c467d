"""What goes to and fro for Rigs."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from grayshelf.core.filing.letting_go import RawFrames
from grayshelf.core.frames.bounds import MOST_TEXT
from grayshelf.core.planning.flats_go import FlatsGo
from grayshelf.core.planning.pointing import USUAL_HORIZON_DEG, AfterFlats
from grayshelf.core.rigs.house_rules import FlatsWhen
from grayshelf.core.rigs.propose import NameOf
from grayshelf.core.rigs.train import MovedBy, Origin, PartKind
from grayshelf.web.common.degrees import DegreesEast, DegreesNorth
from grayshelf.web.common.schemas import Done, PlaceToldOut, Schema
from grayshelf.web.flats.schemas import SourceOut, UsualEventOut


class KnownOut(Schema):
    """One thing that is known of a part, and where from."""

    text: str
    origin: Origin


class PartOut(Schema):
    """One part of the train."""

    kind: PartKind
    title: str
    name: str
    known: list[KnownOut]
    moved_by: MovedBy
    moved: str
    """Who moves it, in words."""
    is_open: bool
    """Nothing is known of it: an outline to fill."""
    hint: str
    """What could be filled in, where it is open."""


class TelescopeSheet(Schema):
    """A telescope with its reducer or extender."""

    aperture_mm: float | None = Field(default=None, allow_inf_nan=False)
    focal_length_mm: float | None = Field(default=None, allow_inf_nan=False)
    reducer: str = Field(default="", max_length=MOST_TEXT)


class PartSheet(Schema):
    """A part that is moved, or is not there."""

    name: str = Field(default="", max_length=MOST_TEXT)
    moved_by: MovedBy = MovedBy.NOBODY_SAID


class MountSheet(PartSheet):
    """A mount, and where it points for flats where it is driven."""

    panel_altitude_deg: float | None = Field(default=None, allow_inf_nan=False)
    panel_azimuth_deg: float | None = Field(default=None, allow_inf_nan=False)
    horizon_deg: float = Field(default=USUAL_HORIZON_DEG, allow_inf_nan=False)
    after: AfterFlats = AfterFlats.STAY


class FilterSheet(Schema):
    """One filter."""

    code: str = Field(max_length=MOST_TEXT)
    name: str = Field(default="", max_length=MOST_TEXT)
    centre_nm: float | None = Field(default=None, allow_inf_nan=False)
    width_nm: float | None = Field(default=None, allow_inf_nan=False)
    gain: float | None = Field(default=None, allow_inf_nan=False)
    focus: float | None = Field(default=None, allow_inf_nan=False)
    brightness: int | None = None


class FiltersSheet(PartSheet):
    """The filters, and who changes them."""

    filters: list[FilterSheet] = Field(max_length=40)


class CameraSheet(Schema):
    """A camera, as it is in every rig."""

    cooled: bool | None = None
    below_air_c: float | None = Field(default=None, allow_inf_nan=False)
    bits: int | None = None
    shifted: bool | None = None
    offset_lowest: float | None = Field(default=None, allow_inf_nan=False)
    offset_highest: float | None = Field(default=None, allow_inf_nan=False)
    gain_word: Literal["gain", "ISO"] | None = None
    shutter: Literal["electronic", "slow", "curtain"] | None = None
    shortest_s: float | None = Field(default=None, allow_inf_nan=False)
    repeatable_from_s: float | None = Field(default=None, allow_inf_nan=False)
    drop_first: int | None = None
    pause_s: float | None = Field(default=None, allow_inf_nan=False)
    bias_usable: bool | None = None
    read_noise_e: float | None = Field(default=None, allow_inf_nan=False)
    dark_rate_e_s: float | None = Field(default=None, allow_inf_nan=False)
    dark_rate_at_c: float | None = Field(default=None, allow_inf_nan=False)


class SiteSheet(Schema):
    """The place where a rig stands, where that is not the library's site."""

    name: str = Field(default="", max_length=MOST_TEXT)
    latitude: DegreesNorth | None = None
    longitude: DegreesEast | None = None
    time_zone: str = Field(default="", max_length=64)


class RigSheets(Schema):
    """What is typed on each sheet."""

    telescope: TelescopeSheet
    camera: CameraSheet
    filters: FiltersSheet
    cover: PartSheet
    rotator: PartSheet
    focuser: PartSheet
    mount: MountSheet
    site: SiteSheet
    light: SourceOut | None


class SeenFilterOut(Schema):
    """A filter that headers name and no sheet has yet."""

    code: str
    frames: int
    centre_nm: float | None = None
    """As its name lets expect."""
    width_nm: float | None = None


class RuleOut(Schema):
    """One house rule that is a number, as a sentence about it."""

    name: str
    before: str
    after: str
    unit: str
    value: float
    """As it is shown: shares in percent."""
    least: float
    most: float
    whole: bool
    usual: float
    reason: str
    since: str
    """Of the last change that was not taken back; empty where it never was changed."""


class RuleGroupOut(Schema):
    """House rules of one kind of frame."""

    title: str
    rules: list[RuleOut]


class HouseRulesOut(Schema):
    """The house rules of a rig."""

    groups: list[RuleGroupOut]
    flats_when: FlatsWhen
    flats_go: FlatsGo
    raw_frames: RawFrames
    bias_under_flats: bool
    bias_refused: str
    """Why a bias cannot stand under the flats; empty where it can."""
    dark_temps_c: list[float]
    dark_exposures_s: list[float]


class HouseRulesIn(Schema):
    """A change of house rules; what is not sent stays."""

    numbers: dict[str, float] = Field(default_factory=dict, max_length=40)
    """By the rule's name, as they are shown."""
    flats_when: FlatsWhen | None = None
    flats_go: FlatsGo | None = None
    raw_frames: RawFrames | None = None
    bias_under_flats: bool | None = None
    dark_temps_c: list[float] | None = Field(default=None, max_length=100)
    dark_exposures_s: list[float] | None = Field(default=None, max_length=100)
    reason: str = Field(default="", max_length=500)


class WouldOut(Schema):
    """What a change of house rules would do."""

    changes: list[str]
    moves: list[str]
    """Slips that would end otherwise."""
    darks_asked: int
    """Standard darks that would be asked for and are not on the shelf."""
    raw_offered: int
    """Raw frames that Room would offer to be packed or thrown away today."""


class HistoryOut(Schema):
    """One thing in a rig's history."""

    at: datetime
    when: str
    kind: Literal["event", "Bench", "setting", "flats", "sheet"]
    words: str
    detail: str
    share: float
    """Where on the line of time, from 0 (the oldest) to 1 (now)."""
    event_id: int | None = None
    change_id: int | None = None
    taken_back: bool = False


class YearMark(Schema):
    """A month or a year on the line of time."""

    share: float
    label: str


class NameIn(Schema):
    """A spelling in headers, and a name."""

    about: NameOf
    camera: str = Field(default="", max_length=MOST_TEXT)
    """Of telescopes and filters, the camera of their frames."""
    spelled: str = Field(max_length=MOST_TEXT)
    """Empty: frames that name none."""
    name: str = Field(max_length=MOST_TEXT)


class SpellingOut(NameIn):
    """Another way in which headers write a name."""

    text: str
    shown: str
    frames: int


class RigOut(Schema):
    """All that Rigs shows of one rig."""

    id: int
    name: str
    camera: str
    telescope: str | None
    retired: bool
    other_rigs: list[str]
    """Other rigs that the camera sits in."""
    parts: list[PartOut]
    by_itself: str
    """What the rig does tonight, in words; empty where it does nothing by itself."""
    asks: str
    """What a person is asked to do."""
    sheets: RigSheets
    seen_filters: list[SeenFilterOut]
    spellings: list[SpellingOut]
    proposed: bool
    lights: list[SourceOut]
    """All lights that are known, of whatever rig."""
    other_sites: list[SiteSheet]
    """Places of other rigs that stand elsewhere."""
    site_name: str
    """Of the library's site."""
    zones: list[str]
    usual_events: list[UsualEventOut]
    rules: HouseRulesOut
    history: list[HistoryOut]
    marks: list[YearMark]


class PlaceOfRigOut(Schema):
    """Where a rig stands by the headers of its lights."""

    told: PlaceToldOut | None
    """None where they tell nothing else than what is kept."""


class DoubtOut(NameIn):
    """Two names that may be one thing, or two."""

    question: str
    why: str
    one: str
    two: str
    """The two answers."""


class SaidTwoOut(NameIn):
    """Two names of which a person said that they are two things."""

    words: str


class RigNamed(Schema):
    """A rig by its name."""

    id: int
    name: str


class ProposedOut(Schema):
    """A rig made from headers, of which nobody has said yet that it is right."""

    rig_id: int
    name: str
    title: str
    evidence: str
    filters: list[str]
    not_told: str
    """What no header of it tells, in words."""
    spellings: list[SpellingOut]


class ProposalOut(Schema):
    """All that waits for a yes or no."""

    rigs: list[ProposedOut]
    doubts: list[DoubtOut]
    said_two: list[SaidTwoOut]
    others: list[RigNamed]
    """All rigs, for joining."""


class KeepRigIn(Schema):
    """A proposed rig is right, and called so."""

    name: str = Field(max_length=MOST_TEXT)


class KeptRigIn(KeepRigIn):
    """One of several proposed rigs that are right."""

    rig_id: int


class KeepRigsIn(Schema):
    """Proposed rigs that are right."""

    rigs: list[KeptRigIn] = Field(max_length=2000)


class JoinRigIn(Schema):
    """The rig that this one is in truth."""

    into: int


class RigNameIn(Schema):
    """A rig's name, and whether it is still used."""

    name: str = Field(max_length=MOST_TEXT)
    retired: bool = False


class NewRigIn(Schema):
    """A rig that no header has named yet."""

    name: str = Field(max_length=MOST_TEXT)
    camera: str = Field(max_length=MOST_TEXT)
    telescope: str = Field(default="", max_length=MOST_TEXT)
    focal_length_mm: float | None = Field(default=None, ge=1, le=100_000, allow_inf_nan=False)
    """With its reducer or extender, where the telescope has a rig without it."""
    like: int | None = None
    """The rig whose sheets are copied."""


class NewRigOut(Schema):
    """The rig that was made."""

    id: int
    message: str


class SheetChangedOut(Done):
    """A sheet was changed."""

    change_id: int | None
    """By which it is taken back; None where nothing changed."""
