"""Tonight’s sheet as a page asks for it."""

from __future__ import annotations

from collections.abc import Sequence

from grayshelf.core.errors import Conflict
from grayshelf.web.context import the_context
from grayshelf.web.tonight.schemas import TonightQuery
from grayshelf.work.run.choice import SheetChoice
from grayshelf.work.run.ready import Ready
from grayshelf.work.run.tonight import Tonight, look_at_tonight


def tonight_as_asked(rig_id: int, query: TonightQuery | None = None) -> Tonight:
    """Tonight of a rig, with what was chosen on the page."""
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, rig_id))
    chosen = query or TonightQuery()
    wishes = SheetChoice(
        chosen.frames, frozenset(_keys(chosen.leave_out)), frozenset(_keys(chosen.add)), chosen.go
    )
    return look_at_tonight(context.library, rig_id, devices, wishes)


def refuse_if_not_ready(ready: Sequence[Ready]) -> None:
    """What a run is asked before it starts.

    Raises
    ------
    Conflict
        Where one line of what to know before it says that it cannot.
    """
    stopping = [line for line in ready if line.stops]
    if stopping:
        raise Conflict(
            f"The run cannot start: {stopping[0].what}, {stopping[0].text}.", "Put it right first."
        )


def _keys(text: str) -> list[str]:
    return [key for key in text.split(",") if key]
