"""Which device on the network moves which part of a rig, as a person chose it, with what it said when it was tried."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy.orm import Session

from grayshelf.core.rigs.device_parts import DevicePart, steps_of_port
from grayshelf.core.rigs.train import MovedBy
from grayshelf.library.library import Library
from grayshelf.library.models import Rig
from grayshelf.library.records import as_kept, read


@dataclass(frozen=True)
class AttachedDevice:
    """A device on the network, as it was when it was chosen or last tried."""

    address: str
    """Of its server: 'http://host:port'."""
    kind: str
    """As addresses of the Alpaca standard write it: 'camera', 'filterwheel', ..."""
    number: int
    """Among those of its kind at that server."""
    name: str
    unique_id: str = ""
    port: int | None = None
    """Of a switch: which of its ports."""
    said: dict[str, Any] = field(default_factory=dict)
    """What it said of itself (`devices.alpaca.saying`)."""
    tried_at: str = ""
    """When, in UTC."""


def attached_to(rig: Rig) -> dict[DevicePart, AttachedDevice]:
    """The devices of a rig by the parts that they move; what cannot be read is none, and takes no page down."""
    found = {}
    for part, kept in (rig.attached or {}).items():
        try:
            found[DevicePart(part)] = read(AttachedDevice, kept)
        except ValueError:
            log.warning("the %s device of %s cannot be read: choose it again", part, rig.name)
    return found


log = logging.getLogger(__name__)


def light_range(rig: Rig) -> tuple[int, int] | None:
    """Lowest and highest brightness of the light that is attached, as it said when it was tried; None where none did."""
    light = attached_to(rig).get(DevicePart.LIGHT)
    if light is None:
        return None
    try:
        if light.kind == "switch":
            port = next(p for p in light.said["ports"] if p["number"] == light.port)
            highest = steps_of_port(port["lowest"], port["highest"], port["step"])
        else:
            highest = int(light.said["highest"])
    except (KeyError, TypeError, ValueError, ZeroDivisionError, StopIteration):
        return None
    return 1, max(highest, 1)


#: What moves nothing, but tells something.
TELLS = (DevicePart.SAFETY, DevicePart.WEATHER)


def moved(part: DevicePart) -> str:
    """How a part's line on the sheet is called."""
    return f"{part.value} told by" if part in TELLS else f"{part.value} moved by"


def by_nobody(part: DevicePart) -> str:
    """What stands on that line where no device is chosen."""
    return "nobody" if part in TELLS else MovedBy.HAND.value


def read_attached(session: Session, rig: Rig) -> dict[str, Any]:
    """All of them as a sheet: each part with its device, or that a hand moves it."""
    return {moved(part): (rig.attached or {}).get(part.value, by_nobody(part)) for part in DevicePart}


def write_attached(library: Library, session: Session, rig: Rig, values: Mapping[str, Any]) -> None:
    """Keep the devices of a sheet."""
    devices = {part: values.get(moved(part)) for part in DevicePart}
    rig.attached = {
        part.value: as_kept(read(AttachedDevice, device))
        for part, device in devices.items()
        if isinstance(device, Mapping)
    }
