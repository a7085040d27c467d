"""Lights calibrated with what their slip chose, written piece by piece as float32 FITS."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import replace
from typing import Any

from sqlalchemy.orm import Session

from grayshelf.core.errors import CannotCombine, NotFound
from grayshelf.core.filing.hand_over import Recipe
from grayshelf.core.frames.write import ascii_text, float_frame, frame_header
from grayshelf.core.masters.calibrate import NORM, CalibratedLight, Flat, flat_to_divide_by
from grayshelf.core.matching.pedestal import remaining_adu
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.file_parts import FileParts, parts_of
from grayshelf.library.files import read_header
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import Frame

#: Cards that say how the pixels of the raw file lie, and those of its sums.
_OF_THE_FILE = {
    "SIMPLE", "XTENSION", "BITPIX", "NAXIS", "NAXIS1", "NAXIS2", "EXTEND", "BZERO", "BSCALE", "BLANK", "PCOUNT",
    "GCOUNT", "GROUPS", "CHECKSUM", "DATASUM", "END", "", "COMMENT", "HISTORY", "EXTNAME", "PEDESTAL",
}  # fmt: skip
#: What was done, as other programs that calibrate say it: pedestal or dark, and flat.
DARK_AND_FLAT = "DF"


def calibrated(library: Library, frame_id: int, recipe: Recipe) -> Iterator[bytes]:
    """The file of a light with its dark taken off and its flat divided out, piece by piece.

    Raises
    ------
    NotFound, UnreadableFrame, CannotCombine
    """
    with library.db.session() as session:
        frame, light = _opened(library, session, frame_id)
        dark_frame, dark = _opened(library, session, recipe.dark)
        flat_frame, flat = _opened(library, session, recipe.flat)
        pedestal = _opened(library, session, recipe.pedestal)[1] if recipe.pedestal is not None else None
        facts, header = facts_from_json(frame.facts), read_header(library.frame_path(session, frame))
        left = remaining_adu(facts.pedestal_adu, facts_from_json(dark_frame.facts).pedestal_adu)
        named = [(_name(f), f.sha256 or "") for f in (frame, dark_frame, flat_frame)]
    for other in (dark, flat, *([pedestal] if pedestal else [])):
        if (other.width, other.height) != (light.width, light.height):
            raise CannotCombine("Light and masters differ in size.", "Look at the slip again.")
    divided = _flat(flat, pedestal)
    facts = replace(facts, pedestal_adu=left or None)
    told = frame_header(facts, {"CALSTAT": (DARK_AND_FLAT, "dark taken off, flat divided out")})
    cards: Any = getattr(header.header, "whole", header.header)
    for card in cards.cards:
        with suppress(Exception):
            _keep(told, card)
    for role, (name, sha256) in zip(("Raw light", "Taken off", "Divided by"), named, strict=True):
        told.add_history(ascii_text(f"{role}: {name}"))
        if sha256:
            # On a line of its own, which holds it whole.
            told.add_history(f"SHA256: {sha256}")
    told.add_history(f"Gray Shelf: (light - dark) / (flat / {divided.mean:.6g}), no pedestal added")
    return float_frame(CalibratedLight(light, dark, divided), told)


def _keep(told: Any, card: Any) -> None:
    """Keep a card of the raw file, where nothing is said of it yet."""
    if card.keyword.upper() not in _OF_THE_FILE and card.keyword not in told:
        told.append((card.keyword, card.value, card.comment))


def _opened(library: Library, session: Session, frame_id: int) -> tuple[Frame, FileParts]:
    frame = session.get(Frame, frame_id)
    if frame is None:
        raise NotFound("It is in the library no more.")
    return frame, parts_of(library.frame_path(session, frame), library.root / "scratch")


def _name(frame: Frame) -> str:
    return frame.path.rpartition("/")[2]


@kept(4)
def _flat(flat: FileParts, pedestal: FileParts | None) -> Flat:
    """A flat, gone through once for all lights. One that was divided by its own level has no pedestal any more."""
    alone = flat_to_divide_by(flat, None)
    return alone if pedestal is None or alone.mean < NORM else flat_to_divide_by(flat, pedestal)
