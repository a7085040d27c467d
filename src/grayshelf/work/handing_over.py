"""Handing frames over into a folder: each copy is verified, nothing is overwritten, and what was cut short goes on."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, BinaryIO
from uuid import uuid4

from grayshelf.core.digits import named, several
from grayshelf.core.errors import Conflict, FolderRefused, GrayShelfError, NotFound, UnreadableFrame
from grayshelf.core.filing.hand_over import Form, HandedAs
from grayshelf.core.masters.crop import Crop
from grayshelf.library.calibrating import Pieces, written_here
from grayshelf.library.files import drop_unfinished, sha256_of, write_new
from grayshelf.library.folders import is_there, named_folder, stamp_of
from grayshelf.library.handed import HandedItem, HandedPlan, HandOverJob
from grayshelf.library.handing_over import Gathered, places_of, sizes_of
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame
from grayshelf.library.records import as_kept, read
from grayshelf.library.room import as_disk_full
from grayshelf.library.step_records import JobResult
from grayshelf.work.jobs import JobControl, JobRunner

HAND_OVER = "hand over"
#: The table beside the files that says what is what.
TABLE = "what-is-what.csv"
COLUMNS = (
    "path",
    "kind",
    "word",
    "fits",
    "why with care",
    "from",
    "left",
    "top",
    "width",
    "height",
    "share",
    "bias",
)
"""The last two of a dark that is scaled alone, ``bias + share·(from − bias)``; the four before of what is cropped alone."""
#: Below the library's folder: what goes where, of each hand-over.
PLANS = "handed-over"
#: Files of which it is told why they did not go; of more they are counted.
MOST_TOLD = 500
_PIECE = 1 << 20


def begin(
    library: Library, runner: JobRunner, gathered: Gathered, folder: str, way: HandedAs, form: Form
) -> int:
    """Begin to hand over into a folder that is empty, or not there yet; returns the job.

    Raises
    ------
    GrayShelfError, FolderRefused
        Where it cannot be that folder.
    """
    target = empty_target(library, folder)
    try:
        target.mkdir(exist_ok=True)
    except OSError as error:
        raise FolderRefused(
            f"{target} could not be made ({error.strerror}).", "Name a folder that you may write into."
        ) from error
    items = tuple(
        HandedItem(i.path, i.file.frame_id, i.recipe, i.crop, i.scaled) for i in gathered.laid.items
    )
    plan, place = HandedPlan(items, tuple(table_of(library, gathered))), f"{PLANS}/{uuid4().hex}.json"
    write_new(library.root / place, lambda stream: _write(stream, json.dumps(as_kept(plan))))
    served = {str(a.key): a.rests_on for a in gathered.asked}
    job = HandOverJob(str(target), way, form, place, served)
    if form is Form.CALIBRATED and way is not HandedAs.COPIES:
        raise GrayShelfError("Lights that are calibrated here are new files.", "Hand them over as copies.")
    lights = sum(len(a.files) for a in gathered.asked)
    what = (
        f"{lights} {form.value}"
        if form is Form.CALIBRATED
        else f"{several(lights, 'light')} with {named(lights, 'its', 'their')} {form.value}"
        if lights
        else f"{form.value} of {several(len(gathered.asked), 'set')}"
    )
    return runner.start(HAND_OVER, f"Handing over {what}", as_kept(job))


def empty_target(library: Library, text: str) -> Path:
    """A folder outside of the library that is empty, or not there yet.

    Raises
    ------
    GrayShelfError, FolderRefused
    """
    named = Path(text.strip())
    if not named.name or named.name in (".", ".."):
        raise GrayShelfError(
            f"‘{text[:200]}’ is not a whole path.", "Write it from the root: /home/… or /media/…"
        )
    target = named_folder(str(named.parent)) / named.name
    if is_there(target) and (not target.is_dir() or any(target.iterdir())):
        raise FolderRefused(
            f"{target} is there already, and is not empty. Nothing in it was touched.",
            "Name a folder that is not there yet.",
        )
    with library.db.session() as session:
        for folder in session.query(Folder):
            if target.is_relative_to(folder.path):
                raise FolderRefused(
                    f"{target} lies in {folder.path}, whose frames are in the library: what is handed over there would "
                    "come in once more.",
                    "Name a folder outside of it.",
                )
    return target


def table_of(library: Library, gathered: Gathered) -> list[tuple[str, ...]]:
    """What is what, a line for each file, in the order of `COLUMNS`."""
    with library.db.session() as session:
        bias = [i.scaled.bias for i in gathered.laid.items if i.scaled is not None]
        places = places_of(session, [*(i.file.frame_id for i in gathered.laid.items), *bias])
    return [
        (
            item.path,
            item.kind.value,
            item.word,
            item.verdict,
            "; ".join(item.reasons),
            str(places[item.file.frame_id]),
            *_in_columns(item.crop),
            *(
                ("", "")
                if item.scaled is None
                else (f"{item.scaled.share:.6g}", str(places[item.scaled.bias]))
            ),
        )
        for item in gathered.laid.items
    ]


def _in_columns(crop: Crop | None) -> tuple[str, ...]:
    return (
        ("",) * 4 if crop is None else tuple(str(x) for x in (crop.left, crop.top, crop.width, crop.height))
    )


def sources_of(library: Library, frame_ids: Sequence[int]) -> dict[int, Path]:
    """Where frames lie: in a folder that the person named, or in the library's own.

    Raises
    ------
    NotPermitted, NotFound
    """
    with library.db.session() as session:
        named, places = library.permitted(session), places_of(session, frame_ids)
    return {frame_id: named.permit(place) for frame_id, place in places.items()}


def hand_over(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a hand-over job (`HandOverJob`)."""
    job = read(HandOverJob, params)
    plan = _plan_of(library, job)
    folder, failed, done, seen = Path(job.folder), list[str](), 0, 0
    with library.db.session() as session:
        sizes = sizes_of(session, [i.frame_id for i in plan.items])
    whole = max(sum(sizes.get(i.frame_id, 0) for i in plan.items), 1)
    for item in plan.items:
        control.check()
        if not folder.is_dir():
            # It was made when this began: its disk was pulled, and what stands at that place now is another.
            raise GrayShelfError(
                f"{folder} is not there any more; {done:,} of {several(len(plan.items), 'file')} were in it.",
                "Plug its disk in, or put it back, then go on.",
            )
        control.report(seen / whole, f"{done:,} of {several(len(plan.items), 'file')}: {item.path}")
        try:
            _hand_one(library, item, folder / item.path, job.way, control.check)
            done += 1
        except (GrayShelfError, OSError) as error:
            if as_disk_full(error, folder) is not None:
                raise
            told = f"{error.message} {error.advice}" if isinstance(error, GrayShelfError) else str(error)
            failed.append(f"{item.path}: {told}".strip())
        seen += sizes.get(item.frame_id, 0)
    _write_table(folder, plan.table)
    message = f"{several(done, 'file is', 'files are')} in {folder}"
    return JobResult(message + (f"; {len(failed):,} are not" if failed else ""), tuple(failed[:MOST_TOLD]))


