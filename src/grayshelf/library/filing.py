"""What there is to file, and what was: frames with where they go, and the journal of every file."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import Path

from sqlalchemy import func, insert, select
from sqlalchemy.orm import Session

from grayshelf.core.errors import DiskOut, FolderRefused, GrayShelfError
from grayshelf.core.filing.filing import UNKNOWN, USUAL, FrameThere, Placed, Sort, goes_along, lay_out
from grayshelf.library.choosing import Choice, chosen
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.folders import FileStamp, is_there, looks_like_frame, named_folder, stamp_of
from grayshelf.library.library import SHOT_AND_FETCHED, Library
from grayshelf.library.models import FiledFile, Filing, Folder, Frame
from grayshelf.library.records import as_kept, read

_PLACE = "filing"
#: So many frames are filed at once; a larger heap goes part by part.
MOST_AT_ONCE = 30_000
#: Of so many first and last frames of a folder one has to be where it was, so that its disk is known to be in.
_ASKED_FOR = 10
#: Files that no program needs and every system writes anew.
_NOBODY_S = ("thumbs.db", "desktop.ini")


class FiledBy(StrEnum):
    """How a file comes to its place."""

    MOVE = "move"
    COPY = "copy"
    PACK = "pack"
    """Packed without loss, where it lies."""
    THROW = "throw"
    """Put aside on its own disk, until it is deleted for good or brought back."""


class FiledState(StrEnum):
    """How far a file of a filing is."""

    PLANNED = "planned"
    BEGUN = "begun"
    THERE = "there"
    """In its new place, and told so; what it came from may still be there."""
    DONE = "done"
    LEFT = "left"
    """It stays where it is, with the reason."""
    BACK = "back"
    DELETED = "deleted"
    """It was thrown away, and is gone for good."""


@dataclass(frozen=True)
class FilingWishes:
    """How a person files, as it is kept."""

    root: str = ""
    patterns: dict[Sort, str] = field(default_factory=lambda: dict(USUAL))
    unknown: str = UNKNOWN
    way: FiledBy = FiledBy.MOVE
    along: bool = True
    """Files that are no frames go along with their folder."""
    from_now_on: tuple[int, ...] = ()
    """Folders on the list from which what comes in is filed by itself."""


def filing_wishes(library: Library, session: Session) -> FilingWishes:
    """How frames are filed here."""
    kept = read(FilingWishes, library.setting(session, _PLACE, {}))
    return FilingWishes(
        kept.root, {**USUAL, **kept.patterns}, kept.unknown, kept.way, kept.along, kept.from_now_on
    )


def keep_filing_wishes(library: Library, session: Session, wishes: FilingWishes) -> None:
    """Keep how frames are filed."""
    library.set_setting(session, _PLACE, as_kept(wishes))


def keep_from_now_on(library: Library, folder_ids: Sequence[int]) -> str:
    """Keep from which folders on the list what comes in is filed by itself; returns what to say of it.

    Raises
    ------
    GrayShelfError
        Where it is not said yet where frames are filed.
    """
    with library.db.session() as session:
        wishes = filing_wishes(library, session)
        if folder_ids and not wishes.root:
            raise GrayShelfError(
                "Nothing was filed yet, so it is not known where to.", "File some frames by hand first."
            )
        there = session.scalars(select(Folder.id).where(Folder.id.in_(folder_ids)).order_by(Folder.id))
        wishes = replace(wishes, from_now_on=tuple(there))
        keep_filing_wishes(library, session, wishes)
    count = len(wishes.from_now_on)
    return f"What comes into {count} folder{'s' if count != 1 else ''} is filed by itself."


def no_more_from(library: Library, session: Session, folder_id: int) -> None:
    """What comes into a folder is filed by itself no more."""
    wishes = filing_wishes(library, session)
    if folder_id in wishes.from_now_on:
        others = tuple(i for i in wishes.from_now_on if i != folder_id)
        keep_filing_wishes(library, session, replace(wishes, from_now_on=others))


@dataclass(frozen=True)
class InUse:
    """Frames that stay for now, since something that goes on may read them; with what goes on."""

    frames: Mapping[int, str] = field(default_factory=dict)
    """By their numbers."""
    folders: Mapping[str, str] = field(default_factory=dict)
    """By the folder in which they lie: what comes into it is waited for there."""

    def why(self, frame_id: int, path: str) -> str:
        """Why a frame stays, in a sentence; empty where it may go."""
        title = self.frames.get(frame_id)
        if title is None:
            title = next((t for folder, t in self.folders.items() if path.startswith(f"{folder}/")), None)
        return "" if title is None else f"{title} goes on just now. File it when that has ended."


@dataclass(frozen=True)
class Along:
    """A file that is no frame, and goes along with its folder."""

    source: str
    target: str


@dataclass(frozen=True)
class FilingPlan:
    """What would go where."""

    root: Path
    placed: tuple[Placed, ...]
    along: tuple[Along, ...]
    stamps: dict[int, FileStamp]
    """As frames were when they came into the library."""

    @property
    def going(self) -> list[Placed]:
        """Frames that go somewhere."""
        return [p for p in self.placed if not p.stays and not p.in_place]

    @property
    def size_bytes(self) -> int:
        """Of what goes."""
        return sum(self.stamps[p.frame.frame_id].size_bytes for p in self.going)


def folder_to_file_into(library: Library, text: str) -> Path:
    """The folder that a person names to file into; it may not be there yet, but the one that it lies in has to be.

    Raises
    ------
    GrayShelfError, FolderRefused, DiskOut
    """
    named = Path(text.strip())
    if not text.strip() or not named.name or named.name in (".", ".."):
        raise GrayShelfError(
            "No folder is named yet to file into.", "Write it from the root: /home/… or /media/…"
        )
    root = named_folder(str(named)) if is_there(named) else named_folder(str(named.parent)) / named.name
    if root == library.root or root.is_relative_to(library.root) or library.root.is_relative_to(root):
        raise FolderRefused(
            f"{root} holds, or lies in, the library’s own folder.", "Name another folder to file into."
        )
    if is_there(root) and not os.access(root, os.W_OK | os.X_OK):
        raise FolderRefused(f"{root} may not be written into by this user.", "Put its permissions right.")
    _refuse_where_a_disk_is_out(library, root)
    return root


def _refuse_where_a_disk_is_out(library: Library, root: Path) -> None:
    """Filed into the place of a disk that is not in, frames would lie on another one, and be hidden once it is in again."""
    with library.db.session() as session:
        for folder in session.scalars(select(Folder).where(Folder.own.is_(False))):
            if not root.is_relative_to(folder.path):
                continue
            paths = select(Frame.path).where(Frame.folder_id == folder.id, Frame.state != "gone")
            known = [
                path
                for order in (Frame.id, Frame.id.desc())
                for path in session.scalars(paths.order_by(order).limit(_ASKED_FOR))
            ]
            if known and not any(is_there(Path(folder.path) / path) for path in known):
                raise DiskOut(
                    f"{folder.path} holds none of the frames that the library knows in it: its disk may not be in, and what is "
                    "filed there would lie on another one. Nothing was filed.",
                    "Plug the disk in, or mount the share. If its frames are gone for good, scan it in Intake and let them go.",
                )


def keeps_its_place(path: str, *, own: bool) -> bool:
    """Whether a frame stays where it is, whatever is filed: in the library's `own` folder what was shot and fetched does not;
    masters that were built there, and what measured a camera, do. `path` is below its folder."""
    return own and not path.startswith(f"{SHOT_AND_FETCHED}/")


def plan_filing(
    library: Library, choice: Choice, wishes: FilingWishes, in_use: InUse | None = None
) -> FilingPlan:
    """Where the frames that are chosen would go; nothing is changed. Masters built here are copied: their own place is the
    library's folder.

    Parameters
    ----------
    in_use
        What stays for now.

    Raises
    ------
    GrayShelfError, FolderRefused
    """
    root = folder_to_file_into(library, wishes.root)
    with library.db.session() as session:
        query = select(
            Frame.id, Frame.path, Frame.facts, Frame.size_bytes, Frame.modified_ns, Folder.path, Folder.own
        )
        rows = session.execute(
            query.join(Folder, Folder.id == Frame.folder_id).where(
                chosen(choice), Frame.missing_since.is_(None)
            )
        ).all()
    if len(rows) > MOST_AT_ONCE:
        raise GrayShelfError(
            f"{len(rows):,} frames are more than are filed at once ({MOST_AT_ONCE:,}).",
            "Choose a part of them first: a folder, a camera, a night.",
        )
    copied = _copied_before(library, root)
    frames: list[FrameThere] = []
    stay: list[Placed] = []
    stamps: dict[int, FileStamp] = {}
    for frame_id, path, plain, size_bytes, modified_ns, folder, own in rows:
        stamps[frame_id] = FileStamp(size_bytes, modified_ns)
        facts = facts_if_sound(plain)
        if facts is None or (keeps_its_place(path, own=own) and (not facts.is_master or frame_id in copied)):
            continue
        whole = f"{folder}/{path}"
        below = whole[len(str(root)) + 1 :] if whole.startswith(f"{root}/") else None
        frame = FrameThere(frame_id, whole, facts, below)
        why = in_use.why(frame_id, whole) if in_use is not None else ""
        if why:
            stay.append(Placed(frame, "", why))
        else:
            frames.append(frame)
    placed = lay_out(
        frames, wishes.patterns, wishes.unknown, lambda name: _listed(root / name), len(str(root))
    )
    along = _along(root, placed) if wishes.along else ()
    return FilingPlan(root, (*placed, *stay), tuple(along), stamps)


def _copied_before(library: Library, root: Path) -> set[int]:
    """Frames of the library's own that have a copy below a folder already."""
    below = FiledFile.target.startswith(f"{root}/", autoescape=True)
    with library.db.session() as session:
        query = select(FiledFile.frame_id, FiledFile.target).where(
            FiledFile.state == FiledState.DONE.value,
            FiledFile.source.startswith(f"{library.root}/", autoescape=True),
            below,
        )
        return {i for i, target in session.execute(query) if i is not None and Path(target).is_file()}


