"""Tables of what was filed: a journal with every file, by which it goes on after a kill and is taken back."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, String, Text
from sqlalchemy.orm import Mapped, mapped_column

from grayshelf.library.columns import Base


class Filing(Base):
    """Frames that were filed at once."""

    __tablename__ = "filing"
    id: Mapped[int] = mapped_column(primary_key=True)
    begun_at: Mapped[datetime]
    root: Mapped[str]
    """The folder that is filed into."""
    way: Mapped[str] = mapped_column(String(8))
    """A `FiledBy`."""
    words: Mapped[str] = mapped_column(Text)
    """Which frames, in words."""
    n_files: Mapped[int]
    made_folders: Mapped[list[Any]] = mapped_column(default=list)
    """Folders that were not there before."""
    job_id: Mapped[int | None]
    """What files them, or takes them back."""
    taken_back_at: Mapped[datetime | None]


class FiledFile(Base):
    """One file of a filing: where from, where to, how far it is."""

    __tablename__ = "filed_file"
    __table_args__ = (Index("ix_filed_file", "filing_id", "state"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    filing_id: Mapped[int] = mapped_column(ForeignKey("filing.id"), index=True)
    frame_id: Mapped[int | None] = mapped_column(index=True)
    """None for a file that is no frame and goes along."""
    source: Mapped[str]
    target: Mapped[str]
    size_bytes: Mapped[int]
    modified_ns: Mapped[int]
    sha256: Mapped[str | None]
    """Of what was copied; what was renamed is the same file still."""
    state: Mapped[str] = mapped_column(String(8), default="planned")
    """A `FiledState`."""
    reason: Mapped[str] = mapped_column(Text, default="")
    """Why it stays where it is."""
