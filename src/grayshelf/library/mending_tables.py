"""Tables of what a person said of frames, and of which."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, Text
from sqlalchemy.orm import Mapped, mapped_column

from grayshelf.library.columns import Base


class Mending(Base):
    """Something that a person said of many frames at once. Never overwritten: it can be taken back."""

    __tablename__ = "mending"
    id: Mapped[int] = mapped_column(primary_key=True)
    said_at: Mapped[datetime]
    words: Mapped[str] = mapped_column(Text)
    """What was said, in words: 'gain 100, filter Ha'."""
    of: Mapped[str] = mapped_column(Text)
    """Of which frames, in words."""
    n_frames: Mapped[int]
    taken_back_at: Mapped[datetime | None]


class MendedFrame(Base):
    """What one act of mending says of one frame."""

    __tablename__ = "mended_frame"
    __table_args__ = (Index("ix_mended_frame", "frame_id", "mending_id"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    mending_id: Mapped[int] = mapped_column(ForeignKey("mending.id"), index=True)
    frame_id: Mapped[int | None] = mapped_column(ForeignKey("frame.id"))
    """None while its folder is off the list: named again, the file is told by this again."""
    file: Mapped[str]
    """Where the file lay when it was said."""
    says: Mapped[dict[str, Any]]
    """A `Saying` as plain data, and 'kept' where it was said whether the frame is kept."""
    before: Mapped[dict[str, Any]] = mapped_column(default=dict)
    """Whether it counted before that was said, and why not."""
