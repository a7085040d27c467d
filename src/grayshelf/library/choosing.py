"""Frames chosen by what they share: a folder, a night, a camera, a kind, a part of the name, what they lack."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date

from sqlalchemy import ColumnElement, and_, func, not_, or_, select
from sqlalchemy.orm import Session

from grayshelf.core.frames.facts import lacking
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.models import Folder, Frame
from grayshelf.library.not_lacking import lacks_nothing_asked_for
from grayshelf.library.unreadable import readable

#: What frames may lack, in words, with the names of their facts.
MAY_LACK = {
    "kind of frame": "kind",
    "camera": "camera",
    "exposure": "exposure_s",
    "date": "night",
    "sensor temperature": "sensor_temp_c",
    "gain": "gain",
    "offset": "offset",
    "filter": "filter_code",
    "binning": "binning_x",
    "angle": "angle",
    "telescope": "telescope",
    "target": "target",
}
#: A kind, or a camera, that is not known.
UNKNOWN = "not known"
_THROUGH_FILTERS = (FrameKind.FLAT.value, FrameKind.LIGHT.value)


@dataclass(frozen=True)
class Choice:
    """What the frames share; None or empty where it does not matter."""

    folder_id: int | None = None
    below: str = ""
    """A folder in that folder, by its path below it."""
    name_has: str = ""
    """A part of the file's path, whatever its case."""
    night: date | None = None
    camera: str = ""
    kind: str = ""
    lacks: str = ""
    """One of `MAY_LACK`."""
    set_id: int | None = None

    def in_words(self, folder: str) -> str:
        """'in darks, of 18 Oct 2026, that lack gain'; `folder` is the named folder's path."""
        parts = []
        if self.folder_id is not None:
            parts.append(f"in {folder}{f'/{self.below}' if self.below else ''}")
        if self.name_has:
            parts.append(f"with ‘{self.name_has}’ in their names")
        if self.night is not None:
            parts.append(f"of {self.night:%-d %b %Y}")
        if self.camera:
            parts.append("of no known camera" if self.camera == UNKNOWN else f"of the {self.camera}")
        if self.kind:
            parts.append("of no known kind" if self.kind == UNKNOWN else f"that are {self.kind}")
        if self.lacks:
            parts.append(f"that lacked {self.lacks}")
        if self.set_id is not None:
            parts.append("of one set")
        return ", ".join(parts) or "of the whole library"


def chosen(choice: Choice) -> ColumnElement[bool]:
    """Whether a frame is one of those that are chosen; only what is read and counts is."""
    where: list[ColumnElement[bool]] = [Frame.state.in_(IN_SETS)]
    if choice.folder_id is not None:
        where.append(Frame.folder_id == choice.folder_id)
    if choice.below.strip("/"):
        where.append(Frame.path.startswith(f"{choice.below.strip('/')}/", autoescape=True))
    if choice.name_has:
        where.append(Frame.path.icontains(choice.name_has, autoescape=True))
    if choice.night is not None:
        where.append(Frame.night == choice.night)
    if choice.camera:
        where.append(Frame.camera.is_(None) if choice.camera == UNKNOWN else Frame.camera == choice.camera)
    if choice.kind:
        where.append(Frame.kind.is_(None) if choice.kind == UNKNOWN else Frame.kind == choice.kind)
    if choice.lacks:
        where.append(_lacks(choice.lacks))
    if choice.set_id is not None:
        where.append(Frame.set_id == choice.set_id)
    return and_(*where)


def _lacks(word: str) -> ColumnElement[bool]:
    name = MAY_LACK[word]
    if name == "kind":
        return Frame.kind.is_(None)
    if name == "camera":
        return Frame.camera.is_(None)
    if name == "night":
        return Frame.night.is_(None)
    empty = readable(Frame.facts)[name].as_string().is_(None)
    if name in ("filter_code", "telescope", "angle"):
        # Behind a cap no filter and no telescope matter; a colour sensor needs no filter.
        empty = and_(empty, Frame.kind.in_(_THROUGH_FILTERS))
    if name == "target":
        empty = and_(empty, Frame.kind == FrameKind.LIGHT.value)
    if name == "filter_code":
        empty = and_(empty, readable(Frame.facts)["bayer_pattern"].as_string().is_(None))
    if name == "exposure_s":
        empty = and_(empty, or_(Frame.kind.is_(None), Frame.kind != FrameKind.BIAS.value))
    return empty


def count_chosen(session: Session, choice: Choice) -> int:
    """How many frames are chosen."""
    return session.scalar(select(func.count()).select_from(Frame).where(chosen(choice))) or 0


@dataclass(frozen=True)
class LackingGroup:
    """Frames of one folder that lack the same."""

    folder_id: int
    folder: str
    below: str
    kind: str | None
    camera: str | None
    lacks: tuple[str, ...]
    frames: int
    example: str
    """The name of one of them."""


def lacking_groups(session: Session) -> list[LackingGroup]:
    """Frames that lack something that matters and may be there, by folder, kind and camera; the largest group first."""
    query = select(Frame.folder_id, Folder.path, Frame.path, Frame.kind, Frame.camera, Frame.facts)
    rows = session.execute(
        query.join(Folder, Folder.id == Frame.folder_id)
        .where(Frame.state == "lacking", Frame.missing_since.is_(None), Frame.rejected.is_(False))
        .where(not_(lacks_nothing_asked_for(session)))
        .order_by(Frame.path)
    )
    found: dict[LackingGroup, LackingGroup] = {}
    for folder_id, folder, path, kind, camera, plain in rows:
        facts = facts_if_sound(plain)
        if facts is None:
            continue
        below, _, name = path.rpartition("/")
        group = LackingGroup(folder_id, folder, below, kind, camera, lacking(facts), 0, "")
        before = found.get(group, replace(group, example=name))
        found[group] = replace(before, frames=before.frames + 1)
    groups = list(found.values())
    return sorted(groups, key=lambda g: (-g.frames, g.folder, g.below))
