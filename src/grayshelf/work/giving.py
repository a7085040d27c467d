"""Where fetched frames come from: another Gray Shelf over the network, or a stick that was filled by one."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import closing, contextmanager
from http.client import HTTPConnection, HTTPException
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol
from urllib.parse import urlsplit

from pydantic import ValidationError

from grayshelf.core.errors import Conflict, GrayShelfError, NotPermitted
from grayshelf.core.filing.sharing import LISTING, Shared, SharedFrame
from grayshelf.devices.alpaca.asking import NO_CERTIFICATES
from grayshelf.library.givers import Giver
from grayshelf.library.records import read

if TYPE_CHECKING:
    import httpx

#: A listing of 200,000 frames is some 60 MB.
MOST_LISTING = 400_000_000
PIECE = 1 << 20
#: An answer may be silent so long, in seconds; hashing a large file there takes a while.
SILENT_S = 60.0
#: Within so long it is reached, in seconds, or it is not there.
REACHED_S = 8.0


class Source(Protocol):
    """What frames are fetched from."""

    def listing(self) -> Shared:
        """What it gives."""
        ...

    def sha256(self, frame: SharedFrame) -> str:
        """Hash of a frame's file there."""
        ...

    def pieces(self, frame: SharedFrame, begin: int) -> Iterator[bytes]:
        """The bytes of a frame's file, from a place on."""
        ...


