"""The search for flat settings beside the ways it is done by hand, on the same simulated seven-filter rig.

Halving: the window is halved until a shot is within 5 % of the target. Fixed steps: the exposure goes up by half
(or down by a third) until a shot is. Both look for the time at a fixed brightness, as ours does in the first table.
"""

from __future__ import annotations

import statistics

from grayshelf.clock import SimulatedClock
from grayshelf.core.flats.model import Dimmer, Found, Pedestal, Prior, Shoot, TestShot
from grayshelf.core.flats.panel.ladder import rates
from grayshelf.core.flats.panel.response import ResponsePoint, fit_response
from grayshelf.core.flats.search.next_step import next_step
from grayshelf.core.flats.search.task import Task
from grayshelf.core.flats.settings import FlatWishes
from grayshelf.core.sensor.statistics import frame_statistics
from grayshelf.demo.rigs import FILTERS, MODELS, START
from grayshelf.devices.simulated.rig import SimulatedWorld, devices_of

#: What the trade calls good enough: inside ±5 % of the target.
WITHIN = 0.05
DIMMER = Dimmer(18, 255)
TARGET = FlatWishes().target(65535)
WINDOW = FlatWishes().window()


class Rig:
    """The rig with its panel on."""

    def __init__(self) -> None:
        self.clock = SimulatedClock(START, 1e9)
        self.world = SimulatedWorld(MODELS["heron"]("tiny"), self.clock)
        self.devices = devices_of(self.world)

    def bring(self, code: str, stops: float) -> None:
        self.world.change(panel_in_place=True, diffuser_stops=stops)
        self.devices.wheel.move(self.devices.wheel.filters.index(code))

    def level(self, exposure_s: float, brightness: int, gain: float) -> TestShot:
        self.devices.panel.set_brightness(brightness)
        s = frame_statistics(self.devices.camera.expose(exposure_s, gain, 30, 1).pixels)
        return TestShot(
            exposure_s, s.median, s.brightest_permille, s.saturated_fraction, brightness=brightness
        )


def ours(rig: Rig, task: Task, gain: float) -> tuple[list[TestShot], Found]:
    shots: list[TestShot] = []
    while isinstance(step := next_step(task, shots), Shoot):
        shots.append(rig.level(step.exposure_s, step.brightness or 0, gain))
    assert isinstance(step, Found), step
    return shots, step


def halving(rig: Rig, brightness: int, gain: float) -> list[float]:
    low, high, tried = WINDOW.shortest.exposure_s, WINDOW.longest.exposure_s, []
    while len(tried) < 40:
        middle = (low + high) / 2
        level = rig.level(middle, brightness, gain).level_adu
        tried.append(middle)
        if abs(level / TARGET.level_adu - 1) <= WITHIN:
            break
        low, high = (middle, high) if level < TARGET.level_adu else (low, middle)
    return tried


def fixed_steps(rig: Rig, brightness: int, gain: float) -> list[float]:
    exposure, step, tried, way = 2.0, 1.5, [], 0
    while len(tried) < 60:
        level = rig.level(exposure, brightness, gain).level_adu
        tried.append(exposure)
        if abs(level / TARGET.level_adu - 1) <= WITHIN:
            break
        now = 1 if level < TARGET.level_adu else -1
        if way and now != way:
            step = step**0.5
        way = now
        exposure = min(max(exposure * step**now, WINDOW.shortest.exposure_s), WINDOW.longest.exposure_s)
    return tried


def main() -> None:
    rig = Rig()
    pedestal = Pedestal(500.0, 15.0, "bias")
    print(
        "filter   found      error   shots  seconds   halving: shots  seconds   fixed steps: shots  seconds   again"
    )
    counts: dict[str, list[float]] = {}

    def count(name: str, times: list[float]) -> float:
        seconds = sum(times) + rig.devices.camera.facts.download_s * len(times)
        counts.setdefault(f"{name} shots", []).append(len(times))
        counts.setdefault(f"{name} seconds", []).append(seconds)
        return seconds

    for code, _, _, _, brightness in FILTERS["heron"]:
        gain, stops = (100.0, 2.0 if code == "L" else 0.0) if code in "LRGB" else (200.0, 0.0)
        rig.bring(code, stops)
        task = Task(TARGET, WINDOW, "time", brightness, pedestal=pedestal)
        shots, found = ours(rig, task, gain)
        mine = count("ours", [s.exposure_s for s in shots])
        half = halving(rig, brightness, gain)
        steps = fixed_steps(rig, brightness, gain)
        again, _ = ours(
            rig,
            Task(TARGET, WINDOW, "time", brightness, pedestal=pedestal, prior=Prior(found.exposure_s)),
            gain,
        )
        error = rig.level(found.exposure_s, brightness, gain).level_adu / TARGET.level_adu - 1
        print(
            f"{code:6} {found.exposure_s:7.3g} s {100 * error:+7.2f} % {len(shots):5} {mine:8.1f}"
            f" {len(half):14} {count('halving', half):8.1f} {len(steps):18} {count('steps', steps):8.1f} {len(again):7}"
        )
    for name in ("ours", "halving", "steps"):
        shots_, seconds_ = counts[f"{name} shots"], counts[f"{name} seconds"]
        print(
            f"{name:8} median {statistics.median(shots_):g}, at most {max(shots_):g};"
            f" {sum(shots_):g} shots and {sum(seconds_):.0f} virtual seconds for seven filters"
        )
    print(
        f"ratio of shots: halving {sum(counts['halving shots']) / sum(counts['ours shots']):.1f},"
        f" fixed steps {sum(counts['steps shots']) / sum(counts['ours shots']):.1f}"
    )
    _with_brightness(rig, pedestal)


def _with_brightness(rig: Rig, pedestal: Pedestal) -> None:
    """Brightness, or both, filter after filter: each learns of the panel from those before it."""
    for mode in ("brightness", "both"):
        points: list[ResponsePoint] = []
        taken: list[int] = []
        for code, *_ in FILTERS["heron"]:
            gain = 100.0 if code in "LRGB" else 200.0
            rig.bring(code, 4.0 if code == "L" else 2.5 if code in "RGB" else 0.0)
            response = fit_response(points, DIMMER)
            task = Task(TARGET, WINDOW, mode, None, 2.0, DIMMER, pedestal, response=response)  # type: ignore[arg-type]
            shots, _ = ours(rig, task, gain)
            taken.append(len(shots))
            points += [ResponsePoint(code, p.brightness, p.rate) for p in rates(shots, TARGET, pedestal, "")]
        print(f"{mode}: shots {taken}, median {statistics.median(taken):g}")