def _listed(folder: Path) -> Collection[str]:
    try:
        return [entry.name for entry in folder.iterdir()]
    except OSError:
        return ()


def _along(root: Path, placed: Sequence[Placed]) -> list[Along]:
    """Notes, logs and pictures beside frames, for each folder that frames leave."""
    targets: dict[str, list[str]] = {}
    for p in placed:
        if not p.stays and not p.in_place:
            targets.setdefault(p.frame.path.rpartition("/")[0], []).append(p.path.rpartition("/")[0])
    found: list[Along] = []
    for folder, target in goes_along(targets).items():
        for name in sorted(_listed(Path(folder))):
            source = Path(folder) / name
            if name.startswith(".") or name.lower() in _NOBODY_S or looks_like_frame(name):
                continue
            if source.is_symlink() or not source.is_file() or not name.isprintable():
                continue
            goes_to = f"{target}/{name}".strip("/")
            if not (root / goes_to).exists():
                found.append(Along(str(source), goes_to))
    return found


def begin_filing(library: Library, session: Session, plan: FilingPlan, way: FiledBy, words: str) -> int:
    """Write a plan into the journal; the files go afterwards. Returns its number."""
    # All is looked up before anything is written, and written in one go: others wait for that.
    root = plan.root
    files = [
        (p.frame.frame_id, p.frame.path, str(root / p.path), plan.stamps[p.frame.frame_id])
        for p in plan.going
    ]
    alone = [(None, a.source, str(root / a.target), stamp_of(Path(a.source))) for a in plan.along]
    return write_journal(library, session, str(root), way, words, [*files, *alone])


