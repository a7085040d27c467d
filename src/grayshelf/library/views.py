"""What is looked at: a frame, a colour of it, two held against each other, or a light that is calibrated."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.lit_part import LitPart
from grayshelf.core.masters.calibrate import NORM
from grayshelf.core.masters.crop import crop_for
from grayshelf.core.pictures.colours import Colour, pattern_of_pixels, places_of, side_of
from grayshelf.core.pictures.histogram import Histogram, ends_at_first, histogram_of
from grayshelf.core.pictures.made_of import Calibrated, Difference, OneColour, Quotient, ScaledDark
from grayshelf.core.pictures.parts import (
    Cropped,
    Parts,
    Pixels,
    Whole,
    factor_of_overview,
    overview_of,
    tile_of,
)
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.file_parts import FileParts, parts_of
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import Frame

How = Literal["alone", "minus", "over", "calibrated"]


@dataclass(frozen=True)
class View:
    """What somebody wants to look at, by frames' numbers."""

    frame: int
    how: How = "alone"
    other: int | None = None
    """For 'minus' and 'over': what it is held against."""
    dark: int | None = None
    flat: int | None = None
    """For 'calibrated': masters, either may be lacking."""
    bias: int | None = None
    share: float = 1.0
    """For 'calibrated', where the dark is scaled: with which master bias, and how much of it is taken (`Scaling.share`)."""
    colour: Colour | None = None
    within: int | None = None
    """Only the part of the sensor that another frame has."""


@dataclass(frozen=True)
class Opened:
    """A view, ready to be looked at."""

    parts: Parts
    unit: str
    """'ADU', 'of the median' or '' for a ratio."""
    whole: bool
    """Whether its levels are whole numbers."""
    colours: tuple[Colour, ...]
    """That can be looked at alone."""
    name: str
    set_id: int | None
    version: str
    """Another one where a file changed."""

    @property
    def overview(self) -> Pixels:
        """All of it, made small."""
        return overview_kept(self.parts)

    def tile(self, level: int, column: int, row: int) -> Pixels:
        """One tile of it, reduced by `level` (see `tile_of`); small ones are cut from what is kept.

        Raises
        ------
        IndexError
            Where it does not reach that far.
        """
        factor = factor_of_overview(self.parts.width, self.parts.height)
        if level < factor or level % factor:
            return tile_of(self.parts, level, column, row)
        return tile_of(Whole(self.overview), level // factor, column, row)

    @property
    def ends(self) -> tuple[float, float]:
        """What is black and white at first."""
        return _ends(self.parts)

    @property
    def histogram(self) -> Histogram:
        """How often each level occurs."""
        return _histogram(self.parts, self.whole)


@kept(24)
def overview_kept(parts: Parts) -> Pixels:
    """A picture made small; kept as long as its files are."""
    return overview_of(parts)


@kept(48)
def _ends(parts: Parts) -> tuple[float, float]:
    return ends_at_first(parts, overview_kept(parts))


@kept(24)
def _histogram(parts: Parts, whole: bool) -> Histogram:
    return histogram_of(parts, overview_kept(parts), whole=whole)


def level_of(parts: Parts) -> float:
    """The median of a picture made small: hot pixels do not move it."""
    known = overview_kept(parts)
    known = known[np.isfinite(known)]
    return float(np.median(known)) if known.size else 0.0


def open_view(library: Library, session: Session, view: View) -> Opened:
    """Open what somebody wants to look at.

    Raises
    ------
    NotFound
        Where a frame is not in the library.
    UnreadableFrame
        Where its file cannot be read.
    GrayShelfError
        Where two that are held against each other differ in size.
    """
    frame, path = _frame_of(library, session, view.frame)
    first = _parts(library, path)
    facts = facts_if_sound(frame.facts)
    # Flats alone are divided by their own level; what is behind the cap, or calibrated, may be as low in ADU.
    of_norm = frame.kind == FrameKind.FLAT and not first.whole and abs(level_of(first)) < NORM
    shown: Parts = first
    if view.within is not None:
        shown = _shown_in(_frame_of(library, session, view.within)[0], frame, first)
    parts, unit, whole = _made(library, session, view, shown, "of the median" if of_norm else "ADU")
    colours = () if facts is None else _colours(facts.bayer_pattern, facts.binning_x)
    if facts is not None and view.colour is not None and view.colour in colours:
        parts = OneColour(parts, facts.bayer_pattern or "", view.colour)
        # Of two greens the mean is looked at, and of more.
        whole = whole and view.colour != "green" and side_of(facts.bayer_pattern) == 2
    stat = path.stat()
    version = f"{stat.st_mtime_ns:x}-{stat.st_size:x}"
    return Opened(parts, unit, whole, colours, Path(frame.path).name, frame.set_id, version)


def _made(library: Library, session: Session, view: View, first: Parts, unit: str) -> tuple[Parts, str, bool]:
    """What is looked at, its unit where the first picture is in `unit`, and whether its levels are whole."""

    def of(number: int | None) -> Parts | None:
        if number is None:
            return None
        frame, path = _frame_of(library, session, number)
        found = _shown_in(_frame_of(library, session, view.frame)[0], frame, _parts(library, path))
        if (found.width, found.height) != (first.width, first.height):
            raise GrayShelfError(
                f"The pictures differ in size: {first.width} × {first.height} and {found.width} × {found.height}.",
                "Choose one of the same camera, binning and frame.",
            )
        return found

    other = of(view.other)
    if view.how == "minus" and other is not None:
        return Difference(first, other), unit, _whole_numbers(first) and _whole_numbers(other)
    if view.how == "over" and other is not None:
        return Quotient(first, other, level_of(other) / (level_of(first) or 1.0)), "", False
    if view.how == "calibrated":
        dark, flat, bias = of(view.dark), of(view.flat), of(view.bias)
        lit = _lit(first) or _lit(flat)
        if flat is not None and lit is not None:
            flat = lit.alone(flat)
        if dark is not None and bias is not None:
            dark = ScaledDark(dark, bias, view.share)
        return Calibrated(first, dark, flat, level_of(flat) if flat else 1.0), "ADU", False
    return first, unit, _whole_numbers(first)


def _shown_in(frame: Frame, other: Frame, parts: FileParts) -> Parts:
    """What another frame shows of the part of the sensor that a frame has; all of it, where that is not known."""
    facts, others = facts_if_sound(frame.facts), facts_if_sound(other.facts)
    crop = None if facts is None or others is None else crop_for(facts, others)
    return parts if crop is None else crop.of_picture(parts)


def _lit(parts: Parts | None) -> LitPart | None:
    """The part of a whole frame that light can reach, where its header tells that it is not all."""
    return parts.lit if isinstance(parts, FileParts) else None


def _whole_numbers(parts: Parts) -> bool:
    of = parts.of if isinstance(parts, Cropped) else parts
    return isinstance(of, FileParts) and of.whole


def _colours(bayer_pattern: str | None, binning: int | None) -> tuple[Colour, ...]:
    pattern = pattern_of_pixels(bayer_pattern, binning) or ""
    every: tuple[Colour, ...] = ("red", "green", "blue")
    return tuple(c for c in every if places_of(pattern, c))


def _parts(library: Library, path: Path) -> FileParts:
    return parts_of(path, library.root / "scratch")


def _frame_of(library: Library, session: Session, number: int) -> tuple[Frame, Path]:
    frame = session.get(Frame, number)
    if frame is None:
        raise NotFound("This frame is not in the library.")
    return frame, library.frame_path(session, frame)
