"""From what a person chose and what the devices said: the ports that work drives them by."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import replace

from grayshelf.clock import Clock
from grayshelf.core.rigs.names import read_filter_name
from grayshelf.devices.alpaca.around import AlpacaLamp, AlpacaMount
from grayshelf.devices.alpaca.asking import AlpacaDevice, AlpacaServer
from grayshelf.devices.alpaca.camera import AlpacaCamera
from grayshelf.devices.alpaca.hands import AlpacaHands
from grayshelf.devices.alpaca.light import AlpacaCover, AlpacaPanel
from grayshelf.devices.alpaca.movers import AlpacaFocuser, AlpacaRotator, AlpacaWheel
from grayshelf.devices.alpaca.saying import CameraSaid, FocuserSaid, LightSaid, RotatorSaid, WheelSaid
from grayshelf.devices.alpaca.saying_around import MountSaid, SwitchSaid


class Servers:
    """One of each address, however many devices are asked there."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._at: dict[str, AlpacaServer] = {}

    def device(self, address: str, kind: str, number: int, name: str) -> AlpacaDevice:
        """A device at an address."""
        with self._lock:
            server = self._at.setdefault(address, AlpacaServer(address))
        return AlpacaDevice(server, kind, number, name)


def camera_of(
    device: AlpacaDevice, said: CameraSaid, clock: Clock, *, called: str, white_adu: int | None
) -> AlpacaCamera:
    """A camera; `called` as the rig's frames name it, its highest level as a person typed it where that was done."""
    facts = replace(said.facts, name=called, white_adu=white_adu or said.facts.white_adu)
    return AlpacaCamera(device, facts, clock, gains=said.gains, offsets=said.offsets)


def wheel_of(device: AlpacaDevice, said: WheelSaid, codes: Sequence[str]) -> AlpacaWheel:
    """A wheel whose places are called by the rig's own codes."""
    return AlpacaWheel(device, by_codes(said.names, codes))


def panel_of(device: AlpacaDevice, said: LightSaid, typed: tuple[int, int] | None) -> AlpacaPanel | None:
    """A panel; None where the device is a cover alone. `typed`: lowest and highest brightness of the light's sheet."""
    if said.highest is None:
        return None
    lowest, highest = (1, said.highest) if typed is None else (typed[0], min(typed[1], said.highest))
    return AlpacaPanel(device, highest, max(min(lowest, highest), 1))


def cover_of(device: AlpacaDevice, said: LightSaid) -> AlpacaCover | None:
    """A cover; None where the device is a panel alone."""
    return AlpacaCover(device, is_light=said.highest is not None) if said.has_cover else None


def rotator_of(device: AlpacaDevice, said: RotatorSaid) -> AlpacaRotator:
    """A rotator."""
    return AlpacaRotator(device, mechanical=said.mechanical)


def focuser_of(device: AlpacaDevice, said: FocuserSaid) -> AlpacaFocuser | None:
    """A focuser; None where it does not know where it is, so that no focus can be come back to."""
    return AlpacaFocuser(device, said.most) if said.absolute else None


def lamp_of(device: AlpacaDevice, said: SwitchSaid, port: int | None) -> AlpacaLamp | None:
    """A lamp on a port of a switch; None where the port is not there any more."""
    found = next((p for p in said.ports if p.number == port), None)
    return (
        None if found is None else AlpacaLamp(device, found.number, (found.lowest, found.highest, found.step))
    )


def mount_of(device: AlpacaDevice, said: MountSaid) -> AlpacaMount:
    """A mount."""
    return AlpacaMount(device, by_altitude=said.by_altitude)


def hands_of(device: AlpacaDevice, said: CameraSaid) -> AlpacaHands | None:
    """The hands of a stand-in, which has to be told what a person did; a real rig has none."""
    return AlpacaHands(device) if said.told_by_hands else None


def by_codes(names: Sequence[str], codes: Sequence[str]) -> tuple[str, ...]:
    """What sits in a wheel's places, by the rig's codes: a name that is one, or that reads as the same filter.

    >>> by_codes(("Luminance", "h-alpha 7nm", "empty"), ("L", "Ha"))
    ('L', 'Ha', 'empty')
    """
    plain = {code.casefold(): code for code in codes}
    read = {read_filter_name(code).code: code for code in codes if read_filter_name(code).code}
    found = []
    for name in names:
        meant = read_filter_name(name).code
        found.append(
            plain.get(name.strip().casefold()) or read.get(meant) or (meant if not codes and meant else name)
        )
    return tuple(found)
