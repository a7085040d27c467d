"""Routes by which frames are fetched from another Gray Shelf, or from a stick, and put on one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from apiflask import APIBlueprint
from pydantic import Field

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.sharing import NightOfKind, by_night
from grayshelf.core.rigs.addresses import read_address
from grayshelf.library.folders import may_name_folders
from grayshelf.library.givers import Giver, drop_giver, giver, givers, keep_giver
from grayshelf.library.library import Library
from grayshelf.library.models import Job
from grayshelf.library.records import as_kept
from grayshelf.library.sharing import own_nights
from grayshelf.web.common import in_words
from grayshelf.web.common.jobs import job_out
from grayshelf.web.common.schemas import Done, JobOut, Schema
from grayshelf.web.context import the_context
from grayshelf.work.fetching import FETCH, PUT, FetchJob, PutJob, new_there, source_of
from grayshelf.work.giving import OtherShelf

api = APIBlueprint("fetching", __name__, url_prefix="/api/fetching", tag="Gray Shelf")
#: The port that Gray Shelf is served on where nobody chose another.
USUAL_PORT = 8417


class GiverOut(Schema):
    """Another Gray Shelf."""

    number: int
    address: str
    name: str
    at_dawn: bool


class GiversOut(Schema):
    """Those on the list."""

    givers: list[GiverOut]


class GiverIn(Schema):
    """Another Gray Shelf, by its address and code."""

    address: str = Field(min_length=1, max_length=300)
    code: str = Field(default="", max_length=60)


class DawnIn(Schema):
    """Whether it is fetched from by itself."""

    at_dawn: bool


class FetchIn(Schema):
    """What to fetch."""

    giver: int | None = None
    folder: str | None = Field(default=None, max_length=1000)
    nights: list[str] | None = Field(default=None, max_length=20_000)


class SharedNightOut(Schema):
    """Frames of one night, by kind."""

    night: str
    title: str
    words: str
    frames: int
    size: str


class NewThereOut(Schema):
    """What is new there."""

    name: str
    nights: list[SharedNightOut]
    words: str
    frames: int
    there: int


class PutIn(Schema):
    """What to put on a stick."""

    folder: str = Field(min_length=1, max_length=1000)
    nights: list[str] = Field(min_length=1, max_length=20_000)


class OwnNightsOut(Schema):
    """What could be put on a stick."""

    nights: list[SharedNightOut]


def _library() -> Library:
    return the_context().library


def _giver_out(one: Giver) -> GiverOut:
    return GiverOut(
        number=one.number, address=one.address.removeprefix("http://"), name=one.name, at_dawn=one.at_dawn
    )


@api.get("/givers")
@api.output(GiversOut)
def get_givers() -> GiversOut:
    """Other Gray Shelves that are fetched from."""
    return GiversOut(givers=[_giver_out(one) for one in givers(_library().root)])


@api.post("/givers")
@api.input(GiverIn)
@api.output(GiverOut)
def add_giver(json_data: GiverIn) -> GiverOut:
    """Name another Gray Shelf, by its address and code."""
    may_name_folders()
    address = read_address(json_data.address, USUAL_PORT)
    session = OtherShelf.session_for(address, json_data.code.strip()) if json_data.code.strip() else ""
    one = Giver(0, address, address.removeprefix("http://"), session)
    name = OtherShelf(one).listing().name
    return _giver_out(keep_giver(_library().root, replace(one, name=name[:80])))


@api.put("/givers/<int:number>")
@api.input(DawnIn)
@api.output(GiverOut)
def change_giver(number: int, json_data: DawnIn) -> GiverOut:
    """Fetch from it at each dawn, or only when asked."""
    root = _library().root
    return _giver_out(keep_giver(root, replace(giver(root, number), at_dawn=json_data.at_dawn)))


@api.delete("/givers/<int:number>")
@api.output(Done)
def take_giver_off(number: int) -> Done:
    """Take it off the list."""
    name = giver(_library().root, number).name
    drop_giver(_library().root, number)
    return Done(message=f"{name} is off the list; what was fetched from it stays.")


@api.post("/new")
@api.input(FetchIn)
@api.output(NewThereOut)
def get_new(json_data: FetchIn) -> NewThereOut:
    """What is new there, by night and kind."""
    told, new = new_there(_library(), source_of(_library(), _job(json_data)))
    size = in_words.size(sum(f.size_bytes for f in new))
    words = (
        f"{in_words.several(len(new), 'frame')} are new there, {size}." if new else "Nothing is new there."
    )
    return NewThereOut(
        name=told.name, nights=_nights(by_night(new)), words=words, frames=len(new), there=len(told.frames)
    )


@api.post("/fetch")
@api.input(FetchIn)
@api.output(JobOut)
def start_fetching(json_data: FetchIn) -> JobOut:
    """Fetch what is new there: all of it, or some nights."""
    job = _job(json_data)
    name = giver(_library().root, job.giver).name if job.giver is not None else str(job.folder)
    return _started(FETCH, f"Fetching from {name}", job)


@api.get("/own-nights")
@api.output(OwnNightsOut)
def get_own_nights() -> OwnNightsOut:
    """What could be put on a stick."""
    return OwnNightsOut(nights=_nights(own_nights(_library())))


@api.post("/put")
@api.input(PutIn)
@api.output(JobOut)
def start_putting(json_data: PutIn) -> JobOut:
    """Put nights on a stick, or into any other folder, for another Gray Shelf."""
    may_name_folders()
    return _started(
        PUT, f"Putting nights on {json_data.folder}", PutJob(json_data.folder, tuple(json_data.nights))
    )


def _job(asked: FetchIn) -> FetchJob:
    if (asked.giver is None) == (asked.folder is None):
        raise GrayShelfError(
            "Frames are fetched from another Gray Shelf, or from a folder.", "Name one of them."
        )
    if asked.folder is not None:
        may_name_folders()
    return FetchJob(asked.giver, asked.folder, None if asked.nights is None else tuple(asked.nights))


def _started(kind: str, title: str, job: FetchJob | PutJob) -> JobOut:
    library = _library()
    job_id = the_context().runner.start(kind, title, as_kept(job))
    with library.db.session() as session:
        return job_out(session.get_one(Job, job_id), library)


def _of_kind(count: int, kind: str) -> str:
    if not kind:
        return f"{count:,} of no kind"
    return in_words.several(count, kind)


def _nights(counted: Sequence[NightOfKind]) -> list[SharedNightOut]:
    found: dict[str, list[tuple[str, int, int]]] = {}
    for one in counted:
        found.setdefault(one.night, []).append((one.kind, one.frames, one.bytes))
    return [
        SharedNightOut(
            night=night,
            title=in_words.night_title(night),
            words=in_words.listed([_of_kind(n, kind) for kind, n, _ in kinds]),
            frames=sum(n for _, n, _ in kinds),
            size=in_words.size(sum(b for _, _, b in kinds)),
        )
        for night, kinds in found.items()
    ]
