"""Which part of the sensor frames show, and where lights of a part lie in a master of more: it serves them once it is cropped.

Only where the lights' own header says where their part begins is a place known. Frames that say nothing of it are taken
to begin at the sensor's first pixel, as those of the whole do; where that is not plain, it is in doubt.
"""

from __future__ import annotations

from typing import Protocol

import numpy as np

from grayshelf.core.matching.columns import Bools, Columns
from grayshelf.core.matching.model import Ruler

#: The name of the ruler.
PART = "part of the sensor"
FIRST = (0, 0)


class OnSensor(Protocol):
    """Frames, by what they show of the sensor."""

    @property
    def width(self) -> int:
        """Columns."""
        ...

    @property
    def height(self) -> int:
        """Rows."""
        ...

    @property
    def corner(self) -> tuple[int, int] | None:
        """First column and row on the sensor, in pixels of the frame; None where that is not known."""
        ...

    @property
    def binning(self) -> tuple[int, int] | None:
        """Pixels joined in a row and in a column."""
        ...


def begins_at(settings: OnSensor) -> tuple[int, int]:
    """First column and row on the sensor, in pixels of the frame; of frames that do not say it, the sensor's own."""
    return settings.corner or FIRST


def _same_size(want: OnSensor, have: OnSensor) -> bool:
    return (want.width, want.height) == (have.width, have.height)


def place_in(want: OnSensor, have: OnSensor, *, crops: bool = True) -> tuple[int, int] | None:
    """Where the frames that are wanted begin in a holding, columns and rows; None where it does not show all of them.

    Parameters
    ----------
    crops
        Whether the holding may be cropped to serve: a master for lights, but not a dark flat for a flat.
    """
    if _same_size(want, have):
        apart = want.corner is not None and have.corner is not None and want.corner != have.corner
        return None if apart else FIRST
    if not crops or want.corner is None or want.binning != have.binning:
        return None
    left, top = (a - b for a, b in zip(want.corner, begins_at(have), strict=True))
    inside = left >= 0 and top >= 0 and left + want.width <= have.width and top + want.height <= have.height
    return (left, top) if inside else None


def not_of_the_part(want: OnSensor, have: OnSensor) -> str:
    """Why a holding does not show what is wanted."""
    size = f"{have.width} × {have.height}"
    if _same_size(want, have) or (want.corner is not None and want.binning == have.binning):
        left, top = begins_at(have)
        return f"another part of the sensor, {size} from {left}, {top}"
    return f"another size, {size}"


def odd_place(place: tuple[int, int], repeat: int) -> bool:
    """Whether a crop begins within a pattern of colour filters, which repeats after so many pixels: headers then tell its
    pattern in either way."""
    return place[0] % repeat != 0 or place[1] % repeat != 0


def part_ruler(want: OnSensor, have: OnSensor) -> Ruler | None:
    """How the parts of the sensor compare, of a holding that shows all that is wanted; None where they are the same."""
    whole = _same_size(want, have)
    if whole and begins_at(want) == begins_at(have):
        return None
    told = want.corner is not None and have.corner is not None
    note = "" if whole else "cropped to the part of the lights"
    return Ruler(
        PART, "exact", "", _told(want), _told(have), None, None, inside=told, unknown=not told, note=note
    )


def _told(settings: OnSensor) -> str | None:
    if settings.corner is None:
        return None
    left, top = settings.corner
    return f"{settings.width} × {settings.height} from {left}, {top}"


def places(want: Columns, have: Columns, *, crops: bool) -> tuple[Bools, Bools, Bools]:
    """The same for all that is wanted and all holdings at once, each shape (wanted, holdings).

    Returns
    -------
    Where a holding shows what is wanted (`place_in`), where that is in doubt (`part_ruler`), and where it is cropped at
    an odd place (`odd_place`).
    """
    same_size = (have.width == want.width) & (have.height == want.height)
    left, top = np.nan_to_num(have.left), np.nan_to_num(have.top)
    told, asked = ~np.isnan(have.left), ~np.isnan(want.left)
    elsewhere = (left != np.nan_to_num(want.left)) | (top != np.nan_to_num(want.top))
    shown, odd = same_size & ~(elsewhere & told & asked), np.zeros_like(same_size)
    if crops and asked.any():
        across, down = want.left - left, want.top - top
        one_binning = (have.binning == want.binning) | (np.isnan(have.binning) & np.isnan(want.binning))
        inside = (across >= 0) & (down >= 0) & (across + want.width <= have.width)
        cropped = ~same_size & one_binning & inside & (down + want.height <= have.height)
        repeat = np.maximum(have.repeat, want.repeat)
        odd = cropped & ((across % repeat != 0) | (down % repeat != 0))
        shown = shown | cropped
    return shown, (elsewhere | ~same_size) & ~(told & asked), odd
