"""Where a plan begins at a rig that no lights were taken with yet: at the rows of its flat sheet."""

from __future__ import annotations

from sqlalchemy.orm import Session

from grayshelf.core.planning.night_plan import MOST_LIGHTS, NightPlan, PlannedLights, PlannedTarget
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import house_rules_of
from grayshelf.library.told_settings import told_rows

#: Exposure, seconds, and count of lights where nobody has taken any (common practice: minutes, and an hour or so a filter).
USUAL_S, USUAL_COUNT = 180.0, 20


def first_plan(session: Session, rig: Rig) -> NightPlan | None:
    """One target in the filters of a rig's flat sheet, each once; None where it has no row that a person put there."""
    found: dict[str, PlannedLights] = {}
    for row in told_rows(session, rig):
        lights = PlannedLights(row.filter_code, USUAL_S, USUAL_COUNT, row.gain, row.offset, row.binning)
        found.setdefault(row.filter_code, lights)
    if not found:
        return None
    target = PlannedTarget("First target", tuple(found.values())[:MOST_LIGHTS], turned=False)
    return NightPlan((target,), house_rules_of(rig).flats_go)
