"""Saying what headers lack or have wrong, for many frames at once: first what it would change, then a job that does it."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.digits import several
from grayshelf.core.errors import Conflict, GrayShelfError, NotFound
from grayshelf.core.filing.name_pattern import NameRead
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.said import Saying, in_words
from grayshelf.library.catalog import settling
from grayshelf.library.choosing import Choice, chosen, count_chosen
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.grouping import regroup
from grayshelf.library.library import Library
from grayshelf.library.mending import (
    MendJob,
    OfFrame,
    begin_saying,
    frames_of,
    merged,
    note_taken_back,
    said_now,
    tell_mended,
)
from grayshelf.library.models import Folder, Frame, Job, Mending
from grayshelf.library.records import as_kept, read
from grayshelf.library.step_records import JobResult
from grayshelf.library.trains import make_rigs
from grayshelf.work.job_states import ALIVE
from grayshelf.work.jobs import JobControl, JobRunner

MEND = "mend"
#: Held while something is begun to be said. Not the runner's own lock, for which a run at night would wait.
_beginning = threading.Lock()
#: Frames that a preview shows one by one.
SHOWN = 40

#: What is said of a frame, by the path of its file below its folder.
SaidOf = Callable[[str], NameRead]


def says_nothing(path: str) -> NameRead:
    """Nothing is said of any frame yet."""
    return NameRead(Saying())


@dataclass(frozen=True)
class FrameBefore:
    """One frame, as it is told now and as it would be."""

    path: str
    now: FrameFacts
    then: FrameFacts | None
    """None where nothing is said of it."""
    why: str
    rejected: bool


@dataclass(frozen=True)
class Preview:
    """What would change."""

    frames: int
    """Frames that are chosen."""
    said: int
    """Of so many of them something is said; the others' names do not fit the pattern."""
    changed: int
    against: int
    """Of so many something else was read from the header."""
    names: tuple[str, ...]
    """What is said, by the names of `Saying`."""
    shown: tuple[FrameBefore, ...]


