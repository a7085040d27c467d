"""Routes of Rigs."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint
from flask import Response

from grayshelf.core.errors import NotFound
from grayshelf.core.rigs.cards import PLAIN_PARTS
from grayshelf.core.rigs.train import PartKind
from grayshelf.devices.ports import RigDevices
from grayshelf.library.grouping import finish_recount
from grayshelf.library.library import Library
from grayshelf.library.models import CardChange
from grayshelf.library.place_told import told_elsewhere
from grayshelf.library.rig_cards import (
    ACCEPTED,
    DEVICES,
    HOUSE_RULES,
    JOINED,
    NAME,
    change_sheet,
    make_rig,
    take_change_back,
)
from grayshelf.library.sites import zone_of
from grayshelf.library.spellings import ask_again, keep_apart
from grayshelf.web.common import in_words
from grayshelf.web.common.places import told_out
from grayshelf.web.common.schemas import Done
from grayshelf.web.context import the_context
from grayshelf.web.exports import csv_response
from grayshelf.web.flats.schemas import SourceOut
from grayshelf.web.rigs.page import changes_asked, rig_page, would_out
from grayshelf.web.rigs.proposed import join_of, proposal_page
from grayshelf.web.rigs.schemas import (
    CameraSheet,
    FiltersSheet,
    HouseRulesIn,
    JoinRigIn,
    KeepRigIn,
    KeepRigsIn,
    MountSheet,
    NameIn,
    NewRigIn,
    NewRigOut,
    PartSheet,
    PlaceOfRigOut,
    ProposalOut,
    RigNameIn,
    RigOut,
    SheetChangedOut,
    SiteSheet,
    TelescopeSheet,
    WouldOut,
)
from grayshelf.work.rigs.joining import are_one, is_its_own, join_with, part_again
from grayshelf.work.rigs.would import what_rules_would_do

api = APIBlueprint("rigs", __name__, url_prefix="/api", tag="Rigs")


def _library() -> Library:
    return the_context().library


def _devices(rig_id: int) -> RigDevices | None:
    """What drives a rig, or what is attached to it beside a camera that another program runs."""
    context = the_context()
    with context.library.db.session() as session:
        rig = context.library.rig(session, rig_id)
        return context.starter.devices(rig) or context.starter.rigs.beside_camera(rig)


@api.get("/rigs/<int:rig_id>")
@api.output(RigOut)
def get_rig(rig_id: int) -> RigOut:
    """The train of a rig, its sheets, its house rules and its history."""
    return rig_page(_library(), rig_id, _devices(rig_id))


@api.get("/rigs/<int:rig_id>/history.csv")
@api.doc(hide=True)
def history_csv(rig_id: int) -> Response:
    """The history of a rig as a table."""
    page = rig_page(_library(), rig_id, _devices(rig_id))
    rows: list[list[object]] = [["at (UTC)", "kind", "what", "detail", "taken back"]]
    rows += [[h.at.isoformat(), h.kind, h.words, h.detail, h.taken_back] for h in page.history]
    return csv_response(rows, f"history-of-{page.name}")


@api.get("/rigs/<int:rig_id>/house-rules.csv")
@api.doc(hide=True)
def house_rules_csv(rig_id: int) -> Response:
    """The house rules of a rig as a table."""
    page = rig_page(_library(), rig_id, _devices(rig_id))
    rows: list[list[object]] = [["kind", "rule", "value", "unit", "usual", "reason", "since"]]
    rows += [
        [g.title, f"{r.before} … {r.after}".strip(), r.value, r.unit, r.usual, r.reason, r.since]
        for g in page.rules.groups
        for r in g.rules
    ]
    return csv_response(rows, f"house-rules-of-{page.name}")


def _change(rig_id: int, about: str, changes: dict[str, Any], reason: str = "") -> SheetChangedOut:
    library = _library()
    with library.db.session() as session:
        change = change_sheet(library, session, library.rig(session, rig_id), about, changes, reason)
        if change is None:
            return SheetChangedOut(message="It is as it was.", change_id=None)
        words, change_id = change.words, change.id
    _count_nights(library, about)
    _changed(library)
    return SheetChangedOut(message=f"Kept: {words}.", change_id=change_id)


def _count_nights(library: Library, about: str) -> None:
    """Count the nights anew of a rig that stands elsewhere by now."""
    if about == PartKind.SITE:
        finish_recount(library, cut_short=False)


def _changed(library: Library) -> None:
    library.touched()
    broker = the_context().broker
    broker.publish("state")
    broker.publish("rig")
    broker.publish("flats")


@api.put("/rigs/<int:rig_id>/sheets/telescope")
@api.input(TelescopeSheet)
@api.output(SheetChangedOut)
def put_telescope(rig_id: int, json_data: TelescopeSheet) -> SheetChangedOut:
    """Describe the telescope with its reducer."""
    return _change(rig_id, PartKind.TELESCOPE.value, json_data.model_dump(exclude_unset=True))


@api.put("/rigs/<int:rig_id>/sheets/camera")
@api.input(CameraSheet)
@api.output(SheetChangedOut)
def put_camera(rig_id: int, json_data: CameraSheet) -> SheetChangedOut:
    """Describe the camera, in every rig that it sits in."""
    return _change(rig_id, PartKind.CAMERA.value, json_data.model_dump(exclude_unset=True))


@api.put("/rigs/<int:rig_id>/sheets/filters")
@api.input(FiltersSheet)
@api.output(SheetChangedOut)
def put_filters(rig_id: int, json_data: FiltersSheet) -> SheetChangedOut:
    """Describe the filters, and say who changes them."""
    return _change(rig_id, PartKind.FILTERS.value, json_data.model_dump(exclude_unset=True))


@api.put("/rigs/<int:rig_id>/sheets/light")
@api.input(SourceOut)
@api.output(SheetChangedOut)
def put_light(rig_id: int, json_data: SourceOut) -> SheetChangedOut:
    """Describe the light that flats are taken with."""
    return _change(rig_id, PartKind.LIGHT.value, json_data.model_dump())


@api.put("/rigs/<int:rig_id>/sheets/site")
@api.input(SiteSheet)
@api.output(SheetChangedOut)
def put_site(rig_id: int, json_data: SiteSheet) -> SheetChangedOut:
    """Say where the rig stands, where that is not the library's site."""
    return _change(rig_id, PartKind.SITE.value, json_data.model_dump(exclude_unset=True))


