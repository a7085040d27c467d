"""Taking a test flat: with the rig, or by waiting for one that any other program writes into a watched folder."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from grayshelf.core.checks.asked_for import AskedFor, why_not
from grayshelf.core.errors import Conflict, UnreadableFrame
from grayshelf.core.filing.names import safe_name
from grayshelf.core.flats.filter_words import through
from grayshelf.core.flats.model import Shoot
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.flats.timed_light import TimedLight, exposure_of, light_of
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.colours import pattern_of_pixels
from grayshelf.core.planning.gates import Gate, brightness_to, filter_in, set_to
from grayshelf.core.sensor.statistics import flat_statistics, full_level
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import Source
from grayshelf.library.models import RunStep
from grayshelf.library.step_records import ShotStats
from grayshelf.work.by_rig import wait_until_safe
from grayshelf.work.jobs import JobControl
from grayshelf.work.shooting import Shooter, ShotSettings, bring_in
from grayshelf.work.watched import Arrival, WatchedFolder


@dataclass(frozen=True)
class TestFlat:
    """A test flat, measured."""

    __test__ = False

    exposure_s: float
    """Of a light that is lit within the exposure: its time of light."""
    brightness: int | None
    stats: ShotStats
    white_adu: int
    taken_at: datetime
    path: str
    frame_id: int | None = None
    """Where it is in the library as a frame."""


class RowLeftOut(Exception):
    """The person leaves a row out while its test flats are waited for."""


class Taker(Protocol):
    """Where test flats come from."""

    by_folder: bool

    @property
    def sets_itself(self) -> bool:
        """Whether devices of the rig set something before another program is asked for a test flat."""
        ...

    def make_ready(self, step: RunStep, key: RowKey, shot: Shoot) -> None:
        """Set it."""
        ...

    def take(
        self, step: RunStep, key: RowKey, source: Source, shot: Shoot, number: int, focus: float | None
    ) -> TestFlat:
        """Take the test flat that is asked for; returns when it is measured.

        Parameters
        ----------
        focus
            As the lights had it, for the header of a rig that has no focuser.
        """
        ...


class RigTaker:
    """Test flats from the rig's own devices; what they cannot set is asked for at a gate."""

    by_folder, sets_itself = False, False

    def __init__(
        self,
        devices: RigDevices,
        shooter: Shooter,
        control: JobControl,
        ask: Callable[[RunStep, Gate], None],
        known: Callable[[str], str | None],
        *,
        several_filters: bool,
        names: str,
    ) -> None:
        """`names`: what the names of its frames begin with."""
        self._several, self._names = several_filters, names
        self.devices, self.shooter, self.control = devices, shooter, control
        self._ask, self._known = ask, known

    def make_ready(self, step: RunStep, key: RowKey, shot: Shoot) -> None:
        """All is set as it is taken."""

    def take(
        self, step: RunStep, key: RowKey, source: Source, shot: Shoot, number: int, focus: float | None
    ) -> TestFlat:
        """Set filter and panel, or ask for them, and expose."""
        devices, camera = self.devices, self.devices.camera.facts
        if devices.wheel is not None:
            bring_in(devices, key.filter_code)
        elif self._several and self._known("filter") != key.filter_code:
            self._ask(step, filter_in(key.filter_code, "Its test shots come next."))
        timed = source.timed
        lit = None if timed is None else timed.lit(shot.exposure_s)
        exposure_s = exposure_of(timed, shot.exposure_s)
        driven = devices.panel is not None and (lit is None or devices.panel.can_be_timed)
        if shot.brightness is not None and devices.panel is not None:
            devices.panel.set_brightness(shot.brightness)
        value = set_to(shot.brightness, lit)
        if value and not driven and self._known("brightness") != value:
            coming = f"Next: {exposure_s:g} s{through(key.filter_code)}."
            self._ask(step, brightness_to(source.name, shot.brightness, coming, lit))
        folder = f"tests/{safe_name(camera.name)}"
        name = f"{folder}/{self._names}{self.control.tag}_step{step.id:05d}_{number:02d}.fits"
        taken = self.shooter.take(
            name,
            ShotSettings(
                FrameKind.FLAT, exposure_s, key.gain, key.offset, key.binning, key.filter_code, focus, lit=lit
            ),
        )
        pattern = pattern_of_pixels(camera.bayer_pattern, key.binning)
        stats = flat_statistics(taken.pixels, camera.white_adu, pattern)
        light_s = light_of(timed, taken.facts.exposure_s or exposure_s)
        return TestFlat(light_s, shot.brightness, ShotStats.of(stats), camera.white_adu, taken.began, name)


