"""Capped frames of one set that were shot at two settings, where no header tells: their noise, or their level, is of two kinds.

The limits are common practice, with no published source. What moves by and by is a drift (`series`); what a few frames have
apart from the others is told of each (`apart`).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.findings import Fault, SetFinding
from grayshelf.core.matching.capped_levels import PEDESTAL_DRIFT_ADU

#: Between two kinds there is a gap: of noise, by this factor from the one to the next ...
NOISE_APART = 1.25
#: ... and of levels, by so many times what the frames of a kind differ by.
LEVELS_APART = 5.0
#: Fewer frames than this are no kind of their own ...
FEWEST_OF_A_KIND = 3
#: ... and fewer than this are no set in which there could be two.
FEWEST = 8


def two_settings(levels_adu: Sequence[float], noises_adu: Sequence[float]) -> list[SetFinding]:
    """Whether capped frames were shot at two gains or offsets: the smaller part is to be left out, where it is smaller.

    Parameters
    ----------
    levels_adu, noises_adu
        Mean level and noise of each frame in the order taken, ADU.
    """
    levels, noises = np.asarray(levels_adu, float), np.asarray(noises_adu, float)
    if levels.size < FEWEST or not (np.all(np.isfinite(noises)) and np.all(noises > 0.0)):
        return []
    upper = _noisier(noises)
    if upper is not None:
        return [_finding(upper, levels, noises, "gain")]
    upper = _higher(levels)
    return [] if upper is None else [_finding(upper, levels, noises, "offset")]


def _noisier(noises: NDArray[np.float64]) -> NDArray[np.bool_] | None:
    """Frames above the widest gap of the noises, where that is wide and the noises of neither side have half as wide a one."""
    order = np.sort(np.log(noises))
    gaps = np.diff(order)
    widest = int(np.argmax(gaps))
    others = np.delete(gaps, widest)
    if gaps[widest] < np.log(NOISE_APART) or others.max(initial=0.0) > gaps[widest] / 2.0:
        return None
    return _of_two_kinds(np.log(noises) > order[widest])


def _higher(levels: NDArray[np.float64]) -> NDArray[np.bool_] | None:
    """Frames above the widest gap of the levels, where each kind is steady and one comes after the other."""
    order = np.sort(levels)
    gaps = np.diff(order)
    widest = int(np.argmax(gaps))
    within = max(order[widest] - order[0], order[-1] - order[widest + 1])
    if gaps[widest] < max(PEDESTAL_DRIFT_ADU, LEVELS_APART * within):
        return None
    upper = levels > order[widest]
    once = int(np.count_nonzero(np.diff(upper.astype(int)))) == 1
    return _of_two_kinds(upper) if once else None


def _of_two_kinds(upper: NDArray[np.bool_]) -> NDArray[np.bool_] | None:
    many = int(np.count_nonzero(upper))
    return upper if min(many, upper.size - many) >= FEWEST_OF_A_KIND else None


def _finding(
    upper: NDArray[np.bool_], levels: NDArray[np.float64], noises: NDArray[np.float64], what: str
) -> SetFinding:
    """`upper`: the noisier, or the higher."""
    fewer = upper if 2 * np.count_nonzero(upper) <= upper.size else ~upper
    frames = np.flatnonzero(fewer)
    clear = 2 * frames.size < upper.size
    values, unit = (noises, "times the noise") if what == "gain" else (levels, "ADU")
    here, there = float(np.median(values[fewer])), float(np.median(values[~fewer]))
    told = f"level {np.median(levels[fewer]):,.0f} against {np.median(levels[~fewer]):,.0f} ADU"
    if what == "gain":
        told = f"noise {here:.1f} against {there:.1f} ADU, {told}"
    size = here / there if what == "gain" else here - there
    brighter = what == "gain" and (here > there) == (np.median(levels[fewer]) > np.median(levels[~fewer]))
    lit = ", or did light reach the brighter ones" if brighter else ""
    left = "" if clear else " Which are right nobody can say, and none is left out."
    return SetFinding(
        Fault.TWO_SETTINGS,
        size,
        unit,
        f"{_which(frames, upper.size)} of another setting than the others: {told}.{left}",
        f"Was the {what} changed between them{lit}? Where no header tells it, say it of each part: then they are two sets.",
        tuple(int(i) for i in frames),
        leave_out=clear,
    )


def _which(frames: NDArray[np.int_], n: int) -> str:
    """'Frames 3 to 7 are', '7 of the 20 frames are'."""
    first, last = int(frames[0]), int(frames[-1])
    together = last - first + 1 == frames.size
    return f"Frames {first + 1} to {last + 1} are" if together else f"{frames.size} of the {n} frames are"
