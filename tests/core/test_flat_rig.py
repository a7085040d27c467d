"""Flat settings on the simulated rigs, through their cameras: shots needed, levels reached, the panel's response."""

from __future__ import annotations

import math
import statistics
from collections import defaultdict
from dataclasses import replace

import numpy as np
import pytest

from grayshelf.clock import SimulatedClock
from grayshelf.core.flats.model import Bound, Dimmer, Found, NoAnswer, Pedestal, Prior, Shoot, TestShot
from grayshelf.core.flats.panel.diffusers import Diffuser, advise, stops_of
from grayshelf.core.flats.panel.ladder import next_factor_shot, next_ladder_shot, rates
from grayshelf.core.flats.panel.one_exposure import SharedRow, seconds_saved, share_exposure
from grayshelf.core.flats.panel.response import ResponsePoint, change_since, fit_response, log_factor
from grayshelf.core.flats.search.light import fit_light, readable
from grayshelf.core.flats.search.next_step import next_step
from grayshelf.core.flats.search.task import Task
from grayshelf.core.flats.search.verdict import widened
from grayshelf.core.flats.search.window import CameraTraits, permitted
from grayshelf.core.flats.settings import FlatWishes, usual_wishes, wishes_from
from grayshelf.core.pictures.colours import pattern_of_pixels
from grayshelf.core.planning.flat_order import SearchStop, order_response
from grayshelf.core.sensor.statistics import flat_statistics
from grayshelf.demo.rigs import FILTERS, MODELS, START
from grayshelf.devices.simulated.rig import SimulatedWorld, devices_of

DIMMER = Dimmer(18, 255)

#: Diffuser and fixed brightness with which each filter of each rig has an answer.
ROWS = [
    (rig, code, binning, stops, brightness)
    for rig, codes in (
        ("heron", {"L": (4.0, 30), "R": (2.5, 36), "G": (2.5, 36), "B": (2.5, 36), "Ha": (0, 60), "OIII": (0, 60), "SII": (0, 60)}),
        ("bittern", {"Duo": (0, 60)}),
        ("wader", {"none": (0, 90)}),
    )
    for code, (stops, brightness) in codes.items()
    for binning in (1, 2)
]  # fmt: skip


class Bench:
    """One simulated rig with its panel on, and its truth."""

    def __init__(self, rig, stops=0.0):
        self.model = MODELS[rig]("tiny")
        self.world = SimulatedWorld(self.model, SimulatedClock(START, 1e9))
        self.devices = devices_of(self.world)
        self.facts = self.devices.camera.facts
        self.world.change(panel_in_place=True, diffuser_stops=stops)
        self.wishes = FlatWishes()
        self.traits = CameraTraits(self.facts.shortest_s, self.facts.repeatable_from_s, self.facts.shutter)
        self.window = permitted(self.wishes.shortest, self.wishes.longest, self.traits)

    def use(self, code, stops=None):
        self.devices.wheel.move(self.model.filters.index(code))
        self.world.change(diffuser_stops=self.world.state.diffuser_stops if stops is None else stops)

    def shoot(self, shot, gain, binning):
        self.devices.panel.set_brightness(shot.brightness or 0)
        frame = self.devices.camera.expose(shot.exposure_s, gain, 30, binning).pixels
        s = flat_statistics(frame, self.facts.white_adu, pattern_of_pixels(self.facts.bayer_pattern, binning))
        return TestShot(
            shot.exposure_s, s.median, s.brightest_permille, s.saturated_fraction, brightness=shot.brightness
        )

    def search(self, task, gain, binning):
        shots = []
        while isinstance(step := next_step(task, shots), Shoot):
            assert step.exposure_s >= min(task.window.shortest.exposure_s, task.window.probe_s) * 0.999
            shots.append(self.shoot(step, gain, binning))
        return step, shots

    def true_level(self, exposure_s, brightness, gain, binning):
        """The mean of many frames: noise-free for all that matters here."""
        shot = Shoot(exposure_s, "", brightness=brightness)
        return float(np.mean([self.shoot(shot, gain, binning).level_adu for _ in range(3)]))


def gain_of(code):
    return 100.0 if code in ("L", "R", "G", "B", "none") else 200.0


