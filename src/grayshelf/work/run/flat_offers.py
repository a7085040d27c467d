"""Flats that could be on tonight’s sheet: those that lights wait for, and what flats shot now would do for them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime
from typing import Any

from sqlalchemy.orm import Session

from grayshelf.core.digits import stop
from grayshelf.core.flats.filter_words import NO_FILTER
from grayshelf.core.flats.panel.diffusers import stops_of
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.matching import rulers
from grayshelf.core.matching.judge import Terms, judge_flat
from grayshelf.core.matching.model import Candidate, CommonSettings, Holding, RigSays, Tolerances, Verdict
from grayshelf.core.planning.flats_go import NOT_TONIGHT, FlatsGo
from grayshelf.core.planning.sheet import FlatSeries
from grayshelf.library.flat_settings import newest_settings, stale_reason
from grayshelf.library.flat_sheet import kept_rows, source_of
from grayshelf.library.gaps import Gap, gaps
from grayshelf.library.kept import kept as kept_answers
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_sets, light_terms
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import TermsByGain, flat_wishes, house_rules_of, says_of, tolerances_of
from grayshelf.library.sites import zone_of
from grayshelf.library.told_settings import settings_of_row, told_rows
from grayshelf.work.run.choice import SheetChoice
from grayshelf.work.run.reach import OutOfReach, binning_of, not_known, not_now, not_settable

#: Before anything was done to any train.
LONG_AGO = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(frozen=True)
class RowOffer:
    """Flats that could be on tonight's sheet."""

    key: str
    wish: FlatSeries
    lights: tuple[LightSet, ...]
    hole: bool
    """Nothing fits now; False: something fits with care and would be renewed."""
    on_sheet: bool
    would: Candidate
    """What flats shot now would do for these lights."""
    note: str
    want: CommonSettings
    """What the first of these lights have."""
    more: bool = False
    """No lights wait for them: they are there for whoever wants more, or again."""

    @property
    def against(self) -> str:
        """What speaks against shooting them now, where they are not ticked."""
        sound = self.on_sheet or self.would.verdict is Verdict.FITS
        return "" if sound else "; ".join(self.would.reasons)


def flat_gap_key(want: CommonSettings, binning: int) -> str:
    """The name of a row of flats, the same from one look to the next."""
    turned = "" if want.angle is None else f"@{round(want.angle.on_one_side_deg) % 360}"
    mode = f":{want.read_mode}" if want.read_mode else ""
    lens = f":{stop(want.lens_stop)}" if want.lens_stop else ""
    return f"flat:{want.filter_code}:g{want.gain:g}:o{want.offset:g}:b{binning}{turned}{mode}{lens}"


@kept_answers(8192)
def _flat_of_tonight(
    want: CommonSettings, terms: Terms, tonight: date, since: datetime, frames: int
) -> Candidate:
    """What flats shot now would do for lights that wait: the same rules that will judge them afterwards.

    It is the same all night, until something is done to the train: `since` is when that was last.
    """
    fresh = replace(want, night=tonight, taken=since)
    return judge_flat(want, Holding("tonight", FrameKind.FLAT, fresh, frames), terms)


@kept_answers(8)
def _flats_of_tonight(
    library: Library, revision: int, rig_id: int, tonight: date, since: datetime, frames: int
) -> dict[tuple[object, ...], Candidate]:
    """The same for every gap, by its key."""
    with library.db.own_session() as session:
        terms_at = TermsByGain(library, library.rig(session, rig_id))
        return {
            gap.key: _flat_of_tonight(
                gap.want, light_terms(library, gap.sets[-1], terms_at(gap.want.gain)), tonight, since, frames
            )
            for gap in gaps(library, rig_id, with_care=True)
            if gap.kind is FrameKind.FLAT
        }


def flat_offers(
    library: Library, session: Session, rig: Rig, now: datetime, choice: SheetChoice
) -> tuple[list[RowOffer], list[OutOfReach]]:
    """Rows of flats that could be shot now and would serve lights that wait; and lights for which none can."""
    maker = OfferMaker(library, session, rig, choice)
    tonight = night_of_utc(now, zone_of(library, session, rig))
    since = max((event.at for event in rig.events if event.at <= now), default=LONG_AGO)
    frames = choice.frames or house_rules_of(rig).n_flats
    fresh = _flats_of_tonight(library, library.revision, rig.id, tonight, since, frames)
    newest_first = sorted(
        gaps(library, rig.id, with_care=True),
        key=lambda g: (g.want.night is None, g.want.night),
        reverse=True,
    )
    for gap in newest_first:
        if gap.kind is FrameKind.FLAT:
            maker.look_at(gap, fresh[gap.key])
    terms_at = TermsByGain(library, rig)
    for lights in _newest_of_each(light_sets(library, rig), maker.says):
        terms = light_terms(library, lights, terms_at(lights.want.gain))
        maker.offer_more(lights, _flat_of_tonight(lights.nominal, terms, tonight, since, frames))
    for row in told_rows(session, rig)[:MOST_MORE]:
        want = settings_of_row(session, rig, row)
        maker.offer_row(want, _flat_of_tonight(want, terms_at(want.gain), tonight, since, frames))
    return list(maker.rows.values()), maker.not_now


