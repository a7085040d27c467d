"""The walls of the shelf: spines where they stand, gaps where lights wait."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from functools import partial

from grayshelf.core.flats.filter_words import named
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.frames.sets import nominal_exposure, nominal_temperature
from grayshelf.core.matching.age import age_in_words, age_step
from grayshelf.core.matching.judge import few_frames
from grayshelf.core.matching.model import CommonSettings, Holding, RigSays, Tolerances, Verdict
from grayshelf.core.planning.sheet import RigPace, series_seconds
from grayshelf.core.rigs.house_rules import HouseRules
from grayshelf.library.cameras_alike import shelf_of
from grayshelf.library.gaps import Gap, gaps
from grayshelf.library.kept import kept
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.rig_terms import gain_word, house_rules_of, says_of
from grayshelf.library.slips import slips
from grayshelf.library.trains import sorter
from grayshelf.web.common import in_words
from grayshelf.web.shelf.schemas import GapOut, HeadOut, ShelfOut, SpineOut, WallOut
from grayshelf.work.run.dark_offers import DarkOffer
from grayshelf.work.run.flat_offers import RowOffer
from grayshelf.work.run.tonight import Tonight


def gain_in_words(gain: float | None, word: str, says: RigSays) -> str:
    """'gain 200', 'ISO unknown'; nothing of a camera that was said to have none."""
    if gain is None:
        return "" if "gain" in says.fixed else f"{word} unknown"
    return f"{word} {in_words.plain(gain)}"


def care_of(holding: Holding, tolerances: Tolerances) -> list[str]:
    """Why a spine is hatched, whatever lights pull it: few frames count by what they cost a usual stack."""
    doubted = [f"{q} is only from its file’s name" for q in sorted(holding.settings.from_name)]
    return few_frames(holding, tolerances) + doubted + list(holding.care)


def kind_title(holding: Holding) -> str:
    """'Dark 300 s, −10 °C', 'Flat SII', 'Bias'; 'Bias, binning 2', 'Bias, part 3008 × 3008'."""
    have = holding.settings
    title = holding.kind.value.capitalize()
    if holding.kind is FrameKind.FLAT:
        sky = "Sky flat" if have.exposures_differ else title
        title = ", ".join([f"{sky} {have.filter_code}" if have.filter_code else sky, *in_words.stop_of(have)])
    elif holding.kind is not FrameKind.BIAS:
        parts = [in_words.seconds(have.exposure_s)] if have.exposure_s is not None else []
        if holding.kind is FrameKind.DARK and have.sensor_temp_c is not None:
            parts.append(in_words.degrees_c(round(have.sensor_temp_c)))
        title = f"{title} {', '.join(parts)}" if parts else title
    return ", ".join([title, *_binned(have), *in_words.part_of_sensor(have)])


def _binned(settings: CommonSettings) -> list[str]:
    return [f"binning {settings.binning[0]}"] if settings.binning and settings.binning[0] > 1 else []


def spine_out(
    holding: Holding, tolerances: Tolerances, today: date, word: str, says: RigSays, row: str, column: str
) -> SpineOut:
    """A spine."""
    have, gain_text = holding.settings, gain_in_words(holding.settings.gain, word, says)
    age = (today - have.night).days if have.night else 0
    # By measurement where it was measured, else by the calendar.
    looks = min(age, (today - have.good_on).days) if have.good_on else age
    good = f", measured good on {in_words.day(have.good_on)}" if have.good_on else ""
    return SpineOut(
        id=int(holding.key),
        kind=holding.kind.value,
        title=kind_title(holding),
        gain=have.gain,
        gain_text=gain_text,
        foot=gain_text or next(iter([*_binned(have), *in_words.part_of_sensor(have)]), ""),
        frames=holding.n_frames,
        frames_text=f"{holding.n_frames}" if holding.count_known else "?",
        frames_words=in_words.frames_told(holding.n_frames, known=holding.count_known),
        date=in_words.day(have.night),
        age_step=age_step(max(looks, 0)),
        age=f"{age_in_words(age)}{good}",
        care=care_of(holding, tolerances),
        is_master=holding.is_master,
        row=row,
        column=column,
    )


def _temp_key(temp: float | None) -> str:
    return "?" if temp is None else f"{round(temp)}"


def _exposure_key(exposure: float | None) -> str:
    return "?" if exposure is None else f"{nominal_exposure(exposure):g}"


def _flat_row(of: CommonSettings) -> str:
    turned = "" if of.angle is None else f"@{round(of.angle.on_one_side_deg) % 360}"
    return f"{of.night}{turned}"


@dataclass(frozen=True)
class _SpinesOn:
    """What spines are made on, beside their holdings."""

    tolerances: Tolerances
    today: date
    word: str
    says: RigSays


_Cell = Callable[[Holding], tuple[str, str]]


class _Spines:
    """The spines of a rig: each is made anew where its holding, or what they are all made on, is another."""

    def __init__(self) -> None:
        """None is made yet."""
        self._made: dict[str, tuple[Holding, _SpinesOn, SpineOut]] = {}

    def of(self, library: Library, on: _SpinesOn, found: Sequence[Holding], cell: _Cell) -> list[SpineOut]:
        """Those of some holdings, by gain and age, each in its cell."""
        spines = []
        for holding in _by_gain_and_age(found):
            with sparing(library, "walls", int(holding.key), holding.kind):
                before = self._made.get(holding.key)
                if before is None or before[0] is not holding or before[1] != on:
                    made = spine_out(holding, on.tolerances, on.today, on.word, on.says, *cell(holding))
                    self._made[holding.key] = before = holding, on, made
                spines.append((holding.settings.offset, before[2]))
        return _told_apart(spines)


def _told_apart(spines: Sequence[tuple[float | None, SpineOut]]) -> list[SpineOut]:
    """Spines of one cell and one gain, but of several offsets, bear their offset."""
    offsets: dict[tuple[str, str, float | None], set[float]] = defaultdict(set)
    for offset, spine in spines:
        if offset is not None:
            offsets[spine.row, spine.column, spine.gain].add(offset)
    return [
        spine
        if offset is None or len(offsets[spine.row, spine.column, spine.gain]) < 2
        else spine.model_copy(update={"foot": _with_offset(spine.gain_text, offset)})
        for offset, spine in spines
    ]


def _with_offset(gain_text: str, offset: float) -> str:
    return ", ".join(part for part in (gain_text, f"offset {in_words.plain(offset)}") if part)


@kept(32)
def _spines(library: Library, rig_id: int) -> _Spines:
    return _Spines()


def shelf_page(library: Library, rig_id: int, tonight: Tonight) -> ShelfOut:
    """The shelf of a rig: darks and bias of its camera, flats of its train."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        today = night_of_utc(library.clock.now(), library.zone(session))
        filters = [f.code for f in rig.filters]
    shelf, word = shelf_of(library, rig).holdings, gain_word(library, rig.camera)
    missing = gaps(library, rig_id)
    rules = house_rules_of(rig)
    says = says_of(library, rig)
    on = _SpinesOn(rules.tolerances, today, word, says)
    spines_of = partial(_spines(library, rig_id).of, library, on)
    gaps_of = partial(_gaps_out, word=word, says=says, tonight=tonight, rules=rules)
    whose = sorter(library)
    flats = [
        h
        for h in shelf
        if h.kind is FrameKind.FLAT and (h.settings.telescope is None or whose.of(h.settings) == rig_id)
    ]
    dark_wall = _dark_wall(
        [h for h in shelf if h.kind is FrameKind.DARK],
        [g for g in missing if g.kind is FrameKind.DARK],
        spines_of,
        gaps_of,
    )
    flat_gaps = [g for g in missing if g.kind is FrameKind.FLAT]
    flat_wall = _flat_wall(filters, flats, flat_gaps, spines_of, gaps_of)
    # Dark flats stand under their flats, in no place of their own; what lights wait for is told all the same.
    below = gaps_of([g for g in missing if g.kind is FrameKind.DARK_FLAT], lambda g: ("", ""))
    return ShelfOut(
        rig=rig.name,
        camera=rig.camera,
        about=_about(rig.camera, shelf),
        gains=sorted({h.settings.gain for h in shelf if h.settings.gain is not None}),
        gain_word=word,
        darks=dark_wall,
        flats=flat_wall,
        bias=spines_of([h for h in shelf if h.kind is FrameKind.BIAS], lambda h: ("bias", "bias")),
        gaps=dark_wall.gaps + flat_wall.gaps + below,
        no_bias=_no_bias(library, rig_id),
        empty=not shelf and not dark_wall.gaps and not flat_wall.gaps,
    )