#: A frame's number, where its file is, where it goes, and by what it is known.
Leg = tuple[int | None, str, str, FileStamp]


def write_journal(
    library: Library, session: Session, root: str, way: FiledBy, words: str, legs: Sequence[Leg]
) -> int:
    """Write into the journal what is to become of files; returns the number of the entry."""
    filing = Filing(
        begun_at=library.clock.now(),
        root=root,
        way=way.value,
        words=words,
        n_files=len(legs),
        made_folders=[],
    )
    session.add(filing)
    session.flush()
    rows = [
        {
            "filing_id": filing.id,
            "frame_id": frame_id,
            "source": source,
            "target": target,
            "size_bytes": stamp.size_bytes,
            "modified_ns": stamp.modified_ns,
            "state": FiledState.PLANNED.value,
            "reason": "",
        }
        for frame_id, source, target, stamp in legs
    ]
    session.execute(insert(FiledFile), rows)
    return filing.id


def all_filings(session: Session) -> list[Filing]:
    """All that was filed, the newest first."""
    return list(session.scalars(select(Filing).order_by(Filing.id.desc())))


def counts_of(session: Session, filing_id: int) -> dict[FiledState, int]:
    """How many files of a filing are how far."""
    query = (
        select(FiledFile.state, func.count())
        .where(FiledFile.filing_id == filing_id)
        .group_by(FiledFile.state)
    )
    return {FiledState(state): count for state, count in session.execute(query)}


def size_of(session: Session, filing_id: int) -> int:
    """Bytes of the files of an entry that are done, as they were before."""
    query = select(func.sum(FiledFile.size_bytes)).where(
        FiledFile.filing_id == filing_id, FiledFile.state == FiledState.DONE.value
    )
    return session.scalar(query) or 0
