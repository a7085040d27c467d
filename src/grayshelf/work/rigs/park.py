"""The devices behind every rig: the demo's simulated ones, and those on the network that a person chose."""

from __future__ import annotations

import logging
import threading
from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from pydantic import ValidationError
from sqlalchemy.orm import Session

from grayshelf.core.flats.settings import wishes_from
from grayshelf.core.rigs.device_parts import DevicePart
from grayshelf.devices.alpaca import building
from grayshelf.devices.alpaca.around import AlpacaLamp, AlpacaSafety, AlpacaWeather
from grayshelf.devices.alpaca.asking import AlpacaDevice
from grayshelf.devices.alpaca.camera import AlpacaCamera
from grayshelf.devices.alpaca.light import AlpacaPanel
from grayshelf.devices.alpaca.saying import CameraSaid, FocuserSaid, LightSaid, RotatorSaid, WheelSaid
from grayshelf.devices.alpaca.saying_around import MountSaid, SwitchSaid
from grayshelf.devices.hand_camera import HandCamera
from grayshelf.devices.ports import Camera, CameraFacts, RigDevices
from grayshelf.library.attached import AttachedDevice, attached_to
from grayshelf.library.flat_sheet import source_of
from grayshelf.library.frame_pace import pace_seen
from grayshelf.library.library import Library
from grayshelf.library.models import Rig
from grayshelf.library.records import read
from grayshelf.library.rig_terms import camera_of
from grayshelf.work.rigs.heard import HeardCamera, HeardWheel

log = logging.getLogger(__name__)


def _keeps_pace(devices: Iterable[RigDevices], beside_s: float | None) -> None:
    """Let cameras say how long their frames take beside the exposures, as the newest series tell; none is made anew."""
    for one in devices:
        if beside_s is not None and isinstance(one.camera, AlpacaCamera | HeardCamera):
            one.camera.facts = replace(one.camera.facts, download_s=beside_s)


