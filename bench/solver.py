"""The search for a flat's exposure beside a plain halving search, on the same simulated rig."""

from __future__ import annotations

import statistics

from grayshelf.clock import SimulatedClock
from grayshelf.core.flats.exposure import Found, Shoot, TestShot, next_step
from grayshelf.core.flats.settings import FlatWishes
from grayshelf.core.sensor.statistics import frame_statistics
from grayshelf.demo.scenario import FILTERS, MODELS, START
from grayshelf.devices.simulated.rig import SimulatedWorld, devices_of

#: What the trade calls good enough: inside ±5 % of the target.
WITHIN = 0.05


def _level(devices, exposure_s, gain):
    return frame_statistics(devices.camera.expose(exposure_s, gain, 30, 1).pixels)


def ours(devices, gain, prior=None):
    target, window, shots = FlatWishes().target(65535), FlatWishes().window(), []
    while isinstance(step := next_step(target, window, shots, None, prior), Shoot):
        s = _level(devices, step.exposure_s, gain)
        shots.append(TestShot(step.exposure_s, s.median, s.brightest_permille, s.saturated_fraction))
    assert isinstance(step, Found)
    return [s.exposure_s for s in shots], step.exposure_s


def halving(devices, gain):
    """Halve the window until a shot is inside: what is usually done."""
    wishes = FlatWishes()
    low, high, tried = wishes.shortest_s, wishes.longest_s, []
    target = wishes.target(65535).level_adu
    while len(tried) < 30:
        middle = (low + high) / 2
        level = _level(devices, middle, gain).median
        tried.append(middle)
        if abs(level / target - 1) <= WITHIN:
            return tried, middle
        low, high = (middle, high) if level < target else (low, middle)
    return tried, middle


def main() -> None:
    world = SimulatedWorld(MODELS["heron"]("tiny"), SimulatedClock(START, 1e9))
    devices = devices_of(world)
    target = FlatWishes().target(65535).level_adu
    print("filter   found     error   shots  seconds   halving: shots  seconds   from the last setting")
    counts: dict[str, list[float]] = {"ours": [], "halving": [], "seconds": [], "their seconds": []}
    for code, _, _, _, brightness in FILTERS["heron"]:
        gain = 100.0 if code in "LRGB" else 200.0
        stops = 2.0 if code == "L" else 0.0
        world.change(panel_in_place=True, brightness=brightness, diffuser_stops=stops)
        devices.wheel.move(devices.wheel.filters.index(code))
        tried, found = ours(devices, gain)
        plain, _ = halving(devices, gain)
        again, _ = ours(devices, gain, found)
        error = _level(devices, found, gain).median / target - 1
        seconds, theirs = (sum(x) + 1.5 * len(x) for x in (tried, plain))
        for name, value in zip(counts, (len(tried), len(plain), seconds, theirs), strict=True):
            counts[name].append(value)
        print(
            f"{code:6} {found:7.3g} s {100 * error:+7.2f} % {len(tried):5} {seconds:8.1f} {len(plain):14} {theirs:8.1f}"
            f" {len(again):18}"
        )
    print(
        f"median {statistics.median(counts['ours']):g} shots, at most {max(counts['ours'])};"
        f" halving {statistics.median(counts['halving']):g}, at most {max(counts['halving'])}."
        f" Shots in all: {sum(counts['ours'])} against {sum(counts['halving'])},"
        f" a ratio of {sum(counts['halving']) / sum(counts['ours']):.1f}."
    )
