"""Names and rigs joined and parted, and the frames that carry the names told anew."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.rigs.propose import Join, NameOf
from grayshelf.library.grouping import RECOUNT, regroup, tell_again
from grayshelf.library.joining import join_names, join_rigs, joins_of, part, part_spelling
from grayshelf.library.library import Library
from grayshelf.library.models import CardChange, Job
from grayshelf.library.names_seen import carrying
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_cards import JOINED
from grayshelf.library.step_records import JobResult, KeptJoin, NamesJob
from grayshelf.library.trains import make_rigs
from grayshelf.work.job_states import ALIVE
from grayshelf.work.jobs import JobControl, JobRunner


def tell_names_again(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a job (`NamesJob`): frames that carry a spelling get the name that it stands for now, and their sets."""
    joins = [Join(NameOf(j.about), j.camera, j.spelled, j.name) for j in read(NamesJob, params).joins]
    control.report(0.0, "Telling frames by their names")
    with library.db.session() as session:
        # Where it was stopped on its way, frames that were told then are in no set of their own yet.
        cut_short = bool(library.setting(session, RECOUNT, {}).get("begun"))
        library.set_setting(session, RECOUNT, {"due": True, "begun": True})

    def so_far(share: float) -> None:
        control.check()
        control.report(share)

    with library.grouping:
        keys, changed = tell_again(
            library, carrying(joins, either=True), lambda share: so_far(0.6 * share), cut_short=cut_short
        )
        regroup(library, keys, lambda share: control.report(0.6 + 0.4 * share))
    with library.db.session() as session:
        make_rigs(session)
        library.set_setting(session, RECOUNT, {})
    library.touched()
    return JobResult(f"{changed:,} frame{'s are' if changed != 1 else ' is'} told by another name")


def _nobody_works(session: Session) -> None:
    """Refuse while anything works: it knows its rig by what it was."""
    title = session.scalar(select(Job.title).where(Job.state.in_(ALIVE)).limit(1))
    if title is not None:
        raise Conflict(
            f"{title} goes on just now, and would lose its frames’ names.", "Wait for its end, or stop it."
        )


def _begin(runner: JobRunner, joins: Sequence[Join]) -> int | None:
    """Tell the frames anew, in the background; None where none has to be."""
    library = runner.library
    library.touched()
    if not joins:
        return None
    kept = tuple(KeptJoin(j.about.value, j.camera, j.spelled, j.name) for j in joins)
    return runner.start("names", "Names that are one", as_kept(NamesJob(kept)))


def _due(library: Library, session: Session, joins: Sequence[Join]) -> None:
    if joins:
        # Cut short, it is done when the library is opened again.
        library.set_setting(session, RECOUNT, {"due": True})


def join_with(runner: JobRunner, rig_id: int, into_id: int) -> tuple[str, int]:
    """Say that a rig is another one; return what to say of it, and the change by which it is taken back."""
    library = runner.library
    with library.db.session() as session:
        _nobody_works(session)
        rig, into = library.rig(session, rig_id), library.rig(session, into_id)
        words = f"{rig.name} is {into.name}."
        change = join_rigs(library, session, rig, into)
        joins, number = joins_of(change), change.id
        _due(library, session, joins)
    _begin(runner, joins)
    return words, number


def are_one(runner: JobRunner, join: Join) -> str:
    """Say that a spelling stands for a name; return what to say of it."""
    library = runner.library
    with library.db.session() as session:
        _nobody_works(session)
        join_names(library, session, join)
        _due(library, session, [join])
    _begin(runner, [join])
    return f"{join.spelled or 'None named'} is {join.name}."


def is_its_own(runner: JobRunner, join: Join) -> str:
    """Say that a spelling is a name of its own; return what to say of it."""
    library = runner.library
    with library.db.session() as session:
        _nobody_works(session)
        parted = part_spelling(library, session, join)
        _due(library, session, parted)
    _begin(runner, parted)
    return f"{join.spelled or 'None named'} stands for itself."


def part_again(runner: JobRunner, change_id: int) -> str:
    """Take a join back; return what to say of it."""
    library = runner.library
    with library.db.session() as session:
        _nobody_works(session)
        change = session.get(CardChange, change_id)
        if change is None or change.about != JOINED:
            raise NotFound("There is no such change.", "Look at the page again.")
        if change.taken_back_at is not None:
            raise Conflict("This change is taken back already.")
        joins, words = part(library, session, change), change.words
        _due(library, session, joins)
    _begin(runner, joins)
    return f"Parted again: {words}."