#: So many filters and settings of the newest lights are offered for more flats.
MOST_MORE = 12


def _newest_of_each(lights: Sequence[LightSet], says: RigSays) -> list[LightSet]:
    """The newest lights of each filter, gain, offset and binning."""
    found: dict[tuple[object, ...], LightSet] = {}
    for one in reversed(lights):
        want = one.nominal
        if not one.facts.calibrated and not not_settable(want, says, ("gain", "offset")):
            found.setdefault((want.filter_code, want.gain, want.offset, want.binning, want.read_mode), one)
    return list(found.values())[:MOST_MORE]


def _as_of_a_row(want: CommonSettings) -> CommonSettings:
    """With 0 for a gain and an offset of which there is none to set."""
    return replace(
        want, filter_code=want.filter_code or NO_FILTER, gain=want.gain or 0.0, offset=want.offset or 0.0
    )


class OfferMaker:
    """Makes rows of gaps: lights that the same flats would serve share one."""

    def __init__(self, library: Library, session: Session, rig: Rig, choice: SheetChoice) -> None:
        self.library, self.session, self.rig, self.choice = library, session, rig, choice
        self.go = go_of(rig, choice)
        self.tolerances, self.says = tolerances_of(rig), says_of(library, rig)
        self.in_wheel, self.kept = {f.code: f for f in rig.filters}, kept_rows(session, rig)
        self.found = newest_settings(session, rig.id)
        self.rows: dict[str, RowOffer] = {}
        self.not_now: list[OutOfReach] = []

    def look_at(self, gap: Gap, would: Candidate) -> None:
        """Put a gap onto the row that serves it, or say why nothing can.

        Parameters
        ----------
        would
            What flats shot now would do for its lights.
        """
        unknown = not_settable(gap.want, self.says, ("gain", "offset"))
        if unknown:
            if not gap.care_only:
                why = f"their {not_known(unknown)}, so no flats can be set up for them"
                self.not_now.append(not_now(gap, why, unknown=True))
            return
        if would.verdict is Verdict.NOTHING and not gap.care_only:
            self.not_now.append(not_now(gap, "; ".join(would.reasons)))
        if would.verdict is Verdict.NOTHING or (would.verdict is Verdict.CARE and gap.care_only):
            return
        want = _as_of_a_row(gap.want)
        key = _row_key(self.rows, want, binning_of(want), self.tolerances)
        known = self.rows.get(key)
        offer = self._new(key, gap, want, would) if known is None else _with(known, gap)
        self.rows[key] = replace(offer, on_sheet=_on_sheet(offer, self.choice, self.go))

    def offer_more(self, lights: LightSet, would: Candidate) -> None:
        """Offer flats that no lights wait for, as the newest of their kind were taken."""
        want = _as_of_a_row(lights.nominal)
        key = _row_key(self.rows, want, binning_of(want), self.tolerances)
        if key in self.rows:
            return
        night = f"{want.night:%-d %B}" if want.night else "an unknown night"
        note = f"as the lights of {night} were taken; what is there fits them"
        self._put_more(key, want, (lights,), would, note)

    def offer_row(self, want: CommonSettings, would: Candidate) -> None:
        """Offer flats of a row that a person put on the rig's flat sheet, and that no lights were taken like."""
        key = _row_key(self.rows, want, binning_of(want), self.tolerances)
        if key not in self.rows:
            self._put_more(key, want, (), would, "as your flat sheet has it")

    def _put_more(
        self, key: str, want: CommonSettings, sets: tuple[LightSet, ...], would: Candidate, note: str
    ) -> None:
        gap = Gap((key,), FrameKind.FLAT, want, 0, sets, care_only=True, nearest=note)
        offer = replace(self._new(key, gap, want, would), note=note, more=True)
        self.rows[key] = replace(offer, on_sheet=key in self.choice.add)

    def _new(self, key: str, gap: Gap, want: CommonSettings, would: Candidate) -> RowOffer:
        series = self.series(want)
        mechanical = want.angle is not None and want.angle.of == "mechanical"
        series = replace(
            series,
            lights=gap.lights,
            focus=want.focus if want.focus is not None else self.usual_focus(want.filter_code),
            angle_deg=want.angle.deg if want.angle is not None and mechanical else None,
            targets=gap.targets,
            hole=not gap.care_only,
        )
        note = gap.nearest if not gap.care_only else f"what is there fits with care: {gap.nearest}"
        return RowOffer(key, series, gap.sets, not gap.care_only, False, would, note, want)

    def usual_focus(self, filter_code: str | None) -> float | None:
        """Where no header of the lights tells the focus: as the filter's own sheet says."""
        in_wheel = self.in_wheel.get(filter_code or "")
        return in_wheel.focus if in_wheel else None

    def _count(self, name: str, own: Mapping[str, Any], wished: int) -> int:
        """How many frames: as the row wishes, else as was chosen for tonight, else by the house rules."""
        return wished if name in own or self.choice.frames is None else self.choice.frames

    def series(self, want: CommonSettings) -> FlatSeries:
        """How the flats of a row are shot: as its last setting was, while that counts, and as is wished of the row."""
        assert want.filter_code is not None and want.gain is not None and want.offset is not None
        row_key = RowKey(want.filter_code, want.gain, want.offset, binning_of(want))
        own = self.kept[row_key].wishes if row_key in self.kept else {}
        wishes = flat_wishes(self.library, self.rig, own)
        setting = self.found.get(row_key)
        if setting is not None and stale_reason(setting, self.rig.events):
            setting = None
        in_wheel = self.in_wheel.get(want.filter_code)
        brightness, stack = in_wheel.brightness if in_wheel else None, ()
        if setting is not None:
            brightness, stack = setting.brightness, tuple(setting.diffusers)
        elif wishes.brightness is not None:
            brightness = wishes.brightness
        source = source_of(self.session, self.rig, wishes, None)
        return FlatSeries(
            filter_code=row_key.filter_code,
            gain=row_key.gain,
            offset=row_key.offset,
            binning=row_key.binning,
            n_flats=self._count("n_flats", own, wishes.n_flats),
            n_dark_flats=self._count("n_dark_flats", own, wishes.n_dark_flats),
            brightness=brightness,
            prior_exposure_s=setting.exposure_s + setting.dark_s if setting else None,
            stack=stack,
            stack_stops=stops_of(stack, source.diffusers),
            wheel_position=in_wheel.position if in_wheel else 0,
            read_mode=want.read_mode,
        )