@pytest.mark.parametrize("known", [True, False], ids=["pedestal known", "pedestal unknown"])
def test_all_rigs_filters_and_binnings_without_any_prior(known):
    counts = {"time": [], "brightness": [], "both": []}
    # What a session has seen of the panel in one filter, it knows in the next, as the application does.
    seen = {mode: defaultdict(list) for mode in counts}
    for rig, code, binning, stops, brightness in ROWS:
        bench, gain = Bench(rig, stops), gain_of(code)
        bench.use(code)
        base = bench.model.sensor.pedestal(30) * binning**2
        pedestal = Pedestal(base + 4, 15, "bias") if known else None
        for mode in counts:
            fixed = brightness if mode == "time" else None
            wish = max(2.0, bench.window.shortest.exposure_s) if mode != "time" else None
            target, points = bench.wishes.target(65535), seen[mode][rig]
            response = fit_response(points, DIMMER)
            task = Task(target, bench.window, mode, fixed, wish, DIMMER, pedestal, response=response)
            end, shots = bench.search(task, gain, binning)
            group = (code, binning)
            told = pedestal or (Pedestal(end.pedestal_adu, 60, "fit") if isinstance(end, Found) else None)
            points += [ResponsePoint(group, p.brightness, p.rate) for p in rates(shots, target, told, "")]
            if not isinstance(end, Found):
                assert isinstance(end, NoAnswer) and end.direction == "too bright"
                continue
            counts[mode].append(len(shots))
            level = bench.true_level(end.exposure_s, end.brightness, gain, binning)
            assert level == pytest.approx(end.expected_adu, rel=0.02), (rig, code, binning, mode)
            if mode == "time" or end.exposure_s > task.window.shortest.exposure_s * 1.01:
                allowed = 0.02 if mode != "brightness" else 0.02 + _half_step(bench, end.brightness)
                assert abs(level / end.target_adu - 1) <= allowed, (rig, code, binning, mode, end)
    assert all(len(c) >= 8 for c in counts.values())
    assert statistics.median(counts["time"] + counts["brightness"]) == 2
    assert max(counts["time"] + counts["brightness"]) <= 4
    assert max(counts["both"]) <= 5


def _half_step(bench, brightness):
    """Half of the panel's own step there: no whole number comes nearer."""
    panel = bench.model.panel
    return 0.5 * (panel.output(brightness + 1) / panel.output(brightness) - 1)


def test_the_panel_is_known_from_six_shots_and_one_in_each_other_filter():
    bench = Bench("heron")
    target, pedestal = bench.wishes.target(65535), Pedestal(500, 15, "bias")
    points, most, widths = [], {}, {code: width for code, _, _, width, _ in FILTERS["heron"]}
    for code in ("Ha", "OIII", "SII", "R", "G", "B", "L"):
        bench.use(code, 3.0 if code == "L" else 0.0)
        shots = []
        while True:
            response = fit_response(points, DIMMER)
            if code == "Ha":
                step = next_ladder_shot(shots, DIMMER, bench.window, target, pedestal)
            else:
                known = log_factor(response, [p for p in points if p.group == "Ha"])
                scale = 2.0 ** (-3.0 if code == "L" else 0.0) * (2.0 ** (5 / 3) if code in "RGBL" else 1.0)
                guess = math.exp(known) * widths[code] / widths["Ha"] * scale / 3.16
                step = next_factor_shot(shots, response, bench.window, target, pedestal, guess)
            if step is None:
                break
            shots.append(bench.shoot(step, 200.0, 1))
        most[code] = len(shots)
        points += [ResponsePoint(code, p.brightness, p.rate) for p in rates(shots, target, pedestal, code)]
    assert most["Ha"] <= 6
    assert statistics.median(most.values()) == 1
    response, truth = fit_response(points, DIMMER), bench.model.panel
    for brightness in range(18, 256):
        said = math.exp(response.log_output(brightness))
        assert said == pytest.approx(truth.output(brightness) / truth.output(255), rel=0.03), brightness
    for code in ("OIII", "SII", "R"):
        bench.use(code, 0.0)
        factor = math.exp(log_factor(response, [p for p in points if p.group == code]))
        at = bench.true_level(1.0, 60 if code != "R" else 18, 200.0, 1)
        said = 500 + factor * math.exp(response.log_output(60 if code != "R" else 18)) * 1.0
        assert said - 500 == pytest.approx(at - 500, rel=0.03) or at > 60_000


