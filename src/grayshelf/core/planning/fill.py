"""Filling the shelf: which darks and bias help most in the time that there is.

What a series is worth is told in *lights*: those that can be calibrated only with it, and, for those that have something
already, as many more as would lower the noise of their stack as far (its noise falls with the root of their number). So
both are one number, and that number is made as large as the time allows.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

#: What a series is worth that no lights wait for yet (a standard of the house rules): less than that of one light that does.
STANDARD_WORTH = 0.5
#: What a renewed dark gives of its lights: hot pixels have changed since the old one, nobody knows how many.
OLD_SHARE = 0.1
#: A sensor so near a set point need not be brought to it.
NEAR_ENOUGH_C = 0.3
#: The time is divided into so many parts; a series takes whole ones.
CELLS = 1500
#: A table is made for at most so many series by their worth for their time; the rest fills what is left.
MOST_IN_TABLE = 120


@dataclass(frozen=True)
class Count:
    """So many frames of a series, and what they are worth."""

    frames: int
    worth: float
    """In lights."""


@dataclass(frozen=True)
class Fillable:
    """A series that could be shot."""

    key: str
    frame_s: float
    """What one frame takes, with its download and pause, in seconds."""
    once_s: float
    """What the series takes beside them, whatever its length, in seconds."""
    counts: tuple[Count, ...]
    """How many frames it may have."""
    temp_c: float | None = None
    """The sensor's set point; None: any."""
    asked: bool = False
    """The person put it on the sheet: it is shot before others are thought of."""

    def seconds(self, frames: int) -> float:
        """What so many frames take."""
        return self.once_s + frames * self.frame_s


@dataclass(frozen=True)
class Cooling:
    """How long it takes to bring the sensor to a set point."""

    now_c: float | None = None
    """Where it is; None: this camera does not cool."""
    s_per_c: float = 45.0
    settle_s: float = 30.0


@dataclass(frozen=True)
class Chosen:
    """A series on the sheet."""

    fillable: Fillable
    count: Count


@dataclass(frozen=True)
class Filling:
    """What is shot, and in which order of set points."""

    chosen: tuple[Chosen, ...]
    """In the order in which they are shot."""
    seconds: float
    """With cooling."""
    worth: float
    """In lights."""


def served_worth(lights: int, added_percent: float) -> float:
    """What lights are worth that have no dark yet, with one that adds so much to the noise of their stack, in lights:
    ``M/(1 + p)²``, since the noise of a stack of M falls with √M."""
    return lights / (1.0 + added_percent / 100.0) ** 2


def saved_worth(lights: int, added_percent: float, before_percent: float, *, old: bool = False) -> float:
    """What it is worth to lower what a thin or old master adds to the noise of its lights, in lights."""
    saved = served_worth(lights, added_percent) - served_worth(lights, before_percent)
    return max(saved, 0.0) + (OLD_SHARE * lights if old else 0.0)


def in_order(temps_c: Sequence[float], now_c: float | None) -> list[float]:
    """Set points in one direction, begun at the end that is nearer to where the sensor is now."""
    ordered = sorted(set(temps_c), reverse=True)
    if len(ordered) > 1 and now_c is not None and abs(now_c - ordered[-1]) < abs(now_c - ordered[0]):
        ordered.reverse()
    return ordered


def cooling_seconds(temps_c: Sequence[float], cooling: Cooling) -> float:
    """How long all set points take to reach and settle at, one after the other."""
    if cooling.now_c is None:
        return 0.0
    path = [cooling.now_c, *in_order(temps_c, cooling.now_c)]
    stops = [(a, b) for a, b in pairwise(path) if abs(a - b) > NEAR_ENOUGH_C]
    return sum(abs(a - b) * cooling.s_per_c + cooling.settle_s for a, b in stops)


def seconds_of(chosen: Sequence[Chosen], cooling: Cooling) -> float:
    """What series take together, with the cooling between them."""
    temps = [c.fillable.temp_c for c in chosen if c.fillable.temp_c is not None]
    return sum(c.fillable.seconds(c.count.frames) for c in chosen) + cooling_seconds(temps, cooling)


def fill(fillables: Sequence[Fillable], budget_s: float, cooling: Cooling) -> Filling:
    """Choose what helps most in the time.

    A table over time and set points (a knapsack by dynamic programming, each run of set points in one direction) gives the
    best to within the parts that time is divided into; what is left over is filled with what still fits, and the plain
    orders, most worth first and most worth for its time first, are held against it.

    Parameters
    ----------
    fillables
        What could be shot. What the person asked for comes first, and is on the sheet even if the time is too short.
    budget_s
        The time there is, in seconds.
    """
    asked = [Chosen(f, f.counts[0]) for f in fillables if f.asked and f.counts]
    free = [f for f in fillables if not f.asked and any(c.worth > 0.0 for c in f.counts)]
    by_rate = sorted(free, key=lambda f: (-max(c.worth / f.seconds(c.frames) for c in f.counts), f.key))
    by_worth = sorted(free, key=lambda f: (-max(c.worth for c in f.counts), f.key))
    plans = [
        _topped_up(_by_table(asked, by_rate[:MOST_IN_TABLE], budget_s, cooling), by_rate, budget_s, cooling),
        _topped_up(asked, by_rate, budget_s, cooling),
        _topped_up(asked, by_worth, budget_s, cooling),
    ]
    best = max(plans, key=lambda plan: (_worth(plan), -seconds_of(plan, cooling)))
    return _as_filling(best, cooling)