def _no_bias(library: Library, rig_id: int) -> str:
    """Which lights wait for a bias, in a sentence: none is made for them on a sheet of gaps."""
    waiting = [
        lights
        for lights, slip in slips(library, rig_id)
        if any(x.kind is FrameKind.BIAS and x.verdict is Verdict.NOTHING for x in slip.lines)
    ]
    count = sum(lights.row.n_kept for lights in waiting)
    if not count:
        return ""
    wait = "waits" if count == 1 else "wait"
    nights = in_words.days(lights.row.night for lights in waiting)
    return f"{in_words.several(count, 'light')} of {nights} {wait} for a bias: none on the shelf fits."


_SpinesOf = Callable[[Sequence[Holding], _Cell], list[SpineOut]]
_GapsOf = Callable[[Sequence[Gap], Callable[[Gap], tuple[str, str]]], list[GapOut]]


def _dark_wall(
    darks: Sequence[Holding], missing: Sequence[Gap], spines_of: _SpinesOf, gaps_of: _GapsOf
) -> WallOut:
    def cell(of: CommonSettings) -> tuple[str, str]:
        return _temp_key(of.sensor_temp_c), _exposure_key(of.exposure_s)

    return WallOut(
        rows=_temp_rows(darks, missing),
        columns=_exposure_columns(darks, missing),
        spines=spines_of(darks, lambda h: cell(h.settings)),
        gaps=gaps_of(missing, lambda g: cell(g.want)),
    )


