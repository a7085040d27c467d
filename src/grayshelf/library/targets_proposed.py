"""What lights without a target may be of, by the folders that they lie in: a person says whether it is so."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import PurePath

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.frames.folder_names import folders_above
from grayshelf.core.frames.kind_doubted import doubted_by_folder
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.target_proposed import target_by_folders
from grayshelf.library.choosing import Choice, chosen
from grayshelf.library.folders_of_sets import folders_of, folders_of_sets
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet
from grayshelf.library.unreadable import readable


@dataclass(frozen=True)
class ProposedTarget:
    """Lights below one folder that say no target."""

    folder_id: int
    folder: str
    below: str
    """The folder that is named for it, by its path below the one on the list."""
    target: str
    frames: int = 0
    example: str = ""

    @property
    def choice(self) -> Choice:
        """These lights."""
        return Choice(self.folder_id, self.below, kind=FrameKind.LIGHT.value, lacks="target")


@kept(2)
def proposed_targets(library: Library, revision: int) -> tuple[ProposedTarget, ...]:
    """All of them, the largest first."""
    with library.db.own_session() as session:
        of_nothing = readable(FrameSet.facts)["target"].as_string().is_(None)
        # Lights of several targets that say none are one set: all their folders are looked at.
        there = folders_of_sets(session, (FrameSet.kind == FrameKind.LIGHT.value) & of_nothing)
        # Folders may be named for any of the cameras.
        gear = sorted({camera for *_, camera in there if camera})
        found = {_proposed(i, folder, f"{path}x", gear) for i, folder, path, _ in there} - {None}
        counted = [_counted(session, one, gear) for one in found if one is not None]
    open_still = [one for one in counted if one is not None]
    return tuple(sorted(open_still, key=lambda p: (-p.frames, p.folder, p.below)))


def _within(folder: str, path: str) -> tuple[list[str], list[str]]:
    """The folders between the one on the list and a file, and the names of all of them, the nearest first."""
    within = list(PurePath(path).parts[:-1])
    return within, [*reversed(within), PurePath(folder).name]


def _proposed(folder_id: int, folder: str, path: str, gear: Sequence[str]) -> ProposedTarget | None:
    within, names = _within(folder, path)
    found = target_by_folders(names, gear)
    if found is None:
        return None
    target, place = found
    return ProposedTarget(folder_id, folder, "/".join(within[: max(len(within) - place, 0)]), target)


def _counted(session: Session, one: ProposedTarget, gear: Sequence[str]) -> ProposedTarget | None:
    """With how many lights it is of; None where some of them lie in a folder that is named for something else, or may be no
    lights."""
    count, example = session.execute(
        select(func.count(), func.min(Frame.path)).where(chosen(one.choice), Frame.missing_since.is_(None))
    ).one()
    for folder in folders_of(session, one.choice):
        other = _proposed(one.folder_id, one.folder, f"{folder}/x", gear)
        names = folders_above(PurePath(one.folder) / folder / "x")
        if doubted_by_folder(FrameKind.LIGHT, names) is not None:
            return None
        if other is not None and other.target != one.target and other.below != one.below:
            return None
    if not count:
        return None
    return ProposedTarget(one.folder_id, one.folder, one.below, one.target, count, example)
