"""What goes to and fro: what headers lack or have wrong, said for many frames at once."""

from __future__ import annotations

from datetime import date

from pydantic import Field

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.web.common.schemas import Schema


class FramesMeantIn(Schema):
    """What the frames that are meant share; empty where it does not matter."""

    folder_id: int | None = None
    below: str = Field(default="", max_length=4096)
    name_has: str = Field(default="", max_length=200)
    night: date | None = None
    camera: str = Field(default="", max_length=120)
    kind: str = Field(default="", max_length=20)
    lacks: str = Field(default="", max_length=30)
    set_id: int | None = None


class SayingIn(Schema):
    """What is said of them; None where nothing is."""

    kind: FrameKind | None = None
    is_master: bool | None = None
    camera: str | None = Field(default=None, max_length=200)
    telescope: str | None = Field(default=None, max_length=200)
    focal_length_mm: float | None = None
    filter_code: str | None = Field(default=None, max_length=200)
    target: str | None = Field(default=None, max_length=200)
    exposure_s: float | None = None
    gain: float | None = None
    offset: float | None = None
    binning: int | None = None
    sensor_temp_c: float | None = None
    angle_deg: float | None = None
    focus: float | None = None
    night: date | None = None
    clock_s: float | None = None
    """Seconds by which the camera's clock was behind; negative where it was ahead."""


class MendIn(Schema):
    """Frames, and what is said of them."""

    choice: FramesMeantIn
    saying: SayingIn
    pattern: str = Field(default="", max_length=400)
    """By which more is read from their names; empty for nothing."""
    kept: bool | None = None


class LackingOut(Schema):
    """Frames of one folder that lack the same."""

    folder_id: int
    folder: str
    below: str
    kind: str
    """Empty where that is what is lacking."""
    camera: str
    lacks: list[str]
    frames: int
    example: str


class DoubtedOut(Schema):
    """Frames that say one kind where the folder that they lie in is named for another."""

    folder_id: int
    folder: str
    below: str
    told: str
    by_folder: str
    frames: int
    example: str
    """One of them, by its path below the folder on the list."""


class TargetProposedOut(Schema):
    """Lights that say no target, and the one for which their folder may be named."""

    folder_id: int
    folder: str
    below: str
    target: str
    frames: int
    example: str
    """One of them, by its path below the folder on the list."""


class NamedOut(Schema):
    """Something to choose, by its key."""

    key: str
    label: str


class FolderNamedOut(Schema):
    """A folder that frames are chosen from."""

    id: int
    path: str
    label: str
    """Its path, or what is in it where it is the library's own."""


class TrainOut(Schema):
    """A rig's camera and telescope, so that they need not be typed."""

    rig: str
    camera: str
    telescope: str
    focal_length_mm: float | None


class SaidOut(Schema):
    """Something that was said before."""

    id: int
    on: str
    words: str
    of: str
    n_frames: int
    taken_back: str
    """When; empty while it holds."""


class MendOut(Schema):
    """The page Mend."""

    lacking: list[LackingOut]
    lacking_frames: int
    doubted: list[DoubtedOut]
    doubted_frames: int
    targets: list[TargetProposedOut]
    folders: list[FolderNamedOut]
    cameras: list[str]
    filters: list[str]
    trains: list[TrainOut]
    kinds: list[str]
    may_lack: list[str]
    parts: list[NamedOut]
    said: list[SaidOut]


class CellOut(Schema):
    """One value of a frame, as it is told now and as it would be."""

    now: str
    then: str


class PreviewRowOut(Schema):
    """One frame, as it is told now and as it would be."""

    path: str
    cells: list[CellOut]
    why: str
    """Why nothing is said of it; empty where something is."""


class MendPreviewOut(Schema):
    """What would change."""

    frames: int
    said: int
    changed: int
    against: int
    words: str
    """What is said, in words; empty where nothing is."""
    columns: list[str]
    rows: list[PreviewRowOut]
    trouble: str
    """What is wrong with what is said, in a sentence."""
    advice: str


class SaidCopiesIn(Schema):
    """Where copies go whose headers say what was said."""

    folder: str = Field(max_length=4096)
