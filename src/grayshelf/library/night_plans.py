"""Plans of nights that a person keeps, and what each was foretold to cost."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import date, datetime

from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.planning.night_plan import NightPlan, PlanCost, check_plan
from grayshelf.library.models import KeptPlan
from grayshelf.library.records import as_kept, read

log = logging.getLogger(__name__)
#: More of a rig are looked for by nobody.
MOST_KEPT = 200


@dataclass(frozen=True)
class Foretold:
    """What a plan was foretold to cost when it was kept."""

    seconds: float = 0.0
    hands: int = 0
    flats: int = 0
    dark_flats: int = 0
    lights_s: float = 0.0

    @classmethod
    def of(cls, cost: PlanCost) -> Foretold:
        """The figures of a price."""
        return cls(cost.seconds, cost.hands, cost.flats, cost.dark_flats, cost.lights_s)


def plan_of(row: KeptPlan) -> NightPlan:
    """The plan as it was kept."""
    return read(NightPlan, row.plan)


def plans_of(session: Session, rig_id: int) -> list[KeptPlan]:
    """Those of a rig that make sense, the newest night first; patterns for any night before them."""
    rows = [r for r in session.scalars(select(KeptPlan).where(KeptPlan.rig_id == rig_id)) if _sound(r)]
    return sorted(rows, key=lambda r: (r.night is None, r.night or date.min, r.id), reverse=True)


def _sound(row: KeptPlan) -> bool:
    """One that was spoilt keeps no page from the others."""
    try:
        return bool(plan_of(row).targets) and read(Foretold, row.foretold) is not None
    except (ValidationError, TypeError):
        log.warning("plan %d of rig %d makes no sense and is left out", row.id, row.rig_id)
        return False


def kept_plan(session: Session, rig_id: int, plan_id: int) -> KeptPlan:
    """One of a rig.

    Raises
    ------
    NotFound
    """
    row = session.get(KeptPlan, plan_id)
    if row is None or row.rig_id != rig_id:
        raise NotFound("There is no such plan.", "Look at the page again.")
    return row


def keep_plan(
    session: Session,
    rig_id: int,
    name: str,
    night: date | None,
    plan: NightPlan,
    foretold: Foretold,
    now: datetime,
) -> KeptPlan:
    """Keep a plan; one of the same name for the same night is kept in its place.

    Raises
    ------
    GrayShelfError
        Where the plan or its name cannot be, or so many are kept already.
    """
    check_plan(plan)
    name = " ".join(name.split())
    if not 0 < len(name) <= 80:
        raise GrayShelfError("A plan has a name of 1 to 80 letters.", "Give it one.")
    kept = plans_of(session, rig_id)
    row = next((r for r in kept if r.name == name and r.night == night), None)
    if row is None:
        if len(kept) >= MOST_KEPT:
            raise GrayShelfError(f"{MOST_KEPT} plans are kept at most.", "Throw an old one away first.")
        row = KeptPlan(rig_id=rig_id, name=name, night=night, made_at=now, plan={}, foretold={})
        session.add(row)
    row.made_at, row.plan, row.foretold = now, as_kept(plan), as_kept(foretold)
    session.flush()
    return row