def preview(library: Library, choice: Choice, said_of: SaidOf, kept: bool | None) -> Preview:
    """What saying this of these frames would change; nothing is written.

    Frames of which nothing would be said are shown first.
    """
    with library.db.session() as session:
        here = settling(library, session)
        if said_of is says_nothing:
            return _only_shown(session, choice)
        rows = session.execute(
            select(Frame.id, Frame.path, Frame.facts, Frame.rejected)
            .where(chosen(choice))
            .order_by(Frame.path)
        ).all()
        names = set[str]()
        said = changed = against = 0
        fitting: list[tuple[int, str, bool, NameRead]] = []
        others: list[tuple[int, str, bool, NameRead]] = []
        for frame_id, path, plain, rejected in rows:
            told = said_of(path)
            if told.saying is None:
                others.append((frame_id, path, rejected, told))
                continue
            said += 1
            names |= set(told.saying.says)
            differs = _differs(plain, told.saying)
            changed += bool(differs) or (kept is not None and kept == rejected)
            against += any(was is not None for was in differs)
            if len(fitting) < SHOWN:
                fitting.append((frame_id, path, rejected, told))
        shown = [*others[: SHOWN // 4], *fitting][:SHOWN]
        by_id = {f.id: f for f in session.scalars(select(Frame).where(Frame.id.in_([s[0] for s in shown])))}
        before = said_now(session, list(by_id))
        told_rows = []
        for frame_id, path, rejected, told in shown:
            facts = facts_if_sound(by_id[frame_id].facts)
            if facts is None:
                continue
            then = None
            if told.saying is not None:
                all_of_it = merged([*(r.says for r in before.get(frame_id, [])), told.saying.to_plain()])
                then = here.settle(replace(facts, said=all_of_it.to_plain()))
            told_rows.append(FrameBefore(path, facts, then, told.why, rejected))
    return Preview(len(rows), said, changed, against, tuple(sorted(names)), tuple(told_rows))


def _only_shown(session: Session, choice: Choice) -> Preview:
    """The frames that are chosen, while nothing is said of them yet: a library of years is not read for that."""
    rows = session.scalars(select(Frame).where(chosen(choice)).order_by(Frame.path).limit(SHOWN))
    shown = [
        FrameBefore(f.path, facts, facts, "", f.rejected)
        for f in rows
        if (facts := facts_if_sound(f.facts)) is not None
    ]
    return Preview(count_chosen(session, choice), 0, 0, 0, (), tuple(shown))


#: Under what facts have what is said.
_FACTS_NAMES = {"binning": "binning_x"}


def _differs(plain: Any, saying: Saying) -> list[Any]:
    """What is told now of each value that would become another: None where it is not known."""
    if not isinstance(plain, dict):
        return []
    found: list[Any] = []
    new = saying.to_plain()
    for name in saying.says:
        if name == "clock_s":
            found.append(plain.get("utc"))
            continue
        if name == "angle_deg":
            angle = plain.get("angle")
            was = angle.get("deg") if isinstance(angle, dict) else None
        else:
            was = plain.get(_FACTS_NAMES.get(name, name), False if name == "is_master" else None)
        if was != new[name]:
            found.append(was)
    return found


def begin_mending(
    library: Library, runner: JobRunner, choice: Choice, said_of: SaidOf, kept: bool | None, words: str
) -> int:
    """Say it of the frames that are chosen; returns the job that tells them.

    Raises
    ------
    GrayShelfError
        Where no frame is chosen, or nothing is said of any.
    """
    with _beginning:
        _nobody_mends(library)
        with library.db.session() as session:
            folder = session.get(Folder, choice.folder_id) if choice.folder_id is not None else None
            of = choice.in_words(folder.path if folder is not None else "")
            query = select(Frame.id, Frame.path).where(chosen(choice)).order_by(Frame.id)
            told = [(frame_id, said_of(path)) for frame_id, path in session.execute(query)]
            said = [OfFrame(frame_id, t.saying, kept) for frame_id, t in told if t.saying is not None]
            if not said:
                raise GrayShelfError(
                    "No frame is chosen." if not told else "Nothing is said of any of these frames.",
                    "Choose others." if not told else "Look at the pattern.",
                )
            mending_id = begin_saying(library, session, words, of, said)
        return _start(runner, mending_id, f"Saying {words} of {several(len(said), 'frame')}")


def take_back(library: Library, runner: JobRunner, mending_id: int) -> int:
    """Take back what was said; returns the job that tells the frames as they were."""
    with _beginning:
        _nobody_mends(library)
        with library.db.session() as session:
            mending = note_taken_back(library, session, mending_id)
            words, frames = mending.words, mending.n_frames
        return _start(runner, mending_id, f"Taking {words} of {several(frames, 'frame')} back")


def _start(runner: JobRunner, mending_id: int, title: str) -> int:
    return runner.start(MEND, title, as_kept(MendJob(mending_id)))


def _nobody_mends(library: Library) -> None:
    with library.db.session() as session:
        if session.scalar(select(Job.id).where(Job.kind == MEND, Job.state.in_(ALIVE))) is not None:
            raise Conflict("Frames are being told anew just now.", "Wait for its end, or stop it, in Work.")


def mend(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job that mends (`MendJob`); stopped on its way, it goes on where it was."""
    mending_id = read(MendJob, params).mending_id
    with library.db.session() as session:
        mending = session.get(Mending, mending_id)
        if mending is None:
            raise NotFound("What was to be said is not there any more.")
        taken_back, frames = mending.taken_back_at is not None, len(frames_of(session, mending_id))

    def told(share: float) -> None:
        control.report(0.6 * share, f"{round(share * frames):,} of {several(frames, 'frame')} told")

    with library.grouping:
        keys = tell_mended(library, mending_id, control.check, told)
        regroup(
            library,
            keys,
            progress=lambda share: control.report(0.6 + 0.4 * share, "Putting frames into sets"),
        )
    with library.db.session() as session:
        make_rigs(session)
    library.touched()
    return JobResult(
        f"{frames:,} frame{'s are' if frames != 1 else ' is'} told {'as before' if taken_back else 'by it'}"
    )


def said_of_all(saying: Saying) -> SaidOf:
    """The same said of every frame."""
    read_so = NameRead(saying)
    return lambda path: read_so


def words_of(saying: Saying, kept: bool | None, gain_word: str) -> str:
    """What is said, in words."""
    parts = [in_words(saying, gain_word)] if saying.says else []
    if kept is not None:
        parts.append("kept" if kept else "not kept")
    return ", ".join(parts)