def _plan_of(library: Library, job: HandOverJob) -> HandedPlan:
    try:
        return read(HandedPlan, json.loads((library.root / job.plan).read_text()))
    except (OSError, ValueError) as error:
        raise GrayShelfError(
            f"What was to go where is not to be read any more ({library.root / job.plan}). What went is in {job.folder}.",
            "Hand it over once more, into another folder.",
        ) from error


def _hand_one(
    library: Library, item: HandedItem, target: Path, way: HandedAs, check: Callable[[], None]
) -> None:
    with library.db.session() as session:
        frame = session.get(Frame, item.frame_id)
        if frame is None:
            raise NotFound("It is in the library no more.")
        source, known = library.frame_path(session, frame), frame.sha256
    pieces = written_here(library, item.frame_id, item.recipe, item.crop, item.scaled)
    if pieces is not None:
        _write_anew(pieces, target, check)
        return
    if way is HandedAs.COPIES:
        # The folder was empty when this began: what a kill left in it is ours.
        drop_unfinished(target)
    if _is_there(source, target, way):
        return
    target.parent.mkdir(parents=True, exist_ok=True)
    if way is HandedAs.COPIES:
        before = stamp_of(source)
        digest = write_new(target, lambda stream: _copy(source, stream, check))
        changed = stamp_of(source) != before
        if changed or (known is not None and digest != known):
            target.unlink()
            raise UnreadableFrame(
                "It changed while it was copied."
                if changed
                else "It is not what it was when it came into the library.",
                "Scan its folder again, then hand it over once more.",
            )
        return
    try:
        (os.link if way is HandedAs.HARD_LINKS else os.symlink)(source, target)
    except OSError as error:
        raise Conflict(
            f"No {way.value.removesuffix('s')} could be made there ({error.strerror}).",
            "Hand it over as copies.",
        ) from error


def _write_anew(pieces: Pieces, target: Path, check: Callable[[], None]) -> None:
    drop_unfinished(target)
    if target.exists():
        # Made before this was cut short, or somebody else's.
        digest = hashlib.sha256()
        for piece in pieces():
            check()
            digest.update(piece)
        if sha256_of(target) == digest.hexdigest():
            return
        raise Conflict("A file of this name is there already, and was left as it is.", "Name another folder.")

    def write(stream: BinaryIO) -> None:
        for piece in pieces():
            check()
            stream.write(piece)

    target.parent.mkdir(parents=True, exist_ok=True)
    write_new(target, write)


def _copy(source: Path, stream: BinaryIO, check: Callable[[], None]) -> None:
    with source.open("rb") as reading:
        while piece := reading.read(_PIECE):
            check()
            stream.write(piece)


def _is_there(source: Path, target: Path, way: HandedAs) -> bool:
    """Whether a file was handed over already, before this was cut short.

    Raises
    ------
    Conflict
        Where something else has its name: it is left as it is.
    """
    if way is HandedAs.LINKS and target.is_symlink() and target.readlink() == source:
        return True
    if not target.exists() and not target.is_symlink():
        return False
    if way is HandedAs.HARD_LINKS and target.samefile(source):
        return True
    same_size = way is HandedAs.COPIES and target.stat().st_size == source.stat().st_size
    if same_size and sha256_of(target) == sha256_of(source):
        return True
    raise Conflict("A file of this name is there already, and was left as it is.", "Name another folder.")


def table_text(table: Sequence[Sequence[str]]) -> str:
    """The table as CSV."""
    buffer = io.StringIO()
    csv.writer(buffer).writerows([COLUMNS, *table])
    return buffer.getvalue()


def _write_table(folder: Path, table: Sequence[Sequence[str]]) -> None:
    text = table_text(table)
    target = folder / TABLE
    drop_unfinished(target)
    if not target.exists():
        write_new(target, lambda stream: _write(stream, text))


def _write(stream: BinaryIO, text: str) -> None:
    stream.write(text.encode())
