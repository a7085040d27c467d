"""Tables of the library. Times are UTC; floats are in the unit of the trade."""

from __future__ import annotations

from datetime import date, datetime
from secrets import token_hex
from typing import Any

from sqlalchemy import ColumnElement, ForeignKey, Index, String, Text, UniqueConstraint, select, text
from sqlalchemy.orm import Mapped, aliased, mapped_column, relationship

# All tables are found here, and by migrations.
from grayshelf.library.bench_tables import CameraValue as CameraValue
from grayshelf.library.bench_tables import Measurement as Measurement
from grayshelf.library.bench_tables import MeasurementShot as MeasurementShot
from grayshelf.library.columns import Base as Base
from grayshelf.library.columns import Utc as Utc
from grayshelf.library.filing_tables import FiledFile as FiledFile
from grayshelf.library.filing_tables import Filing as Filing
from grayshelf.library.mending_tables import MendedFrame as MendedFrame
from grayshelf.library.mending_tables import Mending as Mending
from grayshelf.library.rig_tables import CameraRow as CameraRow
from grayshelf.library.rig_tables import CardChange as CardChange
from grayshelf.library.rig_tables import LightSource as LightSource
from grayshelf.library.rig_tables import PanelCurve as PanelCurve
from grayshelf.library.rig_tables import Rig as Rig
from grayshelf.library.rig_tables import RigEvent as RigEvent
from grayshelf.library.rig_tables import RigFilter as RigFilter
from grayshelf.library.rig_tables import Spelling as Spelling


class Setting(Base):
    """A setting of the whole library: the site, the clock of the demo."""

    __tablename__ = "setting"
    key: Mapped[str] = mapped_column(primary_key=True)
    value: Mapped[dict[str, Any]]


