"""The pull slips of light sets: written once, and anew only where what they rest on changed."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from threading import Lock

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.by_choice import cannot_be_chosen
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.match import Asking, pull_slips
from grayshelf.core.matching.model import PullSlip
from grayshelf.core.matching.renew import change_between, unchanged
from grayshelf.core.matching.stock import KINDS_FOR, Stock
from grayshelf.core.rigs.house_rules import HouseRules
from grayshelf.library.holdings import stock
from grayshelf.library.kept import kept
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.lights import BY_HAND, SCALED, LightSet, light_set, light_sets, light_terms
from grayshelf.library.models import FrameSet, Rig
from grayshelf.library.rig_terms import TermsByGain, offset_warning, terms_of, under_rules

log = logging.getLogger(__name__)


def slip_for(library: Library, rig: Rig, lights: LightSet) -> PullSlip:
    """The pull slip of a set of lights, with its runners-up."""
    terms = terms_of(library, rig, lights.want.gain)
    slip = pull_slips([_asking(library, lights, terms)], stock(library, rig.camera))[0]
    return _with_warning(slip, _warning(library, rig, lights))


def _asking(library: Library, lights: LightSet, terms: Terms) -> Asking:
    facts = lights.facts
    by_hand = _on_shelf(library, lights.by_hand) if lights.by_hand else {}
    terms = light_terms(library, lights, terms)
    return Asking(lights.want, terms, facts.calibrated, facts.pedestal_adu, by_hand, lights.scaled)


def _on_shelf(library: Library, by_hand: Mapping[str, str]) -> dict[str, str]:
    """What was chosen by hand as it stands on the shelf now: a set that was combined since is its master."""
    with library.db.own_session() as session:
        query = select(FrameSet.id, FrameSet.master_set_id).where(FrameSet.id.in_(by_hand.values()))
        masters = {
            str(set_id): str(master) for set_id, master in session.execute(query) if master is not None
        }
    return {kind: masters.get(key, key) for kind, key in by_hand.items()}


def _warning(library: Library, rig: Rig, lights: LightSet) -> str | None:
    warning = offset_warning(library, rig.camera, lights.want.gain, lights.want.offset)
    return None if warning is None else str(warning)


def _with_warning(slip: PullSlip, warning: str | None) -> PullSlip:
    return slip if warning is None else replace(slip, warnings=(*slip.warnings, warning))


@dataclass(frozen=True)
class Written:
    """A slip without its warning of the offset, and what it was written for."""

    lights: LightSet
    rig_terms: Terms
    """Those of the rig at the gain of the lights."""
    asking: Asking
    slip: PullSlip


@dataclass(frozen=True)
class LastSlips:
    """The slips of a rig as they were last written."""

    shelf: Stock = field(default_factory=Stock)
    terms: dict[float | None, Terms] = field(default_factory=dict)
    """By gain; the same object for as long as they are the same."""
    by_set: dict[int, Written] = field(default_factory=dict)


class _KeptSlips:
    """Those of a rig, and who may write them: one at a time."""

    def __init__(self) -> None:
        """None is written yet."""
        self.lock = Lock()
        self._last: LastSlips | Callable[[], LastSlips] = LastSlips()

    def now(self) -> LastSlips:
        """As they are."""
        if not isinstance(self._last, LastSlips):
            self._last = self._last()
        return self._last

    def keep(self, last: LastSlips) -> None:
        """As they were just written."""
        self._last = last

    def put_back(self, last: Callable[[], LastSlips]) -> None:
        """As they were before a restart, taken when they are needed first and held against the shelf of that day."""
        with self.lock:
            self._last = last


@kept(64)
def last_slips(library: Library, rig_id: int) -> _KeptSlips:
    """The slips of a rig as they were last written."""
    return _KeptSlips()


@kept(16)
def _slips(library: Library, revision: int, rig_id: int) -> list[tuple[LightSet, PullSlip]]:
    with library.db.own_session() as session:
        rig = library.rig(session, rig_id)
    kept_slips = last_slips(library, rig_id)
    with kept_slips.lock:
        last, shelf = kept_slips.now(), stock(library, rig.camera)
        asked, terms = _all_asking(library, rig, last)
        still = _still_right(last, asked, shelf)
        written = still | _write(library, [one for one in asked if one.lights.row.id not in still], shelf)
        ids = [one.lights.row.id for one in asked]
        kept_slips.keep(LastSlips(shelf, terms, {i: written[i] for i in ids if i in written}))
        found = list(kept_slips.now().by_set.values())
    warnings: dict[tuple[float | None, float | None], str | None] = {}
    told = []
    for one in found:
        pair = one.lights.want.gain, one.lights.want.offset
        if pair not in warnings:
            warnings[pair] = _warning(library, rig, one.lights)
        told.append((one.lights, _with_warning(one.slip, warnings[pair])))
    return told


@dataclass(frozen=True)
class _Asked:
    lights: LightSet
    rig_terms: Terms
    asking: Asking
    before: Written | None
    """What was written for the same, where that is there."""


def _all_asking(
    library: Library, rig: Rig, last: LastSlips
) -> tuple[list[_Asked], dict[float | None, Terms]]:
    terms_at = TermsByGain(library, rig)
    terms: dict[float | None, Terms] = {}
    asked: list[_Asked] = []
    for lights in light_sets(library, rig):
        with sparing(library, "slips", lights.row.id, "light"):
            gain, before = lights.want.gain, last.by_set.get(lights.row.id)
            if gain not in terms:
                now = terms_at(gain)
                terms[gain] = last.terms[gain] if last.terms.get(gain) == now else now
            same = before is not None and before.lights is lights and before.rig_terms is terms[gain]
            if before is not None and same and not lights.by_hand:
                asked.append(_Asked(lights, terms[gain], before.asking, before))
            else:
                asked.append(_Asked(lights, terms[gain], _asking(library, lights, terms[gain]), None))
    return asked, terms


def _still_right(last: LastSlips, asked: Sequence[_Asked], shelf: Stock) -> dict[int, Written]:
    """Slips that nothing made wrong since they were written."""
    same = [one.before for one in asked if one.before is not None]
    change = change_between(last.shelf, shelf)
    right = [True] * len(same)
    if change.keys and same:
        right = unchanged([one.slip for one in same], [one.asking for one in same], change, last.shelf, shelf)
    return {one.lights.row.id: one for one, stays in zip(same, right, strict=True) if stays}


def _write(library: Library, asked: Sequence[_Asked], shelf: Stock) -> dict[int, Written]:
    """Write slips; where they cannot be written together, one by one, so that one never takes down another."""
    try:
        slips = pull_slips([one.asking for one in asked], shelf, runners_up=0)
    except Exception:
        # Which of them it is, and why, is found out below; where it is none of them alone, this is all that tells.
        log.exception("%d slips could not be written together", len(asked))
        slips = None
    written: dict[int, Written] = {}
    for number, one in enumerate(asked):
        with sparing(library, "slips", one.lights.row.id, "light"):
            slip = slips[number] if slips is not None else pull_slips([one.asking], shelf, runners_up=0)[0]
            written[one.lights.row.id] = Written(one.lights, one.rig_terms, one.asking, slip)
    return written


def slips(library: Library, rig_id: int) -> list[tuple[LightSet, PullSlip]]:
    """Every light set of a rig with its slip, oldest first; kept until the shelf changes.

    The slips tell of what was chosen, and of the nearest where nothing fits; `slip_for` tells of all runners-up.
    """
    return _slips(library, library.revision, rig_id)


def verdicts_under(library: Library, rig: Rig, rules: HouseRules) -> dict[int, str]:
    """How the slip of each of a rig's light sets would end under other house rules, by the set's number."""
    terms_at, shelf = TermsByGain(library, rig), stock(library, rig.camera)
    sets = light_sets(library, rig)
    # Lights of one gain share their terms: what is the same is reckoned once.
    terms = {gain: under_rules(terms_at(gain), rules) for gain in {s.want.gain for s in sets}}
    asked = [_asking(library, lights, terms[lights.want.gain]) for lights in sets]
    found = pull_slips(asked, shelf, runners_up=0)
    return {lights.row.id: slip.verdict.value for lights, slip in zip(sets, found, strict=True)}


def choose_by_hand(library: Library, session: Session, set_id: int, kind: FrameKind, key: int | None) -> str:
    """Keep what a person chose for a set of lights, or leave it to the shelf again; return what to say of it.

    Raises
    ------
    NotFound, GrayShelfError
        Where there are no such lights or there is no such holding, or where its pixels are not those of the lights.
    """
    row = session.get(FrameSet, set_id)
    if row is None or row.kind != FrameKind.LIGHT:
        raise NotFound("These lights are not in the library.")
    lights = light_set(row)
    chosen = {k: v for k, v in lights.by_hand.items() if k != kind.value}
    scaled = lights.scaled and kind is not FrameKind.DARK
    words = f"The shelf chooses the {kind.value} again."
    if key is not None:
        holding = next(
            (h for h in stock(library, row.camera or "").of(*KINDS_FOR[kind]) if h.key == str(key)), None
        )
        if holding is None:
            raise NotFound(
                f"This is no {kind.value} on the shelf of {row.camera}.", "Look at the slip again."
            )
        against = cannot_be_chosen(lights.want, holding)
        if against:
            raise GrayShelfError(
                f"It cannot be taken off these lights: {'; '.join(against)}.",
                "Choose one of the same sensor.",
            )
        chosen[kind.value] = str(key)
        words = f"The {kind.value} is the one that you chose."
    _keep_choice(row, chosen, scaled=scaled)
    return words


def keep_scaled(session: Session, set_id: int, key: str) -> None:
    """Keep that the dark with this key is to be scaled to a set of lights."""
    row = session.get_one(FrameSet, set_id)
    _keep_choice(row, {**light_set(row).by_hand, FrameKind.DARK.value: key}, scaled=True)


def _keep_choice(row: FrameSet, chosen: Mapping[str, str], *, scaled: bool) -> None:
    said = {k: v for k, v in row.said.items() if k not in (BY_HAND, SCALED)}
    if chosen:
        said |= {BY_HAND: dict(chosen)} | ({SCALED: True} if scaled else {})
    row.said = said
