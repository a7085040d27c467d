"""Raw frames while they are let go: packed beside themselves, or put aside on their own disk."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.digits import file_size
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.letting_go import why_not_thrown_away
from grayshelf.library.bringing import Left, Put, bring, bring_packed, bring_unpacked
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.files import sha256_of
from grayshelf.library.filing import FiledBy, FiledState, size_of
from grayshelf.library.folders import stamp_of
from grayshelf.library.grouping import drop_empty_sets, regroup
from grayshelf.library.letting_go import (
    PUT_ASIDE,
    Packed,
    give_masters_back,
    tell_back_on_the_shelf,
    tell_packed,
    tell_thrown_away,
)
from grayshelf.library.library import Library
from grayshelf.library.models import FiledFile, Filing, Folder, Frame, FrameSet, MasterInput
from grayshelf.library.raw_sets import raw_sets_of
from grayshelf.work.filing_underway import Underway, remove_empty

_NO_MASTER = "The file of their master is not what it was, or not there: they are kept."


def underway(library: Library, filing_id: int) -> Underway:
    """An entry of the journal while it is worked at, by what becomes of its files.

    Raises
    ------
    NotFound
    """
    with library.db.session() as session:
        filing = session.get(Filing, filing_id)
        way = filing.way if filing is not None else ""
    kinds = {FiledBy.PACK.value: Packing, FiledBy.THROW.value: PuttingAside}
    return kinds.get(way, Underway)(library, filing_id)


class _InPlace(Underway):
    """What has no one folder that it goes into."""

    def check_disk(self) -> None:
        """Each file is asked for itself."""

    def make_folder(self, folder: Path) -> None:
        """Make a folder on the disk of the frames."""
        folder.mkdir(parents=True, exist_ok=True)


class Packing(_InPlace):
    """Frames that are packed without loss."""

    verb, done_words = "Packed", "packed"

    def bring(self, file: FiledFile, known_sha256: str | None, check: Callable[[], None]) -> Put:
        """Pack a frame beside itself."""
        return bring_packed(file, known_sha256)

    def bring_back(self, file: FiledFile, check: Callable[[], None]) -> Put:
        """Unpack a frame."""
        return bring_unpacked(file)

    def tell_there(self, session: Session, put: Sequence[Put]) -> None:
        """Rows have the packed files."""
        tell_packed(session, [Packed(p.frame_id, p.source, p.target, p.sha256) for p in put])

    def tell_back(self, session: Session, back: Sequence[Put]) -> None:
        """Rows have the files that they had."""
        tell_packed(session, [Packed(p.frame_id, p.target, p.source, p.was_sha256) for p in back])

    def end(self, done: Sequence[Path]) -> None:
        """Every file is where it was."""

    def what_came_of_it(self, session: Session) -> str:
        """How much room it gave."""
        now = session.scalar(
            select(func.sum(Frame.size_bytes))
            .join(FiledFile, FiledFile.frame_id == Frame.id)
            .where(FiledFile.filing_id == self.filing_id, FiledFile.state == FiledState.DONE.value)
        )
        return f": {file_size(size_of(session, self.filing_id))} before, {file_size(now or 0)} now"


class PuttingAside(_InPlace):
    """Frames that are thrown away: put aside on their own disk, until they are deleted or brought back."""

    verb, done_words = "Put aside", "put aside"

    def __init__(self, library: Library, filing_id: int) -> None:
        super().__init__(library, filing_id)
        self._why_kept: dict[int, str] = {}
        self._whole: dict[int, bool] = {}

    def moved(self, file: FiledFile) -> bool:
        """Also what was shot here."""
        return True

    def bring(self, file: FiledFile, known_sha256: str | None, check: Callable[[], None]) -> Put:
        """Put a frame aside, where its master is there, whole, as it was written."""
        if file.state != FiledState.THERE:
            why = self._kept_for(file.frame_id)
            if why:
                raise Left(why)
        return bring(file, True, self.make_folder, check)

    def _kept_for(self, frame_id: int | None) -> str:
        with self.library.db.session() as session:
            set_id = session.scalar(select(Frame.set_id).where(Frame.id == frame_id))
            if set_id is None:
                # Since it was planned it left its set: no master is known to stand for it.
                return "It is in no set any more."
            if set_id not in self._why_kept:
                raw = raw_sets_of(self.library, session, {set_id}).get(set_id)
                master = session.scalar(select(FrameSet.master_set_id).where(FrameSet.id == set_id))
                why = why_not_thrown_away(raw) if raw is not None else _NO_MASTER
                if not why and (master is None or not self._is_whole(session, master)):
                    why = _NO_MASTER
                self._why_kept[set_id] = why
            return self._why_kept[set_id]

    def _is_whole(self, session: Session, master_id: int) -> bool:
        """Whether a master's file is there and its bytes are what was written."""
        if master_id not in self._whole:
            files = session.execute(
                select(Folder.path, Frame.path, Frame.sha256)
                .join(Frame, Frame.folder_id == Folder.id)
                .where(Frame.set_id == master_id, Frame.state.in_(IN_SETS))
            ).all()
            self._whole[master_id] = bool(files) and all(
                _bytes_are(Path(folder) / path, sha256) for folder, path, sha256 in files
            )
        return self._whole[master_id]

    def tell_there(self, session: Session, put: Sequence[Put]) -> None:
        """Frames leave their sets."""
        tell_thrown_away(session, [p.frame_id for p in put if p.frame_id], f"{self.today:%-d %b %Y}")

    def end(self, done: Sequence[Path]) -> None:
        """Sets without a frame are dropped, and so are folders without a file."""
        drop_empty_sets(self.library)
        self._drop_emptied({path.parent for path in done})

    def tell_back(self, session: Session, back: Sequence[Put]) -> None:
        """Frames count again."""
        tell_back_on_the_shelf(session, {p.frame_id: p.source for p in back if p.frame_id})

    def end_back(self) -> None:
        """Frames have sets again, and their masters; nothing is left of where they were put aside."""
        regroup(self.library)
        with self.library.db.session() as session:
            here = FiledFile.filing_id == self.filing_id
            folders = {Path(t).parent for t in session.scalars(select(FiledFile.target).where(here))}
            # From the journal: those that came back before this was cut short have no master yet, either.
            came = here & (FiledFile.state == FiledState.BACK.value) & FiledFile.frame_id.is_not(None)
            back = [i for i in session.scalars(select(FiledFile.frame_id).where(came)) if i is not None]
        give_masters_back(self.library, back)
        for folder in sorted(folders, key=lambda f: len(f.parts), reverse=True):
            left = folder
            while remove_empty(left) and left.name != PUT_ASIDE:
                left = left.parent

    def delete(self, file: FiledFile) -> int:
        """Delete a frame for good that was put aside; returns the bytes that this frees.

        Raises
        ------
        Left
            Where no master that was built of it is whole any more.
        """
        target = Path(file.target)
        with self.library.db.session() as session:
            # By its name, too: its folder may have been off the list, and the number be another frame's by now.
            stem = Path(file.source).name.partition(".")[0]
            query = select(MasterInput.master_id, MasterInput.name).where(
                MasterInput.frame_id == file.frame_id
            )
            masters = [
                m for m, name in session.execute(query) if name.rpartition("/")[2].partition(".")[0] == stem
            ]
            if not any(self._is_whole(session, m) for m in masters):
                raise Left("No master that was built of it is whole: bring it back instead.")
        if not target.is_file():
            return 0
        if stamp_of(target).size_bytes != file.size_bytes:
            raise Left("It is not the file that was put aside: it is left alone.")
        try:
            target.unlink()
        except OSError as error:
            raise Left(f"It could not be deleted ({error.strerror}).") from error
        return file.size_bytes


def _bytes_are(path: Path, sha256: str | None) -> bool:
    try:
        return sha256 is not None and sha256_of(path) == sha256
    except (OSError, GrayShelfError):
        return False
