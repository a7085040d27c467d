"""An exercise of the Bench that any program shoots: its frames are taken from a folder as they come in.

Each is copied into the library as if it had been shot here, so that the exercise can go on from it, also after a kill;
the file itself is left alone.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.checks.asked_for import AskedFor, all_wrong
from grayshelf.core.errors import DiskFull, UnreadableFrame
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import RigSays
from grayshelf.core.sensor.statistics import camera_white, lower_full
from grayshelf.devices.hand_camera import HandCamera
from grayshelf.devices.ports import CameraFacts, RigDevices
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.folder_list import folder_that_holds
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet, Rig
from grayshelf.library.rig_terms import camera_of
from grayshelf.work.bench.first_frame import frame_that_lies_in
from grayshelf.work.by_rig import wait_until_safe
from grayshelf.work.jobs import JobControl
from grayshelf.work.shooting import Shooter, ShotSettings
from grayshelf.work.watched import Arrival, WatchedFolder

#: A dark as short as this is a bias frame: many programs know no other kind (common practice).
AS_GOOD_AS_BIAS_S = 0.1


def hand_devices(
    session: Session,
    rig: Rig,
    offset_range: tuple[float, float] | None,
    beside: RigDevices | None,
    folder: Path,
) -> RigDevices:
    """What an exercise needs to know of a rig whose camera another program runs.

    Parameters
    ----------
    beside
        What is attached beside the camera.
    folder
        Where its frames come in. Of a camera that the library has no frame of, one that lies there already tells.

    Raises
    ------
    Conflict
        Where no frame of the camera is known, so that nobody can tell how large its frames are.
    """
    row = session.scalar(
        select(FrameSet).where(FrameSet.camera == rig.camera).order_by(FrameSet.id.desc()).limit(1)
    )
    facts = None if row is None else facts_if_sound(row.facts)
    if row is None or facts is None:
        facts, step = frame_that_lies_in(folder, rig.camera)
    else:
        step = row.sample_step
    card, binning = camera_of(rig), facts.binning_x or 1
    camera = CameraFacts(
        rig.camera,
        facts.width * binning,
        facts.height * (facts.binning_y or binning),
        facts.pixel_um or 0.0,
        card.white_adu or lower_full(camera_white(step), facts.full_adu),
        facts.bayer_pattern,
        bool(card.cooled),
        download_s=2.0,
        offset_range=offset_range or card.offset_range,
        shortest_s=card.shortest_s or 0.001,
        repeatable_from_s=card.repeatable_from_s or 0.0,
        shutter=card.shutter or "electronic",
    )
    by_hand = HandCamera(camera)
    return RigDevices(by_hand, None, None, None, None) if beside is None else replace(beside, camera=by_hand)


def watched_folder(library: Library, text: str) -> str:
    """A folder to watch, put on the list of those that may be read."""
    _, real, _ = folder_that_holds(library, text)
    return str(real)


@dataclass(frozen=True)
class Watching:
    """What an exercise is told of the folder that it takes frames from."""

    folder: Path
    since: float
    """Seconds since 1970: what came before is left alone."""
    handled: frozenset[str]
    use: Callable[[str], None]
    """Note that a file was used, before anything is made of it."""
    renamed: Callable[[str], None]
    """Note that a file which counted has this name now."""
    refuse: Callable[[str, str], None]
    """Tell that a file is not what was asked for, and why."""
    ask: Callable[[ShotSettings], None]
    """Tell what is asked for."""
    gain_word: str
    says: RigSays
    """Whether there is a gain and an offset to set."""


class FolderShooter(Shooter):
    """Takes what comes into a folder for frames that were asked for."""

    def __init__(
        self,
        library: Library,
        devices: RigDevices,
        control: JobControl,
        rig: Rig,
        zone: ZoneInfo,
        watching: Watching,
    ) -> None:
        super().__init__(library, devices, control, rig, zone)
        self._watching = watching
        self._folder = WatchedFolder(watching.folder, watching.since, zone, control, set(watching.handled))

    def fresh(self, settings: ShotSettings, needed: DiskFull) -> tuple[NDArray[Any], FrameFacts, datetime]:
        """Wait for the next frame that is as asked."""
        wait_until_safe(self.devices, self.control)
        self._watching.ask(settings)
        while True:
            self.control.check()
            for arrival in self._folder.whole():
                if arrival.same_file:
                    self._watching.renamed(arrival.name)
                    continue
                pixels = self._looked_at(arrival, settings)
                if pixels is None:
                    continue
                self._watching.use(arrival.name)
                self._folder.counted(arrival)
                facts = self._told(arrival.facts, settings)
                began = facts.utc or self.library.clock.now()
                return pixels, replace(facts, utc=began), began
            self._folder.pause()

    def _looked_at(self, arrival: Arrival, settings: ShotSettings) -> NDArray[Any] | None:
        facts = arrival.facts
        if facts is None or arrival.again:
            wrong = [arrival.trouble or arrival.once_more]
        else:
            wrong = all_wrong(_as_meant(facts, settings), self._asked(settings))
        camera = self.devices.camera.facts
        if not wrong and facts is not None and (facts.width, facts.height) != (camera.width, camera.height):
            wrong = [
                f"It has {facts.width} × {facts.height} pixels; {camera.name} has {camera.width} × {camera.height}. "
                "Let the program write whole frames."
            ]
        if not wrong:
            try:
                return arrival.pixels()
            except UnreadableFrame as error:
                wrong = [error.message]
        self._watching.refuse(arrival.name, wrong[0])
        return None

    def _asked(self, settings: ShotSettings) -> AskedFor:
        return AskedFor(
            self.devices.camera.facts.name,
            settings.filter_code or "none",
            self._watching.says.to_set("gain", settings.gain),
            settings.binning,
            self._watching.says.to_set("offset", settings.offset),
            self._watching.gain_word,
            settings.kind,
            settings.exposure_s,
            as_lights=False,
        )

    def _told(self, facts: FrameFacts | None, settings: ShotSettings) -> FrameFacts:
        """What its header does not say is what was asked for."""
        assert facts is not None
        return replace(
            facts,
            kind=settings.kind,
            camera=self.devices.camera.facts.name,
            gain=self._watching.says.to_set("gain", settings.gain),
            offset=self._watching.says.to_set("offset", settings.offset),
            binning_x=settings.binning,
            binning_y=settings.binning,
            exposure_s=settings.exposure_s if settings.kind is FrameKind.BIAS else facts.exposure_s,
        )


def _as_meant(facts: FrameFacts, settings: ShotSettings) -> FrameFacts:
    short = facts.exposure_s is not None and facts.exposure_s <= AS_GOOD_AS_BIAS_S
    if settings.kind is FrameKind.BIAS and facts.kind is FrameKind.DARK and short:
        return replace(facts, kind=FrameKind.BIAS)
    return facts


def now_s() -> float:
    """When watching begins, in seconds since 1970."""
    return time.time()
