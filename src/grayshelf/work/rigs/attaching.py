"""Looking for devices on the network, trying them, and letting them move the parts of a rig."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from pydantic import ValidationError
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.rigs.addresses import read_address
from grayshelf.core.rigs.device_differs import CameraKnown, camera_differs, light_differs, wheel_differs
from grayshelf.core.rigs.device_parts import DevicePart
from grayshelf.core.rigs.train import TrainFacts
from grayshelf.devices.alpaca.building import by_codes
from grayshelf.devices.alpaca.discovery import FoundServer, ask_server, look_for_servers
from grayshelf.devices.alpaca.saying import (
    CameraSaid,
    FocuserSaid,
    LightSaid,
    RotatorSaid,
    Said,
    Tried,
    WheelSaid,
    try_device,
)
from grayshelf.devices.alpaca.saying_around import (
    MountSaid,
    Port,
    SafetySaid,
    SwitchSaid,
    WeatherSaid,
    switch_says,
)
from grayshelf.library.attached import AttachedDevice, attached_to, by_nobody, moved
from grayshelf.library.library import Library
from grayshelf.library.models import CardChange, Rig
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_cards import DEVICES, change_sheet
from grayshelf.work.rigs.known import train_facts
from grayshelf.work.rigs.park import RigPark

#: Which kinds of device can move which part.
KINDS_OF: dict[DevicePart, tuple[str, ...]] = {
    DevicePart.CAMERA: ("camera",),
    DevicePart.FILTERS: ("filterwheel",),
    DevicePart.LIGHT: ("covercalibrator", "switch"),
    DevicePart.COVER: ("covercalibrator",),
    DevicePart.ROTATOR: ("rotator",),
    DevicePart.FOCUSER: ("focuser",),
    DevicePart.MOUNT: ("telescope",),
    DevicePart.SAFETY: ("safetymonitor",),
    DevicePart.WEATHER: ("observingconditions",),
}
SAID_BY: dict[str, type[Any]] = {
    "camera": CameraSaid,
    "filterwheel": WheelSaid,
    "covercalibrator": LightSaid,
    "switch": SwitchSaid,
    "rotator": RotatorSaid,
    "focuser": FocuserSaid,
    "telescope": MountSaid,
    "safetymonitor": SafetySaid,
    "observingconditions": WeatherSaid,
}


@dataclass(frozen=True)
class Chosen:
    """A device that a person chose for a part."""

    address: str
    kind: str
    number: int
    name: str
    unique_id: str = ""
    port: int | None = None


def look(typed: str | None) -> list[FoundServer]:
    """What answers at an address, or what answers on this network where none is typed."""
    if typed is not None:
        return [ask_server(read_address(typed))]
    return [ask_server(address) for address in look_for_servers()]


def tried_for(library: Library, park: RigPark, part: DevicePart, chosen: Chosen) -> AttachedDevice:
    """Ask a device what it is and can do, to move a part of a rig.

    Raises
    ------
    Conflict
        Where it cannot move this part.
    DeviceError
        Where it does not answer, or says what cannot be.
    """
    if chosen.kind not in KINDS_OF[part]:
        raise Conflict(f"{chosen.name} is no device for the {part.value}.", "Choose another.")
    address = read_address(chosen.address)
    tried = try_device(park.servers.device(address, chosen.kind, chosen.number, chosen.name))
    _refuse_what_cannot(part, tried, chosen.port)
    return AttachedDevice(
        address,
        chosen.kind,
        chosen.number,
        chosen.name,
        chosen.unique_id,
        chosen.port,
        as_kept(tried.said),
        library.clock.now().isoformat(),
    )


def ports_of(park: RigPark, chosen: Chosen) -> tuple[Port, ...]:
    """The ports of a switch that can be set; it is connected to for that."""
    device = park.servers.device(read_address(chosen.address), "switch", chosen.number, chosen.name)
    device.connect()
    return switch_says(device).ports


def attach(
    library: Library, session: Session, rig: Rig, part: DevicePart, device: AttachedDevice
) -> CardChange | None:
    """Let a device that was tried move a part of a rig; None where it does already, and says what it said."""
    had = attached_to(rig).get(part)
    if had is not None and replace(had, tried_at=device.tried_at) == device:
        rig.attached = {**rig.attached, part.value: as_kept(device)}
        return None
    return change_sheet(library, session, rig, DEVICES, {moved(part): as_kept(device)})


def _refuse_what_cannot(part: DevicePart, tried: Tried, port: int | None) -> None:
    said = tried.said
    if isinstance(said, SwitchSaid) and port not in [p.number for p in said.ports]:
        names = ", ".join(f"{p.number} {p.name}" for p in said.ports)
        raise Conflict(
            f"{tried.name} has several ports; none was chosen for the light.", f"Choose of {names}."
        )
    if part is DevicePart.LIGHT and isinstance(said, LightSaid) and said.highest is None:
        raise Conflict(f"{tried.name} has no light; it is a cover alone.", "Choose it for the cover.")
    if part is DevicePart.COVER and isinstance(said, LightSaid) and not said.has_cover:
        raise Conflict(f"{tried.name} has no cover; it is a light alone.", "Choose it for the light.")
    if part is DevicePart.FOCUSER and isinstance(said, FocuserSaid) and not said.absolute:
        raise Conflict(
            f"{tried.name} does not know where it stands: it can only move by steps, so it cannot go back to the focus "
            "of the lights.",
            "Set the focus by hand; its number is shown then.",
        )


def chosen_for(rig: Rig, part: DevicePart) -> Chosen:
    """The device that was chosen for a part.

    Raises
    ------
    NotFound
        Where there is none.
    """
    one = attached_to(rig).get(part)
    if one is None:
        raise NotFound(f"No device is chosen for the {part.value}.", "Choose one first.")
    return Chosen(one.address, one.kind, one.number, one.name, one.unique_id, one.port)


def let_go(library: Library, session: Session, rig: Rig, part: DevicePart) -> CardChange | None:
    """Move a part by hand again."""
    chosen_for(rig, part)
    return change_sheet(library, session, rig, DEVICES, {moved(part): by_nobody(part)})


def said_of(one: AttachedDevice) -> Said | None:
    """What a device said when it was last tried; None where another version kept it otherwise."""
    try:
        said: Said = read(SAID_BY[one.kind], one.said)
    except (ValidationError, KeyError):
        return None
    return said


def differs(library: Library, session: Session, rig: Rig, part: DevicePart, said: Said) -> list[str]:
    """What a device says otherwise than lights and sheets."""
    if isinstance(said, CameraSaid):
        facts = said.facts
        told = CameraKnown(
            (facts.width, facts.height), facts.pixel_um, facts.bayer_pattern, cooled=facts.cooled
        )
        return camera_differs(told, _known_of(train_facts(library, session, rig, None)))
    if isinstance(said, WheelSaid):
        codes = tuple(f.code for f in rig.filters)
        return wheel_differs(by_codes(said.names, codes), codes)
    if isinstance(said, LightSaid) and part is DevicePart.LIGHT:
        return light_differs(said.highest, train_facts(library, session, rig, None).brightness)
    return []


def _known_of(facts: TrainFacts) -> CameraKnown:
    return CameraKnown(facts.size, facts.pixel_um, facts.bayer_pattern, bool(facts.telescopes), facts.cooled)
