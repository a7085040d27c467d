"""A picture that is looked at, in words and numbers."""

from __future__ import annotations

import math
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import NotFound
from grayshelf.core.pictures.parts import TILE
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.holdings import holding_of
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet, MasterInput
from grayshelf.library.views import Opened
from grayshelf.web.common import in_words
from grayshelf.web.looking.schemas import BesideFrameOut, BesideGroupOut, BesideOut, HistogramOut, ViewOut
from grayshelf.web.looking.sheet import twin_of
from grayshelf.web.shelf.walls import kind_title

#: So many are offered of each origin.
MOST_BESIDE = 150


def digits_of(opened: Opened) -> int:
    """Places behind the point that tell levels of a picture apart."""
    black, white = opened.ends
    if opened.whole:
        return 0
    return min(max(2 - math.floor(math.log10(max(white - black, 1e-9))), 0), 6)


def view_out(library: Library, session: Session, opened: Opened) -> ViewOut:
    """A picture, before any of it is shown."""
    row = session.get(FrameSet, opened.set_id) if opened.set_id is not None else None
    title = opened.name
    if row is not None:
        with sparing(library, "looking", row.id, row.kind):
            title = title_of(row)
    black, white = opened.ends
    return ViewOut(
        name=opened.name,
        title=title,
        width=opened.parts.width,
        height=opened.parts.height,
        unit=opened.unit,
        digits=digits_of(opened),
        black=black,
        white=white,
        tile=TILE,
        colours=list(opened.colours),
        version=opened.version,
    )


def title_of(row: FrameSet) -> str:
    """A set in a few words: 'Dark 300 s, −10 °C', 'NGC 281, Ha'."""
    if row.kind == "light":
        facts = facts_from_json(row.facts)
        return ", ".join(x for x in (facts.target or "Light", facts.filter_code) if x)
    return kind_title(holding_of(row))


def histogram_out(opened: Opened) -> HistogramOut:
    """Its levels, counted."""
    found = opened.histogram
    return HistogramOut(
        first=found.first,
        step=found.step,
        counts=list(found.counts),
        below=found.below,
        above=found.above,
        lowest=found.lowest,
        highest=found.highest,
        median=found.median,
        mean=found.mean,
        unknown=found.unknown,
    )


def beside_page(library: Library, frame_id: int) -> BesideOut:
    """What a frame can be held against: masters of its kind and camera, and frames of its set; all of its size."""
    with library.db.session() as session:
        frame = session.get(Frame, frame_id)
        if frame is None:
            raise NotFound("This frame is not in the library.")
        row = frame.set
        if row is None:
            twin = twin_of(session, frame)
            return BesideOut(groups=[BesideGroupOut(title="Counts", frames=[twin])] if twin else [])
        size = _size(frame)
        groups = [
            BesideGroupOut(title="Masters", frames=_masters(library, session, row, size)),
            BesideGroupOut(
                title="Its frames" if row.is_master else "Of its set", frames=_frames(session, row)
            ),
        ]
        for group in groups:
            group.frames = [f for f in group.frames if f.frame_id != frame_id]
        return BesideOut(groups=[g for g in groups if g.frames])


def set_frames(library: Library, set_id: int) -> BesideOut:
    """The frames of a set by their names.

    Raises
    ------
    NotFound
    """
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None:
            raise NotFound("This set is no longer in the library.")
        named = [
            BesideFrameOut(frame_id=f.id, title=Path(f.path).name, detail="not kept" if f.rejected else "")
            for f in row.frames[:MOST_BESIDE]
        ]
        return BesideOut(groups=[BesideGroupOut(title=title_of(row), frames=named)])


def _size(frame: Frame) -> tuple[int, int]:
    facts = facts_from_json(frame.facts)
    return facts.width, facts.height


def _masters(
    library: Library, session: Session, row: FrameSet, size: tuple[int, int]
) -> list[BesideFrameOut]:
    if row.kind == "light":
        return []
    masters = session.scalars(
        select(FrameSet)
        .where(FrameSet.camera == row.camera, FrameSet.kind == row.kind, FrameSet.is_master)
        .order_by(FrameSet.last_utc.desc(), FrameSet.id.desc())
    )
    found = []
    for master in masters:
        with sparing(library, "looking", master.id, master.kind):
            if master.frames and _size(master.frames[0]) == size:
                off = ", off the shelf" if master.taken_off else ""
                frames = in_words.several(master.n_frames, "frame")
                found.append(
                    BesideFrameOut(
                        frame_id=master.frames[0].id,
                        title=title_of(master),
                        detail=f"{in_words.day(master.night)}, {frames}{off}",
                    )
                )
        if len(found) >= MOST_BESIDE:
            break
    return found


def _frames(session: Session, row: FrameSet) -> list[BesideFrameOut]:
    """The frames of a set, or those that a master was made of."""
    if row.is_master:
        made_of = select(MasterInput).where(MasterInput.master_id == row.id).order_by(MasterInput.seq)
        named = [(i.frame_id, i.name) for i in session.scalars(made_of.limit(MOST_BESIDE))]
    else:
        named = [(f.id, Path(f.path).name) for f in row.frames[:MOST_BESIDE]]
    return [BesideFrameOut(frame_id=i, title=name, detail="") for i, name in named if i is not None]
