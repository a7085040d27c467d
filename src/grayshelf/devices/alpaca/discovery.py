"""Looking for devices: asked of this network by the standard's broadcast, or at an address that a person named."""

from __future__ import annotations

import ipaddress
import json
import socket
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import ifaddr

from grayshelf.core.errors import DeviceError
from grayshelf.devices.alpaca.asking import AlpacaServer, as_text
from grayshelf.devices.alpaca.errors import Rubbish
from grayshelf.devices.alpaca.saying import KINDS

#: The question and its port (Alpaca discovery protocol, version 1).
QUESTION, PORT = b"alpacadiscovery1", 32_227
#: How long answers are waited for; from so many servers, and so many devices of each.
LISTENED_S = 2.0
MOST_SERVERS, MOST_DEVICES = 64, 200


@dataclass(frozen=True)
class FoundDevice:
    """A device that a server says it has."""

    address: str
    kind: str
    number: int
    name: str
    unique_id: str


@dataclass(frozen=True)
class FoundServer:
    """What answers at an address."""

    address: str
    name: str
    devices: tuple[FoundDevice, ...]
    others: tuple[str, ...] = ()
    """Names of devices of kinds that are not driven here."""
    trouble: str = ""


def broadcasts() -> list[str]:
    """Where all machines of each network that this one is in can be asked at once (IPv4), and this one itself.

    The address for all networks goes out on one of them only, and on none where no router is: as at a telescope in a field.
    """
    found = dict.fromkeys(("255.255.255.255", "127.0.0.1"))
    with suppress(OSError, ValueError):
        own = [ip for adapter in ifaddr.get_adapters() for ip in adapter.ips if isinstance(ip.ip, str)]
        networks = [ipaddress.IPv4Network(f"{ip.ip}/{ip.network_prefix}", strict=False) for ip in own]
        found |= dict.fromkeys(str(n.broadcast_address) for n in networks if n.prefixlen < 31)
    return [address for address in found if not address.startswith("127.255.")]


def look_for_servers(
    to: Sequence[str] | None = None, port: int = PORT, listened_s: float = LISTENED_S
) -> list[str]:
    """Addresses of servers that answer the broadcast, in the order of their answers: 'http://host:port'."""
    to = broadcasts() if to is None else to
    found: dict[str, None] = {}
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asking:
        asking.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        asking.bind(("", 0))
        until = time.monotonic() + listened_s
        _ask(asking, to, port)
        # A datagram may be lost: asked a second time half way.
        again = time.monotonic() + listened_s / 2
        while (left := until - time.monotonic()) > 0 and len(found) < MOST_SERVERS:
            if again and time.monotonic() >= again:
                _ask(asking, to, port)
                again = 0.0
            asking.settimeout(min(left, 0.2))
            with suppress(TimeoutError, OSError):
                answer, (host, _) = asking.recvfrom(2048)
                if (alpaca := _port_in(answer)) is not None:
                    found[f"http://{host}:{alpaca}"] = None
    return list(found)


def _ask(asking: socket.socket, to: Sequence[str], port: int) -> None:
    for host in to:
        # In no network at all there is nobody to be asked but this machine.
        with suppress(OSError):
            asking.sendto(QUESTION, (host, port))


def _port_in(answer: bytes) -> int | None:
    try:
        told: Any = json.loads(answer)
    except (ValueError, RecursionError):
        return None
    if not isinstance(told, dict):
        return None
    port = {str(name).lower(): value for name, value in told.items()}.get("alpacaport")
    return port if isinstance(port, int) and 0 < port < 65_536 else None


def ask_server(address: str) -> FoundServer:
    """What a server says it has; a server that does not answer is told with its trouble."""
    server = AlpacaServer(address)
    try:
        listed = _value(server, "/management/v1/configureddevices")
    except DeviceError as error:
        return FoundServer(address, "", (), trouble=error.message)
    name = ""
    with suppress(DeviceError):
        told = _value(server, "/management/v1/description")
        name = as_text(told.get("ServerName", ""), 80) if isinstance(told, dict) else ""
    if not isinstance(listed, list):
        return FoundServer(address, name, (), trouble=f"{address} gives no list of its devices.")
    devices, others = [], []
    for entry in listed[:MOST_DEVICES]:
        found = _device(address, entry)
        if found is not None and found.kind in KINDS:
            devices.append(found)
        elif found is not None:
            others.append(found.name)
    return FoundServer(address, name, tuple(devices), tuple(others))


def _device(address: str, entry: Any) -> FoundDevice | None:
    if not isinstance(entry, dict):
        return None
    number, kind = entry.get("DeviceNumber"), entry.get("DeviceType")
    if not isinstance(number, int) or not isinstance(kind, str) or not 0 <= number < 2**32:
        return None
    name = as_text(entry.get("DeviceName", "") or kind, 80)
    return FoundDevice(address, kind.lower(), number, name, as_text(entry.get("UniqueID", ""), 100))


def _value(server: AlpacaServer, path: str) -> Any:
    reply = server.get(path)
    if reply.status != 200:
        raise Rubbish(f"{server.address} answers, but not as an Alpaca server does.")
    try:
        told = json.loads(bytes(reply.body))
    except (ValueError, RecursionError) as error:
        raise Rubbish(f"{server.address} answers, but not as an Alpaca server does.") from error
    return told.get("Value") if isinstance(told, dict) else None
