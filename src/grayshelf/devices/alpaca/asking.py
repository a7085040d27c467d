"""Asking a device over HTTP, within a time and a size: what it answers is checked before anything rests on it.

httpx is used against the standard rather than the client package `alpyca`: that one holds one lock for all devices
while an image comes in, and waits for an image without end.
"""

from __future__ import annotations

import asyncio
import concurrent.futures
import itertools
import json
import ssl
import threading
import time
from collections.abc import Awaitable, Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TypeVar

from grayshelf.clock import Interrupted
from grayshelf.core.digits import file_size
from grayshelf.devices.alpaca.errors import DeviceRefused, NotAnswering, Rubbish, refused

if TYPE_CHECKING:
    import httpx

T = TypeVar("T")

#: Of an answer that is no picture; a list of devices with its words is a few kilobytes.
MOST_BYTES = 1_000_000
#: An answer is waited for so long, and so long where something is to be done first.
ANSWER_S, DOING_S = 6.0, 30.0
#: How often a wait looks whether it was called off.
LOOKED_AT_S = 0.05
#: By the standard a client names itself by a number from 0 to 2³² − 1.
CLIENT_ID = 41_881
IMAGE_BYTES = "application/imagebytes"

_transactions = itertools.count(1)


#: Addresses are of http alone. To read in the certificates of the whole web for that would take longer than to ask.
NO_CERTIFICATES = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)


