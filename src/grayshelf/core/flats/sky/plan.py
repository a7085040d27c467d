"""A twilight laid out before it comes: when the sky suits each filter, in which order, and how many flats fit."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.flats.sky.light import SkyCourse, off_by
from grayshelf.core.flats.sky.twilight import (
    Fade,
    SkySeries,
    SkyShot,
    counted,
    evening_fade,
    exposures_for,
    newest_read,
    order_filters,
    sky_through,
)

#: Steps in which a twilight is gone through, in seconds.
GRID_S = 10.0
#: More flats of one filter than anybody takes in a twilight, and more than are counted to fit.
MOST_WISHED, MOST_COUNTED = 200, 999
#: What the wheel takes between two filters, in seconds (common practice).
CHANGE_S = 3.0


@dataclass(frozen=True)
class PlannedRow:
    """One row of the layout, on the course's scale of time; None where there is no such time."""

    code: str
    opens_s: float | None
    shuts_s: float | None
    fit: int
    """Flats that fit into the window, if nothing else were shot."""
    planned: int
    """Flats that fit after the rows before it, at most as many as wished."""
    begins_s: float | None
    ends_s: float | None
    first_exposure_s: float | None
    last_exposure_s: float | None


def _exposures(wish: SkySeries, sky: Fade | SkyCourse, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """The exposures that a filter needs from some times on; nan where they are not permitted."""
    if isinstance(sky, Fade):
        rates = sky.rate_adu_s * np.exp(np.clip(-sky.per_s * (times_s - sky.at_s), -300.0, 300.0))
        per_s = np.full(len(times_s), sky.per_s)
    else:
        light, per_s = sky.at(times_s)
        rates = (wish.scale_adu_s or 1.0) * np.exp(light)
    exposures = exposures_for(wish.level_adu, rates, per_s)
    with np.errstate(invalid="ignore"):
        good = (exposures >= wish.shortest_s * 0.999) & (exposures <= wish.longest_s * 1.001)
    return np.where(good, exposures, np.nan)


def window_of(wish: SkySeries, course: SkyCourse, seen: Fade | None = None) -> tuple[float, float] | None:
    """When the sky suits a filter, from and to in seconds after the scale's beginning; None where it never does."""
    times = np.arange(course.times_s[0], course.times_s[-1] + GRID_S / 2, GRID_S)
    open_at = times[~np.isnan(_exposures(wish, seen or course, times))]
    return (float(open_at[0]), float(open_at[-1])) if len(open_at) else None


def _shoot(
    wish: SkySeries, sky: Fade | SkyCourse, from_s: float, shuts_s: float, most: int, between_s: float
) -> tuple[list[float], float, float]:
    """Exposures one after the other from a time on, when the first began, and when the last has ended."""
    exposures: list[float] = []
    began, at = from_s, from_s
    while at <= shuts_s and len(exposures) < most:
        exposure = float(_exposures(wish, sky, np.array([at]))[0])
        if math.isnan(exposure):
            if exposures:
                break
            at += GRID_S / 2
            continue
        if not exposures:
            began = at
        exposures.append(exposure)
        at += exposure + between_s
    return exposures, began, at - between_s if exposures else at


def in_order(
    wishes: Sequence[SkySeries], course: SkyCourse, seen: Mapping[str, Fade] = {}, *, dawn: bool
) -> list[str]:
    """The codes of wishes in the order to shoot them: by how much sky each needs for its level."""
    scales = {w.code: _scale(w, course, seen.get(w.code)) / w.level_adu for w in wishes}
    return order_filters(scales, dawn=dawn)


def _scale(wish: SkySeries, course: SkyCourse, seen: Fade | None) -> float:
    """A filter's light where the course's is 1, by what was seen of it where something was."""
    if seen is None:
        return wish.scale_adu_s or 1.0
    return seen.rate_adu_s / course.fade(seen.at_s).rate_adu_s


def lay_out(
    wishes: Sequence[SkySeries],
    course: SkyCourse,
    *,
    dawn: bool,
    between_s: float,
    from_s: float = -math.inf,
    seen: Mapping[str, Fade] = {},
) -> list[PlannedRow]:
    """Put filters into a twilight in the order of `in_order`, each as soon as its sky is there.

    Parameters
    ----------
    between_s
        Download and whatever else lies between two exposures.
    from_s
        Nothing begins before: what is past is past.
    seen
        The sky as frames of this twilight showed it, for some of the filters.
    """
    by_code = {w.code: w for w in wishes}
    at = max(from_s, float(course.times_s[0]))
    planned: list[PlannedRow] = []
    for code in in_order(wishes, course, seen, dawn=dawn):
        wish, sky = by_code[code], seen.get(code, course)
        window = window_of(wish, course, seen.get(code))
        if window is None:
            planned.append(PlannedRow(code, None, None, 0, 0, None, None, None, None))
            continue
        opens, shuts = window
        fit = len(_shoot(wish, sky, max(opens, from_s), shuts, MOST_COUNTED, between_s)[0])
        exposures, began, ended = _shoot(wish, sky, max(at, opens), shuts, wish.count, between_s)
        if not exposures:
            planned.append(PlannedRow(code, opens, shuts, fit, 0, None, None, None, None))
            continue
        at = ended + CHANGE_S
        planned.append(
            PlannedRow(code, opens, shuts, fit, len(exposures), began, ended, exposures[0], exposures[-1])
        )
    return planned


def lay_out_again(
    wishes: Sequence[SkySeries],
    shots: Mapping[str, Sequence[SkyShot]],
    course: SkyCourse,
    *,
    dawn: bool,
    between_s: float,
    from_s: float,
) -> tuple[list[PlannedRow], float | None]:
    """What is left of a twilight, by the sky as its shots showed it, and how it fades, where that was seen.

    Filters that were not looked at yet are reckoned brighter or dimmer by as much as the others were.
    """
    times = sorted(s.began_s for own in shots.values() for s in own)
    middle = times[len(times) // 2] if times else float(course.times_s[len(course.times_s) // 2])
    usual = course.fade(middle).per_s
    read = {w.code: newest_read(w, shots.get(w.code, ())) for w in wishes}
    fade = evening_fade(read, dawn=dawn, usual_per_s=usual)
    fits = {
        w.code: sky_through(w, read[w.code], dawn=dawn, seen_per_s=fade, usual_per_s=usual) for w in wishes
    }
    seen = {code: fit for code, fit in fits.items() if fit is not None}
    factor = off_by(
        [(_scale(w, course, seen[w.code]), w.scale_adu_s or 1.0) for w in wishes if w.code in seen]
    )
    left = [
        replace(
            w.below_limit(shots.get(w.code, ())),
            count=max(w.count - counted(shots.get(w.code, ())), 0),
            scale_adu_s=(w.scale_adu_s or 1.0) * factor,
        )
        for w in wishes
    ]
    return lay_out(left, course, dawn=dawn, between_s=between_s, from_s=from_s, seen=seen), fade
