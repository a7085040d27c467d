"""Routes of a night before it begins."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response

from grayshelf.core.errors import GrayShelfError
from grayshelf.library.night_plans import Foretold, keep_plan, kept_plan, plan_of, plans_of
from grayshelf.library.records import read
from grayshelf.web.common.schemas import Done
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.tonight.plan_page import difference, plan_in, plans_page, priced_out
from grayshelf.web.tonight.plan_schemas import (
    KeepPlanIn,
    NightPlanIO,
    PlansOut,
    PricedOut,
    PriceIn,
    PricesOut,
)
from grayshelf.work.run.pricing import Priced, price_night

api = APIBlueprint("plans", __name__, url_prefix="/api", tag="Gray Shelf")


def _price(rig_id: int, told: NightPlanIO) -> Priced:
    context = the_context()
    with context.library.db.session() as session:
        devices = context.starter.devices(context.library.rig(session, rig_id))
    return price_night(context.library, rig_id, devices, plan_in(told))


@api.get("/rigs/<int:rig_id>/plans")
@api.output(PlansOut)
def get_plans(rig_id: int) -> PlansOut:
    """Where a plan begins from, and those that were kept, with what their nights had."""
    return plans_page(the_context().library, rig_id)


@api.post("/rigs/<int:rig_id>/plans/price")
@api.input(PriceIn)
@api.output(PricesOut)
def price_plans(rig_id: int, json_data: PriceIn) -> PricesOut:
    """What one plan costs, or two side by side."""
    prices: list[PricedOut | None] = []
    wrong: list[str] = []
    for told in json_data.plans:
        try:
            prices.append(priced_out(the_context().library, rig_id, _price(rig_id, told)))
            wrong.append("")
        except GrayShelfError as error:
            # One that cannot be leaves the other one priced.
            prices.append(None)
            wrong.append(f"{error.message} {error.advice}".strip())
    names = [*json_data.names, "The first", "The second"][:2]
    return PricesOut(prices=prices, wrong=wrong, difference=difference(names, prices))


@api.post("/rigs/<int:rig_id>/plans")
@api.input(KeepPlanIn)
@api.output(Done)
def keep(rig_id: int, json_data: KeepPlanIn) -> Done:
    """Keep a plan; one of the same name for the same night is kept in its place."""
    library, priced = the_context().library, _price(rig_id, json_data.plan)
    with library.db.session() as session:
        keep_plan(
            session,
            library.rig(session, rig_id).id,
            json_data.name,
            json_data.night,
            priced.plan,
            Foretold.of(priced.cost),
            library.clock.now(),
        )
    return Done(message="The plan is kept.")


@api.delete("/rigs/<int:rig_id>/plans/<int:plan_id>")
@api.output(Done)
def throw_away(rig_id: int, plan_id: int) -> Done:
    """Throw a plan away."""
    with the_context().library.db.session() as session:
        session.delete(kept_plan(session, rig_id, plan_id))
    return Done(message="The plan is thrown away.")


@api.get("/rigs/<int:rig_id>/plans.csv")
@api.doc(hide=True)
def plans_csv(rig_id: int) -> Response:
    """Every kept plan, a line for each target and filter."""
    head = ["plan", "night", "target", "filter", "exposure_s", "count", "gain", "offset", "binning", "turned"]
    rows: list[list[object]] = [[*head, "flats_go", "foretold_s", "foretold_hands"]]
    with the_context().library.db.session() as session:
        for row in plans_of(session, rig_id):
            plan, foretold = plan_of(row), read(Foretold, row.foretold)
            for target in plan.targets:
                for one in target.lights:
                    lights = [one.filter_code, one.exposure_s, one.count, one.gain, one.offset, one.binning]
                    cost = [int(target.turned), plan.go.value, round(foretold.seconds), foretold.hands]
                    rows.append([row.name, row.night or "", target.name, *lights, *cost])
    return csv_response(rows, "plans")
