"""Tonight’s sheet as a page asks for it."""

from __future__ import annotations

from grayshelf.web.context import the_context
from grayshelf.web.tonight.schemas import TonightQuery
from grayshelf.work.run.choice import SheetChoice
from grayshelf.work.run.tonight import Tonight, look_at_tonight


def tonight_as_asked(rig_id: int, query: TonightQuery | None = None) -> Tonight:
    """Tonight of a rig, with what was chosen on the page."""
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, rig_id))
    chosen = query or TonightQuery()
    wishes = SheetChoice(chosen.frames, frozenset(_keys(chosen.leave_out)), frozenset(_keys(chosen.add)))
    return look_at_tonight(context.library, rig_id, devices, wishes)


def _keys(text: str) -> list[str]:
    return [key for key in text.split(",") if key]
