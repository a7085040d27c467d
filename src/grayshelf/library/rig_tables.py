"""Tables of what is known of rigs: the train, its camera, its filters, its lights, and who changed what of them."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Text, UniqueConstraint
from sqlalchemy.orm import Mapped, foreign, mapped_column, relationship

from grayshelf.library.columns import Base


class CameraRow(Base):
    """A camera, by the name that its frames give; it may sit in several rigs."""

    __tablename__ = "camera"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    traits: Mapped[dict[str, Any]] = mapped_column(default=dict)
    """What was typed of it (`core.rigs.camera.CameraCard`)."""


class Rig(Base):
    """A train with its camera, and what is wished of its flats."""

    __tablename__ = "rig"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    camera: Mapped[str] = mapped_column(index=True)
    telescope: Mapped[str | None]
    aperture_mm: Mapped[float | None]
    focal_length_mm: Mapped[float | None]
    devices: Mapped[str | None]
    """Name of the simulated rig behind it, or None: the person does everything."""
    wishes: Mapped[dict[str, Any]] = mapped_column(default=dict)
    tolerances: Mapped[dict[str, Any]] = mapped_column(default=dict)
    rules: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """House rules beside the tolerances: counts of darks, when flats are shot, standard temperatures and exposures."""
    parts: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """What a person typed of its parts: {"rotator": {"name": "...", "moved_by": "hand"}, ...}."""
    attached: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """Devices on the network by the parts that they move (`library.attached`)."""
    retired_at: Mapped[datetime | None]
    """Since when it is not used any more: it stands behind the others, and all of it is kept."""
    says: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    """What a person said of parts that no header tells of: {"angle": "fixed", "focus": "moves", ...}."""
    proposed: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Made from headers, and nobody has said yet that it is right."""
    told_focal_mm: Mapped[float | None]
    """The focal length that its frames' headers give, by which they are told from those of the same telescope with a
    reducer; None where frames of any may be its own."""
    joined_to: Mapped[int | None] = mapped_column(ForeignKey("rig.id"))
    """The rig that it is in truth: it stands nowhere any more, and its frames are that one's."""
    time_zone: Mapped[str | None]
    """Of the place where it stands, where that is not the library's site."""
    source_id: Mapped[int | None] = mapped_column(ForeignKey("light_source.id"))
    """The light its flats are taken with, where no row says otherwise."""
    camera_row: Mapped[CameraRow | None] = relationship(
        primaryjoin=lambda: foreign(Rig.camera) == CameraRow.name, viewonly=True, lazy="joined"
    )
    filters: Mapped[list[RigFilter]] = relationship(
        order_by="RigFilter.position", cascade="all, delete-orphan"
    )
    entered_events: Mapped[list[RigEvent]] = relationship(
        order_by="RigEvent.at", cascade="all, delete-orphan", lazy="selectin"
    )

    @property
    def events(self) -> list[RigEvent]:
        """What was done to it, oldest first, without what was taken back."""
        return [e for e in self.entered_events if not e.taken_back]


class Spelling(Base):
    """What a name in headers stands for, or that two names are two things."""

    __tablename__ = "spelling"
    __table_args__ = (UniqueConstraint("about", "camera", "spelled", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    about: Mapped[str]
    """A `NameOf`."""
    camera: Mapped[str]
    """Of telescopes and filters, the camera of their frames; empty for cameras."""
    spelled: Mapped[str]
    name: Mapped[str]
    """What it stands for; itself, where it is a name of its own whatever headers look like."""
    apart: Mapped[bool] = mapped_column(default=False)
    """The two are not one, as a person said."""
    by_hand: Mapped[bool] = mapped_column(default=False)
    at: Mapped[datetime]


class RigFilter(Base):
    """A filter in a rig's wheel."""

    __tablename__ = "rig_filter"
    __table_args__ = (UniqueConstraint("rig_id", "code"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    rig_id: Mapped[int] = mapped_column(ForeignKey("rig.id"))
    position: Mapped[int]
    code: Mapped[str]
    name: Mapped[str] = mapped_column(default="")
    passband_nm: Mapped[float | None]
    width_nm: Mapped[float | None]
    brightness: Mapped[int | None]
    gain: Mapped[float | None]
    """That it is usually used at."""
    focus: Mapped[float | None]


class RigEvent(Base):
    """Something was done to a train: flats from before do not fit lights from after."""

    __tablename__ = "rig_event"
    id: Mapped[int] = mapped_column(primary_key=True)
    rig_id: Mapped[int] = mapped_column(ForeignKey("rig.id"))
    at: Mapped[datetime]
    what: Mapped[str]
    kind: Mapped[str] = mapped_column(default="train")
    """A `RigEventKind`."""
    taken_back: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Entered by mistake: it ends nothing."""


class LightSource(Base):
    """A light that flats are taken with: a panel, a wall."""

    __tablename__ = "light_source"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    dimmable: Mapped[bool] = mapped_column(default=True)
    lowest: Mapped[int | None]
    highest: Mapped[int | None]
    pulse_hz: Mapped[float | None]
    duty: Mapped[float | None]
    diffusers: Mapped[list[Any]] = mapped_column(default=list)
    """[{"name": "cloth", "stops": 0.9}, ...]"""
    kind: Mapped[str] = mapped_column(default="panel", server_default="panel")
    """'panel', 'tablet' or 'wall'."""
    before_s: Mapped[float | None]
    after_s: Mapped[float | None]
    shortest_lit_s: Mapped[float | None]
    """Of a light that is lit for a set time within the exposure; all None of one that stays on."""


class PanelCurve(Base):
    """How a light followed its brightness when it was measured. Never overwritten: the newest one counts."""

    __tablename__ = "panel_curve"
    id: Mapped[int] = mapped_column(primary_key=True)
    source_id: Mapped[int] = mapped_column(ForeignKey("light_source.id"), index=True)
    rig_id: Mapped[int] = mapped_column(ForeignKey("rig.id"), index=True)
    job_id: Mapped[int | None]
    points: Mapped[list[Any]]
    """[{"filter_code", "gain", "binning", "brightness", "rate"}, ...]: ADU a second without diffusers."""
    shots: Mapped[int]
    made_at: Mapped[datetime]
    taken_back: Mapped[bool] = mapped_column(default=False, server_default="0")
    """Measured under a light that was not as it should be: it counts no more."""


class CardChange(Base):
    """A change of what is kept of a rig, so that it can be seen and taken back."""

    __tablename__ = "card_change"
    id: Mapped[int] = mapped_column(primary_key=True)
    rig_id: Mapped[int | None] = mapped_column(ForeignKey("rig.id"), index=True)
    about: Mapped[str]
    """Which card: 'telescope', 'camera', 'filters', 'rotator', ..., 'house rules'."""
    at: Mapped[datetime]
    words: Mapped[str] = mapped_column(Text)
    reason: Mapped[str] = mapped_column(Text, default="")
    before: Mapped[dict[str, Any]]
    after: Mapped[dict[str, Any]]
    taken_back_at: Mapped[datetime | None]
