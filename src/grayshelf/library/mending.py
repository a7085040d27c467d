"""What a person says of frames, kept beside the files: said of many at once, told on their rows, taken back."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.frames.said import Saying
from grayshelf.library.catalog import IN_SETS, NOT_KEPT, Settling, set_aside, settling, tell_of
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.kept import in_parts
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, FrameSet, MendedFrame, Mending

KEPT = "kept"
#: Frames that are told in one go.
AT_ONCE = 200


@dataclass(frozen=True)
class OfFrame:
    """What is said of one frame."""

    frame_id: int
    saying: Saying
    kept: bool | None = None


@dataclass(frozen=True)
class MendJob:
    """Frames to be told anew by what was said of them, or is not said any more."""

    mending_id: int


def begin_saying(library: Library, session: Session, words: str, of: str, said: Sequence[OfFrame]) -> int:
    """Keep what is said; the frames are told by it afterwards (`tell_mended`). Returns the number of the act.

    A master that was built of a set all of whose frames are told otherwise is told with them.
    """
    now = library.clock.now()
    on = now.astimezone(library.zone(session)).date()
    by_id = {one.frame_id: one for one in [*said, *_of_their_masters(session, said)]}
    # All is read before anything is written, and written in one go: others wait for that.
    rows: list[dict[str, Any]] = []
    for part in in_parts(sorted(by_id)):
        query = select(Frame.id, Frame.path, Frame.rejected, Frame.reason, Folder.path)
        for frame_id, path, rejected, reason, root in session.execute(
            query.join(Folder, Folder.id == Frame.folder_id).where(Frame.id.in_(part))
        ):
            one = by_id[frame_id]
            says = replace(one.saying, on=on).to_plain() | ({} if one.kept is None else {KEPT: one.kept})
            before = {} if one.kept is None else {"rejected": rejected, "reason": reason}
            rows.append(
                {"frame_id": frame_id, "file": str(Path(root) / path), "says": says, "before": before}
            )
    mending = Mending(said_at=now, words=words, of=of, n_frames=len(rows))
    session.add(mending)
    session.flush()
    session.execute(insert(MendedFrame), [{**row, "mending_id": mending.id} for row in rows])
    return mending.id


def _of_their_masters(session: Session, said: Sequence[OfFrame]) -> list[OfFrame]:
    """The same said of masters built here, where all frames of their set are told alike."""
    by_id = {one.frame_id: one for one in said}
    sets: dict[int, list[int]] = {}
    for part in in_parts(sorted(by_id)):
        query = select(Frame.id, Frame.set_id).join(FrameSet, FrameSet.id == Frame.set_id)
        for frame_id, set_id in session.execute(
            query.where(Frame.id.in_(part), FrameSet.master_set_id.is_not(None))
        ):
            if set_id is not None:
                sets.setdefault(set_id, []).append(frame_id)
    found: list[OfFrame] = []
    for set_id, ids in sets.items():
        frame_set = session.get_one(FrameSet, set_id)
        sayings = {replace(by_id[i].saying, clock_s=None) for i in ids}
        if len(ids) < len(frame_set.frames) or len(sayings) != 1 or frame_set.master_set_id is None:
            continue
        saying = sayings.pop()
        master = session.get(FrameSet, frame_set.master_set_id)
        of_kind = replace(saying, kind=None, is_master=None)
        if master is None or not of_kind.says or len(master.frames) != 1:
            continue
        if master.frames[0].id not in by_id:
            found.append(OfFrame(master.frames[0].id, of_kind))
    return found


def frames_of(session: Session, mending_id: int) -> list[int]:
    """The frames of which something was said."""
    return [
        i
        for i in session.scalars(
            select(MendedFrame.frame_id).where(MendedFrame.mending_id == mending_id).order_by(MendedFrame.id)
        )
        if i is not None
    ]


def said_now(session: Session, ids: Sequence[int]) -> dict[int, list[MendedFrame]]:
    """All that holds of these frames, the oldest first."""
    rows = session.scalars(
        select(MendedFrame)
        .join(Mending, Mending.id == MendedFrame.mending_id)
        .where(MendedFrame.frame_id.in_(ids), Mending.taken_back_at.is_(None))
        .order_by(MendedFrame.mending_id)
    )
    found: dict[int, list[MendedFrame]] = {}
    for row in rows:
        if row.frame_id is not None:
            found.setdefault(row.frame_id, []).append(row)
    return found


def merged(rows: Sequence[Mapping[str, Any]]) -> Saying:
    """What several acts say of one frame, the oldest first; clocks that were put on add up."""
    saying = Saying()
    for says in rows:
        later = Saying.from_plain({k: v for k, v in says.items() if k != KEPT})
        clock_s = None
        if later.clock_s is not None or saying.clock_s is not None:
            clock_s = (saying.clock_s or 0.0) + (later.clock_s or 0.0)
        saying = replace(saying.then(later), clock_s=clock_s)
    return saying


def tell_mended(
    library: Library,
    mending_id: int,
    check: Callable[[], None] = lambda: None,
    progress: Callable[[float], None] = lambda share: None,
) -> set[str]:
    """Tell the frames of an act anew by all that is said of them now; returns the keys of sets to be put together again.

    It may be cut short anywhere, and be done again.
    """
    with library.db.session() as session:
        here, ids = settling(library, session), frames_of(session, mending_id)
    keys = set[str]()
    for number, part in enumerate(in_parts(ids, AT_ONCE)):
        check()
        progress(AT_ONCE * number / len(ids))
        with library.db.session() as session:
            said = said_now(session, part)
            of_this = {
                m.frame_id: m
                for m in session.scalars(
                    select(MendedFrame).where(
                        MendedFrame.mending_id == mending_id, MendedFrame.frame_id.in_(part)
                    )
                )
            }
            for frame in session.scalars(select(Frame).where(Frame.id.in_(part), Frame.state.in_(IN_SETS))):
                keys |= {k for k in (frame.group_key,) if k}
                _tell(frame, here, said.get(frame.id, []), of_this[frame.id])
                keys |= {k for k in (frame.group_key,) if k}
    return keys


def _tell(frame: Frame, here: Settling, said: Sequence[MendedFrame], of_this: MendedFrame) -> None:
    facts = facts_if_sound(frame.facts)
    if facts is None:
        return
    saying = merged([row.says for row in said])
    anew = here.settle(replace(facts, said=saying.to_plain() if saying.says else {}))
    kept_said = next((r for r in reversed(said) if KEPT in r.says), None)
    if kept_said is not None:
        frame.rejected = not kept_said.says[KEPT] or set_aside(frame.path)
        wrong = f"{NOT_KEPT} {_day(kept_said)}." if frame.rejected else ""
    elif KEPT in of_this.says:
        # It was taken back: as it was before.
        frame.rejected = bool(of_this.before.get("rejected"))
        wrong = str(of_this.before.get("reason", "")) if frame.rejected else ""
    else:
        wrong = frame.reason if frame.rejected else ""
    tell_of(frame, anew, wrong)
    if frame.group_key is None:
        frame.set_id = None


def _day(row: MendedFrame) -> str:
    on = Saying.from_plain({"on": row.says["on"]}).on if "on" in row.says else None
    return f"{on:%-d %b %Y}" if on else "by hand"


def note_taken_back(library: Library, session: Session, mending_id: int) -> Mending:
    """Note that what was said holds no more; the frames are told anew afterwards.

    Raises
    ------
    NotFound, Conflict
    """
    mending = session.get(Mending, mending_id)
    if mending is None:
        raise NotFound("Nothing of that number was said.")
    if mending.taken_back_at is not None:
        raise Conflict("This was taken back already.")
    mending.taken_back_at = library.clock.now()
    return mending


def all_said(session: Session) -> list[Mending]:
    """All that was said, the newest first."""
    return list(session.scalars(select(Mending).order_by(Mending.id.desc())))


def let_go_of_frames(session: Session, ids: Sequence[int]) -> None:
    """Frames leave the library: what was said of them waits for their files."""
    session.execute(update(MendedFrame).where(MendedFrame.frame_id.in_(ids)).values(frame_id=None))


def found_again(library: Library, folder_id: int, root: str) -> list[int]:
    """Files below a folder are frames of the library again: what waited for them is said of them.

    Returns the acts whose frames are to be told anew.
    """
    base = f"{root.rstrip('/')}/"
    waits = MendedFrame.frame_id.is_(None) & MendedFrame.file.startswith(base, autoescape=True)
    with library.db.session() as session:
        rows = session.scalars(select(MendedFrame).where(waits)).all()
        ids: dict[str, int] = {}
        for part in in_parts(sorted({row.id for row in rows})):
            paths = [row.file[len(base) :] for row in rows if row.id in set(part)]
            query = select(Frame.path, Frame.id).where(Frame.folder_id == folder_id, Frame.path.in_(paths))
            ids |= {str(row.path): int(row.id) for row in session.execute(query)}
        acts = set[int]()
        for row in rows:
            frame_id = ids.get(row.file[len(base) :])
            if frame_id is not None:
                row.frame_id = frame_id
                acts.add(row.mending_id)
    return sorted(acts)


def said_of_folder(session: Session, folder_id: int) -> dict[str, tuple[dict[str, Any], str | None]]:
    """What is said of frames of a folder, by path, with the time (UTC, ISO) that was read of each."""
    found: dict[str, tuple[dict[str, Any], str | None]] = {}
    mended = select(MendedFrame.frame_id).where(MendedFrame.frame_id.is_not(None))
    query = select(Frame.path, Frame.facts).where(Frame.folder_id == folder_id, Frame.id.in_(mended))
    for path, kept in session.execute(query):
        facts = facts_if_sound(kept)
        if facts is not None and facts.said:
            read_utc = facts.as_read["utc"][0] if "utc" in facts.as_read else None
            found[path] = (facts.said, read_utc or (facts.utc.isoformat() if facts.utc else None))
    return found
