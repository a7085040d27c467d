"""What is handed over otherwise than it lies on disk, written piece by piece as float32 FITS: lights calibrated with what
their slip chose, masters cropped to lights of a part of the sensor, and darks scaled to shorter lights."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from grayshelf.core.errors import CannotCombine, NotFound
from grayshelf.core.filing.hand_over import Recipe
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.fits_blocks import MOST_AXES
from grayshelf.core.frames.full_scale import FULL_SCALE_ADU
from grayshelf.core.frames.headers import EXPOSURE
from grayshelf.core.frames.write import ascii_text, float_frame, frame_header
from grayshelf.core.masters.calibrate import NORM, CalibratedLight, Flat, flat_to_divide_by
from grayshelf.core.masters.crop import Crop, crop_for
from grayshelf.core.masters.scaled import Scaled
from grayshelf.core.matching.pedestal import remaining_adu
from grayshelf.core.pictures.parts import Parts
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.file_parts import FileParts, parts_of
from grayshelf.library.files import read_header
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import Frame

#: Cards that say how the pixels of the raw file lie, and those of its sums.
_OF_THE_PIXELS = {
    "SIMPLE", "XTENSION", "BITPIX", "NAXIS", *(f"NAXIS{axis}" for axis in range(1, MOST_AXES + 1)), "EXTEND", "BZERO",
    "BSCALE", "BLANK", "PCOUNT", "GCOUNT", "GROUPS", "CHECKSUM", "DATASUM", "END", "", "EXTNAME",
}  # fmt: skip
#: Those and what a light says of itself that is said anew once it is calibrated.
_OF_THE_FILE = _OF_THE_PIXELS | {"COMMENT", "HISTORY", "PEDESTAL"}
#: What was done, as other programs that calibrate say it: pedestal or dark, and flat.
DARK_AND_FLAT = "DF"
Pieces = Callable[[], Iterator[bytes]]
"""Writes a file anew, in pieces."""


def written_here(
    library: Library, frame_id: int, recipe: Recipe | None, crop: Crop | None, scaled: Scaled | None
) -> Pieces | None:
    """What makes a file that is handed over otherwise than it lies on disk, piece by piece; None where it goes as it is."""
    if recipe is not None:
        return partial(calibrated, library, frame_id, recipe)
    return None if crop is None and scaled is None else partial(changed, library, frame_id, crop, scaled)


def calibrated(library: Library, frame_id: int, recipe: Recipe) -> Iterator[bytes]:
    """The file of a light with its dark taken off and its flat divided out, piece by piece.

    Raises
    ------
    NotFound, UnreadableFrame, CannotCombine
    """
    with library.db.session() as session:
        light = _opened(library, session, frame_id)
        dark, flat = _opened(library, session, recipe.dark), _opened(library, session, recipe.flat)
        pedestal = _opened(library, session, recipe.pedestal) if recipe.pedestal is not None else None
        bias = _opened(library, session, recipe.scaled.bias) if recipe.scaled is not None else None
        header = read_header(light.path).header
    left = remaining_adu(light.facts.pedestal_adu, dark.facts.pedestal_adu)
    divided_by = flat.shown_in(light)
    lit = light.parts.lit or (flat.parts.lit if divided_by is flat.parts else None)
    if lit is not None:
        # What light cannot reach is no part of the flat's mean, and nothing is divided by it.
        divided_by = lit.alone(divided_by)
    divided = _flat(divided_by, None if pedestal is None else pedestal.shown_in(light))
    facts = replace(light.facts, pedestal_adu=left or None)
    told = frame_header(facts, {"CALSTAT": (DARK_AND_FLAT, "dark taken off, flat divided out")})
    _keep(told, header, _OF_THE_FILE)
    for role, one in (("Raw light", light), ("Taken off", dark), ("Divided by", flat)):
        one.add_to_history(told, role)
    taken_off: Parts = dark.shown_in(light)
    if recipe.scaled is not None and bias is not None:
        taken_off = recipe.scaled.of_pictures(taken_off, bias.shown_in(light))
        _tell_of_scaling(told, recipe.scaled, bias)
    told.add_history(f"Gray Shelf: (light - dark) / (flat / {divided.mean:.6g}), no pedestal added")
    return float_frame(CalibratedLight(light.parts, taken_off, divided), told)


def changed(library: Library, frame_id: int, crop: Crop | None, scaled: Scaled | None) -> Iterator[bytes]:
    """The file of a master that is cropped to lights of a part of the sensor, or scaled to shorter ones, piece by piece.

    Raises
    ------
    NotFound, UnreadableFrame, CannotCombine
        Where the file is gone, or not what it was.
    """
    with library.db.session() as session:
        master = _opened(library, session, frame_id)
        bias = None if scaled is None else _opened(library, session, scaled.bias)
        header = read_header(master.path).header
    facts = master.facts
    for change in (scaled, crop):
        facts = change.of(facts) if change is not None else facts
    told = frame_header(facts)
    # What was taken off it, and how it was made, holds for the part, too. How long it was exposed, by any other word, does not.
    _keep(told, header, _OF_THE_PIXELS if scaled is None else {*_OF_THE_PIXELS, *EXPOSURE})
    if crop is None:
        master.add_to_history(told, "Made of")
    else:
        last = crop.left + crop.width - 1, crop.top + crop.height - 1
        master.add_to_history(
            told, f"Columns {crop.left} to {last[0]}, rows {crop.top} to {last[1]}, counted from 0, of"
        )
    parts: Parts = master.parts
    if scaled is None or bias is None:
        parts = master.parts.in_its_own_unit()
    else:
        unit = 1.0 / FULL_SCALE_ADU if master.parts.shares else 1.0
        parts = scaled.of_pictures(parts, bias.parts, unit)
        _tell_of_scaling(told, scaled, bias)
    return float_frame(parts if crop is None else crop.of_picture(parts), told)


def _tell_of_scaling(told: Any, scaled: Scaled, bias: _Opened) -> None:
    told.add_history(
        f"Gray Shelf: dark scaled from {scaled.from_s:g} s to {scaled.to_s:g} s,"
        f" bias + {scaled.share:.6g} (dark - bias)"
    )
    bias.add_to_history(told, "Bias")


def _keep(told: Any, header: Any, but: Collection[str]) -> None:
    """Keep the cards of the raw file, where nothing is said of them yet."""
    cards: Any = getattr(header, "whole", header)
    for card in cards.cards:
        with suppress(Exception):
            keyword = card.keyword.upper()
            if keyword not in but and (keyword in ("COMMENT", "HISTORY") or keyword not in told):
                told.append((card.keyword, card.value, card.comment))


@dataclass(frozen=True)
class _Opened:
    """A frame of the library, opened."""

    parts: FileParts
    path: Path
    facts: FrameFacts
    sha256: str

    def shown_in(self, light: _Opened) -> Parts:
        """The pixels that a light has, of a master that may show more of the sensor."""
        crop = crop_for(light.facts, self.facts)
        if crop is not None:
            return crop.of_picture(self.parts)
        if (self.parts.width, self.parts.height) != (light.parts.width, light.parts.height):
            raise CannotCombine("Light and masters differ in size.", "Look at the slip again.")
        return self.parts

    def add_to_history(self, told: Any, role: str) -> None:
        """Name it in a header, with its hash on a line of its own, which holds it whole."""
        told.add_history(ascii_text(f"{role}: {self.path.name}"))
        if self.sha256:
            told.add_history(f"SHA256: {self.sha256}")


def _opened(library: Library, session: Session, frame_id: int) -> _Opened:
    frame = session.get(Frame, frame_id)
    if frame is None:
        raise NotFound("It is in the library no more.")
    path = library.frame_path(session, frame)
    parts = parts_of(path, library.root / "scratch")
    return _Opened(parts, path, facts_from_json(frame.facts), frame.sha256 or "")


@kept(4)
def _flat(flat: Parts, pedestal: Parts | None) -> Flat:
    """A flat, gone through once for all lights. One that was divided by its own level has no pedestal any more."""
    alone = flat_to_divide_by(flat, None)
    return alone if pedestal is None or alone.mean < NORM else flat_to_divide_by(flat, pedestal)