@pytest.mark.parametrize(
    "output",
    [lambda b: b, lambda b: b**2.2, lambda b: (b - 17) ** 1.1, lambda b: 1 / (1 + math.exp((120 - b) / 45)) - 0.06],
    ids=["straight", "power", "late", "bent at both ends"],
)  # fmt: skip
def test_other_panels_are_followed_too(output):
    target, window, pedestal = FlatWishes().target(65535), FlatWishes().window(), Pedestal(500, 5, "bias")
    shots = []
    while (step := next_ladder_shot(shots, DIMMER, window, target, pedestal)) is not None:
        level = min(500 + 72_000 * output(step.brightness) / output(255) * (step.exposure_s + 0.001), 65535)
        shots.append(TestShot(step.exposure_s, level, level, brightness=step.brightness))
    response = fit_response(rates(shots, target, pedestal, "x"), DIMMER)
    assert len(shots) <= 6
    for b in range(18, 256):
        assert math.exp(response.log_output(b)) == pytest.approx(output(b) / output(255), rel=0.035), b


def test_a_faded_panel_says_by_how_much():
    old = [ResponsePoint("Ha", b, 5000 * ((b - 12) / 243) ** 1.5) for b in (18, 40, 90, 255)]
    old += [ResponsePoint("OIII", 40, 900.0)]
    new = [replace(p, rate=p.rate * 0.91) for p in old]
    change, spread = change_since(old, new, DIMMER)
    assert change == pytest.approx(-0.09, abs=0.002)
    assert spread < 0.002


def test_a_measured_panel_needs_one_shot_to_confirm():
    bench = Bench("heron")
    target, pedestal = bench.wishes.target(65535), Pedestal(500, 15, "bias")
    points = [
        ResponsePoint("Ha", b, bench.model.panel.output(b) * 0.00077 * 0.877 / 0.08) for b in (18, 26, 43, 75, 136, 255)
    ]  # fmt: skip
    response, counts = fit_response(points, DIMMER), []
    bench.use("Ha")
    factor = log_factor(response, points)
    for exposure in (1.0, 2.0, 4.0, 8.0):
        wanted = math.log((target.level_adu - 500) / exposure) - factor
        prior = Prior(exposure, round(response.brightness_for(wanted)), "the curve")
        task = Task(target, bench.window, "brightness", None, exposure, DIMMER, pedestal, prior, response)
        end, shots = bench.search(task, 200.0, 1)
        assert isinstance(end, Found)
        counts.append(len(shots))
    assert statistics.median(counts) == 1
    assert max(counts) <= 2


def test_traits_of_cameras_are_honoured():
    # Common practice, no published source: slow shutters shade under 3 s; curtains are normal from 1/60 s.
    low, high = Bound(0.2, "mine"), Bound(30.0, "mine")
    assert permitted(low, high, CameraTraits(repeatable_from_s=1.5)).shortest.exposure_s == 1.5
    assert permitted(low, high, CameraTraits(repeatable_from_s=1.5)).probe_s == 1.5
    slow = permitted(low, high, CameraTraits(shutter="slow"))
    assert (slow.shortest.exposure_s, slow.probe_s) == (3.0, 3.0)
    assert "slow shutter" in slow.shortest.reason
    assert permitted(Bound(0.001, ""), high, CameraTraits(shutter="curtain")).shortest.exposure_s == 1 / 60
    bench = Bench("bittern")
    bench.use("Duo")
    task = Task(bench.wishes.target(65532), bench.window, "time", 200, dimmer=DIMMER)
    _, shots = bench.search(task, 120.0, 1)
    assert all(s.exposure_s >= 1.5 for s in shots), "short ones do not repeat, and measure nothing"


@pytest.mark.parametrize(
    ("shutter", "iso", "shortest_s"),
    [(None, True, 1 / 60), ("curtain", False, 1 / 60), (None, False, 0.5), ("electronic", True, 0.5)],
)
def test_a_curtain_may_be_shorter_where_nobody_said_otherwise(shutter, iso, shortest_s):
    # Common practice, no published source: flats of 1/60 s are normal with a curtain.
    usual = usual_wishes(shutter, iso=iso)
    assert wishes_from(usual).shortest_s == shortest_s
    assert wishes_from(usual, {"shortest_s": 2.0}).shortest_s == 2.0


