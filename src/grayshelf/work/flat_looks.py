"""What is read of master flats: their shadows of dust and how their light falls; read once and kept with the master."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from datetime import date

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from grayshelf.core.checks.dust import Shadow, dust_on, factor_looked_at
from grayshelf.core.checks.light_fall import LightFall, light_fall
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.angle import angle_between
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.lit_part import pattern_where_lit
from grayshelf.core.matching.model import Tolerances
from grayshelf.core.matching.newer import same_train
from grayshelf.core.pictures.parts import made_small
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.file_parts import parts_of
from grayshelf.library.holdings import common_settings
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet
from grayshelf.library.records import read
from grayshelf.library.rig_terms import rig_of, tolerances_of

#: Under which names they are kept among a master's figures; another number where the reading changed.
DUST, LIGHT = "dust 2", "light 2"
#: So many flats beside one are gone through at most, those of the nearest nights first.
MOST_OTHERS = 40


@dataclass(frozen=True)
class FlatLook:
    """What was read of a master flat."""

    shadows: tuple[Shadow, ...]
    light: LightFall


def kept_look(row: FrameSet) -> FlatLook | None:
    """What was read of a master flat before; None where nobody has looked at it yet."""
    figures = row.record.figures if row.record is not None else {}
    if DUST not in figures or LIGHT not in figures:
        return None
    light = read(LightFall, figures[LIGHT])
    # Of a strip, versions before this one kept corners that are no numbers.
    if not all(map(math.isfinite, light.corners)):
        return None
    return FlatLook(tuple(read(Shadow, s) for s in figures[DUST]), light)


def look_at_flat(library: Library, set_id: int) -> FlatLook:
    """Read a master flat, and keep what was read. That takes a second or two: the database is asked before and told after,
    and nobody waits for it meanwhile.

    Raises
    ------
    GrayShelfError
        Where it is no longer there, or its file cannot be read.
    """
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or not row.frames:
            raise GrayShelfError("The file of this flat is no longer known.", "Scan its folder again.")
        found = kept_look(row)
        if found is not None:
            return found
        facts, path = facts_from_json(row.facts), library.frame_path(session, row.frames[0])
    whole = parts_of(path, library.root / "scratch")
    parts, left, top = whole.where_lit, *(whole.lit or (0, 0))[:2]
    pattern = pattern_where_lit(facts.pixel_pattern, whole.lit)
    factor = factor_looked_at(parts.width, parts.height, pattern)
    small = made_small(parts, factor)
    if not np.isfinite(small).any():
        raise GrayShelfError(
            "None of its pixels holds a number.", "Bring it in again from where it was made."
        )
    # First, since it refuses a picture of hardly any pixels.
    light = light_fall(small, factor).moved(left, top)
    found = FlatLook(tuple(shadow.moved(left, top) for shadow in dust_on(parts, pattern)), light)
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is not None and row.record is not None:
            told = {DUST: [asdict(s) for s in found.shadows], LIGHT: asdict(found.light)}
            row.record.figures = {**row.record.figures, **told}
    return found


@dataclass(frozen=True)
class Beside:
    """Another master flat of the same train."""

    set_id: int
    frame_id: int
    facts: FrameFacts
    night: date | None
    known: FlatLook | None
    """What was read of it before."""
    turned_deg: float | None
    """How far the camera was turned since the one that it stands beside."""


def flats_beside(library: Library, session: Session, row: FrameSet) -> list[Beside]:
    """Other master flats of the same train, those of the nearest nights first; also those that are off the shelf, since
    dust is older than masters."""
    own, rig = facts_from_json(row.facts), rig_of(session, row)
    settings = common_settings(row, own)
    tolerances = tolerances_of(rig) if rig is not None else Tolerances()
    masters = session.scalars(
        select(FrameSet)
        .where(
            FrameSet.camera == row.camera, FrameSet.kind == "flat", FrameSet.is_master, FrameSet.id != row.id
        )
        .options(selectinload(FrameSet.record))
    )
    same: list[tuple[FrameSet, FrameFacts, FlatLook | None]] = []
    for other in masters:
        with sparing(library, "dust", other.id, other.kind):
            facts = facts_from_json(other.facts)
            if same_train(settings, common_settings(other, facts), tolerances):
                same.append((other, facts, kept_look(other)))

    def nights(other: FrameSet) -> float:
        return abs((other.night - row.night).days) if other.night and row.night else math.inf

    nearest = sorted(same, key=lambda one: (nights(one[0]), -one[0].id))[:MOST_OTHERS]
    return [
        Beside(o.id, o.frames[0].id, facts, o.night, look, _turned(own, facts))
        for o, facts, look in nearest
        if o.frames
    ]


def _turned(one: FrameFacts, other: FrameFacts) -> float | None:
    if one.angle is None and other.angle is None:
        # No header tells of an angle: such cameras are hardly ever turned.
        return 0.0
    return angle_between(one.angle, other.angle)


def look_until(
    library: Library, others: Sequence[Beside], enough: Callable[[], bool]
) -> tuple[dict[int, FlatLook], int]:
    """What is read of other flats, by set, until it is enough for now; and how many are still to be looked at."""
    found: dict[int, FlatLook] = {}
    left = 0
    for other in others:
        if other.known is not None:
            found[other.set_id] = other.known
        elif enough():
            left += 1
        else:
            try:
                found[other.set_id] = look_at_flat(library, other.set_id)
            except (GrayShelfError, OSError):
                # A flat whose file is away tells nothing.
                continue
    return found, left
