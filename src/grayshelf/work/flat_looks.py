"""What is read of master flats: their shadows of dust and how their light falls; read once and kept with the master."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from datetime import date

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.checks.dust import LOOKED_AT, Shadow, dust_on
from grayshelf.core.checks.light_fall import LightFall, light_fall
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.channels import in_colours
from grayshelf.core.frames.angle import angle_between
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.pictures.parts import made_small
from grayshelf.library.facts_json import facts_from_json, facts_if_sound
from grayshelf.library.file_parts import parts_of
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet
from grayshelf.library.records import read

#: Under which names they are kept among a master's figures; another number where the reading changed.
DUST, LIGHT = "dust 2", "light 2"
#: So many flats beside one are gone through at most, those of the nearest nights first.
MOST_OTHERS = 40
#: Flats of other filters tell of one's dust where they were taken within so many nights of it.
SAME_TIME_NIGHTS = 21


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
    return FlatLook(tuple(read(Shadow, s) for s in figures[DUST]), read(LightFall, figures[LIGHT]))


def look_at_flat(library: Library, session: Session, row: FrameSet) -> FlatLook:
    """Read a master flat, and keep what was read.

    Raises
    ------
    GrayShelfError
        Where its file cannot be read.
    """
    found = kept_look(row)
    if found is not None:
        return found
    facts = facts_from_json(row.facts)
    if not row.frames:
        raise GrayShelfError("The file of this flat is no longer known.", "Scan its folder again.")
    parts = parts_of(library.frame_path(session, row.frames[0]), library.root / "scratch")
    colours = in_colours(facts.bayer_pattern, facts.binning_x)
    factor = -(-max(parts.width, parts.height) // LOOKED_AT)
    factor += factor % 2 if colours else 0
    found = FlatLook(tuple(dust_on(parts, colours=colours)), light_fall(made_small(parts, factor), factor))
    if row.record is not None:
        told = {DUST: [asdict(s) for s in found.shadows], LIGHT: asdict(found.light)}
        row.record.figures = {**row.record.figures, **told}
    return found


@dataclass(frozen=True)
class Beside:
    """Another master flat of the same train."""

    row: FrameSet
    facts: FrameFacts
    night: date | None
    turned_deg: float | None
    """How far the camera was turned since the one that it stands beside."""


def flats_beside(session: Session, row: FrameSet) -> list[Beside]:
    """Other master flats of the same train, those of the nearest nights first; also those that are off the shelf, since
    dust is older than masters."""
    own = facts_from_json(row.facts)
    found = []
    for other in session.scalars(
        select(FrameSet).where(
            FrameSet.camera == row.camera, FrameSet.kind == "flat", FrameSet.is_master, FrameSet.id != row.id
        )
    ):
        facts = facts_if_sound(other.facts)
        if facts is None or not other.frames or not _same_train(facts, own):
            continue
        found.append(Beside(other, facts, other.night, _turned(own, facts)))
    far = max((abs((b.night - row.night).days) for b in found if b.night and row.night), default=0) + 1

    def nights(b: Beside) -> int:
        return abs((b.night - row.night).days) if b.night and row.night else far

    return sorted(found, key=lambda b: (nights(b), -b.row.id))[:MOST_OTHERS]


def _same_train(one: FrameFacts, other: FrameFacts) -> bool:
    names = ("width", "height", "binning_x", "telescope", "focal_length_mm")
    return all(getattr(one, n) == getattr(other, n) for n in names)


def _turned(one: FrameFacts, other: FrameFacts) -> float | None:
    if one.angle is None and other.angle is None:
        # No header tells of an angle: such cameras are hardly ever turned.
        return 0.0
    return angle_between(one.angle, other.angle)


def same_time(row: FrameSet, others: Sequence[Beside]) -> list[Beside]:
    """Those taken about when it was: dust comes and goes."""
    return [
        b for b in others if b.night and row.night and abs((b.night - row.night).days) <= SAME_TIME_NIGHTS
    ]


def look_until(
    library: Library, session: Session, others: Sequence[Beside], enough: Callable[[], bool]
) -> tuple[dict[int, FlatLook], int]:
    """What is read of other flats, by set, until it is enough for now; and how many are still to be looked at."""
    found: dict[int, FlatLook] = {}
    left = 0
    for other in others:
        known = kept_look(other.row)
        if known is None and enough():
            left += 1
            continue
        try:
            found[other.row.id] = known or look_at_flat(library, session, other.row)
        except (GrayShelfError, OSError):
            # A flat whose file is away tells nothing.
            continue
    return found, left
