"""The sheets of a rig's parts in the database: read, changed, and every change taken back.

A change keeps the whole sheet as it was before and after, so that taking it back is putting that back. It is refused
where the sheet was changed again since.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict
from typing import Any, NamedTuple

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, GrayShelfError, NotFound
from grayshelf.core.frames.bounds import MOST_TEXT
from grayshelf.core.frames.night import site_zone
from grayshelf.core.matching.model import BIAS_WILL_DO
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.rigs.camera import CameraCard
from grayshelf.core.rigs.cards import (
    MOVABLE,
    QUANTITY_OF,
    FilterCard,
    PartCard,
    SiteCard,
    TelescopeCard,
    check_filters,
    differences,
)
from grayshelf.core.rigs.house_rules import HouseRules, changes_in_words, kept_of, rules_from
from grayshelf.core.rigs.train import MovedBy, PartKind
from grayshelf.core.rigs.trains import same_train
from grayshelf.library.attached import read_attached, write_attached
from grayshelf.library.flat_sheet import keep_source
from grayshelf.library.grouping import RECOUNT
from grayshelf.library.library import Library
from grayshelf.library.models import CardChange, LightSource, Rig, RigFilter
from grayshelf.library.mount_card import card_as_read, card_as_typed
from grayshelf.library.rig_terms import camera_of, camera_row, house_rules_of
from grayshelf.library.sites import site_card
from grayshelf.library.trains import standing_rigs

#: The sheet of the house rules among those of the parts.
HOUSE_RULES = "house rules"
#: The sheet of the devices on the network that move its parts.
DEVICES = "devices"
#: The name on the rig holder, and whether the rig is still used.
NAME = "name"
#: Whether a person said of a proposed rig that it is right.
ACCEPTED = "accepted"
#: Another rig, or another name, is this one (`library.joining`).
JOINED = "joined"


# -- reading and writing each sheet -----------------------------------------------------------------------------

Kept = dict[str, Any]
Writer = Callable[[Library, Session, Rig, Kept], None]


def _put_part(rig: Rig, kind: PartKind, values: Mapping[str, Any]) -> None:
    """Keep what was typed of a part; nothing at all is no entry."""
    said = {k: v for k, v in values.items() if v not in (None, "")}
    rig.parts = {k: v for k, v in {**rig.parts, kind.value: said}.items() if v}


def _read_telescope(session: Session, rig: Rig) -> Kept:
    reducer = rig.parts.get(PartKind.TELESCOPE, {}).get("name", "")
    return asdict(TelescopeCard(rig.aperture_mm, rig.focal_length_mm, reducer))


def _write_telescope(library: Library, session: Session, rig: Rig, values: Kept) -> None:
    card = TelescopeCard(**values)
    rig.aperture_mm, rig.focal_length_mm = card.aperture_mm, card.focal_length_mm
    _put_part(rig, PartKind.TELESCOPE, {"name": card.reducer.strip()})


def _read_camera(session: Session, rig: Rig) -> Kept:
    return asdict(camera_of(rig))


def _write_camera(library: Library, session: Session, rig: Rig, values: Kept) -> None:
    card = CameraCard(**values)
    row = camera_row(session, rig.camera)
    row.traits = {k: v for k, v in asdict(card).items() if v is not None}
    session.flush()
    session.refresh(rig, ["camera_row"])


def _read_filters(session: Session, rig: Rig) -> Kept:
    cards = [
        FilterCard(f.code, f.name, f.passband_nm, f.width_nm, f.gain, f.focus, f.brightness)
        for f in rig.filters
    ]
    return {**_read_part(PartKind.FILTERS)(session, rig), "filters": [asdict(card) for card in cards]}


def _write_filters(library: Library, session: Session, rig: Rig, values: Kept) -> None:
    cards = [FilterCard(**{**f, "code": str(f["code"]).strip()}) for f in values["filters"]]
    check_filters(cards)
    _write_part(PartKind.FILTERS)(library, session, rig, {k: v for k, v in values.items() if k != "filters"})
    before = {f.code: f for f in rig.filters}
    kept = []
    for position, card in enumerate(cards):
        row = before.get(card.code) or RigFilter(code=card.code)
        row.position, row.name = position, card.name.strip()
        row.passband_nm, row.width_nm = card.centre_nm, card.width_nm
        row.gain, row.focus, row.brightness = card.gain, card.focus, card.brightness
        kept.append(row)
    rig.filters = kept


def _read_part(kind: PartKind) -> Callable[[Session, Rig], Kept]:
    def read(session: Session, rig: Rig) -> Kept:
        typed = rig.parts.get(kind.value, {})
        more = card_as_read(rig) if kind is PartKind.MOUNT else {}
        return {"name": typed.get("name", ""), "moved_by": moved_by(rig, kind).value, **more}

    return read


def moved_by(rig: Rig, kind: PartKind) -> MovedBy:
    """Who moves a part, as a person said: on its sheet, or on a slip."""
    said = rig.parts.get(kind.value, {}).get("moved_by", "")
    quantity = QUANTITY_OF.get(kind)
    answer = (rig.says or {}).get(quantity) if quantity else None
    if answer == "fixed":
        return MovedBy(said) if said in (MovedBy.FIXED, MovedBy.ABSENT) else MovedBy.FIXED
    if answer == "moves":
        return MovedBy.HAND
    return MovedBy(said) if said in set(MovedBy) else MovedBy.NOBODY_SAID


def _write_part(kind: PartKind) -> Writer:
    def write(library: Library, session: Session, rig: Rig, values: Kept) -> None:
        card = PartCard(str(values.get("name", "")).strip(), MovedBy(values["moved_by"]))
        if card.moved_by is MovedBy.RIG:
            raise GrayShelfError("No device moves this part.", "Say who moves it, or that nobody does.")
        more = card_as_typed(dict(values)) if kind is PartKind.MOUNT else {}
        _put_part(rig, kind, {"name": card.name, "moved_by": card.moved_by.value, **more})
        quantity = QUANTITY_OF.get(kind)
        if quantity is None:
            return
        said = {q: word for q, word in (rig.says or {}).items() if q != quantity}
        stays = card.moved_by in (MovedBy.FIXED, MovedBy.ABSENT)
        if card.moved_by is not MovedBy.NOBODY_SAID:
            said[quantity] = "fixed" if stays else "moves"
        rig.says = said

    return write


_OF_LIGHT = tuple(c.name for c in LightSource.__table__.columns if c.name != "id")


def _read_light(session: Session, rig: Rig) -> Kept:
    row = session.get(LightSource, rig.source_id) if rig.source_id is not None else None
    return {} if row is None else {name: getattr(row, name) for name in _OF_LIGHT}


def _write_light(library: Library, session: Session, rig: Rig, values: Kept) -> None:
    if values:
        keep_source(session, rig, values)
    else:
        rig.source_id = None


def _read_site(session: Session, rig: Rig) -> Kept:
    return asdict(site_card(rig))


def _write_site(library: Library, session: Session, rig: Rig, values: Kept) -> None:
    card = SiteCard(**{**values, "name": str(values["name"]).strip()})
    zone = card.time_zone.strip() or None
    if zone is not None:
        site_zone(zone)
    _put_part(rig, PartKind.SITE, {k: v for k, v in asdict(card).items() if k != "time_zone"})
    if zone != rig.time_zone:
        rig.time_zone = zone
        # Its frames that name no place have their nights by another clock: they are counted anew.
        library.set_setting(session, RECOUNT, {"due": True})


def _read_rules(session: Session, rig: Rig) -> Kept:
    return kept_of(house_rules_of(rig))


def _write_rules(library: Library, session: Session, rig: Rig, values: Kept) -> None:
    rules = HouseRules().changed(values)
    if rules.bias_under_flats and camera_of(rig).bias_usable is False:
        raise GrayShelfError(
            f"No bias of {rig.camera} is usable, as its sheet says, so none can stand under the flats.",
            "Keep dark flats, or change the camera’s sheet.",
        )
    kept = kept_of(rules)
    rig.tolerances = {}
    rig.wishes = {**rig.wishes, "n_flats": rules.n_flats, "n_dark_flats": rules.n_dark_flats}
    own = ("n_flats", "n_dark_flats", "bias_under_flats")
    rig.rules = {k: v for k, v in kept.items() if k not in own}
    said = {q: word for q, word in (rig.says or {}).items() if q != BIAS_WILL_DO}
    was = (rig.says or {}).get(BIAS_WILL_DO)
    if rules.bias_under_flats:
        said[BIAS_WILL_DO] = "fixed"
    elif was is not None:
        said[BIAS_WILL_DO] = "moves"
    rig.says = said


def _read_name(session: Session, rig: Rig) -> Kept:
    return {"name": rig.name, "retired": rig.retired_at is not None}


def _write_name(library: Library, session: Session, rig: Rig, values: Kept) -> None:
    name = str(values["name"]).strip()
    if not name or len(name) > MOST_TEXT:
        raise GrayShelfError(f"A rig needs a name of up to {MOST_TEXT} letters.")
    taken = session.scalar(select(Rig.id).where(Rig.name == name, Rig.id != rig.id))
    if taken is not None:
        raise GrayShelfError(f"Another rig is called {name}.", "Give this one another name.")
    rig.name = name
    if not values["retired"]:
        rig.retired_at = None
    elif rig.retired_at is None:
        rig.retired_at = library.clock.now()


def _read_accepted(session: Session, rig: Rig) -> Kept:
    return {"accepted": not rig.proposed}


def _write_accepted(library: Library, session: Session, rig: Rig, values: Kept) -> None:
    rig.proposed = not values["accepted"]


class _Sheet(NamedTuple):
    read: Callable[[Session, Rig], Kept]
    write: Writer


_SHEETS: dict[str, _Sheet] = {
    **{kind.value: _Sheet(_read_part(kind), _write_part(kind)) for kind in MOVABLE},
    PartKind.FILTERS.value: _Sheet(_read_filters, _write_filters),
    PartKind.TELESCOPE.value: _Sheet(_read_telescope, _write_telescope),
    PartKind.CAMERA.value: _Sheet(_read_camera, _write_camera),
    PartKind.LIGHT.value: _Sheet(_read_light, _write_light),
    PartKind.SITE.value: _Sheet(_read_site, _write_site),
    HOUSE_RULES: _Sheet(_read_rules, _write_rules),
    DEVICES: _Sheet(read_attached, write_attached),
    NAME: _Sheet(_read_name, _write_name),
    ACCEPTED: _Sheet(_read_accepted, _write_accepted),
}


def _sheet(about: str) -> _Sheet:
    found = _SHEETS.get(about)
    if found is None:
        raise NotFound(f"A rig has no sheet ‘{about}’.")
    return found


def make_rig(
    library: Library,
    session: Session,
    name: str,
    camera: str,
    telescope: str,
    like: int | None,
    focal_length_mm: float | None = None,
) -> Rig:
    """Begin a rig that no header has named yet; `like` is the number of the rig whose sheets are copied.

    With a focal length it may be a telescope that has a rig already, with a reducer or an extender.

    Raises
    ------
    GrayShelfError
        Where its name is taken, or a rig of this camera on this telescope is there: frames could not be told apart.
    """
    camera, telescope = camera.strip(), telescope.strip()
    if not camera:
        raise GrayShelfError("A rig needs a camera.", "Name it as its frames’ headers do.")
    same = [
        there
        for there in session.scalars(standing_rigs().where(Rig.camera == camera))
        if plain_name(there.telescope) == plain_name(telescope or None)
    ]
    for there in same:
        has_mm = there.told_focal_mm or there.focal_length_mm
        if not focal_length_mm or not has_mm or same_train(has_mm, focal_length_mm):
            on = f" on {telescope}" if telescope else ""
            raise GrayShelfError(
                f"{there.name} is {camera}{on} already: frames of the two could not be told apart.",
                "Name another camera or telescope, or a focal length that differs by a tenth or more."
                if has_mm
                else f"Name another camera or telescope, or say first what the focal length of {there.name} is.",
            )
        there.told_focal_mm = has_mm
    model = library.rig(session, like) if like is not None else None
    rig = Rig(
        name=f"new rig {name}"[:80], camera=camera, telescope=telescope or None, told_focal_mm=focal_length_mm
    )
    camera_row(session, camera)
    session.add(rig)
    session.flush()
    if model is not None:
        rig.wishes, rig.tolerances, rig.rules = dict(model.wishes), dict(model.tolerances), dict(model.rules)
        rig.parts, rig.says, rig.source_id = dict(model.parts), dict(model.says), model.source_id
        rig.time_zone, rig.aperture_mm = model.time_zone, model.aperture_mm
        rig.focal_length_mm = model.focal_length_mm
        _write_filters(library, session, rig, _read_filters(session, model))
    rig.focal_length_mm = focal_length_mm or rig.focal_length_mm
    _write_name(library, session, rig, {"name": name, "retired": False})
    session.flush()
    return rig


# -- changing them ----------------------------------------------------------------------------------------------


def read_sheet(session: Session, rig: Rig, about: str) -> Kept:
    """What is kept on a sheet."""
    return _sheet(about).read(session, rig)


def change_sheet(
    library: Library, session: Session, rig: Rig, about: str, changes: Mapping[str, Any], reason: str = ""
) -> CardChange | None:
    """Change some of a sheet, and keep how it was; None where nothing changed.

    Raises
    ------
    GrayShelfError
        Where a value cannot be. Nothing is changed then.
    """
    sheet = _sheet(about)
    before = sheet.read(session, rig)
    # When flats are shot brings its usual nights with it.
    ruled = about == HOUSE_RULES
    wanted = kept_of(rules_from(before).changed(changes)) if ruled else {**before, **changes}
    with session.begin_nested():
        sheet.write(library, session, rig, wanted)
    after = sheet.read(session, rig)
    if after == before:
        return None
    change = CardChange(
        rig_id=rig.id,
        about=about,
        at=library.clock.now(),
        words="; ".join(_in_words(about, before, after)),
        reason=reason.strip()[:500],
        before=before,
        after=after,
    )
    session.add(change)
    session.flush()
    return change


def _in_words(about: str, before: Kept, after: Kept) -> list[str]:
    if about == ACCEPTED:
        return ["kept as headers propose it" if after["accepted"] else "only proposed again"]
    if about == HOUSE_RULES:
        return changes_in_words(rules_from(before), rules_from(after))
    return differences(before, after) or [f"no {about} any more"]


def changes_of(session: Session, rig: Rig) -> list[CardChange]:
    """All changes of a rig's sheets, newest first; those of its camera also where they were made from another rig."""
    with_camera = select(Rig.id).where(Rig.camera == rig.camera)
    mine = CardChange.rig_id == rig.id
    shared = CardChange.rig_id.in_(with_camera) & (CardChange.about == PartKind.CAMERA.value)
    return list(session.scalars(select(CardChange).where(mine | shared).order_by(CardChange.id.desc())))


def take_change_back(library: Library, session: Session, rig: Rig, change_id: int) -> CardChange:
    """Put a sheet back as it was before a change.

    Raises
    ------
    NotFound, Conflict
        Where there is no such change, or the sheet was changed again since.
    """
    change = next((c for c in changes_of(session, rig) if c.id == change_id), None)
    if change is None:
        raise NotFound("There is no such change.", "Look at the page again.")
    if change.taken_back_at is not None:
        raise Conflict("This change is taken back already.")
    sheet = _sheet(change.about)
    if sheet.read(session, rig) != change.after:
        raise Conflict(
            f"The sheet of the {change.about} was changed again since.", "Take the later change back first."
        )
    with session.begin_nested():
        sheet.write(library, session, rig, change.before)
    change.taken_back_at = library.clock.now()
    return change