@api.get("/rigs/<int:rig_id>/place")
@api.output(PlaceOfRigOut)
def get_place(rig_id: int) -> PlaceOfRigOut:
    """Where the headers of the rig's lights say that it stands, where that is not what is kept. Reads files."""
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        told, zone = told_elsewhere(library, session, rig), zone_of(library, session, rig)
        return PlaceOfRigOut(told=told_out(told, zone, library.clock.now()))


@api.put("/rigs/<int:rig_id>/sheets/mount")
@api.input(MountSheet)
@api.output(SheetChangedOut)
def put_mount(rig_id: int, json_data: MountSheet) -> SheetChangedOut:
    """Say what the rig stands on, and where it points for flats."""
    return _change(rig_id, PartKind.MOUNT.value, json_data.model_dump(mode="json", exclude_unset=True))


@api.put("/rigs/<int:rig_id>/sheets/parts/<string:kind>")
@api.input(PartSheet)
@api.output(SheetChangedOut)
def put_part(rig_id: int, kind: str, json_data: PartSheet) -> SheetChangedOut:
    """Say of a part what it is and who moves it, or that it is not there."""
    if kind not in PLAIN_PARTS:
        raise NotFound(f"A rig has no part ‘{kind}’ that is said so little of.", "Look at the page again.")
    return _change(rig_id, kind, json_data.model_dump(mode="json", exclude_unset=True))


@api.put("/rigs/<int:rig_id>/name")
@api.input(RigNameIn)
@api.output(SheetChangedOut)
def put_name(rig_id: int, json_data: RigNameIn) -> SheetChangedOut:
    """Name a rig, retire it, or use it again."""
    return _change(rig_id, NAME, json_data.model_dump())


@api.post("/rigs/<int:rig_id>/house-rules/would")
@api.input(HouseRulesIn)
@api.output(WouldOut)
def would_house_rules(rig_id: int, json_data: HouseRulesIn) -> WouldOut:
    """What a change of house rules would do; nothing is changed."""
    return would_out(what_rules_would_do(_library(), rig_id, changes_asked(json_data)))


@api.put("/rigs/<int:rig_id>/house-rules")
@api.input(HouseRulesIn)
@api.output(SheetChangedOut)
def put_house_rules(rig_id: int, json_data: HouseRulesIn) -> SheetChangedOut:
    """Change house rules, with the reason."""
    return _change(rig_id, HOUSE_RULES, changes_asked(json_data), json_data.reason)


