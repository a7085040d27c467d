"""Rigs in words: the train, its sheets, and the house rules as sentences."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from zoneinfo import available_timezones

from sqlalchemy.orm import Session

from grayshelf.core.rigs.house_rules import RULES, HouseRules, Rule
from grayshelf.core.rigs.names import CENTRE_NM, read_filter_name
from grayshelf.core.rigs.train import MovedBy, Part, PartKind, SeenFilter, asked, by_itself, draw_train
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import sources
from grayshelf.library.library import Library
from grayshelf.library.models import CardChange, Rig
from grayshelf.library.rig_cards import HOUSE_RULES, changes_of, read_sheet
from grayshelf.library.rig_terms import camera_of, house_rules_of
from grayshelf.library.sites import own_sites
from grayshelf.library.trains import standing_rigs
from grayshelf.web.common import in_words
from grayshelf.web.flats.schemas import SourceOut
from grayshelf.web.flats.sheet import source_out, usual_events
from grayshelf.web.rigs.history import marks_of, rig_history
from grayshelf.web.rigs.proposed import spellings_out
from grayshelf.web.rigs.schemas import (
    CameraSheet,
    FiltersSheet,
    HouseRulesIn,
    HouseRulesOut,
    KnownOut,
    MountSheet,
    PartOut,
    PartSheet,
    RigOut,
    RigSheets,
    RuleGroupOut,
    RuleOut,
    SeenFilterOut,
    SiteSheet,
    TelescopeSheet,
    WouldOut,
)
from grayshelf.work.rigs.known import train_facts
from grayshelf.work.rigs.would import Would

#: What parts are called, and what could be said of one of which nothing is known.
_WORDS = {
    PartKind.LIGHT: ("Light", "a panel, a wall, a tablet"),
    PartKind.COVER: ("Cover", "a cap, or a cover that closes by itself"),
    PartKind.TELESCOPE: ("Telescope", "aperture, focal length, reducer"),
    PartKind.ROTATOR: ("Rotator", "who turns the camera, or that it stays"),
    PartKind.FILTERS: ("Filters", "a wheel, a drawer, one filter or none"),
    PartKind.FOCUSER: ("Focuser", "who sets the focus, or that it stays"),
    PartKind.CAMERA: ("Camera", "cooler, shutter, shortest exposure"),
    PartKind.MOUNT: ("Mount", "what it stands on"),
    PartKind.SITE: ("Site", "where it stands"),
}
_MOVED = {
    MovedBy.RIG: "the rig",
    MovedBy.HAND: "a hand",
    MovedBy.FIXED: "stays as it is",
    MovedBy.ABSENT: "not there",
    MovedBy.NOBODY_SAID: "",
}


def rig_page(library: Library, rig_id: int, devices: RigDevices | None) -> RigOut:
    """All that Rigs shows of one rig."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        facts = train_facts(library, session, rig, devices)
        parts = draw_train(facts)
        history = rig_history(library, session, rig)
        others = [
            r.name for r in session.scalars(standing_rigs()) if r.camera == rig.camera and r.id != rig.id
        ]
        return RigOut(
            id=rig.id,
            name=rig.name,
            camera=rig.camera,
            telescope=rig.telescope,
            retired=rig.retired_at is not None,
            other_rigs=others,
            parts=[_part_out(part, rig) for part in parts],
            by_itself=in_words.listed(by_itself(parts)),
            asks=in_words.listed(asked(parts)),
            sheets=_sheets(session, rig),
            seen_filters=[_seen_filter(f) for f in facts.filters if not f.typed],
            spellings=spellings_out(library, rig, tuple(f.code for f in facts.filters)),
            proposed=rig.proposed,
            lights=[source_out(light) for light in sources(session)],
            other_sites=[SiteSheet.model_validate(asdict(card)) for card in own_sites(session)],
            site_name=library.site(session)["name"],
            zones=sorted(available_timezones()),
            usual_events=usual_events(),
            rules=_rules_out(session, rig),
            history=history,
            marks=marks_of(history, library.clock.now()),
        )


