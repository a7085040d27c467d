"""What a change of house rules would do, told before it is made."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from grayshelf.core.filing.letting_go import RawFrames, wished
from grayshelf.core.planning.standard_darks import missing_standards
from grayshelf.core.rigs.house_rules import Moved, changes_in_words, what_moves
from grayshelf.library.cameras_alike import shelf_of
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.raw_sets import raw_sets
from grayshelf.library.rig_terms import house_rules_of, terms_of, under_rules
from grayshelf.library.slips import slips, verdicts_under


@dataclass(frozen=True)
class Would:
    """What a change of house rules would do."""

    changes: tuple[str, ...]
    moves: tuple[Moved, ...]
    """Slips that would end otherwise."""
    darks_asked: int
    """Standard darks that would be asked for and are not on the shelf."""
    raw_offered: int
    """Raw frames that Room would offer to be packed or thrown away today."""


def what_rules_would_do(library: Library, rig_id: int, changes: Mapping[str, Any]) -> Would:
    """Hold the slips of a rig as they are against those under changed rules; nothing is kept of it."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        now = house_rules_of(rig)
        after = now.changed(changes)
        before = {lights.row.id: slip.verdict.value for lights, slip in slips(library, rig_id)}
        lights = [s.nominal for s in light_sets(library, rig)]
        terms = under_rules(terms_of(library, rig, lights[-1].gain if lights else None), after)
        asked = missing_standards(after, lights, shelf_of(library, rig), terms)
        moves = what_moves(before, verdicts_under(library, rig, after)) if after != now else []
        today = library.clock.now().astimezone(library.zone(session)).date()
        ruled = (
            replace(raw, rule=after.raw_frames, rule_days=after.raw_days)
            for raw in raw_sets(library).values()
            if raw.rig_id == rig_id
        )
        offered = sum(raw.n_frames for raw in ruled if wished(raw, today) is not RawFrames.KEPT)
        return Would(tuple(changes_in_words(now, after)), tuple(moves), len(asked), offered)