class _Loop:
    """The thread in which answers are waited for: there each wait can be broken off, whatever the other side does."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._loop: asyncio.AbstractEventLoop | None = None

    def run(
        self, make: Callable[[], Awaitable[T]], within_s: float, cancel: threading.Event | None = None
    ) -> T:
        """Wait for what it makes.

        Raises
        ------
        TimeoutError
            Where it takes longer.
        Interrupted
            Where it is called off.
        """

        async def bounded() -> T:
            async with asyncio.timeout(within_s):
                return await make()

        future = asyncio.run_coroutine_threadsafe(bounded(), self._running())
        while True:
            try:
                return future.result(LOOKED_AT_S if cancel is not None else None)
            except concurrent.futures.TimeoutError:
                if future.done():
                    raise
                if cancel is not None and cancel.is_set():
                    future.cancel()
                    raise Interrupted from None

    def _running(self) -> asyncio.AbstractEventLoop:
        with self._lock:
            if self._loop is None:
                self._loop = asyncio.new_event_loop()
                threading.Thread(target=self._loop.run_forever, name="devices", daemon=True).start()
            return self._loop


_LOOP = _Loop()


@dataclass(frozen=True)
class Reply:
    """An answer as it came."""

    status: int
    kind: str
    """Its media type."""
    body: bytes | bytearray


class AlpacaServer:
    """What answers at one address, which a person named or chose. One of it serves all its devices."""

    def __init__(self, address: str) -> None:
        """`address`: 'http://host:port', as `core.rigs.addresses.read_address` gives it."""
        self.address = address.rstrip("/")
        self._client: httpx.AsyncClient | None = None

    def get(
        self,
        path: str,
        values: Mapping[str, Any] | None = None,
        *,
        within_s: float = ANSWER_S,
        accept: str = "application/json",
        most_bytes: int = MOST_BYTES,
        cancel: threading.Event | None = None,
    ) -> Reply:
        """Ask for something. What was cut off on its way is asked for once more: asking changes nothing."""
        request = {"params": dict(values or {}), "headers": {"Accept": accept}}
        try:
            return self._ask("GET", path, request, within_s, most_bytes, cancel)
        except NotAnswering as lost:
            if not lost.cut_off:
                raise
            return self._ask("GET", path, request, within_s, most_bytes, cancel)

    def put(
        self,
        path: str,
        values: Mapping[str, Any],
        *,
        within_s: float = DOING_S,
        cancel: threading.Event | None = None,
    ) -> Reply:
        """Have something done: never twice."""
        return self._ask("PUT", path, {"data": dict(values)}, within_s, MOST_BYTES, cancel)

    def _ask(
        self,
        method: str,
        path: str,
        request: dict[str, Any],
        within_s: float,
        most_bytes: int,
        cancel: threading.Event | None,
    ) -> Reply:
        # Loaded when a device is asked: it takes as long as a tenth of a start.
        import httpx

        try:
            return _LOOP.run(lambda: self._within(method, path, request, most_bytes), within_s, cancel)
        except TimeoutError as error:
            raise NotAnswering(f"{self.address} did not answer within {within_s:g} s.") from error
        except (httpx.ConnectError, httpx.ConnectTimeout) as error:
            raise NotAnswering(f"Nothing answers at {self.address}.") from error
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise NotAnswering(
                f"The connection to {self.address} was lost in the middle of an answer.", cut_off=True
            ) from error

    async def _within(self, method: str, path: str, request: dict[str, Any], most_bytes: int) -> Reply:
        import httpx

        if self._client is None:
            # No proxy and no redirection: nothing but the address that was named is connected to. Nothing is unpacked,
            # so that what is small on its way is small here.
            self._client = httpx.AsyncClient(
                base_url=self.address,
                trust_env=False,
                follow_redirects=False,
                timeout=None,
                headers={"Accept-Encoding": "identity", "User-Agent": "Gray Shelf"},
                verify=NO_CERTIFICATES,
            )
        async with self._client.stream(method, path, **request) as response:
            announced = response.headers.get("content-length", "")
            if announced.isdigit() and int(announced) > most_bytes:
                raise Rubbish(f"{self.address} announced {file_size(int(announced))} as its answer.")
            body = bytearray()
            async for piece in response.aiter_raw():
                body += piece
                if len(body) > most_bytes:
                    raise Rubbish(f"{self.address} sent more than {file_size(most_bytes)} as its answer.")
            kind = response.headers.get("content-type", "").partition(";")[0].strip().lower()
            return Reply(response.status_code, kind, body)


@dataclass(frozen=True)
class AlpacaDevice:
    """One device of a server: its kind as addresses write it ('camera', 'filterwheel', ...) and its number there."""

    server: AlpacaServer
    kind: str
    number: int
    name: str
    """What the person knows it by, in sentences."""

    def get(
        self, what: str, *, within_s: float = ANSWER_S, cancel: threading.Event | None = None, **values: Any
    ) -> Any:
        """The value of one of its properties.

        Raises
        ------
        NotAnswering, Rubbish, DeviceRefused
                Where no answer came, one that cannot be read, or the device's own refusal.
        Interrupted
            Where it is called off.
        """
        asked, number = self._numbered(values)
        with self._named():
            reply = self.server.get(self._path(what), asked, within_s=within_s, cancel=cancel)
        return self.value_in(reply, number)

    def put(
        self, what: str, *, within_s: float = DOING_S, cancel: threading.Event | None = None, **values: Any
    ) -> Any:
        """Have the device do something; raises as `get`."""
        asked, number = self._numbered(values)
        with self._named():
            reply = self.server.put(self._path(what), asked, within_s=within_s, cancel=cancel)
        return self.value_in(reply, number)

    def image(self, most_bytes: int, within_s: float, cancel: threading.Event | None) -> tuple[Reply, int]:
        """The picture that is ready, as it came, and the number that the question bore."""
        asked, number = self._numbered({})
        with self._named():
            reply = self.server.get(
                self._path("imagearray"),
                asked,
                within_s=within_s,
                accept=f"{IMAGE_BYTES}, application/json;q=0.5",
                most_bytes=most_bytes,
                cancel=cancel,
            )
        return reply, number

    def has(self, what: str) -> Any:
        """The value of a property that a device may lack; None where it does."""
        try:
            return self.get(what)
        except DeviceRefused as refusal:
            if refusal.lacks:
                return None
            raise

    def connect(self) -> None:
        """See that the device itself is connected to its program, which is no longer so where that was restarted.

        Raises
        ------
        NotAnswering
            Where it does not get connected in time.
        """
        if self.get("connected") is True:
            return
        self.put("connected", Connected=True)
        give_up = time.monotonic() + DOING_S
        while self.get("connected") is not True:
            if time.monotonic() > give_up:
                raise NotAnswering(f"{self.name} does not get connected by its program.")
            time.sleep(0.25)

    @contextmanager
    def _named(self) -> Iterator[None]:
        """What a server did not answer is told of the device."""
        try:
            yield
        except NotAnswering as error:
            raise NotAnswering(
                f"{self.name} is out of reach. {error.message}", cut_off=error.cut_off
            ) from error

    def _path(self, what: str) -> str:
        return f"/api/v1/{self.kind}/{self.number}/{what}"

    def _numbered(self, values: Mapping[str, Any]) -> tuple[dict[str, Any], int]:
        number = next(_transactions) % 2**32
        # 'True' and 'False': the standard's examples write them so, and some devices read no other way.
        return {
            **{k: str(v) if isinstance(v, bool) else v for k, v in values.items()},
            "ClientID": CLIENT_ID,
            "ClientTransactionID": number,
        }, number

    def value_in(self, reply: Reply, number: int) -> Any:
        """The value in an answer to the question that bore this number; raises as `get`."""
        if reply.status != 200:
            raise Rubbish(
                f"{self.name} answered with HTTP status {reply.status}: {as_text(reply.body)}".rstrip(": ")
            )
        try:
            told = json.loads(bytes(reply.body))
        except (ValueError, RecursionError) as error:
            raise Rubbish(f"{self.name} answered with something that is no JSON.") from error
        if not isinstance(told, dict):
            raise Rubbish(f"{self.name} answered with something that is no answer of the Alpaca standard.")
        check_number(self.name, told.get("ClientTransactionID", 0), number)
        error_number = told.get("ErrorNumber", 0)
        if error_number:
            raise refused(self.name, error_number, as_text(told.get("ErrorMessage", "")))
        return told.get("Value")


def check_number(name: str, told: object, number: int) -> None:
    """Refuse the answer to another question. Devices that leave the number out, or at 0, are common and are let be."""
    if told not in (0, None, number):
        raise Rubbish(f"{name} answered another question than was asked.")


def as_text(told: object, most: int = 300) -> str:
    """What a device says, for a sentence: printable, in one line, and no longer than that."""
    text = bytes(told[:4000]).decode(errors="replace") if isinstance(told, bytes | bytearray) else str(told)
    line = " ".join("".join(c if c.isprintable() else " " for c in text[:4000]).split())
    return line if len(line) <= most else f"{line[:most]}…"