@api.post("/rigs/<int:rig_id>/changes/<int:change_id>/take-back")
@api.output(Done)
def take_rig_change_back(rig_id: int, change_id: int) -> Done:
    """Put a sheet back as it was before a change."""
    library = _library()
    with library.db.session() as session:
        change = session.get(CardChange, change_id)
        about = change.about if change is not None else ""
        joined = about == JOINED and change is not None and change.rig_id == rig_id
    if joined:
        message = part_again(the_context().runner, change_id)
        _changed(library)
        return Done(message=message)
    runner = the_context().runner
    with runner.changing:
        if about == DEVICES:
            # What moves a rig is not changed under its hands.
            runner.refuse_if_busy(rig_id)
        with library.db.session() as session:
            change = take_change_back(library, session, library.rig(session, rig_id), change_id)
            words, about = change.words, change.about
    _count_nights(library, about)
    _changed(library)
    return Done(message=f"Taken back: {words}.")


@api.get("/rigs/proposal")
@api.output(ProposalOut)
def get_proposal() -> ProposalOut:
    """Rigs that headers propose, and names of which nobody but a person can say what they stand for."""
    return proposal_page(_library())


def _keep(rig_id: int, name: str) -> SheetChangedOut:
    library = _library()
    with library.db.session() as session:
        retired = library.rig(session, rig_id).retired_at is not None
    _change(rig_id, NAME, {"name": name, "retired": retired})
    return _change(rig_id, ACCEPTED, {"accepted": True})


@api.post("/rigs/<int:rig_id>/keep")
@api.input(KeepRigIn)
@api.output(SheetChangedOut)
def keep_rig(rig_id: int, json_data: KeepRigIn) -> SheetChangedOut:
    """Say that a proposed rig is right."""
    return _keep(rig_id, json_data.name)


@api.post("/rigs/keep")
@api.input(KeepRigsIn)
@api.output(Done)
def keep_rigs(json_data: KeepRigsIn) -> Done:
    """Say that several proposed rigs are right."""
    for rig in json_data.rigs:
        _keep(rig.rig_id, rig.name)
    return Done(message=f"{in_words.several(len(json_data.rigs), 'rig')} kept.")


@api.post("/rigs/<int:rig_id>/join")
@api.input(JoinRigIn)
@api.output(SheetChangedOut)
def join_rig(rig_id: int, json_data: JoinRigIn) -> SheetChangedOut:
    """Say that a rig is another one in truth; its history tells of it there, and parts them again."""
    message, change_id = join_with(the_context().runner, rig_id, json_data.into)
    _changed(_library())
    return SheetChangedOut(message=message, change_id=change_id)


@api.post("/names/one")
@api.input(NameIn)
@api.output(Done)
def names_are_one(json_data: NameIn) -> Done:
    """Say that a spelling stands for a name."""
    message = are_one(the_context().runner, join_of(json_data))
    _changed(_library())
    return Done(message=message)


@api.post("/names/own")
@api.input(NameIn)
@api.output(Done)
def name_is_its_own(json_data: NameIn) -> Done:
    """Say that a spelling is a name of its own."""
    message = is_its_own(the_context().runner, join_of(json_data))
    _changed(_library())
    return Done(message=message)


@api.post("/names/two")
@api.input(NameIn)
@api.output(Done)
def names_are_two(json_data: NameIn) -> Done:
    """Say that two names are two things: it is not asked again."""
    library = _library()
    with library.db.session() as session:
        keep_apart(library, session, join_of(json_data))
    _changed(library)
    return Done(message="They are two.")


@api.post("/names/ask-again")
@api.input(NameIn)
@api.output(Done)
def ask_names_again(json_data: NameIn) -> Done:
    """Forget that two names are two things."""
    library = _library()
    with library.db.session() as session:
        ask_again(session, join_of(json_data))
    _changed(library)
    return Done(message="It is asked again.")


@api.post("/rigs")
@api.input(NewRigIn)
@api.output(NewRigOut)
def new_rig(json_data: NewRigIn) -> NewRigOut:
    """Begin a rig that no header has named yet, as a copy of another where one is given."""
    library = _library()
    with library.db.session() as session:
        rig = make_rig(
            library,
            session,
            json_data.name,
            json_data.camera,
            json_data.telescope,
            json_data.like,
            json_data.focal_length_mm,
        )
        made = NewRigOut(id=rig.id, message=f"{rig.name} stands.")
    _changed(library)
    return made
