"""The devices of a rig in words: what each said, what of it differs, and what was found on the network."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.rigs.device_parts import DevicePart, steps_of_port
from grayshelf.devices.alpaca.building import by_codes
from grayshelf.devices.alpaca.discovery import FoundServer
from grayshelf.devices.alpaca.saying import CameraSaid, FocuserSaid, LightSaid, RotatorSaid, Said, WheelSaid
from grayshelf.devices.alpaca.saying_around import MountSaid, Port, SafetySaid, SwitchSaid, WeatherSaid
from grayshelf.library.attached import TELLS, AttachedDevice, attached_to
from grayshelf.library.library import Library
from grayshelf.library.models import Rig
from grayshelf.web.attaching.schemas import (
    AttachedOut,
    AttachedPartOut,
    DevicesFoundOut,
    FoundDeviceOut,
    FoundServerOut,
)
from grayshelf.web.common import in_words
from grayshelf.work.rigs.attaching import KINDS_OF, differs, said_of

TITLES = {
    DevicePart.CAMERA: "Camera",
    DevicePart.FILTERS: "Filter wheel",
    DevicePart.LIGHT: "Light",
    DevicePart.COVER: "Cover",
    DevicePart.ROTATOR: "Rotator",
    DevicePart.FOCUSER: "Focuser",
    DevicePart.MOUNT: "Mount",
    DevicePart.SAFETY: "Safety monitor",
    DevicePart.WEATHER: "Weather station",
}


#: What the demo's own rig leaves to hands, too.
_BY_HAND = (DevicePart.COVER, DevicePart.MOUNT)


def attached_page(library: Library, session: Session, rig: Rig, *, busy: bool) -> AttachedOut:
    """The parts that a device can move, each with the one that does."""
    attached = attached_to(rig)
    zone = library.zone(session)
    by = "the demo’s own rig" if rig.devices and DevicePart.CAMERA not in attached else "by hand"
    parts = []
    for part, kinds in KINDS_OF.items():
        one = attached.get(part)
        out = AttachedPartOut(
            part=part,
            title=TITLES[part],
            kinds=list(kinds),
            name="",
            otherwise="none" if part in TELLS else "by hand" if part in _BY_HAND else by,
            where="",
            says=[],
            differs=[],
            tried="",
        )
        said = said_of(one) if one is not None else None
        if one is not None and said is None:
            out.name, out.differs = one.name, ["What it said cannot be read any more: try it again."]
        elif one is not None and said is not None:
            port = "" if one.port is None else f", port {one.port}"
            out.name, out.where = one.name, f"{_short(one.address)}, {one.kind} {one.number}{port}"
            out.says = says(part, said, tuple(f.code for f in rig.filters))
            out.differs = differs(library, session, rig, part, said)
            when = datetime.fromisoformat(one.tried_at)
            out.tried = f"{in_words.short_day(when.astimezone(zone).date())}, {in_words.clock(when, zone)}"
        parts.append(out)
    return AttachedOut(parts=parts, words=_words(rig, attached), busy=busy)


def _words(rig: Rig, attached: dict[DevicePart, AttachedDevice]) -> str:
    if not attached:
        return "No device on the network moves a part of this rig."
    if DevicePart.CAMERA not in attached and rig.devices:
        return "Until a camera is chosen, the demo’s own rig shoots."
    if DevicePart.CAMERA not in attached:
        return (
            "No camera is chosen: on Tonight your own program shoots, and these devices set "
            "what is theirs before each series."
        )
    train = [p for p in TITLES if p not in TELLS]
    by_hand = [TITLES[part].lower() for part in train if part not in attached]
    rest = f" By hand: {in_words.listed(by_hand)}." if by_hand else ""
    return f"Runs, searches and exercises drive {in_words.several(len(attached), 'device')}.{rest}"


def _short(address: str) -> str:
    return address.removeprefix("http://")


# -- what a device says ---------------------------------------------------------------------------------------------


def says(part: DevicePart, said: Said, codes: Sequence[str]) -> list[str]:
    """What a device said of itself, each in a few words."""
    if isinstance(said, CameraSaid):
        return _camera_says(said)
    if isinstance(said, WheelSaid):
        called = by_codes(said.names, codes)
        places = [
            name if code == name else f"{name} as {code}"
            for name, code in zip(said.names, called, strict=True)
        ]
        return [f"{in_words.several(len(places), 'place')}: {', '.join(places)}"]
    if isinstance(said, LightSaid):
        light = [f"brightness 0 to {said.highest:,}"] if said.highest is not None else []
        cover = ["a cover that moves"] if said.has_cover else ["no cover that moves"]
        return [*light, *cover]
    if isinstance(said, RotatorSaid):
        return ["its own angle, whatever the sky’s is" if said.mechanical else "the angle on the sky alone"]
    if isinstance(said, FocuserSaid):
        return _focuser_says(said)
    return _around_says(said)


def _around_says(said: MountSaid | SafetySaid | WeatherSaid | SwitchSaid) -> list[str]:
    if isinstance(said, MountSaid):
        how = "altitude and azimuth" if said.by_altitude else "hour angle and declination"
        return [
            f"sent by {how}",
            "parks" if said.can_park else "does not park",
            *(["finds home"] if said.can_home else []),
        ]
    if isinstance(said, SafetySaid):
        return ["it was safe then" if said.safe else "it was not safe then"]
    if isinstance(said, WeatherSaid):
        return [
            f"tells {in_words.listed(said.tells)}" if said.tells else "tells nothing that a night’s log keeps"
        ]
    return [f"{p.number} {p.name}: {port_words(p)}" for p in said.ports]


def port_words(port: Port) -> str:
    """What a port can be set to."""
    steps = steps_of_port(port.lowest, port.highest, port.step)
    return "on and off" if steps <= 1 else f"{steps:,} steps"


def _camera_says(said: CameraSaid) -> list[str]:
    facts = said.facts
    told = [f"{facts.width:,} × {facts.height:,}", f"{facts.pixel_um:g} µm", facts.bayer_pattern or "mono"]
    told.append(f"up to {facts.white_adu:,} ADU")
    for word, names, span in (
        ("gain", said.gains, facts.gain_range),
        ("offset", said.offsets, facts.offset_range),
    ):
        if names:
            told.append(f"{word} one of {len(names)}: {', '.join(names[:8])}{' …' if len(names) > 8 else ''}")
        elif span is not None:
            told.append(f"{word} {span[0]:g} to {span[1]:g}")
        else:
            told.append(f"{word} cannot be set")
    longest = f" to {said.longest_s:g} s" if said.longest_s else " s"
    told.append(f"exposures from {facts.shortest_s:g}{longest}")
    told.append("cooler with a set point" if facts.cooled else "no set point")
    if facts.most_binning > 1:
        told.append(f"bins up to {facts.most_binning} × {facts.most_binning}")
    if said.has_shutter:
        told.append("a shutter")
    return told


def _focuser_says(said: FocuserSaid) -> list[str]:
    told = ["knows where it is" if said.absolute else "moves by steps alone"]
    if said.most is not None:
        told.append(f"0 to {said.most:,} steps")
    if said.step_um is not None:
        told.append(f"{said.step_um:g} µm a step")
    return told


# -- what was found -------------------------------------------------------------------------------------------------


def found_out(session: Session, servers: Sequence[FoundServer]) -> DevicesFoundOut:
    """What answered, with the parts that each device could move."""
    moves: dict[tuple[str, str, int], list[str]] = {}
    for rig in session.scalars(select(Rig)):
        for part, one in attached_to(rig).items():
            key = (one.address, one.kind, one.number)
            moves.setdefault(key, []).append(f"{TITLES[part].lower()} of {rig.name}")
    outs = [
        FoundServerOut(
            address=_short(server.address),
            name=server.name,
            devices=[
                FoundDeviceOut(
                    address=_short(d.address),
                    kind=d.kind,
                    number=d.number,
                    name=d.name,
                    unique_id=d.unique_id,
                    fits=[part for part, kinds in KINDS_OF.items() if d.kind in kinds],
                    moves=in_words.listed(moves.get((d.address, d.kind, d.number), [])),
                )
                for d in server.devices
            ],
            others=in_words.listed(server.others),
            trouble=server.trouble,
        )
        for server in servers
    ]
    count = sum(len(server.devices) for server in servers)
    if not servers:
        words = "Nothing on this network answered."
    else:
        words = f"{in_words.several(count, 'device')} at {in_words.several(len(servers), 'address', 'addresses')}."
    return DevicesFoundOut(servers=outs, words=words)