def _flat_wall(
    filters: list[str],
    flats: Sequence[Holding],
    missing: Sequence[Gap],
    spines_of: _SpinesOf,
    gaps_of: _GapsOf,
) -> WallOut:
    def cell(of: CommonSettings) -> tuple[str, str]:
        return _flat_row(of), of.filter_code or "none"

    return WallOut(
        rows=_night_rows(flats, missing),
        columns=_filter_columns(filters, flats, missing),
        spines=spines_of(flats, lambda h: cell(h.settings)),
        gaps=gaps_of(missing, lambda g: cell(g.want)),
    )


def _by_gain_and_age(found: Sequence[Holding]) -> list[Holding]:
    def key(h: Holding) -> tuple[float, float, bool, int]:
        night = h.settings.night
        return h.settings.gain or 0.0, -(night.toordinal() if night else 0), not h.is_master, int(h.key)

    return sorted(found, key=key)


def _about(camera: str, shelf: Sequence[Holding]) -> str:
    offsets = sorted({h.settings.offset for h in shelf if h.settings.offset is not None})
    binnings = sorted({h.settings.binning[0] for h in shelf if h.settings.binning})
    parts = [camera]
    if offsets:
        parts.append("offset " + in_words.listed(in_words.plain(o) for o in offsets))
    if binnings:
        parts.append("binning " + in_words.listed(str(b) for b in binnings))
    return ", ".join(parts)


def _temp_rows(darks: Sequence[Holding], missing: Sequence[Gap]) -> list[HeadOut]:
    keys = {_temp_key(h.settings.sensor_temp_c) for h in darks} | {
        _temp_key(g.want.sensor_temp_c) for g in missing
    }
    ordered = sorted((k for k in keys if k != "?"), key=float) + (["?"] if "?" in keys else [])
    return [
        HeadOut(key=k, title="no °C" if k == "?" else in_words.degrees_c(float(k)), detail="")
        for k in ordered
    ]


def _exposure_columns(darks: Sequence[Holding], missing: Sequence[Gap]) -> list[HeadOut]:
    keys = {_exposure_key(h.settings.exposure_s) for h in darks} | {
        _exposure_key(g.want.exposure_s) for g in missing
    }
    ordered = sorted((k for k in keys if k != "?"), key=float) + (["?"] if "?" in keys else [])
    return [
        HeadOut(key=k, title="no exposure" if k == "?" else in_words.seconds(float(k)), detail="")
        for k in ordered
    ]


