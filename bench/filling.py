"""Filling the shelf: what is chosen in a time, beside plain ways to choose and beside the best there is."""

from __future__ import annotations

import itertools
import statistics
import time

import numpy as np

from grayshelf.core.planning.fill import (
    Chosen,
    Cooling,
    Count,
    Fillable,
    fill,
    saved_worth,
    seconds_of,
    served_worth,
)

TEMPS = (10.0, 0.0, -5.0, -10.0, -15.0, -20.0)


def _library(rng: np.random.Generator, n: int) -> tuple[list[Fillable], dict[str, tuple[int, int]]]:
    """A made-up shelf's series; with how many lights wait for each, and the age of what is there."""
    found, facts = [], {}
    for number in range(n):
        lights = int(rng.integers(0, 80)) * int(rng.random() < 0.7)
        exposure, usual = float(rng.choice([0.5, 10, 60, 120, 300, 600])), int(rng.choice([20, 30, 50]))
        before = None if rng.random() < 0.5 else float(rng.uniform(1, 40))
        counts = []
        for frames in (usual, usual * 2 // 3, usual // 2):
            added = 30.0 / frames
            worth = (
                served_worth(lights, added)
                if before is None
                else saved_worth(lights, added, before, old=True)
            )
            counts.append(Count(frames, worth))
        key = f"{number:03}"
        found.append(Fillable(key, exposure + 2.0, 25.0, tuple(counts), rng.choice(TEMPS)))
        facts[key] = lights, int(rng.integers(0, 900))
    return found, facts


def _in_turn(order: list[Fillable], budget_s: float, cooling: Cooling) -> float:
    chosen: list[Chosen] = []
    for one in order:
        more = [*chosen, Chosen(one, one.counts[0])]
        if seconds_of(more, cooling) <= budget_s:
            chosen = more
    return sum(c.count.worth for c in chosen)


def main() -> None:
    beside: dict[str, list[float]] = {"oldest first": [], "most lights waiting first": []}
    for seed in range(200):
        rng = np.random.default_rng(seed)
        some, facts = _library(rng, int(rng.integers(5, 60)))
        budget, cooling = float(rng.uniform(1800, 9 * 3600)), Cooling(float(rng.uniform(-20, 20)))
        own = fill(some, budget, cooling).worth
        orders = (sorted(some, key=lambda f: -facts[f.key][place]) for place in (1, 0))
        for name, order in zip(beside, orders, strict=True):
            plain = _in_turn(order, budget, cooling)
            if plain > 0:
                beside[name].append(own / plain)
    for name, times in beside.items():
        print(
            f"beside {name}: {statistics.median(times):.1f} times the worth at the median of 200 libraries, "
            f"{min(times):.2f} at the least (limit 1)"
        )
    worst = 1.0
    for seed in range(60):
        rng = np.random.default_rng(1000 + seed)
        some, _ = _library(rng, 7)
        budget, cooling = float(rng.uniform(1200, 6 * 3600)), Cooling(float(rng.uniform(-10, 15)))
        best = 0.0
        for counts in itertools.product(*[(None, *f.counts) for f in some]):
            chosen = [Chosen(f, c) for f, c in zip(some, counts, strict=True) if c is not None]
            if seconds_of(chosen, cooling) <= budget:
                best = max(best, sum(c.count.worth for c in chosen))
        if best:
            worst = min(worst, fill(some, budget, cooling).worth / best)
    print(f"beside the best there is, 7 series, 60 libraries: {100 * worst:.1f} % at the least (limit 95)")
    some, _ = _library(np.random.default_rng(5), 100)
    seconds = []
    for _ in range(5):
        began = time.perf_counter()
        fill(some, 8 * 3600.0, Cooling(12.0))
        seconds.append(time.perf_counter() - began)
    print(f"100 series, 8 hours: {1000 * min(seconds):.0f} ms (limit 300)")
