"""Sets of lights by the files or folders that they lie in."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import ColumnElement, select
from sqlalchemy.orm import Session

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.copies import counted_for_copies
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame

#: Frames that are asked for at once.
_AT_ONCE = 500


@dataclass(frozen=True)
class Asked:
    """What the library knows of files that were asked about."""

    sets: dict[int, int]
    """Sets of lights, each with how many of its frames were asked about."""
    not_known: tuple[str, ...]
    """Files and folders in which it knows no light."""


def lights_in(library: Library, paths: Sequence[str]) -> Asked:
    """The sets of the lights that these files are, or that lie in these folders."""
    asked: dict[int, int] = {}
    not_known: list[str] = []
    with library.db.session() as session:
        folders = session.scalars(select(Folder)).all()
        for text in paths:
            found: dict[int, int] = {}
            for below in _below(folders, _place(text)):
                found |= _set_of_each(session, below)
            if not found:
                not_known.append(text)
            asked |= found
    return Asked(dict(Counter(asked.values())), tuple(not_known))


def _set_of_each(session: Session, below: Sequence[ColumnElement[bool]]) -> dict[int, int]:
    """The set of each of these lights, by the light's number. A copy that does not count stands for the light that does:
    lights stay where they were taken when they are filed as copies."""
    ids = set[int]()
    for query in (select(Frame.id).where(Frame.state.in_(IN_SETS)), *counted_for_copies()):
        ids.update(session.scalars(query.where(Frame.kind == FrameKind.LIGHT.value, *below)))
    ordered, sets = sorted(ids), dict[int, int]()
    for start in range(0, len(ordered), _AT_ONCE):
        rows = select(Frame.id, Frame.set_id).where(Frame.id.in_(ordered[start : start + _AT_ONCE]))
        sets |= {number: set_id for number, set_id in session.execute(rows) if set_id is not None}
    return sets


def _below(folders: Sequence[Folder], path: Path | None) -> Iterator[list[ColumnElement[bool]]]:
    """What the rows of frames have in common that are this file, or lie in this folder; for each folder on the list."""
    for folder in folders if path is not None else ():
        assert path is not None
        root, of_folder = Path(folder.path), Frame.folder_id == folder.id
        if root.is_relative_to(path):
            yield [of_folder]
        elif path.is_relative_to(root):
            below = path.relative_to(root).as_posix()
            yield [of_folder, (Frame.path == below) | Frame.path.startswith(f"{below}/", autoescape=True)]


def _place(text: str) -> Path | None:
    """Where a path leads; None where it is none."""
    try:
        return Path(text).expanduser().resolve()
    except (OSError, RuntimeError, ValueError):
        return None
