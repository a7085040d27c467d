"""Taking one frame with a rig: exposed, written, read back, and found again after the process was killed."""

from __future__ import annotations

import logging
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path, PurePosixPath
from typing import Any
from zoneinfo import ZoneInfo

from numpy.typing import NDArray

from grayshelf.core.errors import Conflict, DeviceError, DiskFull, UnreadableFrame
from grayshelf.core.flats.timed_light import Lit
from grayshelf.core.frames.angle import CameraAngle, circular_difference
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.fits_blocks import card_value
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.frames.write import frame_header, write_frame
from grayshelf.devices.ports import Exposed, RigDevices
from grayshelf.library.cameras_alike import cameras_alike
from grayshelf.library.catalog import read_file
from grayshelf.library.files import drop_unfinished, read_header, read_pixels, sha256_of, write_new
from grayshelf.library.library import Library
from grayshelf.library.models import Rig
from grayshelf.library.room import KEEP_FREE_BYTES
from grayshelf.work.by_rig import wait_until_safe
from grayshelf.work.jobs import JobControl

log = logging.getLogger(__name__)

#: An exposure that was lost is taken again so often, after so long.
TRIES, AGAIN_AFTER_S = 3, 3.0
#: A rotator is not moved for less, in degrees.
SAME_ANGLE_DEG = 0.05


@dataclass(frozen=True)
class ShotSettings:
    """How a frame is to be taken; nothing is left at what the camera happens to have."""

    kind: FrameKind
    exposure_s: float
    gain: float
    offset: float
    binning: int = 1
    filter_code: str | None = None
    focus: float | None = None
    of_sky: bool = False
    lit: Lit | None = None
    """Where the light is lit within the exposure: when."""


@dataclass(frozen=True)
class Stood:
    """How the rig stood as an exposure was begun: asked before it, since a question after it could lose the frame."""

    set_temp_c: float | None = None
    angle: CameraAngle | None = None
    focus: float | None = None


@dataclass(frozen=True)
class Taken:
    """A frame that is on the disk."""

    pixels: NDArray[Any]
    facts: FrameFacts
    began: datetime
    sha256: str