def test_one_exposure_serves_all_filters_of_a_gain():
    bench = Bench("heron")
    target, pedestal, rows = bench.wishes.target(65535), Pedestal(500, 15, "bias"), []
    for code in ("Ha", "OIII", "SII"):
        bench.use(code)
        shots = [bench.shoot(Shoot(1.0, "", brightness=b), 200.0, 1) for b in (60, 120)]
        assert all(readable(s, pedestal, target) for s in shots)
        curve = [ResponsePoint("c", b, bench.model.panel.output(b)) for b in (18, 26, 43, 75, 136, 255)]
        light = fit_light(shots, target, pedestal, fit_response(curve, DIMMER))
        rows.append(SharedRow(code, target, bench.window, light))
    shared = share_exposure(rows, DIMMER, 2.0)
    assert shared is not None
    assert shared.exposure_s == 2.0
    assert not shared.left_out
    for code, brightness in shared.brightness.items():
        bench.use(code)
        level = bench.true_level(shared.exposure_s, brightness, 200.0, 1)
        assert abs(level - target.level_adu) <= target.tolerance_adu / 2
    # Three sets of 25 dark flats of 4.6, 3.3 and 6 s with 1.5 s of download, or one of 2 s.
    assert seconds_saved(3, [4.6, 3.3, 6.0], 2.0, 25, 1.5) == pytest.approx(25 * (13.9 + 4.5) - 25 * 3.5)
    # Two of them never had one: their sets are reckoned like the shared one, so two sets are saved.
    assert seconds_saved(3, [], 2.0, 25, 1.5) == pytest.approx(2 * 25 * 3.5)
    assert seconds_saved(3, [2.0, 2.0, 2.0], 2.0, 25, 1.5) == 0.0, "they shared it already"


def test_a_bound_is_widened_by_what_is_missing():
    bright = NoAnswer("too bright", 1.5, False, Bound(0.5, "x"), "", "")
    assert widened(bright) == pytest.approx(0.5 / 2**1.5, rel=0.06)
    assert widened(replace(bright, at_least=True)) is None, "a lower bound does not say how far"
    dim = NoAnswer("too dim", 1.0, False, Bound(30.0, "x"), "", "")
    assert widened(dim) == pytest.approx(60.0, rel=0.1)
    assert widened(dim) >= 60.0
    assert widened(replace(dim, stops=6.0)) is None, "half an hour for one flat is no help"


def test_diffusers_at_hand_are_added_up():
    known = (Diffuser("white cloth", 0.8), Diffuser("thick cloth", 1.2), Diffuser("film", 2.0))

    def no(direction, stops):
        return NoAnswer(direction, stops, False, Bound(0.5, "x"), "", "")

    assert advise(no("too bright", 1.5), (), known).names == ("film",), (
        "a single one of 2 is no worse than two"
    )
    assert advise(no("too bright", 2.6), (), known).stops == pytest.approx(2.8)
    short = advise(no("too bright", 5.0), (), known)
    assert short.short_by == pytest.approx(1.0)
    assert "1.0 too few" in short.sentence
    assert advise(no("too dim", 1.0), ("film",), known).names == ("white cloth",)
    assert advise(no("too dim", 1.0), (), known) is None
    roomy = advise(no("too bright", 0.9), (), known, dims=True)
    assert roomy.stops >= 1.9, "a panel at its lowest has coarse steps"
    assert stops_of(("film", "unknown"), known) == 2.0


def test_a_panel_is_measured_in_the_narrowest_filter_and_once_in_each_other():
    def stop(index, code, gain, nm, stack=(), stops=0.0):
        return SearchStop(index, "tile", stack, stops, gain, 1, index, None, code, nm)

    stops = [
        stop(0, "L", 100, 300.0, ("film",), 2.0),
        stop(1, "R", 100, 100.0),
        stop(2, "Ha", 100, 7.0),
        stop(3, "SII", 200, 7.0),
        stop(4, "Ha", 200, 7.0),
        stop(5, "none", 100, None),
    ]
    assert order_response(stops) == [3, 1, 2, 5, 0], "the film goes on last, and once"
    assert order_response(stops[:1]) == [0]
    assert order_response([stops[5], stops[0]]) == [0, 5], "a width that is not known is taken as wide"