def _night_rows(flats: Sequence[Holding], missing: Sequence[Gap]) -> list[HeadOut]:
    rows: dict[str, CommonSettings] = {}
    for of in (*(h.settings for h in flats), *(g.want for g in missing)):
        rows.setdefault(_flat_row(of), of)

    def place(of: CommonSettings) -> tuple[date, float]:
        return of.night or date.min, of.angle.on_one_side_deg if of.angle else 0.0

    return [
        HeadOut(
            key=key,
            title=in_words.short_day(of.night),
            detail="" if of.angle is None else f"{in_words.number(of.angle.deg, 1)}°",
        )
        for key, of in sorted(rows.items(), key=lambda item: place(item[1]), reverse=True)
    ]


def _filter_columns(filters: list[str], flats: Sequence[Holding], missing: Sequence[Gap]) -> list[HeadOut]:
    others = {h.settings.filter_code or "none" for h in flats} | {
        g.want.filter_code or "none" for g in missing
    }
    ordered = filters + sorted(others - set(filters))
    return [HeadOut(key=code, title=named(code), detail="") for code in ordered]


def _offers_by_lights(rows: Sequence[RowOffer | DarkOffer]) -> dict[int, int]:
    """For each set of lights the first of these rows that would serve it."""
    found: dict[int, int] = {}
    for number, offer in enumerate(rows):
        for lights in offer.lights:
            found.setdefault(lights.row.id, number)
    return found


def _rows(tonight: Tonight, kind: FrameKind) -> Sequence[RowOffer | DarkOffer]:
    """What tonight's sheet could have of a kind."""
    if kind is FrameKind.FLAT:
        return tonight.offers
    return [offer for offer in tonight.darks if offer.wish.kind is kind]


def _gaps_out(
    found: Sequence[Gap],
    cell: Callable[[Gap], tuple[str, str]],
    word: str,
    says: RigSays,
    tonight: Tonight,
    rules: HouseRules,
) -> list[GapOut]:
    rows = {kind: _rows(tonight, kind) for kind in {g.kind for g in found}}
    serving = {kind: _offers_by_lights(of_kind) for kind, of_kind in rows.items()}
    made = []
    for gap in found:
        first = min((n for x in gap.sets if (n := serving[gap.kind].get(x.row.id)) is not None), default=None)
        offer = None if first is None else rows[gap.kind][first]
        made.append(_gap_out(gap, gain_in_words(gap.want.gain, word, says), rules, *cell(gap), offer))
    return made


def _gap_out(
    gap: Gap, gain_text: str, rules: HouseRules, row: str, column: str, offer: RowOffer | DarkOffer | None
) -> GapOut:
    want = gap.want
    dark = gap.kind is FrameKind.DARK
    frames = {FrameKind.DARK: rules.n_darks, FrameKind.DARK_FLAT: rules.n_dark_flats}.get(
        gap.kind, rules.n_flats
    )
    if gap.kind is FrameKind.FLAT:
        title = ", ".join([f"Flats of {in_words.short_day(want.night)}", *in_words.stop_of(want)])
        takes = ""
    else:
        temp = nominal_temperature(want.sensor_temp_c, None)
        title = f"{gap.kind.value.capitalize()} {in_words.exposure(want.exposure_s)}" + (
            f", {in_words.degrees_c(temp)}" if dark and temp is not None else ""
        )
        seconds = None if want.exposure_s is None else series_seconds(frames, want.exposure_s, RigPace())
        takes = "" if seconds is None else in_words.duration(seconds)
    shared = gap.kind is FrameKind.DARK_FLAT and len(gap.filters) > 1
    title = ", ".join([title, *_binned(want)]) + (f" for {in_words.listed(gap.filters)}" if shared else "")
    return GapOut(
        # A number that is kept as whole is the same setting.
        key="|".join(f"{part:g}" if isinstance(part, (int, float)) else str(part) for part in gap.key),
        kind=gap.kind.value,
        title=title,
        gain=want.gain,
        gain_text=gain_text,
        filter_code=want.filter_code if not dark and not shared else None,
        lights=gap.lights,
        targets=list(gap.targets),
        nights=in_words.days(lights.row.night for lights in gap.sets),
        row=row,
        column=column,
        frames=frames,
        nearest=gap.nearest,
        takes=takes,
        offer=offer.key if offer else None,
        on_sheet=offer.on_sheet if offer else False,
        against=offer.against if offer else "",
    )
