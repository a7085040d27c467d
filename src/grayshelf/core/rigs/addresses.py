"""Addresses of devices on the network, as a person types them."""

from __future__ import annotations

import ipaddress
import re
from urllib.parse import urlsplit

from grayshelf.core.errors import Conflict

#: Common practice, no source: the port that most programs which speak Alpaca use where nothing else was chosen.
USUAL_PORT = 11_111
_HOST = re.compile(r"[a-z0-9]([a-z0-9_.-]{0,250}[a-z0-9])?\.?", re.IGNORECASE)
_BAD = "Write it as 192.168.1.20:11111, or with a name in place of the number."


def read_address(typed: str, usual_port: int = USUAL_PORT) -> str:
    """An address as it is asked: ``http://host:port``, the usual port where none is typed.

    Raises
    ------
    Conflict
        Where it is none, or holds more than host and port.
    """
    text = typed.strip()
    try:
        parts = urlsplit(text if "//" in text else f"http://{text}")
    except ValueError as error:
        raise Conflict(f"'{text}' is no address.", _BAD) from error
    try:
        port, host = parts.port, parts.hostname
    except ValueError as error:
        raise Conflict(f"'{text}' has no port that can be: {error}.", _BAD) from error
    if parts.scheme.lower() != "http":
        raise Conflict("Only what is served over http is asked.", _BAD)
    if not host or parts.username is not None or parts.path not in ("", "/") or parts.query or parts.fragment:
        raise Conflict(f"'{text}' is no address: that is host and port alone.", _BAD)
    return f"http://{_host(host, text)}:{port if port is not None else usual_port}"


def _host(host: str, text: str) -> str:
    try:
        number = ipaddress.ip_address(host)
    except ValueError:
        if not _HOST.fullmatch(host):
            raise Conflict(f"'{text}' is no address.", _BAD) from None
        return host.lower()
    return f"[{number}]" if number.version == 6 else str(number)