def _as_filling(chosen: Sequence[Chosen], cooling: Cooling) -> Filling:
    order = {
        t: i
        for i, t in enumerate(
            in_order([c.fillable.temp_c for c in chosen if c.fillable.temp_c is not None], cooling.now_c)
        )
    }

    def place(one: Chosen) -> tuple[int, float, str]:
        # What is shot at any set point comes with the first one, where the sensor is cold already.
        temp = one.fillable.temp_c
        return (0 if temp is None else order[temp], one.fillable.frame_s, one.fillable.key)

    return Filling(tuple(sorted(chosen, key=place)), seconds_of(chosen, cooling), _worth(chosen))


def _worth(chosen: Sequence[Chosen]) -> float:
    return sum(c.count.worth for c in chosen)


def _topped_up(
    chosen: Sequence[Chosen], others: Sequence[Fillable], budget_s: float, cooling: Cooling
) -> list[Chosen]:
    """With what still fits into the time, in the order given, the most frames that do."""
    found = list(chosen)
    there = {c.fillable.key for c in found}
    temps = Counter(c.fillable.temp_c for c in found if c.fillable.temp_c is not None)
    shooting = sum(c.fillable.seconds(c.count.frames) for c in found)
    for one in others:
        if one.key in there:
            continue
        stops = [*temps, *([] if one.temp_c is None else [one.temp_c])]
        cooled = cooling_seconds(stops, cooling)
        for count in sorted(one.counts, key=lambda c: -c.worth):
            seconds = one.seconds(count.frames)
            if count.worth > 0.0 and shooting + seconds + cooled <= budget_s:
                found.append(Chosen(one, count))
                shooting += seconds
                temps.update(stops[len(temps) :])
                break
    return found


def _by_table(
    asked: Sequence[Chosen], free: Sequence[Fillable], budget_s: float, cooling: Cooling
) -> list[Chosen]:
    if budget_s <= 0.0 or not free:
        return list(asked)
    stops = sorted({f.temp_c for f in free if f.temp_c is not None}, reverse=True)
    must = [c.fillable.temp_c for c in asked if c.fillable.temp_c is not None]
    spent = sum(c.fillable.seconds(c.count.frames) for c in asked)
    anywhere = [f for f in free if f.temp_c is None]
    best: tuple[float, list[Chosen]] = (0.0, [])
    for first in range(len(stops) + 1):
        # The set points from one on, down to each later one in turn; without any, what is shot at any of them.
        table = _Table(budget_s - spent)
        table.add(anywhere)
        for last in range(first - 1, len(stops)):
            if last >= first:
                table.add([f for f in free if f.temp_c == stops[last]])
            path = cooling_seconds([*must, *stops[first : last + 1]], cooling)
            worth = table.best_within(budget_s - spent - path)
            if worth > best[0] + 1e-9:
                best = worth, table.chosen_within(budget_s - spent - path)
    return [*asked, *best[1]]


class _Table:
    """The most worth in each time, series after series; see *knapsack problem*."""

    def __init__(self, most_s: float) -> None:
        self._cell_s = max(most_s, 1.0) / CELLS
        self._worth: NDArray[np.float64] = np.zeros(CELLS + 1)
        self._steps: list[tuple[Fillable, NDArray[np.int8]]] = []

    def add(self, fillables: Sequence[Fillable]) -> None:
        """Let these be chosen, too."""
        for one in fillables:
            best, taken = self._worth.copy(), np.full(CELLS + 1, -1, np.int8)
            for number, count in enumerate(one.counts):
                cells = self._cells(one, count)
                if count.worth <= 0.0 or cells > CELLS:
                    continue
                there = self._worth[: CELLS + 1 - cells] + count.worth
                better = there > best[cells:] + 1e-12
                best[cells:][better] = there[better]
                taken[cells:][better] = number
            self._worth = best
            self._steps.append((one, taken))

    def _cells(self, one: Fillable, count: Count) -> int:
        return int(np.ceil(one.seconds(count.frames) / self._cell_s))

    def best_within(self, seconds: float) -> float:
        """The most that can be had in so many seconds, in lights."""
        return 0.0 if seconds < 0.0 else float(self._worth[min(int(seconds / self._cell_s), CELLS)])

    def chosen_within(self, seconds: float) -> list[Chosen]:
        """And what is chosen for that."""
        return list(self._back_from(min(int(seconds / self._cell_s), CELLS)))

    def _back_from(self, cell: int) -> Iterator[Chosen]:
        for one, taken in reversed(self._steps):
            if taken[cell] >= 0:
                count = one.counts[taken[cell]]
                yield Chosen(one, count)
                cell -= self._cells(one, count)


def counts_to_choose(usual: int, fewest: int, worth: Mapping[int, float]) -> tuple[Count, ...]:
    """The usual count of a kind, and fewer where the time is short: two thirds and half of it, not below `fewest`."""
    numbers = sorted({usual, max(round(usual * 2 / 3), fewest), max(usual // 2, fewest)} & worth.keys())
    return tuple(Count(n, worth[n]) for n in reversed(numbers))
