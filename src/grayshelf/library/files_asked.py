"""Sets of lights by the files or folders that they lie in."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame


@dataclass(frozen=True)
class Asked:
    """What the library knows of files that were asked about."""

    sets: dict[int, int]
    """Sets of lights, each with how many of its frames were asked about."""
    not_known: tuple[str, ...]
    """Files and folders in which it knows no light."""


def lights_in(library: Library, paths: Sequence[str]) -> Asked:
    """The sets of the lights that these files are, or that lie in these folders."""
    sets: Counter[int] = Counter()
    not_known: list[str] = []
    with library.db.session() as session:
        folders = session.scalars(select(Folder)).all()
        for text in paths:
            path = _place(text)
            found: Counter[int] = Counter()
            for folder in folders if path is not None else ():
                assert path is not None
                root = Path(folder.path)
                lights = (
                    select(Frame.set_id)
                    .where(Frame.folder_id == folder.id, Frame.kind == FrameKind.LIGHT.value)
                    .where(Frame.state.in_(IN_SETS), Frame.set_id.is_not(None))
                )
                if path.is_relative_to(root):
                    below = path.relative_to(root).as_posix()
                    if below != ".":
                        inside = Frame.path.startswith(f"{below}/", autoescape=True)
                        lights = lights.where((Frame.path == below) | inside)
                elif not root.is_relative_to(path):
                    continue
                found.update(i for i in session.scalars(lights) if i is not None)
            if not found:
                not_known.append(text)
            sets.update(found)
    return Asked(dict(sets), tuple(not_known))


def _place(text: str) -> Path | None:
    """Where a path leads; None where it is none."""
    try:
        return Path(text).expanduser().resolve()
    except (OSError, RuntimeError, ValueError):
        return None
