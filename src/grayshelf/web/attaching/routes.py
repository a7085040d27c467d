"""Routes of the devices on the network."""

from __future__ import annotations

from apiflask import APIBlueprint

from grayshelf.core.errors import NotFound
from grayshelf.core.rigs.device_parts import DevicePart
from grayshelf.library.library import Library
from grayshelf.web.attaching.page import TITLES, attached_page, found_out, port_words
from grayshelf.web.attaching.schemas import AttachedOut, ChosenIn, DevicesFoundOut, LookIn, PortOut, PortsOut
from grayshelf.web.context import the_context
from grayshelf.web.rigs.schemas import SheetChangedOut
from grayshelf.work.rigs import attaching

api = APIBlueprint("attaching", __name__, url_prefix="/api", tag="Devices")


def _library() -> Library:
    return the_context().library


@api.get("/rigs/<int:rig_id>/devices")
@api.output(AttachedOut)
def get_devices(rig_id: int) -> AttachedOut:
    """The devices on the network that move the parts of a rig."""
    library = _library()
    busy = the_context().runner.is_busy(rig_id)
    with library.db.session() as session:
        return attached_page(library, session, library.rig(session, rig_id), busy=busy)


@api.post("/devices/look")
@api.input(LookIn)
@api.output(DevicesFoundOut)
def look_for_devices(json_data: LookIn) -> DevicesFoundOut:
    """Look for devices on this network, or at an address."""
    servers = attaching.look(json_data.address)
    with _library().db.session() as session:
        return found_out(session, servers)


@api.put("/rigs/<int:rig_id>/devices/<part>")
@api.input(ChosenIn)
@api.output(SheetChangedOut)
def attach_device(rig_id: int, part: str, json_data: ChosenIn) -> SheetChangedOut:
    """Try a device and let it move a part."""
    chosen = attaching.Chosen(**json_data.model_dump())
    return _try_and_keep(rig_id, _part(part), chosen)


@api.post("/devices/ports")
@api.input(ChosenIn)
@api.output(PortsOut)
def get_ports(json_data: ChosenIn) -> PortsOut:
    """The ports of a switch."""
    chosen = attaching.Chosen(**json_data.model_dump())
    ports = attaching.ports_of(the_context().starter.rigs, chosen)
    return PortsOut(ports=[PortOut(number=p.number, name=p.name, words=port_words(p)) for p in ports])


@api.post("/rigs/<int:rig_id>/devices/<part>/try")
@api.output(SheetChangedOut)
def try_device(rig_id: int, part: str) -> SheetChangedOut:
    """Ask an attached device again what it is and can do."""
    library = _library()
    with library.db.session() as session:
        chosen = attaching.chosen_for(library.rig(session, rig_id), _part(part))
    return _try_and_keep(rig_id, _part(part), chosen)


@api.delete("/rigs/<int:rig_id>/devices/<part>")
@api.output(SheetChangedOut)
def let_device_go(rig_id: int, part: str) -> SheetChangedOut:
    """Move a part by hand again."""
    context, library = the_context(), _library()
    with context.runner.changing:
        context.runner.refuse_if_busy(rig_id)
        with library.db.session() as session:
            chosen = attaching.chosen_for(library.rig(session, rig_id), _part(part))
            change = attaching.let_go(library, session, library.rig(session, rig_id), _part(part))
            change_id = change.id if change is not None else None
    _changed()
    return SheetChangedOut(
        message=f"{chosen.name} is this rig’s {_called(_part(part))} no more.", change_id=change_id
    )


def _called(part: DevicePart) -> str:
    return TITLES[part].lower()


def _part(name: str) -> DevicePart:
    try:
        return DevicePart(name)
    except ValueError as error:
        raise NotFound(f"A rig has no part ‘{name}’.") from error


def _try_and_keep(rig_id: int, part: DevicePart, chosen: attaching.Chosen) -> SheetChangedOut:
    context, library = the_context(), _library()
    with library.db.session() as session:
        library.rig(session, rig_id)
    context.runner.refuse_if_busy(rig_id)
    device = attaching.tried_for(library, context.starter.rigs, part, chosen)
    with context.runner.changing:
        context.runner.refuse_if_busy(rig_id)
        with library.db.session() as session:
            change = attaching.attach(library, session, library.rig(session, rig_id), part, device)
            change_id = change.id if change is not None else None
    _changed()
    return SheetChangedOut(
        message=f"{device.name} answers: it is this rig’s {_called(part)} now.", change_id=change_id
    )


def _changed() -> None:
    _library().touched()
    broker = the_context().broker
    broker.publish("state")
    broker.publish("rig")
    broker.publish("flats")