class OtherShelf:
    """Another Gray Shelf over the network."""

    def __init__(self, giver: Giver) -> None:
        self._giver = giver
        port = giver.address.rpartition(":")[2]
        self._headers = {"Accept-Encoding": "identity", "User-Agent": "Gray Shelf"}
        if giver.session:
            self._headers["Cookie"] = f"grayshelf-{port}={giver.session}"
        # Loaded when another is asked: it takes as long as a tenth of a start.
        import httpx

        self._client = httpx.Client(
            base_url=giver.address,
            trust_env=False,
            follow_redirects=False,
            timeout=httpx.Timeout(SILENT_S, connect=REACHED_S),
            headers=self._headers,
            verify=NO_CERTIFICATES,
        )

    def answers(self) -> bool:
        """Whether anything answers there now, whatever it says."""
        import httpx

        try:
            with self._client.stream("GET", "/", timeout=httpx.Timeout(REACHED_S)):
                return True
        except (httpx.HTTPError, httpx.InvalidURL):
            return False

    def listing(self) -> Shared:
        """What it gives."""
        with self._asked("/api/share") as answer:
            told = bytearray()
            for piece in answer.iter_bytes(PIECE):
                told += piece
                if len(told) > MOST_LISTING:
                    raise Conflict(
                        f"{self._giver.address} tells of more than can be.", "See what answers there."
                    )
        return _as_shared(bytes(told), self._giver.address)

    def sha256(self, frame: SharedFrame) -> str:
        """Hash of a frame's file there."""
        with self._asked(f"/api/share/frames/{frame.key}/sha256") as answer:
            told: Any = json.loads(answer.read()[:1000])
        return str(told.get("sha256", "")) if isinstance(told, dict) else ""

    def pieces(self, frame: SharedFrame, begin: int) -> Iterator[bytes]:
        """The bytes of a frame's file, from a place on.

        By the standard library's client: it takes large pieces from the line, and so a fraction of the other's time.
        """
        there = urlsplit(self._giver.address)
        asked = {**self._headers, **({"Range": f"bytes={begin}-"} if begin else {})}
        with (
            self._told(),
            closing(HTTPConnection(there.hostname or "", there.port, timeout=REACHED_S)) as line,
        ):
            line.connect()
            line.sock.settimeout(SILENT_S)
            line.request("GET", f"/api/share/frames/{frame.key}", headers=asked)
            answer = line.getresponse()
            self._refuse(answer.status)
            if begin and answer.status != 206:
                raise Conflict(f"{self._giver.address} cannot go on in the middle of a file.", "Try again.")
            # A file that grew, or shrank, since it was listed is dropped by its hash.
            left = frame.size_bytes - begin
            left = left if answer.length is None else min(left, answer.length)
            while left > 0:
                # Whatever is there: on a slow line nobody waits for a whole piece before it can be stopped.
                piece = answer.read1(min(PIECE, left))
                if not piece:
                    raise HTTPException("it ended before its end")
                left -= len(piece)
                yield piece

    def _refuse(self, status: int) -> None:
        if status == 401:
            raise NotPermitted(
                f"{self._giver.name} asks for its code again: this session has ended there.",
                "Type the code that it shows.",
            )
        if status not in (200, 206):
            raise Conflict(
                f"{self._giver.name} answered with HTTP status {status}.",
                "See that it is a Gray Shelf, of this version, and that it is served with --lan.",
            )

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Tell what goes wrong on the line as something that a person can act on."""
        import httpx

        try:
            yield
        except (httpx.HTTPError, httpx.InvalidURL, HTTPException, OSError, ValueError) as error:
            raise Conflict(
                f"{self._giver.address} does not answer, or not to the end ({type(error).__name__}). What had come is kept.",
                "See that Gray Shelf runs there with --lan and that the network is up, then go on.",
            ) from error

    @contextmanager
    def _asked(self, path: str) -> Iterator[httpx.Response]:
        with self._told(), self._client.stream("GET", path) as answer:
            self._refuse(answer.status_code)
            yield answer

    @classmethod
    def session_for(cls, address: str, code: str) -> str:
        """Give the code, and get a session for it.

        Raises
        ------
        NotPermitted
            Where that is not the code.
        Conflict
            Where nothing answers.
        """
        import httpx

        try:
            with httpx.Client(
                trust_env=False, follow_redirects=False, timeout=10.0, verify=NO_CERTIFICATES
            ) as client:
                answer = client.post(
                    f"{address}/access", data={"code": code}, headers={"User-Agent": "Gray Shelf"}
                )
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise Conflict(
                f"Nothing answers at {address}.",
                "See that Gray Shelf runs there with --lan, and its address.",
            ) from error
        if answer.status_code == 429:
            raise NotPermitted("Too many wrong codes came from here.", "Wait a minute.")
        session = next((str(v) for n, v in answer.cookies.items() if n.startswith("grayshelf-")), "")
        if answer.status_code != 303 or not session:
            raise NotPermitted(
                f"That is not the code of {address}.", "It stands where it was started, and on Rigs there."
            )
        return session


class Stick:
    """A folder that another Gray Shelf filled: a stick, a disk."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def listing(self) -> Shared:
        """What it holds."""
        path = self._folder / LISTING
        try:
            if path.stat().st_size > MOST_LISTING:
                raise Conflict(f"{path} is larger than any list can be.", "See what it is.")
            told = path.read_bytes()
        except OSError as error:
            raise Conflict(
                f"{self._folder} holds no nights that a Gray Shelf put there ({error.strerror}).",
                "Name the folder that holds " + LISTING + ".",
            ) from error
        return _as_shared(told, str(self._folder))

    def sha256(self, frame: SharedFrame) -> str:
        """Hash as it was when it was put there."""
        return frame.sha256 or ""

    def pieces(self, frame: SharedFrame, begin: int) -> Iterator[bytes]:
        """The bytes of a frame's file, from a place on."""
        path = self._path(frame)
        if not path.is_file():
            # Neither a folder nor a pipe, which would never end.
            raise GrayShelfError(f"{path} is no file.", "See that the stick is there, then go on.")
        try:
            with path.open("rb") as stream:
                stream.seek(begin)
                while piece := stream.read(PIECE):
                    yield piece
        except OSError as error:
            raise GrayShelfError(
                f"{path} cannot be read ({error.strerror}).", "See that the stick is there, then go on."
            ) from error

    def _path(self, frame: SharedFrame) -> Path:
        path = (self._folder / frame.key).resolve()
        if not path.is_relative_to(self._folder.resolve()):
            raise GrayShelfError(f"{frame.key} leads out of the stick.", "")
        return path


def _as_shared(told: bytes, where: str) -> Shared:
    try:
        return read(Shared, json.loads(told))
    except (ValueError, ValidationError, RecursionError) as error:
        raise Conflict(
            f"What {where} tells cannot be read as frames of a Gray Shelf.",
            "See what it is, and of what version.",
        ) from error
