"""A filing while it is worked at: its files in parts, the folders it makes, and the rows of its frames."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from pathlib import Path

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from grayshelf.core.digits import several
from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.library.bringing import Left, Put, bring, bring_back
from grayshelf.library.catalog import NOT_KEPT, set_aside
from grayshelf.library.filing import FiledBy, FiledState, counts_of, keeps_its_place
from grayshelf.library.folders import stamp_of
from grayshelf.library.library import Library
from grayshelf.library.missing import NewPlace, take_places
from grayshelf.library.models import FiledFile, Filing, Folder, Frame, MendedFrame
from grayshelf.work.jobs import JobControl

#: Files that are brought to their places between two entries of the journal.
AT_ONCE = 50


class Underway:
    """A filing while it is worked at."""

    verb, done_words = "Brought", "in their places"

    def __init__(self, library: Library, filing_id: int) -> None:
        self.library, self.filing_id = library, filing_id
        with library.db.session() as session:
            filing = session.get(Filing, filing_id)
            if filing is None:
                raise NotFound("What was to be filed is not in the journal any more.")
            self.root, self.moves = Path(filing.root), filing.way == FiledBy.MOVE
            self.taken_back, self.made = filing.taken_back_at is not None, list(filing.made_folders)
            self.n_files = filing.n_files
            self.folders = {f.id: Path(f.path) for f in session.scalars(select(Folder))}
            self.today = library.clock.now().astimezone(library.zone(session)).date()
        self.disk = self._disk()
        self._unwritten = False

    def _disk(self) -> tuple[int, int] | None:
        try:
            stat = self.root.stat()
        except OSError:
            return None
        return stat.st_dev, stat.st_ino

    def check_disk(self) -> None:
        """Raise where the folder that is filed into is not there any more: its disk was pulled."""
        if self.disk is None or self._disk() != self.disk:
            raise GrayShelfError(
                f"{self.root} is not there any more. Every file is where it was, or in its new place.",
                "Plug its disk in, then go on.",
            )

    def parts(
        self, states: Sequence[FiledState], control: JobControl, verb: str, *, newest_first: bool = False
    ) -> Iterator[list[FiledFile]]:
        """Files of these states, some at once."""
        after: int | None = None
        seen = 0
        with self.library.db.session() as session:
            whole = sum(counts_of(session, self.filing_id).get(s, 0) for s in states) or 1
        while True:
            with self.library.db.session() as session:
                query = select(FiledFile).where(
                    FiledFile.filing_id == self.filing_id, FiledFile.state.in_([s.value for s in states])
                )
                if after is not None:
                    query = query.where(FiledFile.id < after if newest_first else FiledFile.id > after)
                order = FiledFile.id.desc() if newest_first else FiledFile.id
                part = list(session.scalars(query.order_by(order).limit(AT_ONCE)))
                session.expunge_all()
            if not part:
                return
            after = part[-1].id
            control.check()
            control.report(seen / whole, f"{verb}: {seen:,} of {several(whole, 'file')}")
            yield part
            seen += len(part)

    def bring(self, file: FiledFile, known_sha256: str | None, check: Callable[[], None]) -> Put:
        """Bring a file to its place; `known_sha256` is what it was when the library took it in, where that is known.

        Raises
        ------
        Left
        """
        return bring(file, self.moved(file), self.make_folder, check)

    def bring_back(self, file: FiledFile, check: Callable[[], None]) -> Put:
        """Bring a file back to where it was.

        Raises
        ------
        Left
        """
        return bring_back(file, self.moved(file), check)

    def tell_there(self, session: Session, put: Sequence[Put]) -> None:
        """Tell the rows of frames that are in their places."""
        self.tell_places(session, [(p.frame_id, p.source, p.target) for p in put])

    def tell_back(self, session: Session, back: Sequence[Put]) -> None:
        """Tell the rows of frames that are back."""
        self.tell_places(session, [(p.frame_id, p.target, p.source) for p in back])

    def end(self, done: Sequence[Path]) -> None:
        """All is in its place; `done` are the files that left theirs."""
        if self.moves:
            self._drop_emptied({path.parent for path in done})

    def what_came_of_it(self, session: Session) -> str:
        """More to say at the end, behind how many files are done."""
        return ""

    def end_back(self) -> None:
        """All is back."""
        self.drop_made()

    def delete(self, file: FiledFile) -> int:
        """Delete a file for good; returns the bytes that this frees. Only what was thrown away is."""
        raise Left(f"{file.target} was not thrown away.")

    def _drop_emptied(self, folders: Collection[Path]) -> None:
        """Remove folders that frames left and in which nothing lies any more."""
        roots = set(self.folders.values())
        for folder in sorted(folders, key=lambda f: len(f.parts), reverse=True):
            here = folder
            while here not in roots and any(here.is_relative_to(r) for r in roots) and remove_empty(here):
                here = here.parent

    def make_folder(self, folder: Path) -> None:
        """Make a folder below the root, noting what was not there before.

        Raises
        ------
        Left
            Where it leads elsewhere.
        """
        missing = []
        here = folder
        while not here.exists() and here != self.root:
            missing.append(here)
            here = here.parent
        if not here.resolve().is_relative_to(self.root.resolve()):
            raise Left(f"{here} leads out of the folder that is filed into.")
        for one in reversed(missing):
            one.mkdir(exist_ok=True)
            self.made.append(str(one))
            self._unwritten = True

    def write_made(self) -> None:
        """Keep which folders were made."""
        if self._unwritten:
            with self.library.db.session() as session:
                session.get_one(Filing, self.filing_id).made_folders = list(self.made)
            self._unwritten = False

    def drop_made(self) -> None:
        """Remove the folders that were made, where nothing lies in them."""
        for folder in sorted(self.made, key=len, reverse=True):
            remove_empty(Path(folder))

    def moved(self, file: FiledFile) -> bool:
        """Whether a file is moved; masters that were built here are copied and keep their place."""
        return self.moves and not self._keeps_its_place(Path(file.source))

    def _keeps_its_place(self, path: Path) -> bool:
        root = self.library.root
        return path.is_relative_to(root) and keeps_its_place(path.relative_to(root).as_posix(), own=True)

    def tell_places(self, session: Session, went: Sequence[tuple[int | None, Path, Path]]) -> None:
        """Let frames' rows have their files at their new places: of each frame where it was, and where it is."""
        ids = [frame_id for frame_id, _, _ in went if frame_id is not None]
        frames = {f.id: f for f in session.scalars(select(Frame).where(Frame.id.in_(ids)))}
        said = set(session.scalars(select(MendedFrame.frame_id).where(MendedFrame.frame_id.in_(ids))))
        places, out_of_rejects = list[NewPlace](), list[Frame]()
        for frame_id, was, now in went:
            frame = frames.get(frame_id) if frame_id is not None else None
            if frame is None or self.folders.get(frame.folder_id, was) / frame.path != was:
                continue
            holding = [i for i, path in self.folders.items() if now.is_relative_to(path)]
            # What was combined here keeps its place; its copy is a copy.
            if not holding or self._keeps_its_place(was) or self._keeps_its_place(now):
                continue
            if frame.rejected and set_aside(frame.path):
                out_of_rejects.append(frame)
            below = now.relative_to(self.folders[holding[0]]).as_posix()
            places.append(NewPlace(frame, holding[0], below, stamp_of(now)))
            if frame.id in said:
                where = MendedFrame.frame_id == frame.id
                session.execute(update(MendedFrame).where(where).values(file=str(now)))
        take_places(session, places)
        for frame in out_of_rejects:
            if not frame.rejected:
                frame.rejected = True
                frame.reason = f"{NOT_KEPT} {self.today:%-d %b %Y}: it lay in a folder of rejects."


def remove_empty(folder: Path) -> bool:
    """Remove a folder in which nothing lies; whether it is gone."""
    try:
        folder.rmdir()
    except OSError:
        return False
    return True
