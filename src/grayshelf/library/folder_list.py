"""The folders that a person named: put on the list, and found again for a folder within one."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import select

from grayshelf.core.errors import FolderRefused
from grayshelf.library.folders import named_folder
from grayshelf.library.library import Library
from grayshelf.library.models import Folder


def name_folder(library: Library, text: str) -> int:
    """Put a folder on the list; nothing in it is ever changed.

    Raises
    ------
    GrayShelfError, FolderRefused
    """
    real = named_folder(text)
    _refuse_own(library, real)
    with library.db.session() as session:
        others = session.scalars(select(Folder).where(Folder.own.is_(False))).all()
        for other in others:
            if real == Path(other.path):
                return other.id
            if real.is_relative_to(other.path):
                raise FolderRefused(
                    f"{real} lies in {other.path}, which is on the list.", "Scan that one again."
                )
            if Path(other.path).is_relative_to(real):
                raise FolderRefused(
                    f"{other.path}, which is on the list, lies in {real}.", "Take it off the list first."
                )
        folder = Folder(path=str(real), added_at=library.clock.now())
        session.add(folder)
        session.flush()
        return folder.id


def _refuse_own(library: Library, real: Path) -> None:
    if real == library.root or real.is_relative_to(library.root) or library.root.is_relative_to(real):
        raise FolderRefused(
            f"{real} holds, or lies in, the library’s own folder, whose frames are on the shelf already.",
            "Name another folder.",
        )


def folder_that_holds(library: Library, text: str) -> tuple[int, Path, str]:
    """The folder on the list in which a folder lies, for frames that come into it; put on the list where none does.

    Returns
    -------
    Its number, the folder itself, and the way from the one on the list to it: '' or 'night/flats/'.
    """
    real = named_folder(text)
    _refuse_own(library, real)
    with library.db.session() as session:
        for other in session.scalars(select(Folder).where(Folder.own.is_(False))):
            if real != Path(other.path) and real.is_relative_to(other.path):
                return other.id, real, f"{real.relative_to(other.path).as_posix()}/"
    return name_folder(library, text), real, ""