def _seen_filter(seen: SeenFilter) -> SeenFilterOut:
    named = read_filter_name(seen.code)
    return SeenFilterOut(
        code=seen.code, frames=seen.frames, centre_nm=CENTRE_NM.get(named.code or ""), width_nm=named.width_nm
    )


def _part_out(part: Part, rig: Rig) -> PartOut:
    title, hint = _WORDS[part.kind]
    name = rig.camera if part.kind is PartKind.CAMERA else part.name
    return PartOut(
        kind=part.kind,
        title=title,
        name=name,
        known=[KnownOut(text=k.text, origin=k.origin) for k in part.known],
        moved_by=part.moved_by,
        moved="" if part.kind in (PartKind.TELESCOPE, PartKind.SITE) else _MOVED[part.moved_by],
        is_open=part.is_open,
        hint=hint,
    )


def _sheets(session: Session, rig: Rig) -> RigSheets:
    def of(kind: PartKind) -> dict[str, object]:
        return read_sheet(session, rig, kind.value)

    light = of(PartKind.LIGHT)
    return RigSheets(
        telescope=TelescopeSheet.model_validate(of(PartKind.TELESCOPE)),
        camera=CameraSheet.model_validate(of(PartKind.CAMERA)),
        filters=FiltersSheet.model_validate(of(PartKind.FILTERS)),
        cover=PartSheet.model_validate(of(PartKind.COVER)),
        rotator=PartSheet.model_validate(of(PartKind.ROTATOR)),
        focuser=PartSheet.model_validate(of(PartKind.FOCUSER)),
        mount=MountSheet.model_validate(of(PartKind.MOUNT)),
        site=SiteSheet.model_validate(of(PartKind.SITE)),
        light=SourceOut.model_validate(light) if light else None,
    )


# -- house rules ------------------------------------------------------------------------------------------------


def _rules_out(session: Session, rig: Rig) -> HouseRulesOut:
    rules, changes = house_rules_of(rig), changes_of(session, rig)
    of_rules = [c for c in changes if c.about == HOUSE_RULES and c.taken_back_at is None]
    groups: dict[str, list[RuleOut]] = {}
    for rule in RULES:
        groups.setdefault(rule.group, []).append(_rule_out(rule, rules, of_rules))
    refused = ""
    if camera_of(rig).bias_usable is False:
        refused = f"No bias of {rig.camera} is usable, as its sheet says."
    return HouseRulesOut(
        groups=[RuleGroupOut(title=title, rules=found) for title, found in groups.items()],
        flats_when=rules.flats_when,
        flats_go=rules.flats_go,
        raw_frames=rules.raw_frames,
        bias_under_flats=rules.bias_under_flats,
        bias_refused=refused,
        dark_temps_c=list(rules.dark_temps_c),
        dark_exposures_s=list(rules.dark_exposures_s),
    )


def _rule_out(rule: Rule, rules: HouseRules, changes: Sequence[CardChange]) -> RuleOut:
    before, _, after = rule.says.partition("{}")
    last = next((c for c in changes if c.before.get(rule.name) != c.after.get(rule.name)), None)
    return RuleOut(
        name=rule.name,
        before=before.strip(),
        after=after.strip(),
        unit=rule.unit,
        value=round(rules.value(rule.name) * rule.shown_times, 6),
        least=rule.least * rule.shown_times,
        most=rule.most * rule.shown_times,
        whole=rule.whole,
        usual=round(HouseRules().value(rule.name) * rule.shown_times, 6),
        reason=last.reason if last else "",
        since=in_words.day(last.at.date()) if last else "",
    )


def changes_asked(asked_for: HouseRulesIn) -> dict[str, object]:
    """A change of house rules as the rules are kept: shares as shares, not in percent."""
    shown = {rule.name: rule.shown_times for rule in RULES}
    changes: dict[str, object] = {
        name: value / shown.get(name, 1.0) for name, value in asked_for.numbers.items()
    }
    own = asked_for.model_dump(exclude={"numbers", "reason"}, exclude_none=True)
    return {**changes, **own}


def would_out(would: Would) -> WouldOut:
    """What a change would do, in words."""
    return WouldOut(
        changes=list(would.changes),
        moves=[f"{move}." for move in would.moves],
        darks_asked=would.darks_asked,
        raw_offered=would.raw_offered,
    )
