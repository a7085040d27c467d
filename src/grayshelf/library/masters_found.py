"""Masters of ours that came in as files: what they were made of is in them, and is entered again.

So a library that lost its database, or is read by another one, has its masters with their inputs.
"""

from __future__ import annotations

import math
import re
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.checks.figures import master_figures
from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.frames.fits_blocks import card_value
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.lit_part import pattern_where_lit
from grayshelf.core.frames.write import InputRecord
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.file_parts import FileParts
from grayshelf.library.files import read_header
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet, MasterInput, MasterRecord
from grayshelf.library.unreadable import readable

#: What the history of a master says before the words for how it was combined, and before its pedestal's name.
COMBINED_BY, TAKEN_OFF = "Combined by Gray Shelf", "Taken off every frame first: "
#: The largest stack whose table of inputs is read: more rows than this were not written here.
MOST_INPUTS = 20_000


@dataclass(frozen=True)
class _Story:
    """What a master's file says of how it was made."""

    method: str
    pedestal_name: str
    noise: dict[str, float | None]
    inputs: list[InputRecord]


def recall_masters(library: Library, progress: Callable[[float], None] = lambda share: None) -> int:
    """Enter what masters were made of that came in as files; return how many had it to tell. Which frames of the library these
    are is looked for apart (`inputs_found`)."""
    with library.db.session() as session:
        todo = [
            (frame.set_id, Path(frame.folder.path) / frame.path)
            for frame in session.scalars(
                select(Frame)
                .join(FrameSet, Frame.set_id == FrameSet.id)
                .join(MasterRecord, MasterRecord.set_id == FrameSet.id)
                .where(
                    FrameSet.is_master,
                    MasterRecord.method == "",
                    Frame.missing_since.is_(None),
                    readable(Frame.facts)["bits"].as_integer() < 0,
                )
                .order_by(FrameSet.id)
            )
        ]
    told = 0
    for number, (set_id, path) in enumerate(todo):
        story = _story_in(path)
        if story is not None and set_id is not None:
            figures = _figures(path, library, set_id)
            with library.db.session() as session:
                _enter(session, set_id, story, figures)
            told += 1
        progress((number + 1) / len(todo))
    if told:
        _link_pedestals(library)
    return told


def _story_in(path: Path) -> _Story | None:
    from astropy.io import fits

    try:
        header = read_header(path).header
        if card_value(header, "GSDIGEST") is None:
            return None
        history = [str(line) for line in header.get("HISTORY", [])]
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with fits.open(path, memmap=False, lazy_load_hdus=True) as hdus:
                table = hdus["INPUTS"].data
                if table is None or len(table) > MOST_INPUTS:
                    return None
                inputs = [
                    InputRecord(
                        str(r["NAME"]).strip(),
                        str(r["SHA256"]).strip(),
                        bool(r["USED"]),
                        float(r["LEVEL"]),
                        float(r["CLIPPED"]),
                        str(r["REASON"]).strip(),
                        *(_number(r, name) for name in ("MEAN", "NOISE", "CCDTEMP")),
                    )
                    for r in table
                ]
    except (UnreadableFrame, OSError, KeyError, ValueError, TypeError):
        # Not written here, or damaged since: it is a master whose making nobody knows.
        return None
    # Long lines of a history are cut into several cards, and begin anew with each entry.
    text = "\n".join(history)
    combined = re.search(rf"{COMBINED_BY}[^:]*:(.*?)(?:\n\d+ of \d+ frames used|$)", text, re.DOTALL)
    method = combined.group(1).replace("\n", "").strip() if combined else ""
    pedestal = ""
    if TAKEN_OFF in text:
        pedestal = text.split(TAKEN_OFF, 1)[1].replace("\n", "").strip()
    noise = {}
    for name, card in (("noise", "GSNOISE"), ("frame_noise", "GSNOISE1"), ("predicted_noise", "GSNOISEP")):
        value: Any = card_value(header, card)
        noise[name] = float(value) if isinstance(value, (int, float)) and np.isfinite(value) else None
    return _Story(method or "combined by Gray Shelf", pedestal, noise, inputs)


def _number(row: Any, name: str) -> float | None:
    """A value of a frame; masters of earlier versions lack it."""
    value = float(row[name]) if name in row.array.names else math.nan
    return value if math.isfinite(value) else None


def _figures(path: Path, library: Library, set_id: int) -> list[dict[str, Any]]:
    with library.db.session() as session:
        row = session.get_one(FrameSet, set_id)
        kind, facts = row.kind, facts_from_json(row.facts)
    try:
        master = FileParts(path, library.root / "scratch")
        pattern = pattern_where_lit(facts.pixel_pattern, master.lit)
        return [vars(f) for f in master_figures(master.where_lit, FrameKind(kind), pattern)]
    except UnreadableFrame:
        return []


def _enter(session: Session, set_id: int, story: _Story, figures: list[dict[str, Any]]) -> None:
    record = session.get_one(MasterRecord, set_id)
    record.built_here, record.method = True, story.method
    record.noise, record.frame_noise = story.noise["noise"], story.noise["frame_noise"]
    record.predicted_noise = story.noise["predicted_noise"]
    looks = [{"mean": i.mean_adu, "noise": i.noise_adu, "temp": i.temp_c} for i in story.inputs]
    record.figures = {"list": figures, "pedestal": story.pedestal_name, "frames": looks}
    record.inputs += [
        MasterInput(
            seq=seq,
            name=told.name,
            sha256=told.sha256,
            used=told.used,
            level_adu=told.level_adu,
            clipped_fraction=told.clipped_fraction,
            reason=told.reason,
        )
        for seq, told in enumerate(story.inputs)
    ]


def _link_pedestals(library: Library) -> None:
    """Flats find the master that was taken off them by the name of its file."""
    with library.db.session() as session:
        records = list(session.scalars(select(MasterRecord).where(MasterRecord.built_here)))
        files = {
            PurePosixPath(frame.path).name: frame.set
            for frame in session.scalars(
                select(Frame).join(FrameSet, Frame.set_id == FrameSet.id).where(FrameSet.is_master)
            )
        }
        for record in records:
            master = files.get(record.figures.get("pedestal", ""))
            if master is not None and record.pedestal_set_id is None:
                record.pedestal_set_id, record.pedestal_kind = master.id, master.kind