def _with(offer: RowOffer, gap: Gap) -> RowOffer:
    """A row that serves the lights of one more gap."""
    hole = offer.hole or not gap.care_only
    series = replace(offer.wish, lights=offer.wish.lights + gap.lights, hole=hole)
    return replace(offer, lights=offer.lights + gap.sets, hole=hole, wish=series)


def _row_key(rows: dict[str, RowOffer], want: CommonSettings, binning: int, tolerances: Tolerances) -> str:
    """The key of a row already on the list that would serve these lights too, else a new one."""
    for key, offer in rows.items():
        wish = offer.wish
        set_so = wish.filter_code, wish.gain, wish.offset, wish.binning, wish.read_mode
        same = set_so == (want.filter_code, want.gain, want.offset, binning, want.read_mode)
        first = offer.want
        same = same and not rulers.other_stop(first, want)
        near = rulers.angle(first, want, tolerances.flat_angle_deg)
        focus = rulers.band("focus", first.focus, want.focus, tolerances.flat_focus_steps, "steps")
        if same and (near.inside or near.unknown) and (focus.inside or focus.unknown):
            return key
    return flat_gap_key(want, binning)


def go_of(rig: Rig, choice: SheetChoice) -> FlatsGo:
    """Where tonight's flats go: as was chosen for tonight, else as the house rules have it."""
    return choice.go or house_rules_of(rig).flats_go


def _on_sheet(offer: RowOffer, wishes: SheetChoice, go: FlatsGo) -> bool:
    if offer.key in wishes.leave_out:
        return False
    if go in NOT_TONIGHT:
        return offer.key in wishes.add
    # A hole is filled also where the very same settings cannot be told from others, since no header tells them.
    only_doubts = offer.hole and all(r.inside or r.unknown for r in offer.would.rulers)
    return offer.key in wishes.add or offer.would.verdict is Verdict.FITS or only_doubts
