"""What goes to and fro for devices on the network."""

from __future__ import annotations

from pydantic import Field

from grayshelf.core.rigs.device_parts import DevicePart
from grayshelf.web.common.schemas import Schema


class LookIn(Schema):
    """Where to look for devices."""

    address: str | None = Field(default=None, max_length=300)
    """Host and port; None asks this network."""


class FoundDeviceOut(Schema):
    """A device that answered."""

    address: str
    kind: str
    number: int
    name: str
    unique_id: str
    fits: list[DevicePart]
    """Parts that it could move."""
    moves: str
    """The rig and part that it moves already; empty where it moves none."""


class FoundServerOut(Schema):
    """What answered at an address."""

    address: str
    name: str
    devices: list[FoundDeviceOut]
    others: str
    """Devices of kinds that are not driven here, in words."""
    trouble: str


class DevicesFoundOut(Schema):
    """What was found."""

    servers: list[FoundServerOut]
    words: str


class ChosenIn(Schema):
    """A device for a part."""

    address: str = Field(min_length=1, max_length=300)
    kind: str = Field(min_length=1, max_length=40)
    number: int = Field(ge=0, lt=2**32)
    name: str = Field(min_length=1, max_length=100)
    unique_id: str = Field(default="", max_length=200)
    port: int | None = Field(default=None, ge=0)
    """Of a switch: which of its ports."""


class PortOut(Schema):
    """A port of a switch that can be set."""

    number: int
    name: str
    words: str


class PortsOut(Schema):
    """The ports of a switch."""

    ports: list[PortOut]


class AttachedPartOut(Schema):
    """A part of the train, and the device that moves it."""

    part: DevicePart
    title: str
    kinds: list[str]
    """The kinds of device that can."""
    name: str
    """Of the device; empty where none is chosen."""
    otherwise: str
    """Who moves it where no device is chosen."""
    where: str
    says: list[str]
    """What it said when it was last tried."""
    differs: list[str]
    """What of that is otherwise than lights and sheets say."""
    tried: str


class AttachedOut(Schema):
    """The devices of a rig."""

    parts: list[AttachedPartOut]
    words: str
    """What they mean for tonight."""
    busy: bool
