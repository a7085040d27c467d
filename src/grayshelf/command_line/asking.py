"""Asking a library from the command line: the running application over HTTP where one has it open, else one in this process.

Both answer by the same routes as the pages, so that a script and a person are told the same.
"""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from http.client import HTTPException
from pathlib import Path
from typing import Any, BinaryIO, Protocol
from urllib.error import HTTPError, URLError
from urllib.request import Request, urlopen

from grayshelf.core.errors import GrayShelfError
from grayshelf.library.files import give_name
from grayshelf.library.lock import address_of

#: How often a job is looked at, seconds.
LOOK_EACH_S = 0.3
#: States in which a job does nothing more by itself.
_ENDED = ("done", "failed", "stopped", "interrupted")


class Answers(Protocol):
    """Answers by the application's routes."""

    def ask(self, method: str, path: str, body: Any = None) -> tuple[int, bytes]:
        """Status and body of the answer."""
        ...

    def save(self, path: str, stream: BinaryIO) -> tuple[int, bytes]:
        """Write a file into a stream while it comes; status, and the body of a refusal."""
        ...


@dataclass(frozen=True)
class OverHttp:
    """A running application."""

    address: str

    def ask(self, method: str, path: str, body: Any = None) -> tuple[int, bytes]:
        """Status and body of the answer."""
        data = None if body is None else json.dumps(body).encode()
        headers = {"Content-Type": "application/json"} if data is not None else {}
        request = Request(f"{self.address.rstrip('/')}{path}", data, headers, method=method)
        with self._answered(request) as answer:
            return answer.status, answer.read()

    def save(self, path: str, stream: BinaryIO) -> tuple[int, bytes]:
        """Write a file into a stream while it comes; status, and the body of a refusal."""
        with self._answered(Request(f"{self.address.rstrip('/')}{path}")) as answer:
            if answer.status != 200:
                return answer.status, answer.read()
            for piece in iter(lambda: answer.read(1 << 20), b""):
                stream.write(piece)
            return answer.status, b""

    @contextmanager
    def _answered(self, request: Request) -> Iterator[Any]:
        """An answer, whatever its status. What is not answered, or not to its end, is told."""
        try:
            try:
                answer = urlopen(request)
            except HTTPError as refused:
                answer = refused
            with answer:
                yield answer
        except (URLError, ConnectionError, HTTPException) as error:
            why = getattr(error, "reason", None) or error or type(error).__name__
            raise GrayShelfError(
                f"The library is open at {self.address}, which does not answer to the end ({why}).",
                "Where it is ending, try again in a moment; else end it first.",
            ) from error


@dataclass(frozen=True)
class InProcess:
    """An application in this process."""

    client: Any

    def ask(self, method: str, path: str, body: Any = None) -> tuple[int, bytes]:
        """Status and body of the answer."""
        answer = self.client.open(path, method=method, json=body)
        return answer.status_code, answer.get_data()

    def save(self, path: str, stream: BinaryIO) -> tuple[int, bytes]:
        """Write a file into a stream while it comes; status, and the body of a refusal."""
        answer = self.client.get(path)
        if answer.status_code != 200:
            return answer.status_code, answer.get_data()
        for piece in answer.iter_encoded():
            stream.write(piece)
        return 200, b""


@dataclass(frozen=True)
class Asking:
    """A library that is asked by routes, with what is told of long work on the way."""

    answers: Answers
    quiet: bool = False

    def get(self, path: str) -> Any:
        """The answer to a question."""
        return self._asked("GET", path)

    def post(self, path: str, body: Any) -> Any:
        """The answer to a wish."""
        return self._asked("POST", path, body)

    def save(self, path: str, target: Path) -> None:
        """A file, written where nothing of its name is yet; nothing of it is left where that fails."""
        part = target.with_name(target.name + ".part")
        if target.exists() or part.exists():
            raise GrayShelfError(f"{target} is there already, and was left as it is.", "Name another.")
        try:
            with part.open("xb") as stream:
                status, refusal = self.answers.save(path, stream)
            if status != 200:
                raise _refused(refusal)
            give_name(part, target)
        except OSError as error:
            raise GrayShelfError(f"{target} could not be written ({error.strerror}).") from error
        finally:
            part.unlink(missing_ok=True)

    def _asked(self, method: str, path: str, body: Any = None) -> Any:
        status, data = self.answers.ask(method, path, body)
        if status != 200:
            raise _refused(data)
        return json.loads(data)

    def ended(self, job_id: int) -> Any:
        """A job once it has ended; how far it is is told on the way.

        Raises
        ------
        GrayShelfError
            Where it failed or was stopped.
        """
        told = ""
        while True:
            jobs = self.get("/api/jobs")
            job = next((j for j in jobs["alive"] + jobs["ended"] if j["id"] == job_id), None)
            if job is None or job["state"] in _ENDED:
                break
            line = f"{job['progress']:4.0%}  {job['message'] or job['title']}"
            if line != told and not self.quiet and sys.stderr.isatty():
                print(f"\r\x1b[K{line[:100]}", end="", file=sys.stderr, flush=True)
                told = line
            time.sleep(LOOK_EACH_S)
        if told:
            print("\r\x1b[K", end="", file=sys.stderr, flush=True)
        if job is None:
            raise GrayShelfError(
                "What was begun is not told of any more.", "Look at Work, in the application."
            )
        if job["state"] != "done":
            raise GrayShelfError(job["message"] or f"It was {job['state']}.", job["advice"])
        return job


def _refused(data: bytes) -> GrayShelfError:
    try:
        told = json.loads(data)
        return GrayShelfError(str(told.get("detail") or told.get("title")), str(told.get("advice") or ""))
    except (ValueError, AttributeError):
        return GrayShelfError(f"That was not understood ({data[:200].decode(errors='replace')}).")


@contextmanager
def asking(root: Path, *, begin: bool = False, quiet: bool = False) -> Iterator[Asking]:
    """A library to ask; let go at the end.

    Parameters
    ----------
    begin
        Begin a library where there is none.
    """
    address = address_of(root)
    if address is not None:
        yield Asking(OverHttp(address), quiet)
        return
    from grayshelf.library.library import Library
    from grayshelf.serving import open_context
    from grayshelf.web.app import create_app

    context = open_context(Library(root, begin=begin))
    try:
        yield Asking(InProcess(create_app(context).test_client()), quiet)
    finally:
        context.runner.shut_down()
        context.library.close()
