"""The gain exercise with a rig: panel on, pairs of flats from near the pedestal to past saturation, and bias."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.model import (
    Bound,
    ExposureWindow,
    FlatTarget,
    Found,
    NoAnswer,
    Pedestal,
    Shoot,
    TestShot,
)
from grayshelf.core.flats.search.next_step import next_step
from grayshelf.core.flats.search.task import Task
from grayshelf.core.flats.timed_light import TimedLight, exposure_of, light_of
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.sensor.gain_plan import BIAS_FRAMES, DIMMER, FILLS_IN, FILLS_WITHIN, dimmed, plan_pairs
from grayshelf.core.sensor.pairs import channels, even_part, read_pair, thinned, usual_noise
from grayshelf.core.sensor.statistics import flat_statistics
from grayshelf.library.files import read_pixels
from grayshelf.library.flat_sheet import source_of
from grayshelf.library.measurement_records import LightFound, TestReading, by_gain, with_light, with_usual
from grayshelf.library.measurements import pair_readings, pairs_as_json, transfers
from grayshelf.library.models import Measurement, MeasurementShot, RunStep
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_terms import wishes_of
from grayshelf.library.step_records import MeasureOutcome
from grayshelf.work.bench.exercise import Exercise
from grayshelf.work.job_states import StepState
from grayshelf.work.shooting import ShotSettings, bring_in

#: Level of the test shot from which the light's rate is taken, as a share of the range: some pixels fill at a third.
TEST_SHARE = 0.22
#: How often the brightness is changed before the gain is given up.
MOST_CHANGES = 7
#: Where the light cannot be set, exposures may be this long.
LONGEST_S = 120.0


class GainExercise(Exercise):
    """Bias frames, a search for the light, then pairs of flats; one gain after the other.

    Of a light that is lit within the exposure every time here is that of the light: the frames are longer.
    """

    @cached_property
    def timed(self) -> TimedLight | None:
        """How the rig's light is lit within an exposure; None where it is lit steadily."""
        with self.library.db.session() as session:
            return source_of(session, self.rig, wishes_of(self.rig), None).timed

    def measure(self, step: RunStep, gain: float) -> None:
        """One gain. One that fails does not stop the rest."""
        offset = self.settings.offsets[by_gain(gain)]
        code = self.settings.filter_code
        if code:
            bring_in(self.devices, code)
        try:
            pedestal = self._bias(step, gain, offset)
            self._stands("panel")
            light = self._search(step, gain, offset, pedestal)
            self._pairs(step, gain, offset, pedestal, light)
        except _NoLight as none:
            said = f"Gain {gain:g}: {none.message} {none.advice}"
            self.end(step, StepState.NO_ANSWER, MeasureOutcome(said))
            return
        finally:
            self._panel(0)
        with self.library.db.session() as session:
            row = session.get_one(Measurement, self.id)
            found = next(iter(transfers(session, row, gain).values()), None)
        value = found.e_per_adu.value if found and found.e_per_adu else None
        said = f"{value:.3g} e⁻/ADU" if value else "nothing could be told"
        self.end(step, outcome=MeasureOutcome(f"Gain {gain:g}: {said}."))

    def _panel(self, brightness: int | None) -> None:
        if self.devices.panel is not None and brightness is not None:
            self.devices.panel.set_brightness(brightness)
            self.brightness = brightness

    def _stands(self, sign: str) -> None:
        """Beside another program's camera: what caps the telescope, or has it face the light, does."""
        if self.beside is not None:
            self.beside.passes(sign)

    def _bias(self, step: RunStep, gain: float, offset: float) -> float:
        """Bias frames with the panel dark; returns their level."""
        self._panel(0)
        self._stands("cap")
        levels = [read(TestReading, s.reading).level for s in self.frames(gain, "bias") if s.reading]
        for number in range(len(levels) + 1, BIAS_FRAMES + 1):
            self.still = BIAS_FRAMES + 1 - number
            taken, shot = self.take(
                gain,
                offset,
                "bias",
                ShotSettings(FrameKind.BIAS, self.devices.camera.facts.shortest_s, gain, offset),
                name=f"bias_{number:03d}",
                why="read noise and pedestal",
                pair=(number + 1) // 2,
            )
            level = float(np.median(taken.pixels))
            self.read(shot, as_kept(TestReading(level)))
            levels.append(level)
            self.progress(step, number, step.count, f"Gain {gain:g}: bias {number} of {BIAS_FRAMES}")
        return float(np.median(levels))

    # -- the light --------------------------------------------------------------------------------------------

    def _search(self, step: RunStep, gain: float, offset: float, pedestal: float) -> LightFound:
        """Brightness and rate such that a pixel fills in a time long enough to divide; found with the flats' search."""
        known = self.settings.light.get(by_gain(gain))
        if known is not None:
            return known
        panel = self.devices.panel
        brightness = self._first_brightness()
        shortest = self.settings.shortest_s
        tried: set[int | None] = set()
        last: NoAnswer | None = None
        while len(tried) < MOST_CHANGES:
            fixed = panel is None or brightness in (panel.lowest, panel.highest)
            answer = self._search_at(step, gain, offset, pedestal, brightness, shortest, fixed)
            if isinstance(answer, Found):
                dim = None
                if panel is not None and brightness is not None:
                    dim = max(round(panel.lowest + DIMMER * (brightness - panel.lowest)), panel.lowest)
                lower = dim if dim is not None and brightness is not None and dim < brightness else None
                light = LightFound(brightness, answer.rate_adu_s, lower)
                self.keep(with_light(self.settings, gain, light))
                return light
            last = answer
            tried.add(brightness)
            if panel is None or brightness is None or answer.direction == "unsteady":
                break
            stops = (answer.stops + 0.5) * (1 if answer.direction == "too bright" else -1)
            changed = dimmed(brightness, stops, panel.lowest, panel.highest)
            if changed == brightness or changed in tried:
                break
            brightness = changed
        assert last is not None
        raise _NoLight(
            last.message,
            "Choose a narrower filter, or hang a diffuser."
            if last.direction == "too bright"
            else last.advice,
        )

    def _first_brightness(self) -> int | None:
        panel = self.devices.panel
        if panel is None:
            return None
        before = [light.brightness for light in self.settings.light.values()]
        middle = panel.lowest + (panel.highest - panel.lowest) // 4
        return before[-1] if before and before[-1] else middle

    def _search_at(
        self,
        step: RunStep,
        gain: float,
        offset: float,
        pedestal: float,
        brightness: int | None,
        shortest: float,
        fixed: bool,
    ) -> Found | NoAnswer:
        white = self.devices.camera.facts.white_adu
        level = pedestal + TEST_SHARE * (white - pedestal)
        target = FlatTarget(level, 0.4 * level, white, 0.9 * white)
        # Where the light can be set no further, exposures from an eighth of the wished one will do.
        low = TEST_SHARE * FILLS_IN * shortest / (8.0 if fixed else 1.0)
        high = max(TEST_SHARE * FILLS_WITHIN * shortest, LONGEST_S * TEST_SHARE if fixed else 0.0)
        window = ExposureWindow(
            Bound(low, "shorter ones leave no room for low levels"),
            Bound(high, "longer ones take too long"),
            max(shortest, 0.02),
        )
        self._panel(brightness)
        while True:
            self.control.check()
            shots = [
                _as_test(s, light_of(self.timed, s.exposure_s))
                for s in self.frames(gain, "test")
                if s.brightness == brightness and s.reading
            ]
            task = Task(target, window, pedestal=Pedestal(pedestal, 5.0, "bias frames"))
            decision = next_step(task, shots)
            if not isinstance(decision, Shoot):
                return decision
            self._test_shot(step, gain, offset, brightness, decision)

    def _test_shot(
        self, step: RunStep, gain: float, offset: float, brightness: int | None, decision: Shoot
    ) -> None:
        number = len(self.frames(gain, "test")) + 1
        camera = self.devices.camera.facts
        taken, shot = self.take(
            gain,
            offset,
            "test",
            self._flat(decision.exposure_s, gain, offset),
            name=f"test_{number:02d}",
            why=f"{'' if brightness is None else f'panel at {brightness}: '}{decision.why}",
            brightness=brightness,
        )
        stats = flat_statistics(taken.pixels, camera.white_adu, camera.bayer_pattern)
        self.read(
            shot, as_kept(TestReading(stats.median, stats.brightest_permille, stats.saturated_fraction))
        )
        self.progress(step, step.done + 1, step.count, f"Gain {gain:g}: finding the light, {shot.why}")

    def _flat(self, light_s: float, gain: float, offset: float) -> ShotSettings:
        return ShotSettings(
            FrameKind.FLAT,
            exposure_of(self.timed, light_s),
            gain,
            offset,
            filter_code=self.settings.filter_code,
            lit=None if self.timed is None else self.timed.lit(light_s),
        )

    # -- pairs ------------------------------------------------------------------------------------------------

    def _pairs(self, step: RunStep, gain: float, offset: float, pedestal: float, light: LightFound) -> None:
        camera = self.devices.camera.facts
        main, dim = _source(light.brightness), _source(light.dim)
        with self.library.db.session() as session:
            unread = not pair_readings(session, self.id, gain, "bias")
            if unread and pair_readings(session, self.id, gain, "flat"):
                # Cut short between the two.
                self._read_bias_pairs(gain)
        while True:
            with self.library.db.session() as session:
                seen = pair_readings(session, self.id, gain, "flat")
            todo = plan_pairs(
                seen,
                light.rate,
                pedestal,
                camera.white_adu,
                self.settings.shortest_s,
                has_dimmer=light.dim is not None,
                main=main,
                dim=dim,
            )
            if not todo:
                return
            pair = todo[0]
            brightness = light.dim if pair.dim else light.brightness
            self._panel(brightness)
            number = len(next(iter(seen.values()), [])) + 1
            frames = []
            for half in "ab":
                taken, shot = self.take(
                    gain,
                    offset,
                    "flat",
                    self._flat(pair.exposure_s, gain, offset),
                    name=f"flat_{number:03d}{half}",
                    why=pair.why,
                    pair=number,
                    brightness=brightness,
                    source=dim if pair.dim else main,
                )
                frames.append(taken.pixels)
            self._read_pair(gain, pedestal, shot.id, frames, pair.exposure_s, dim if pair.dim else main)
            if number == 1:
                # As soon as it is known which part of the frame counts, so that the slope shows while it grows.
                self._read_bias_pairs(gain)
            done = BIAS_FRAMES + len(self.frames(gain, "test")) + 2 * number
            self.progress(
                step,
                done,
                done + 2 * (len(todo) - 1 if number > 2 else 14),
                f"Gain {gain:g}: {pair.exposure_s:g} s, {pair.why}",
            )

    def _parts(self, gain: float, pedestal: float) -> dict[str, NDArray[np.bool_]]:
        """The evenly lit blocks of each channel, from the first flat of this gain."""
        first = self.frames(gain, "flat")[0]
        pixels = read_pixels(self.library.root / first.path)
        pattern = self.devices.camera.facts.bayer_pattern
        return {name: even_part(plane, pedestal) for name, plane in channels(pixels, pattern).items()}

    def _read_pair(
        self,
        gain: float,
        pedestal: float,
        shot_id: int,
        frames: Sequence[NDArray[np.uint16]],
        exposure_s: float,
        source: str,
    ) -> None:
        camera = self.devices.camera.facts
        if self._part_of != gain:
            self._part, self._part_of = self._parts(gain, pedestal), gain
        first, second = (channels(f, camera.bayer_pattern) for f in frames)
        readings = {
            name: read_pair(
                first[name],
                second[name],
                self._part[name],
                pedestal_adu=pedestal,
                white_adu=camera.white_adu,
                exposure_s=exposure_s,
                source=source,
            )
            for name in first
        }
        self._keep_reading(shot_id, pairs_as_json(readings))

    _part: dict[str, NDArray[np.bool_]]
    _part_of: float | None = None

    def _keep_reading(self, shot_id: int, reading: dict[str, Any]) -> None:
        for shot in self.frames_by_id([shot_id]):
            self.read(shot, {**shot.reading, **reading})

    def _read_bias_pairs(self, gain: float) -> None:
        """Read the bias frames in pairs over the same part of the frame as the flats, and the usual pixel's noise."""
        camera = self.devices.camera.facts
        shots = self.frames(gain, "bias")
        level = float(np.median([read(TestReading, s.reading).level for s in shots]))
        parts = self._part if self._part_of == gain else self._parts(gain, level)
        samples: dict[str, list[NDArray[np.uint16]]] = {name: [] for name in parts}
        for shot in shots:
            self.control.check()
            pixels = read_pixels(self.library.root / shot.path)
            for name, plane in channels(pixels, camera.bayer_pattern).items():
                samples[name].append(thinned(plane))
        step = self.settings.step
        noises = {name: usual_noise(items, step) for name, items in samples.items()}
        usual = {name: noise for name, noise in noises.items() if noise is not None}
        self.keep(with_usual(self.settings, gain, usual))
        for one, two in zip(shots[::2], shots[1::2], strict=False):
            self.control.check()
            first, second = (
                channels(read_pixels(self.library.root / s.path), camera.bayer_pattern) for s in (one, two)
            )
            readings = {
                name: read_pair(first[name], second[name], part, white_adu=camera.white_adu)
                for name, part in parts.items()
            }
            self._keep_reading(two.id, pairs_as_json(readings))


def _as_test(shot: MeasurementShot, light_s: float) -> TestShot:
    reading = read(TestReading, shot.reading)
    return TestShot(light_s, reading.level, reading.brightest, reading.saturated)


def _source(brightness: int | None) -> str:
    return "the light as it is" if brightness is None else f"panel at {brightness}"


class _NoLight(GrayShelfError):
    """No exposure at any brightness gives the light that the measurement needs."""