class FolderTaker:
    """Test flats from a folder that another program writes into. Nothing in it is ever changed."""

    by_folder = True

    def __init__(
        self,
        watched: WatchedFolder,
        camera: str,
        now: Callable[[], datetime],
        refuse: Callable[[RunStep, str, str], None],
        left_out: Callable[[RunStep], bool],
        gain_word: str,
        beside: RigDevices | None = None,
    ) -> None:
        """`beside`: what sets filter and light by itself, though another program runs the camera."""
        self._beside = beside
        self._watched, self._camera, self._now = watched, camera, now
        self._refuse, self._left_out, self._gain_word = refuse, left_out, gain_word

    @property
    def sets_itself(self) -> bool:
        """Whether something is attached beside the camera."""
        return self._beside is not None

    def make_ready(self, step: RunStep, key: RowKey, shot: Shoot) -> None:
        """Bring the filter in and light the panel, where the rig can."""
        if self._beside is None:
            return
        wait_until_safe(self._beside, self._watched.control)
        bring_in(self._beside, key.filter_code)
        if self._beside.panel is not None and shot.brightness is not None:
            self._beside.panel.set_brightness(shot.brightness)

    def take(
        self, step: RunStep, key: RowKey, source: Source, shot: Shoot, number: int, focus: float | None
    ) -> TestFlat:
        """Wait for the next frame that can be used; each that cannot be is answered with a sentence.

        Raises
        ------
        RowLeftOut
            Where the person leaves its row out.
        """
        asked = AskedFor(
            self._camera, key.filter_code, key.gain, key.binning, key.offset or None, self._gain_word
        )
        while True:
            self._watched.control.check()
            if self._left_out(step):
                raise RowLeftOut
            for arrival in self._watched.whole():
                if arrival.same_file:
                    continue
                try:
                    flat = self._measured(arrival, asked, shot, source.timed)
                except UnreadableFrame as refused:
                    self._refuse(step, arrival.path.name, refused.message)
                    continue
                self._watched.counted(arrival)
                return flat
            self._watched.pause()

    def _measured(self, arrival: Arrival, asked: AskedFor, shot: Shoot, timed: TimedLight | None) -> TestFlat:
        """The flat in a file that came in; raises `UnreadableFrame` with why it is refused."""
        if arrival.facts is None or arrival.again:
            raise UnreadableFrame(arrival.trouble or arrival.once_more, "")
        trouble = why_not(arrival.facts, asked)
        if trouble is not None:
            raise UnreadableFrame(trouble, "")
        return measured_flat(arrival, asked.binning, shot.brightness, self._now(), timed)


def measured_flat(
    arrival: Arrival, binning: int, brightness: int | None, at: datetime, timed: TimedLight | None
) -> TestFlat:
    """A flat that came in, measured. Under a light that is lit within the exposure, what is dark of it is as asked.

    Raises
    ------
    UnreadableFrame
        Where its pixels cannot be read, or are no raw frame's, or it ended before the light was on.
    """
    facts = arrival.facts
    assert facts is not None and facts.exposure_s is not None
    light_s = light_of(timed, facts.exposure_s)
    if timed is not None and light_s <= 0.0:
        raise UnreadableFrame(
            f"It was exposed for {facts.exposure_s:g} s; with {timed.dark_s:g} s of dark before and after the light "
            "nothing of it is lit. Expose as the line says.",
            "",
        )
    pixels = arrival.pixels()
    white = full_level(pixels, facts.full_adu)
    stats = flat_statistics(pixels, white, pattern_of_pixels(facts.bayer_pattern, binning))
    return TestFlat(light_s, brightness, ShotStats.of(stats), white, at, arrival.name)


def need_devices(devices: RigDevices | None) -> RigDevices:
    """The rig's devices.

    Raises
    ------
    Conflict
        Where none are connected.
    """
    if devices is None:
        raise Conflict("No devices are connected to this rig.", "Watch a folder instead, or connect them.")
    return devices
