"""Tables of what was measured on the Bench."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Text, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from grayshelf.library.columns import Base


class Measurement(Base):
    """One exercise on the Bench: the offset or the gain of a camera, at one gain or several."""

    __tablename__ = "measurement"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(index=True)
    """'offset' or 'gain'."""
    camera: Mapped[str] = mapped_column(index=True)
    rig_id: Mapped[int | None]
    job_id: Mapped[int | None]
    source: Mapped[str]
    """'shot' here, or 'disk': from frames that were there."""
    gains: Mapped[list[Any]]
    settings: Mapped[dict[str, Any]] = mapped_column(default=dict)
    """White level, sample step, colour pattern, size, and what was asked for."""
    notes: Mapped[list[Any]] = mapped_column(default=list)
    """What was left out of it, and why."""
    frames: Mapped[str] = mapped_column(default="kept")
    """Of frames shot here: 'kept', 'thrown away' (there is a way back), 'being deleted' or 'deleted'."""
    made_at: Mapped[datetime]
    shots: Mapped[list[MeasurementShot]] = relationship(
        order_by="MeasurementShot.id", cascade="all, delete-orphan"
    )


class MeasurementShot(Base):
    """One frame of a measurement, and what it said."""

    __tablename__ = "measurement_shot"
    __table_args__ = (UniqueConstraint("measurement_id", "path"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    measurement_id: Mapped[int] = mapped_column(ForeignKey("measurement.id"), index=True)
    gain: Mapped[float]
    offset: Mapped[float]
    role: Mapped[str]
    """'bias', 'dark', 'test', or 'flat'."""
    exposure_s: Mapped[float]
    brightness: Mapped[int | None]
    source: Mapped[str] = mapped_column(default="")
    """Flats of one source lie on one line of time."""
    pair: Mapped[int | None]
    """Number of its pair; the reading stands with the pair's second frame."""
    why: Mapped[str] = mapped_column(Text, default="")
    reading: Mapped[dict[str, Any]] = mapped_column(default=dict)
    taken_at: Mapped[datetime | None]
    frame_id: Mapped[int | None] = mapped_column(ForeignKey("frame.id"))
    path: Mapped[str]


class CameraValue(Base):
    """What was accepted of a camera at one gain. Never overwritten: the newest one counts."""

    __tablename__ = "camera_value"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    """'offset' or 'gain'."""
    camera: Mapped[str] = mapped_column(index=True)
    gain: Mapped[float]
    values: Mapped[dict[str, Any]]
    own_choice: Mapped[bool] = mapped_column(default=False)
    """Whether the person chose another value than the measured one."""
    measurement_id: Mapped[int | None] = mapped_column(ForeignKey("measurement.id"))
    accepted_at: Mapped[datetime]