class RigPark(dict[str, RigDevices]):
    """Simulated rigs by their names; and for each rig what work drives, and what pages look at."""

    def __init__(self, library: Library) -> None:
        super().__init__()
        self._library, self._servers = library, building.Servers()
        self._lock = threading.Lock()
        self._made: dict[int, tuple[Any, RigDevices, RigDevices]] = {}

    def of(self, rig: Rig) -> RigDevices | None:
        """What work drives; None where no camera is connected, and the person's own program shoots."""
        found = self._found(rig)
        return self.get(rig.devices or "") if found is None else found[0]

    def seen(self, rig: Rig) -> RigDevices | None:
        """The same for pages: what was last heard, without waiting for the network."""
        found = self._found(rig)
        return self.get(rig.devices or "") if found is None else found[1]

    def beside_camera(self, rig: Rig) -> RigDevices | None:
        """What is attached beside a camera that another program runs; None where nothing is, or the camera is, too."""
        with self._library.db.session() as session:
            rig = self._library.rig(session, rig.id)
            attached, codes = attached_to(rig), tuple(f.code for f in rig.filters)
            typed = self._typed(session, rig)
        if not attached or DevicePart.CAMERA in attached or rig.devices in self:
            return None
        camera = HandCamera(CameraFacts(rig.camera, 0, 0, 0.0, 65535, None, cooled=False, download_s=0.0))
        try:
            return self._around(camera, attached, codes, typed)
        except (ValidationError, KeyError):
            log.warning("the devices of %s cannot be read: try them again on Rigs", rig.name)
            return None

    @staticmethod
    def _typed(session: Session, rig: Rig) -> tuple[int, int] | None:
        dimmer = source_of(session, rig, wishes_from(rig.wishes), None).dimmer
        return (dimmer.lowest, dimmer.highest) if dimmer else None

    @property
    def servers(self) -> building.Servers:
        """Where devices are asked."""
        return self._servers

    def _found(self, rig: Rig) -> tuple[RigDevices, RigDevices] | None:
        if DevicePart.CAMERA not in rig.attached:
            return None
        # Whoever asks may have let go of the session that the rig came from.
        with self._library.db.session() as session:
            rig = self._library.rig(session, rig.id)
            attached, white_adu = attached_to(rig), camera_of(rig).white_adu
            codes = tuple(f.code for f in rig.filters)
            typed = self._typed(session, rig)
            beside_s = pace_seen(session, rig)
            mark = (rig.camera, codes, white_adu, typed, rig.attached)
        with self._lock:
            made = self._made.get(rig.id)
            if made is None or made[0] != mark:
                try:
                    work = self._build(rig.camera, attached, codes, white_adu, typed)
                except (ValidationError, KeyError):
                    # What an other version kept of them: they are as good as not chosen, and can be tried again.
                    log.warning("the devices of %s cannot be read: try them again on Rigs", rig.name)
                    return None
                wheel = HeardWheel(work.wheel) if work.wheel is not None else None
                made = mark, work, replace(work, camera=HeardCamera(work.camera), wheel=wheel)
                self._made[rig.id] = made
            _keeps_pace(made[1:], beside_s)
            return made[1], made[2]

    def _build(
        self,
        camera: str,
        attached: dict[DevicePart, AttachedDevice],
        codes: tuple[str, ...],
        white_adu: int | None,
        typed: tuple[int, int] | None,
    ) -> RigDevices:
        of_camera = read(CameraSaid, attached[DevicePart.CAMERA].said)
        own = self.device(attached[DevicePart.CAMERA])
        found = building.camera_of(own, of_camera, self._library.clock, called=camera, white_adu=white_adu)
        return replace(self._around(found, attached, codes, typed), hands=building.hands_of(own, of_camera))

    def _around(
        self,
        camera: Camera,
        attached: dict[DevicePart, AttachedDevice],
        codes: tuple[str, ...],
        typed: tuple[int, int] | None,
    ) -> RigDevices:
        """A camera, and what is attached beside it."""
        at = {part: self.device(one) for part, one in attached.items()}
        said = {part: one.said for part, one in attached.items()}
        wheel, light, cover = at.get(DevicePart.FILTERS), at.get(DevicePart.LIGHT), at.get(DevicePart.COVER)
        rotator, focuser = at.get(DevicePart.ROTATOR), at.get(DevicePart.FOCUSER)
        mount, safety, weather = (
            at.get(part) for part in (DevicePart.MOUNT, DevicePart.SAFETY, DevicePart.WEATHER)
        )
        return RigDevices(
            camera,
            building.wheel_of(wheel, read(WheelSaid, said[DevicePart.FILTERS]), codes) if wheel else None,
            self._light(attached, light, typed) if light else None,
            building.rotator_of(rotator, read(RotatorSaid, said[DevicePart.ROTATOR])) if rotator else None,
            building.focuser_of(focuser, read(FocuserSaid, said[DevicePart.FOCUSER])) if focuser else None,
            None,
            building.cover_of(cover, read(LightSaid, said[DevicePart.COVER])) if cover else None,
            building.mount_of(mount, read(MountSaid, said[DevicePart.MOUNT])) if mount else None,
            AlpacaSafety(safety) if safety else None,
            AlpacaWeather(weather) if weather else None,
        )

    @staticmethod
    def _light(
        attached: dict[DevicePart, AttachedDevice], device: AlpacaDevice, typed: tuple[int, int] | None
    ) -> AlpacaPanel | AlpacaLamp | None:
        one = attached[DevicePart.LIGHT]
        if one.kind == "switch":
            return building.lamp_of(device, read(SwitchSaid, one.said), one.port)
        return building.panel_of(device, read(LightSaid, one.said), typed)

    def device(self, one: AttachedDevice) -> AlpacaDevice:
        """Where a device is asked."""
        return self._servers.device(one.address, one.kind, one.number, one.name)