class Shooter:
    """Takes frames with one rig for one job."""

    def __init__(
        self, library: Library, devices: RigDevices, control: JobControl, rig: Rig, zone: ZoneInfo
    ) -> None:
        self.library, self.devices, self.control, self.zone = library, devices, control, zone
        self._telescope, self._aperture, self._focal = rig.telescope, rig.aperture_mm, rig.focal_length_mm
        # A dark serves any telescope, but where another camera has the same name it is told by it.
        self._telescope_on_all = rig.camera in cameras_alike(library)

    def take(self, name: str, settings: ShotSettings) -> Taken:
        """Expose and write one frame, or find it where it was written before the process was killed.

        Where the disk is full it waits until there is room; what is exposed by then is not lost.

        Parameters
        ----------
        name
            Its path below the library's folder; follows from the job, its token, the step and the frame's number.

        Raises
        ------
        Conflict
            Where another file has that name. It is left as it is.
        """
        path, mark = self.library.root / name, shot_mark(name)
        drop_unfinished(path)
        if path.exists():
            return self._found(path, mark)
        s, camera = settings, self.devices.camera.facts
        size = 2 * camera.width * camera.height // s.binning**2
        needed = DiskFull(path.parent, size + KEEP_FREE_BYTES)
        while self.library.room(path.parent) < needed.needed_bytes:
            self.control.wait_for_room(needed)
        pixels, facts, began = self.fresh(s, needed)
        header = frame_header(facts, self._shot_by(mark, s))
        while True:
            try:
                sha = write_new(path, lambda stream: write_frame(stream, pixels, header))
                return Taken(pixels, facts, began, sha)
            except DiskFull:
                self.control.wait_for_room(needed)

    def fresh(self, settings: ShotSettings, needed: DiskFull) -> tuple[NDArray[Any], FrameFacts, datetime]:
        """A frame fresh from the camera: its pixels, what is said of it, and when its exposure began."""
        s, panel = settings, self.devices.panel
        if s.lit is not None and panel is not None and panel.can_be_timed:
            panel.light_within(s.lit.before_s, s.lit.lit_s)
        stood, exposed = self._exposed(s)
        return exposed.pixels, self._facts(s, stood, exposed), exposed.began

    def _exposed(self, settings: ShotSettings) -> tuple[Stood, Exposed]:
        """An exposure; one that was lost on its way is taken again a few times before anybody is called."""
        s, tries = settings, TRIES
        while True:
            tries -= 1
            wait_until_safe(self.devices, self.control)
            try:
                stood = self._stands(s)
                exposed = self.devices.camera.expose(
                    s.exposure_s,
                    s.gain,
                    s.offset,
                    s.binning,
                    self.control.cancel,
                    shutter_open=s.kind is FrameKind.FLAT,
                )
                return stood, exposed
            except DeviceError as error:
                if not tries:
                    raise
                log.warning("an exposure is taken again: %s", error)
                self.library.clock.sleep(AGAIN_AFTER_S, self.control.cancel)

    def adopt(self, test: str, name: str, settings: ShotSettings) -> Taken | None:
        """A test flat at the very settings of a series as its frame `name`: a copy, so that both stay what they are.

        None where the test flat is not there any more; then the frame is taken as any other.
        """
        path, source = self.library.root / name, self.library.root / test
        if path.exists():
            return self._found(path, shot_mark(name))
        try:
            facts, pixels = read_file(source, self.zone).facts, read_pixels(source)
        except (UnreadableFrame, OSError):
            return None
        if facts is None or facts.utc is None:
            return None
        began, facts = facts.utc, replace(facts, filter_code=settings.filter_code)
        header = frame_header(facts, self._shot_by(shot_mark(name), settings))
        sha = write_new(path, lambda stream: write_frame(stream, pixels, header))
        return Taken(pixels, facts, began, sha)

    def _shot_by(self, mark: str, settings: ShotSettings) -> dict[str, tuple[object, str]]:
        """What shows whose shot a file is, and what no standard keyword says."""
        cards: dict[str, tuple[object, str]] = {
            "GSJOB": (self.control.token, "job"),
            "GSSHOT": (mark, "step, number"),
        }
        if settings.lit is not None:
            cards["GSLIT"] = (settings.lit.lit_s, "[s] the light was on")
        return cards

    def _found(self, path: Path, mark: str) -> Taken:
        """A frame that this very shot left before the process was killed; a name alone proves nothing."""
        try:
            header = read_header(path).header
            own = (card_value(header, "GSJOB"), card_value(header, "GSSHOT")) == (self.control.token, mark)
            facts = read_file(path, self.zone).facts if own else None
            if facts is not None and facts.utc is not None:
                return Taken(read_pixels(path), facts, facts.utc, sha256_of(path))
        except UnreadableFrame as error:
            raise Conflict(
                f"{path.name} is there, but cannot be read as a frame ({error.message}); it was left as it is.",
                "Move it out of the library’s folder, then go on.",
            ) from error
        raise Conflict(
            f"{path.name} is there, but is not the frame that this job would have written; it was left as it is.",
            "Move it out of the library’s folder, then go on.",
        )

    def _stands(self, settings: ShotSettings) -> Stood:
        """How the rig stands: what is not asked of a device is what the person was told to set."""
        rotator, focuser = self.devices.rotator, self.devices.focuser
        set_temp_c = self.devices.camera.cooler().set_point_c
        if settings.kind is not FrameKind.FLAT:
            return Stood(set_temp_c)
        angle = CameraAngle(rotator.position() % 360.0) if rotator else None
        return Stood(set_temp_c, angle, focuser.position() if focuser else settings.focus)

    def _facts(self, settings: ShotSettings, stood: Stood, exposed: Exposed) -> FrameFacts:
        camera = self.devices.camera.facts
        optical = settings.kind is FrameKind.FLAT
        return FrameFacts(
            width=camera.width // settings.binning,
            height=camera.height // settings.binning,
            bits=16,
            kind=settings.kind,
            of_sky=settings.of_sky,
            camera=camera.name,
            exposure_s=settings.exposure_s,
            gain=settings.gain,
            offset=settings.offset,
            binning_x=settings.binning,
            binning_y=settings.binning,
            # The whole sensor, always: masters of it serve lights of any part.
            corner_x=0,
            corner_y=0,
            sensor_temp_c=exposed.sensor_temp_c,
            set_temp_c=stood.set_temp_c,
            filter_code=settings.filter_code if optical else None,
            telescope=self._telescope if optical or self._telescope_on_all else None,
            focal_length_mm=self._focal if optical else None,
            aperture_mm=self._aperture if optical else None,
            pixel_um=camera.pixel_um,
            electrons_per_adu=exposed.electrons_per_adu,
            angle=stood.angle,
            focus=stood.focus,
            bayer_pattern=camera.bayer_pattern,
            utc=exposed.began,
            night=night_of_utc(exposed.began, self.zone),
            night_from="taken here",
        )


def shot_mark(name: str) -> str:
    """What the header of a frame says of its place in its job: the end of its name, with step and number."""
    return PurePosixPath(name).stem[-40:]


def set_up(devices: RigDevices, filter_code: str, focus: float | None, angle_deg: float | None) -> None:
    """Filter, focus and camera angle as the lights had them, each where the rig can."""
    bring_in(devices, filter_code)
    if devices.focuser is not None and focus is not None:
        devices.focuser.move(focus)
    if devices.rotator is not None and angle_deg is not None:
        away_deg = circular_difference(angle_deg, devices.rotator.position())
        if abs(away_deg) > SAME_ANGLE_DEG:
            devices.rotator.move(angle_deg)


def leave_dark(devices: RigDevices) -> None:
    """Switch the panel off at the end of work, however it ended; one that does not answer hides nothing of that."""
    if devices.panel is None:
        return
    try:
        devices.panel.set_brightness(0)
    except DeviceError as error:
        log.warning("the panel may be on still: %s", error)


def bring_in(devices: RigDevices, filter_code: str) -> None:
    """Turn the wheel to a filter, where there is a wheel.

    Raises
    ------
    DeviceError
        Where the filter is not in it.
    """
    if devices.wheel is None:
        return
    if filter_code not in devices.wheel.filters:
        raise DeviceError(
            f"{filter_code} is not in the wheel, so its flats were not shot.", "Put it in, then go on."
        )
    devices.wheel.move(devices.wheel.filters.index(filter_code))
