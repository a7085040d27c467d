"""Filters of one exposure, gain, offset and binning share one set of dark flats."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from grayshelf.core.frames.sets import nominal_exposure
from grayshelf.core.planning.sheet import FlatSeries


@dataclass(frozen=True)
class DarkFlats:
    """The dark flats of one row: at what they are shot, and how many are wanted."""

    row: int
    exposure_s: float | None
    """None where it is still to be found."""
    gain: float
    offset: float
    binning: int
    read_mode: str | None
    count: int

    @classmethod
    def of(cls, index: int, row: FlatSeries, exposure_s: float | None) -> DarkFlats:
        """Those of a row of a sheet."""
        set_to = row.gain, row.offset, row.binning, row.read_mode
        return cls(index, exposure_s, *set_to, row.n_dark_flats)


def served_by(wanted: DarkFlats, shot: Sequence[DarkFlats]) -> int | None:
    """The row whose dark flats, which are shot, serve this one's flats: as many or more at the very same settings."""
    if wanted.exposure_s is None:
        return None
    for other in shot:
        if other.exposure_s is None or other.count < wanted.count:
            continue
        same = nominal_exposure(other.exposure_s) == nominal_exposure(wanted.exposure_s)
        if same and _set_to(other) == _set_to(wanted):
            return other.row
    return None


def shares_exposure(rows: Sequence[FlatSeries], index: int) -> bool:
    """Whether a row was last shot at the exposure of another of its gain, offset and binning: where the light can be
    dimmed, it is kept there, and one set of dark flats goes on serving both."""
    row = rows[index]
    if row.prior_exposure_s is None or row.begin_s is not None:
        return False
    mine = DarkFlats.of(index, row, row.prior_exposure_s)
    others = (DarkFlats.of(i, r, r.prior_exposure_s) for i, r in enumerate(rows) if i != index)
    return served_by(replace(mine, count=0), list(others)) is not None


def _set_to(one: DarkFlats) -> tuple[object, ...]:
    return one.gain, one.offset, one.binning, one.read_mode
