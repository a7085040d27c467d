"""Taking a test flat: with the rig, or by waiting for one that any other program writes into a watched folder."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Protocol
from zoneinfo import ZoneInfo

import numpy as np

from grayshelf.core.checks.asked_for import AskedFor, why_not
from grayshelf.core.errors import Conflict, GrayShelfError, UnreadableFrame
from grayshelf.core.filing.names import safe_name
from grayshelf.core.flats.channels import in_colours
from grayshelf.core.flats.model import Shoot
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.gates import Gate, brightness_to, filter_in
from grayshelf.core.sensor.statistics import flat_statistics, full_level
from grayshelf.devices.ports import RigDevices
from grayshelf.library.catalog import read_file
from grayshelf.library.files import read_pixels
from grayshelf.library.flat_sheet import Source
from grayshelf.library.folders import FileStamp, stamp_of, walk_frames
from grayshelf.library.models import RunStep
from grayshelf.library.step_records import ShotStats
from grayshelf.work.jobs import JobControl
from grayshelf.work.shooting import Shooter, ShotSettings, bring_in

#: A file that has not changed for so long is looked at; for so long, it is judged even if it cannot be read.
FRESH_S, SETTLED_S = 0.35, 2.5
POLL_S = 0.4


@dataclass(frozen=True)
class TestFlat:
    """A test flat, measured."""

    __test__ = False

    exposure_s: float
    brightness: int | None
    stats: ShotStats
    white_adu: int
    taken_at: datetime
    path: str


class RowLeftOut(Exception):
    """The person leaves a row out while its test flats are waited for."""


class Taker(Protocol):
    """Where test flats come from."""

    by_folder: bool

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

    by_folder = False

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

    def take(
        self, step: RunStep, key: RowKey, source: Source, shot: Shoot, number: int, focus: float | None
    ) -> TestFlat:
        """Set filter and panel, or ask for them, and expose."""
        devices, camera = self.devices, self.devices.camera.facts
        if devices.wheel is not None:
            bring_in(devices, key.filter_code)
        elif self._several and self._known("filter") != key.filter_code:
            self._ask(step, filter_in(key.filter_code, "Its test shots come next."))
        if shot.brightness is not None and devices.panel is not None:
            devices.panel.set_brightness(shot.brightness)
        elif shot.brightness is not None and self._known("brightness") != str(shot.brightness):
            coming = f"Next: {shot.exposure_s:g} s in {key.filter_code}."
            self._ask(step, brightness_to(source.name, shot.brightness, coming))
        folder = f"tests/{safe_name(camera.name)}"
        name = f"{folder}/{self._names}{self.control.tag}_step{step.id:05d}_{number:02d}.fits"
        taken = self.shooter.take(
            name,
            ShotSettings(
                FrameKind.FLAT, shot.exposure_s, key.gain, key.offset, key.binning, key.filter_code, focus
            ),
        )
        colour = in_colours(camera.bayer_pattern, key.binning)
        stats = flat_statistics(taken.pixels, camera.white_adu, colour)
        exposure = taken.facts.exposure_s or shot.exposure_s
        return TestFlat(exposure, shot.brightness, ShotStats.of(stats), camera.white_adu, taken.began, name)


class FolderTaker:
    """Test flats from a folder that another program writes into. Nothing in it is ever changed."""

    by_folder = True

    def __init__(
        self,
        folder: Path,
        since: float,
        camera: str,
        zone: ZoneInfo,
        control: JobControl,
        now: Callable[[], datetime],
        refuse: Callable[[RunStep, str, str], None],
        handled: set[str],
        left_out: Callable[[RunStep], bool],
        gain_word: str,
    ) -> None:
        self._left_out, self._gain_word = left_out, gain_word
        self.folder, self.since, self.camera, self.zone = folder, since, camera, zone
        self.control, self._now, self._refuse = control, now, refuse
        # A file is new if it came since the start by its own clock or by ours: that of another machine may be wrong.
        # One that was read is left alone until it is another: some programs write every test shot to one name.
        self._done_with = {
            name: stamp for name, stamp in self._files() if name in handled or not self._came_since(stamp)
        }
        self._seen: dict[str, tuple[FileStamp, float]] = {}

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
            self.camera, key.filter_code, key.gain, key.binning, key.offset or None, self._gain_word
        )
        while True:
            self.control.check()
            if self._left_out(step):
                raise RowLeftOut
            looked = time.monotonic()
            for name, stamp, resting_s in self._new_files():
                flat = self._read(step, (name, stamp), resting_s, asked, shot)
                if flat is not None:
                    return flat
            # A tree of many thousand files is not looked through without a pause.
            self.control.wake.wait(max(POLL_S, 3.0 * (time.monotonic() - looked)))
            self.control.wake.clear()
            if self.control.cancel.is_set():
                self.control.check()

    def _files(self) -> Iterator[tuple[str, FileStamp]]:
        if not self.folder.is_dir():
            raise GrayShelfError(
                f"{self.folder} is gone, so no test flat can be seen.",
                "Bring the folder or its disk back, then go on.",
            )
        return walk_frames(self.folder)

    def _came_since(self, stamp: FileStamp) -> bool:
        """By the file's own clock; what lies ahead of ours was there before, and tells nothing."""
        return self.since * 1e9 <= stamp.modified_ns <= (time.time() + FRESH_S) * 1e9

    def _new_files(self) -> list[tuple[str, FileStamp, float]]:
        """Files that came since, the oldest first, and for how long each has not changed, in seconds."""
        found = []
        for name, stamp in self._files():
            if self._done_with.get(name) == stamp:
                continue
            known = self._seen.get(name)
            if known is None or known[0] != stamp:
                known = self._seen[name] = (stamp, time.monotonic())
            found.append((name, stamp, time.monotonic() - known[1]))
        return sorted(found, key=lambda f: (f[1].modified_ns, f[0]))

    def _read(
        self, step: RunStep, file: tuple[str, FileStamp], resting_s: float, asked: AskedFor, shot: Shoot
    ) -> TestFlat | None:
        """The flat in a file; None where it is not written to its end yet, or is refused."""
        if resting_s < FRESH_S:
            return None
        name, stamp = file
        path = self.folder / name
        try:
            facts = read_file(path, self.zone)
            if facts.facts is None:
                raise UnreadableFrame(facts.reason)
            trouble = why_not(facts.facts, asked)
            if trouble is None:
                pixels = read_pixels(path)
                if pixels.dtype != np.uint16:
                    trouble = "Its pixels are not 16-bit whole numbers: let the program write raw frames."
        except (UnreadableFrame, OSError) as error:
            # While it is being written a file is no frame yet: wait, and judge it when it has come to rest. One that
            # has gone was but a name on the way to another.
            if resting_s < SETTLED_S or not path.exists():
                return None
            trouble = f"It cannot be read: {error}"
        if stamp_of(path) != stamp:
            return None
        self._done_with[name] = stamp
        if trouble is not None:
            self._refuse(step, path.name, trouble)
            return None
        assert facts.facts is not None and facts.facts.exposure_s is not None
        white = full_level(pixels)
        stats = flat_statistics(pixels, white, in_colours(facts.facts.bayer_pattern, asked.binning))
        return TestFlat(
            facts.facts.exposure_s, shot.brightness, ShotStats.of(stats), white, self._now(), name
        )


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
