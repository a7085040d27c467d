"""Raw frames let go: which files go where, and what becomes of their rows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.letting_go import RawSet, why_not_thrown_away
from grayshelf.library.bench_frames import THROWN_AWAY
from grayshelf.library.catalog import IN_SETS, tell_of
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.filing import MOST_AT_ONCE, FiledBy, Leg, keeps_its_place
from grayshelf.library.folders import FileStamp, stamp_of
from grayshelf.library.kept import in_parts
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, FrameSet, MasterInput, MendedFrame, RunShot
from grayshelf.library.packing import PACKED_ENDING, can_be_packed
from grayshelf.library.raw_sets import raw_sets_of

#: Where frames of a named folder are put aside, in that folder: on their own disk, and no scan looks there.
PUT_ASIDE = ".grayshelf-thrown-away"


@dataclass
class LetGoPlan:
    """Which files of some sets go where, and which stay."""

    legs: list[Leg] = field(default_factory=list)
    sets: list[RawSet] = field(default_factory=list)
    """Sets of which something goes."""
    stays: Counter[str] = field(default_factory=Counter)
    """Why frames stay as they are, with how many."""

    @property
    def size_bytes(self) -> int:
        """Of what goes."""
        return sum(stamp.size_bytes for _, _, _, stamp in self.legs)


def plan_letting_go(library: Library, set_ids: Collection[int], way: FiledBy, root: str = "") -> LetGoPlan:
    """What would become of the frames of sets; nothing is changed.

    Parameters
    ----------
    root
        The folder on another disk that they are moved into, for `FiledBy.MOVE`.

    Raises
    ------
    GrayShelfError
        Where they are too many.
    """
    plan = LetGoPlan()
    day = library.clock.now().strftime("%Y%m%dT%H%M%S")
    with library.db.session() as session:
        sets = raw_sets_of(library, session, set_ids)
        kept_for = {i: why_not_thrown_away(s) for i, s in sets.items()} if way is FiledBy.THROW else {}
        for frame_id, set_id, path, size_bytes, modified_ns, folder, own in _files(session, sorted(sets)):
            if kept_for.get(set_id):
                plan.stays[kept_for[set_id]] += 1
                continue
            source = f"{folder}/{path}"
            if way is FiledBy.PACK:
                if path.lower().endswith(PACKED_ENDING):
                    plan.stays["They are packed already."] += 1
                    continue
                if not can_be_packed(path):
                    plan.stays["Only plain FITS files are packed."] += 1
                    continue
                target = f"{source}{PACKED_ENDING}"
            elif way is FiledBy.THROW:
                aside = f"{folder}/{THROWN_AWAY}/frames" if own else f"{folder}/{PUT_ASIDE}"
                target = f"{aside}/{day}/{path}"
            elif keeps_its_place(path, own=own):
                plan.stays["What measured a camera keeps its place; it can be packed."] += 1
                continue
            elif source.startswith(f"{root}/"):
                plan.stays["They are in that folder already."] += 1
                continue
            else:
                target = f"{root}/{Path(folder).name}/{path}"
            plan.legs.append((frame_id, source, target, FileStamp(size_bytes, modified_ns)))
            if not plan.sets or plan.sets[-1].set_id != set_id:
                plan.sets.append(sets[set_id])
    if len(plan.legs) > MOST_AT_ONCE:
        raise GrayShelfError(
            f"{len(plan.legs):,} frames are more than are let go at once ({MOST_AT_ONCE:,}).",
            "Choose a part of them first.",
        )
    return plan


def _files(session: Session, set_ids: Sequence[int]) -> list[tuple[int, int, str, int, int, str, bool]]:
    found: list[tuple[int, int, str, int, int, str, bool]] = []
    for part in in_parts(set_ids):
        query = (
            select(
                Frame.id,
                Frame.set_id,
                Frame.path,
                Frame.size_bytes,
                Frame.modified_ns,
                Folder.path,
                Folder.own,
            )
            .join(Folder, Folder.id == Frame.folder_id)
            .where(Frame.set_id.in_(part), Frame.state.in_(IN_SETS), Frame.missing_since.is_(None))
            .order_by(Frame.set_id, Frame.id)
        )
        for frame_id, set_id, path, size_bytes, modified_ns, folder, own in session.execute(query):
            found.append((frame_id, set_id or 0, path, size_bytes, modified_ns, folder, own))
    return found


@dataclass(frozen=True)
class Packed:
    """A frame's file that has another form from now on."""

    frame_id: int | None
    was: Path
    now: Path
    sha256: str | None


def tell_packed(session: Session, changed: Sequence[Packed]) -> None:
    """Let frames' rows have the packed, or the unpacked, files beside where they were."""
    for one in changed:
        frame = session.get(Frame, one.frame_id) if one.frame_id is not None else None
        if frame is None or Path(frame.folder.path) / frame.path != one.was:
            continue
        before, stamp = frame.path, stamp_of(one.now)
        frame.path = one.now.relative_to(frame.folder.path).as_posix()
        frame.size_bytes, frame.modified_ns, frame.sha256 = stamp.size_bytes, stamp.modified_ns, one.sha256
        shots = (RunShot.frame_id == frame.id) & (RunShot.path == before)
        session.execute(update(RunShot).where(shots).values(path=frame.path))
        said = MendedFrame.frame_id == frame.id
        session.execute(update(MendedFrame).where(said).values(file=str(one.now)))


def tell_thrown_away(session: Session, frame_ids: Collection[int], on: str) -> None:
    """Frames whose files were put aside leave their sets; what was made of them stays as it is."""
    for frame in session.scalars(select(Frame).where(Frame.id.in_(frame_ids))):
        frame.state, frame.set_id, frame.missing_since = "gone", None, None
        if not frame.rejected:
            frame.reason, frame.advice = f"Thrown away {on}; its master stays.", ""


def tell_back_on_the_shelf(session: Session, back: Mapping[int, Path]) -> None:
    """Frames whose files are back where they were count as they did; they have no set yet (`regroup`)."""
    for frame in session.scalars(select(Frame).where(Frame.id.in_(list(back)), Frame.state == "gone")):
        facts = facts_if_sound(frame.facts)
        # Its folder may have been off the list in between, and the number be another frame's by now.
        if facts is not None and Path(frame.folder.path) / frame.path == back[frame.id]:
            tell_of(frame, facts, frame.reason if frame.rejected else "")


def give_masters_back(library: Library, frame_ids: Sequence[int]) -> None:
    """Sets whose frames are back have the newest master again that was built of them."""
    for part in in_parts(frame_ids):
        with library.db.session() as session:
            query = (
                select(Frame.set_id, func.max(MasterInput.master_id))
                .join(MasterInput, MasterInput.frame_id == Frame.id)
                .join(FrameSet, FrameSet.id == Frame.set_id)
                .where(Frame.id.in_(part), FrameSet.master_set_id.is_(None))
                .group_by(Frame.set_id)
            )
            for set_id, master_id in session.execute(query).all():
                session.get_one(FrameSet, set_id).master_set_id = master_id
