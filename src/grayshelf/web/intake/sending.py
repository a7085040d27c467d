"""Routes by which files that were dropped onto the page come to this machine, in pieces."""

from __future__ import annotations

from pathlib import Path

from apiflask import APIBlueprint
from flask import request
from pydantic import Field
from sqlalchemy import select

from grayshelf.core.errors import GrayShelfError
from grayshelf.library.arriving import (
    PIECE_BYTES,
    Sent,
    check_room,
    finish,
    received,
    take_piece,
    why_refused,
)
from grayshelf.library.filing import folder_to_file_into
from grayshelf.library.folder_list import folder_that_holds
from grayshelf.library.library import Library
from grayshelf.library.models import Folder
from grayshelf.web.common.schemas import JobOut, Schema
from grayshelf.web.context import the_context
from grayshelf.web.intake.routes import start_scan
from grayshelf.work.filing import make_root

api = APIBlueprint("sending", __name__, url_prefix="/api", tag="Gray Shelf")
#: Files that are asked for at once.
MOST_FILES = 5_000


class SentIn(Schema):
    """A file that is to be sent."""

    path: str = Field(max_length=1000)
    size_bytes: int = Field(ge=0)
    modified_ms: int = Field(ge=0)


class SendingIn(Schema):
    """Files that are to be sent into a folder."""

    into: str = Field(max_length=4096)
    files: list[SentIn] = Field(max_length=MOST_FILES)


class ReceivedOut(Schema):
    """How much of a file is here, or why it is not taken."""

    path: str
    received: int
    refused: str


class SendingOut(Schema):
    """What is to be sent, and from where on."""

    into: str
    piece_bytes: int
    files: list[ReceivedOut]


class PieceQuery(Schema):
    """Of which file a piece is, and from where on."""

    into: str = Field(max_length=4096)
    path: str = Field(max_length=1000)
    size_bytes: int = Field(ge=0)
    modified_ms: int = Field(ge=0)
    offset: int = Field(ge=0)


class WholeIn(Schema):
    """A file that was sent whole."""

    into: str = Field(max_length=4096)
    file: SentIn
    digest: str = Field(pattern="^[0-9a-f]{64}$")
    """SHA-256, in hexadecimal, over the SHA-256 of each of its pieces."""


class WholeOut(Schema):
    """Whether a file is new."""

    is_new: bool


class SentAllIn(Schema):
    """Everything was sent."""

    into: str = Field(max_length=4096)


class DropFolderOut(Schema):
    """Where files that are dropped would go."""

    into: str


@api.get("/sending/into")
@api.output(DropFolderOut)
def where_files_go() -> DropFolderOut:
    """The folder that is offered for files that are dropped onto the page."""
    library = the_context().library
    with library.db.session() as session:
        listed = select(Folder.path).where(Folder.own.is_(False)).order_by(Folder.id)
        first = session.scalar(listed.limit(1))
    return DropFolderOut(into=first or str(library.root.parent / "frames"))


@api.post("/sending")
@api.input(SendingIn)
@api.output(SendingOut)
def begin_sending(json_data: SendingIn) -> SendingOut:
    """Ask what of these files is needed, and from where on; the folder is made where it is not there."""
    library = the_context().library
    # Into a folder on the list files may come from anywhere; another one is named at the machine itself.
    root = _listed(library, json_data.into) or folder_to_file_into(library, json_data.into)
    told = [_received(root, f) for f in json_data.files]
    needed = sum(
        f.size_bytes - t.received for f, t in zip(json_data.files, told, strict=True) if not t.refused
    )
    make_root(root)
    check_room(root, needed)
    # On the list from now on: only named folders are written into.
    if _listed(library, str(root)) is None:
        folder_that_holds(library, str(root))
    return SendingOut(into=str(root), piece_bytes=PIECE_BYTES, files=told)


def _received(root: Path, file: SentIn) -> ReceivedOut:
    refused = why_refused(file.path)
    if not refused:
        try:
            return ReceivedOut(path=file.path, received=received(root, _sent(file)), refused="")
        except GrayShelfError as error:
            refused = error.message
    return ReceivedOut(path=file.path, received=0, refused=refused)


def _sent(file: SentIn) -> Sent:
    return Sent(file.path, file.size_bytes, file.modified_ms)


def _listed(library: Library, into: str) -> Path | None:
    """A folder that is on the list, or lies in one that is; None where it is neither, or not there."""
    try:
        root = Path(into.strip()).resolve()
        there = root.is_dir()
    except (OSError, RuntimeError, ValueError):
        # Too long, or no path at all.
        return None
    with library.db.session() as session:
        listed = session.scalars(select(Folder.path).where(Folder.own.is_(False))).all()
    return root if there and any(root.is_relative_to(p) for p in listed) else None


def _root(library: Library, into: str) -> Path:
    root = _listed(library, into)
    if root is None:
        raise GrayShelfError(f"{into[:200]} is not on the list.", "Begin to send once more.")
    return root


@api.put("/sending/piece")
@api.input(PieceQuery, location="query")
@api.output(ReceivedOut)
@api.doc(hide=True)
def send_piece(query_data: PieceQuery) -> ReceivedOut:
    """The next piece of a file, as bytes."""
    root = _root(the_context().library, query_data.into)
    file = Sent(query_data.path, query_data.size_bytes, query_data.modified_ms)
    here = take_piece(root, file, query_data.offset, request.get_data(cache=False))
    return ReceivedOut(path=query_data.path, received=here, refused="")


@api.post("/sending/whole")
@api.input(WholeIn)
@api.output(WholeOut)
def finish_file(json_data: WholeIn) -> WholeOut:
    """A file was sent whole: it is checked, and has its name."""
    root = _root(the_context().library, json_data.into)
    return WholeOut(is_new=finish(root, _sent(json_data.file), json_data.digest))


@api.post("/sending/scan")
@api.input(SentAllIn)
@api.output(JobOut)
def scan_what_came(json_data: SentAllIn) -> JobOut:
    """Take in what was sent."""
    library = the_context().library
    root = _root(library, json_data.into)
    with library.db.session() as session:
        folders = session.scalars(select(Folder).where(Folder.own.is_(False))).all()
        holding = next(f.id for f in folders if root.is_relative_to(f.path))
    return start_scan(holding)
