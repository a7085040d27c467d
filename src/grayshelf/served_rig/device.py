"""What all served devices have in common: properties and commands by name, connecting, and the standard's errors."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, TypeVar

from grayshelf import __version__

Number = TypeVar("Number", int, float)


class Refusal(Exception):
    """The device refuses, with a number of the standard and a word."""

    def __init__(self, number: int, word: str) -> None:
        super().__init__(word)
        self.number, self.word = number, word


class BadRequest(Exception):
    """A question that the standard does not know; answered with HTTP status 400."""


def not_implemented(what: str) -> Refusal:
    """The device has no such property or command."""
    return Refusal(0x400, f"{what} is not implemented by this device.")


def invalid(word: str) -> Refusal:
    """A value that cannot be."""
    return Refusal(0x401, word)


class Form:
    """The values of a command, as they came; their names are case sensitive by the standard."""

    def __init__(self, values: Mapping[str, str]) -> None:
        self._values = values

    def text(self, name: str) -> str:
        """A text."""
        if name not in self._values:
            raise BadRequest(f"The value {name} is missing.")
        return self._values[name]

    def number(self, name: str) -> float:
        """A number."""
        try:
            return float(self.text(name))
        except ValueError as error:
            raise BadRequest(f"{name} is no number.") from error

    def whole(self, name: str) -> int:
        """A whole number."""
        try:
            return int(self.text(name))
        except ValueError as error:
            raise BadRequest(f"{name} is no whole number.") from error

    def truth(self, name: str) -> bool:
        """True or false, in any case."""
        word = self.text(name).lower()
        if word not in ("true", "false"):
            raise BadRequest(f"{name} is neither true nor false.")
        return word == "true"


@dataclass
class Faults:
    """What goes wrong on request: a fault by its name, and how often still (−1 without end)."""

    now: dict[str, int] = field(default_factory=dict)

    def begin(self, name: str, times: int = -1) -> None:
        """Let a fault begin."""
        self.now[name] = times

    def end(self, name: str) -> None:
        """Let it end."""
        self.now.pop(name, None)

    def strikes(self, name: str) -> bool:
        """Whether it strikes this time; one that has struck as often as it should is over."""
        left = self.now.get(name, 0)
        if left == 0:
            return False
        if left > 0:
            self.now[name] = left - 1
            if left == 1:
                del self.now[name]
        return True


class Device:
    """A served device. Its properties are its methods `get_...`, its commands `put_...`, in the standard's words."""

    kind: str
    interface: int

    def __init__(self, name: str, description: str, faults: Faults) -> None:
        self.name, self.description, self.faults = name, description, faults
        self.is_connected = False
        self.lock = threading.RLock()

    def read(self, what: str) -> Any:
        """The value of a property."""
        if what == "imagearrayvariant":
            raise not_implemented(what)
        getter: Callable[[], Any] | None = getattr(self, f"get_{what}", None)
        if getter is None:
            raise BadRequest(f"{what} is no property of a {self.kind}.")
        if what not in _WITHOUT_CONNECTION and not self.is_connected:
            raise Refusal(0x407, f"{self.name} is not connected.")
        with self.lock:
            return getter()

    def do(self, what: str, form: Form) -> Any:
        """Do a command."""
        command: Callable[[Form], Any] | None = getattr(self, f"put_{what}", None)
        if command is None:
            raise BadRequest(f"{what} is no command of a {self.kind}.")
        if what not in _WITHOUT_CONNECTION and not self.is_connected:
            raise Refusal(0x407, f"{self.name} is not connected.")
        return command(form)

    # -- the standard's common part ---------------------------------------------------------------------------------

    def get_connected(self) -> bool:
        """Whether it is connected."""
        return self.is_connected

    def put_connected(self, form: Form) -> None:
        """Connect or disconnect."""
        self.is_connected = form.truth("Connected")

    def get_connecting(self) -> bool:
        """It connects at once."""
        return False

    def put_connect(self, form: Form) -> None:
        """Connect."""
        self.is_connected = True

    def put_disconnect(self, form: Form) -> None:
        """Disconnect."""
        self.is_connected = False

    def get_name(self) -> str:
        """Its name."""
        return self.name

    def get_description(self) -> str:
        """What it is."""
        return self.description

    def get_driverinfo(self) -> str:
        """What answers."""
        return "Gray Shelf’s simulated rig: a model, no device"

    def get_driverversion(self) -> str:
        """Its version."""
        return __version__

    def get_interfaceversion(self) -> int:
        """The version of the standard's interface."""
        return self.interface

    def get_supportedactions(self) -> list[str]:
        """Commands beyond the standard's."""
        return []

    def get_devicestate(self) -> list[dict[str, Any]]:
        """Its state in one answer."""
        return []

    def put_action(self, form: Form) -> str:
        """A command beyond the standard's."""
        raise Refusal(0x40C, f"{form.text('Action')} is not known to {self.name}.")

    def put_commandblind(self, form: Form) -> None:
        """None is sent on."""
        raise not_implemented("CommandBlind")

    def put_commandbool(self, form: Form) -> None:
        """None is sent on."""
        raise not_implemented("CommandBool")

    def put_commandstring(self, form: Form) -> None:
        """None is sent on."""
        raise not_implemented("CommandString")


#: What answers before a device is connected.
_WITHOUT_CONNECTION = frozenset(
    (
        "connected", "connecting", "connect", "disconnect", "name", "description", "driverinfo", "driverversion",
        "interfaceversion", "supportedactions",
    )
)  # fmt: skip


class Moving:
    """A move that goes on in a thread of its own while the device answers."""

    def __init__(self) -> None:
        self._thread: threading.Thread | None = None

    @property
    def goes_on(self) -> bool:
        """Whether it moves."""
        return self._thread is not None and self._thread.is_alive()

    def begin(self, move: Callable[[], None]) -> None:
        """Begin to move."""
        if self.goes_on:
            raise Refusal(0x40B, "It still moves.")
        self._thread = threading.Thread(target=move, name="served move", daemon=True)
        self._thread.start()