class FlatRow(Base):
    """A row of a rig's sheet of flat settings that has wishes of its own, or that lights do not ask for."""

    __tablename__ = "flat_row"
    __table_args__ = (UniqueConstraint("rig_id", "filter_code", "gain", "offset", "binning"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    rig_id: Mapped[int] = mapped_column(ForeignKey("rig.id"), index=True)
    filter_code: Mapped[str]
    gain: Mapped[float]
    offset: Mapped[float]
    binning: Mapped[int]
    wishes: Mapped[dict[str, Any]] = mapped_column(default=dict)
    added: Mapped[bool] = mapped_column(default=False)
    left_out: Mapped[bool] = mapped_column(default=False)


class FlatSetting(Base):
    """A setting found for flats. Never overwritten: the newest one that was not taken back counts."""

    __tablename__ = "flat_setting"
    id: Mapped[int] = mapped_column(primary_key=True)
    rig_id: Mapped[int] = mapped_column(ForeignKey("rig.id"), index=True)
    filter_code: Mapped[str]
    gain: Mapped[float]
    offset: Mapped[float]
    binning: Mapped[int]
    brightness: Mapped[int | None]
    exposure_s: Mapped[float]
    """Of a light that is lit within the exposure: its time of light."""
    dark_s: Mapped[float] = mapped_column(default=0.0, server_default="0")
    """How much longer the exposure is than that."""
    expected_adu: Mapped[float]
    shots: Mapped[int]
    found_at: Mapped[datetime]
    source: Mapped[str] = mapped_column(default="")
    diffusers: Mapped[list[Any]] = mapped_column(default=list)
    target_adu: Mapped[float | None]
    pedestal_adu: Mapped[float | None]
    banding_percent: Mapped[float | None]
    step_id: Mapped[int | None]
    """The step of the search that found it, with its shots."""
    taken_back: Mapped[bool] = mapped_column(default=False)


class Folder(Base):
    """A folder that the user named (read only), or the library's own."""

    __tablename__ = "folder"
    id: Mapped[int] = mapped_column(primary_key=True)
    path: Mapped[str] = mapped_column(unique=True)
    own: Mapped[bool] = mapped_column(default=False)
    added_at: Mapped[datetime]
    scanned_at: Mapped[datetime | None]
    trouble: Mapped[str] = mapped_column(default="")
    passed_over: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """Files that are no frames, by their ending, as the last scan counted them."""


class FrameSet(Base):
    """Frames that share every setting that matters; a master is a set of its own."""

    __tablename__ = "frame_set"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(index=True)
    camera: Mapped[str | None] = mapped_column(index=True)
    night: Mapped[date | None] = mapped_column(index=True)
    is_master: Mapped[bool]
    n_frames: Mapped[int]
    n_kept: Mapped[int]
    facts: Mapped[dict[str, Any]]
    sample_step: Mapped[int | None]
    level_adu: Mapped[float | None]
    """Of one of its frames, about the middle."""
    noise_adu: Mapped[float | None]
    """Of the background of one of its frames, stars and gradients left out."""
    said: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """What a person said of values that only the files' names give: {"gain": true, ...}."""
    first_utc: Mapped[datetime | None]
    last_utc: Mapped[datetime | None]
    taken_off: Mapped[bool] = mapped_column(default=False)
    master_set_id: Mapped[int | None] = mapped_column(ForeignKey("frame_set.id"))
    """For a set that was combined: its master."""
    measurement_id: Mapped[int | None] = mapped_column(
        ForeignKey("measurement.id", name="fk_frame_set_measurement"), index=True
    )
    """For frames that measured the camera: what they measured. They are not on the shelf."""
    frames: Mapped[list[Frame]] = relationship(back_populates="set", order_by="Frame.id")
    record: Mapped[MasterRecord | None] = relationship(
        back_populates="set", cascade="all, delete-orphan", foreign_keys="MasterRecord.set_id"
    )


#: Of the paths of files that are packed (`packing.PACKED_ENDING`); SQLite finds the index that is of these words alone.
PACKED = "lower(substr(path, -3)) = '.fz'"


class Frame(Base):
    """A file that is, or claims to be, a frame."""

    __tablename__ = "frame"
    __table_args__ = (
        UniqueConstraint("folder_id", "path"),
        Index("ix_frame_twin", "camera", "utc", "kind"),
        Index("ix_frame_written", "written", "camera", "state"),
        # All that is asked of every frame of every set at once: their rows, with all that headers say, are not read for it.
        Index(
            "ix_frame_of_set",
            *("set_id", "state", "kind", "night", "missing_since", "rejected", "size_bytes"),
        ),
        Index("ix_frame_packed", "set_id", sqlite_where=text(PACKED)),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    folder_id: Mapped[int] = mapped_column(ForeignKey("folder.id"), index=True)
    path: Mapped[str]
    """Below its folder, with '/'."""
    size_bytes: Mapped[int]
    modified_ns: Mapped[int]
    state: Mapped[str] = mapped_column(String(12), index=True)
    """'good', 'lacking' (a value that matters), 'unreadable', 'duplicate', or 'gone': let go by the person."""
    missing_since: Mapped[datetime | None]
    """Its file was not where it was when its folder was last looked through. It keeps its set, its master and its place
    until it is back, or the person lets it go."""
    reason: Mapped[str] = mapped_column(Text, default="")
    advice: Mapped[str] = mapped_column(Text, default="")
    kind: Mapped[str | None] = mapped_column(index=True)
    camera: Mapped[str | None]
    utc: Mapped[datetime | None]
    night: Mapped[date | None]
    rejected: Mapped[bool] = mapped_column(default=False)
    facts: Mapped[dict[str, Any]] = mapped_column(default=dict)
    written: Mapped[str | None]
    """Names that its header has otherwise than they are kept, in a form that can be counted (`catalog.written_of`)."""
    group_key: Mapped[str | None] = mapped_column(index=True)
    set_id: Mapped[int | None] = mapped_column(ForeignKey("frame_set.id"))
    sha256: Mapped[str | None] = mapped_column(index=True)
    set: Mapped[FrameSet | None] = relationship(back_populates="frames")
    folder: Mapped[Folder] = relationship()


def counts_once() -> ColumnElement[bool]:
    """For counts of frames: all sets but the masters of sets that are counted themselves."""
    combined = aliased(FrameSet)
    return FrameSet.id.not_in(select(combined.master_set_id).where(combined.master_set_id.is_not(None)))


class MasterRecord(Base):
    """What is known of a master beyond its header: how it was made and what it measured."""

    __tablename__ = "master_record"
    set_id: Mapped[int] = mapped_column(ForeignKey("frame_set.id"), primary_key=True)
    built_here: Mapped[bool] = mapped_column(default=False)
    method: Mapped[str] = mapped_column(default="")
    noise: Mapped[float | None]
    frame_noise: Mapped[float | None]
    predicted_noise: Mapped[float | None]
    pedestal_set_id: Mapped[int | None] = mapped_column(ForeignKey("frame_set.id"))
    pedestal_kind: Mapped[str] = mapped_column(default="", server_default="")
    """For a flat: the kind of what was taken off ('dark flat', 'dark' or 'bias'), also when that is gone."""
    care: Mapped[list[Any]] = mapped_column(default=list)
    figures: Mapped[dict[str, Any]] = mapped_column(default=dict)
    set: Mapped[FrameSet] = relationship(back_populates="record", foreign_keys=[set_id])
    inputs: Mapped[list[MasterInput]] = relationship(order_by="MasterInput.seq", cascade="all, delete-orphan")


class MasterInput(Base):
    """One frame of a master built here."""

    __tablename__ = "master_input"
    __table_args__ = (Index("ix_master_input_frame", "frame_id", "master_id"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    master_id: Mapped[int] = mapped_column(ForeignKey("master_record.set_id"), index=True)
    seq: Mapped[int]
    frame_id: Mapped[int | None] = mapped_column(ForeignKey("frame.id"))
    name: Mapped[str]
    sha256: Mapped[str]
    used: Mapped[bool]
    level_adu: Mapped[float]
    clipped_fraction: Mapped[float]
    reason: Mapped[str] = mapped_column(default="")


class NightLog(Base):
    """What is noted of a night at a rig: conditions and words."""

    __tablename__ = "night_log"
    __table_args__ = (UniqueConstraint("rig_id", "night"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    rig_id: Mapped[int] = mapped_column(ForeignKey("rig.id"))
    night: Mapped[date]
    conditions: Mapped[dict[str, Any]] = mapped_column(default=dict)
    notes: Mapped[str] = mapped_column(Text, default="")


class KeptPlan(Base):
    """A night that was planned before it began, and what it was foretold to cost."""

    __tablename__ = "night_plan"
    id: Mapped[int] = mapped_column(primary_key=True)
    rig_id: Mapped[int] = mapped_column(ForeignKey("rig.id"), index=True)
    name: Mapped[str]
    night: Mapped[date | None]
    """The night that it is for; none where it is a pattern for any."""
    made_at: Mapped[datetime]
    plan: Mapped[dict[str, Any]]
    foretold: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Job(Base):
    """A piece of long work, so that a killed process shows what was done and goes on from there."""

    __tablename__ = "job"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    title: Mapped[str]
    state: Mapped[str] = mapped_column(index=True)
    """A `JobState`."""
    params: Mapped[dict[str, Any]]
    progress: Mapped[float] = mapped_column(default=0.0)
    message: Mapped[str] = mapped_column(Text, default="")
    advice: Mapped[str] = mapped_column(Text, default="")
    result: Mapped[dict[str, Any]] = mapped_column(default=dict)
    token: Mapped[str] = mapped_column(default=lambda: token_hex(4), server_default="")
    """In the name and the header of every frame it takes: no other job of any library has it."""
    rig_id: Mapped[int | None]
    created_at: Mapped[datetime]
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    steps: Mapped[list[RunStep]] = relationship(order_by="RunStep.seq", cascade="all, delete-orphan")


class RunStep(Base):
    """One step of a run."""

    __tablename__ = "run_step"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"), index=True)
    seq: Mapped[int]
    kind: Mapped[str]
    title: Mapped[str]
    filter_code: Mapped[str | None]
    row: Mapped[int | None]
    count: Mapped[int] = mapped_column(default=0)
    done: Mapped[int] = mapped_column(default=0)
    state: Mapped[str] = mapped_column(default="to do")
    """'to do', 'doing', 'waiting', 'done', 'skipped' or 'no answer'."""
    params: Mapped[dict[str, Any]] = mapped_column(default=dict)
    outcome: Mapped[dict[str, Any]] = mapped_column(default=dict)
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    shots: Mapped[list[RunShot]] = relationship(order_by="RunShot.seq", cascade="all, delete-orphan")


class RunShot(Base):
    """One exposure of a run, test shot or frame."""

    __tablename__ = "run_shot"
    __table_args__ = (UniqueConstraint("step_id", "seq"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    step_id: Mapped[int] = mapped_column(ForeignKey("run_step.id"), index=True)
    seq: Mapped[int]
    exposure_s: Mapped[float]
    brightness: Mapped[int | None]
    why: Mapped[str] = mapped_column(Text, default="")
    stats: Mapped[dict[str, Any]] = mapped_column(default=dict)
    taken_at: Mapped[datetime]
    path: Mapped[str]
    """Below the library's folder."""
    frame_id: Mapped[int | None] = mapped_column(ForeignKey("frame.id"))
