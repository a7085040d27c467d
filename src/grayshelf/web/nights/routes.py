"""Routes of Nights."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response, jsonify

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import site_zone
from grayshelf.core.matching.parts import answered
from grayshelf.library.grouping import RECOUNT, recount_nights
from grayshelf.library.models import FrameSet
from grayshelf.library.rig_terms import rig_of
from grayshelf.library.scaling import let_scale
from grayshelf.library.slips import choose_by_hand
from grayshelf.web.common import in_words
from grayshelf.web.common.schemas import Done
from grayshelf.web.context import the_context
from grayshelf.web.exports import as_file, csv_response
from grayshelf.web.nights.asked import night_in
from grayshelf.web.nights.correction import correction_page
from grayshelf.web.nights.match_files import match_files
from grayshelf.web.nights.page import night_csv_rows, night_page, nights_page
from grayshelf.web.nights.schemas import (
    ChoiceIn,
    CorrectionOut,
    LightQuery,
    MatchIn,
    MatchOut,
    NightOut,
    NightsOut,
    PartIn,
    RigZoneIn,
    SlipOut,
)
from grayshelf.web.nights.slip import slip_csv_rows, slip_page
from grayshelf.web.tonight.asked import tonight_as_asked

api = APIBlueprint("nights", __name__, url_prefix="/api", tag="Gray Shelf")


@api.get("/rigs/<int:rig_id>/nights")
@api.output(NightsOut)
def get_nights(rig_id: int) -> NightsOut:
    """The nights of a rig."""
    return nights_page(the_context().library, rig_id)


@api.get("/rigs/<int:rig_id>/nights.csv")
@api.doc(hide=True)
def nights_csv(rig_id: int) -> Response:
    """The log of all nights."""
    return csv_response(night_csv_rows(the_context().library, rig_id), "nights")


@api.get("/rigs/<int:rig_id>/nights/<string:night>")
@api.output(NightOut)
def get_night(rig_id: int, night: str) -> NightOut:
    """One night."""
    return night_page(the_context().library, rig_id, night_in(night))


def _slip(set_id: int) -> SlipOut:
    context = the_context()
    with context.library.db.session() as session:
        row = session.get(FrameSet, set_id)
        rig = rig_of(session, row) if row is not None else None
        rig_ids = [] if rig is None else [rig.id]
    return slip_page(context.library, set_id, {rig_id: tonight_as_asked(rig_id) for rig_id in rig_ids})


@api.put("/rigs/<int:rig_id>/says")
@api.input(PartIn)
@api.output(Done)
def say_of_rig(rig_id: int, json_data: PartIn) -> Done:
    """Keep what a person says of a part that no header tells of, or take it back."""
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        said = {q: word for q, word in (rig.says or {}).items() if q != json_data.quantity}
        rig.says = said if json_data.says is None else {**said, json_data.quantity: json_data.says}
    library.touched()
    if json_data.says is None:
        return Done(message=f"What was said of the {json_data.quantity} is taken back.")
    return Done(message=f"Kept for this rig. {answered(json_data.quantity, json_data.says)}.")


@api.put("/rigs/<int:rig_id>/time-zone")
@api.input(RigZoneIn)
@api.output(Done)
def set_rig_zone(rig_id: int, json_data: RigZoneIn) -> Done:
    """Say in which time zone a rig stands; its frames that name no place get their nights anew."""
    library = the_context().library
    if json_data.time_zone is not None:
        site_zone(json_data.time_zone)
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        rig.time_zone = json_data.time_zone
        library.set_setting(session, RECOUNT, {"due": True})
        name = rig.name
    again = recount_nights(library)
    library.touched()
    return Done(
        message=f"{name}: {in_words.several(again, 'frame')} changed {in_words.named(again, 'its', 'their')} night."
    )


@api.post("/match")
@api.input(MatchIn)
@api.output(MatchOut)
def match(json_data: MatchIn) -> MatchOut:
    """The slips of the lights that these files are, or that lie in these folders."""
    return match_files(the_context().library, json_data.paths)


@api.get("/lights/<int:set_id>/slip")
@api.output(SlipOut)
def get_slip(set_id: int) -> SlipOut:
    """The pull slip of a set of lights."""
    return _slip(set_id)


@api.get("/lights/<int:set_id>/correction")
@api.input(LightQuery, location="query")
@api.output(CorrectionOut)
def get_correction(set_id: int, query_data: LightQuery) -> CorrectionOut:
    """Whether the flat of a slip corrects one of its lights."""
    return correction_page(the_context().library, set_id, query_data.frame)


@api.put("/lights/<int:set_id>/choice")
@api.input(ChoiceIn)
@api.output(Done)
def put_choice(set_id: int, json_data: ChoiceIn) -> Done:
    """Choose another candidate for a line of a slip, or leave it to the shelf again."""
    context = the_context()
    library = context.library
    kind, key = FrameKind(json_data.kind), json_data.holding_id
    if json_data.scaled and kind is FrameKind.DARK and key is not None:
        words = let_scale(library, set_id, key)
    else:
        with library.db.session() as session:
            words = choose_by_hand(library, session, set_id, kind, key)
    library.touched()
    context.broker.publish("state")
    return Done(message=words)


@api.get("/lights/<int:set_id>/slip.csv")
@api.doc(hide=True)
def slip_csv(set_id: int) -> Response:
    """The slip as CSV."""
    return csv_response(slip_csv_rows(_slip(set_id)), f"slip-{set_id}")


@api.get("/lights/<int:set_id>/slip.json")
@api.doc(hide=True)
def slip_json(set_id: int) -> Response:
    """The slip as JSON."""
    response = jsonify(_slip(set_id).model_dump(mode="json"))
    as_file(response, f"slip-{set_id}.json")
    return response
