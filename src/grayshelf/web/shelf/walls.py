"""The walls of the shelf: spines where they stand, gaps where lights wait."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.frames.sets import nominal_exposure, nominal_temperature
from grayshelf.core.matching.age import age_in_words, age_step
from grayshelf.core.matching.judge import few_frames
from grayshelf.core.matching.model import Holding, Tolerances
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.planning.runsheet import RigPace, series_seconds
from grayshelf.library.gaps import Gap, gaps
from grayshelf.library.holdings import holdings
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.rig_terms import gain_word, tolerances_of
from grayshelf.web.common import in_words
from grayshelf.web.shelf.schemas import GapOut, HeadOut, ShelfOut, SpineOut, WallOut
from grayshelf.work.run.choice import DEFAULT_DARKS, DEFAULT_FRAMES
from grayshelf.work.run.tonight import Tonight


def gain_in_words(gain: float | None, word: str) -> str:
    """'gain 200', 'ISO unknown'."""
    return f"{word} {in_words.plain(gain)}" if gain is not None else f"{word} unknown"


def care_of(holding: Holding, tolerances: Tolerances) -> list[str]:
    """Why a spine is hatched, whatever lights pull it: few frames count by what they cost a usual stack."""
    doubted = [f"{q} is only from its file’s name" for q in sorted(holding.settings.from_name)]
    return few_frames(holding, tolerances) + doubted + list(holding.care)


def kind_title(holding: Holding) -> str:
    """'Dark 300 s, −10 °C', 'Flat SII', 'Bias'."""
    have = holding.settings
    title = holding.kind.value.capitalize()
    if holding.kind is FrameKind.FLAT:
        sky = "Sky flat" if have.exposures_differ else title
        return f"{sky} {have.filter_code}" if have.filter_code else sky
    if holding.kind is FrameKind.BIAS:
        return title
    parts = [in_words.seconds(have.exposure_s)] if have.exposure_s is not None else []
    if holding.kind is FrameKind.DARK and have.sensor_temp_c is not None:
        parts.append(in_words.degrees_c(round(have.sensor_temp_c)))
    return f"{title} {', '.join(parts)}" if parts else title


def spine_out(
    holding: Holding, tolerances: Tolerances, today: date, word: str, row: str, column: str
) -> SpineOut:
    """A spine."""
    have = holding.settings
    age = (today - have.night).days if have.night else 0
    return SpineOut(
        id=int(holding.key),
        kind=holding.kind.value,
        title=kind_title(holding),
        gain=have.gain,
        gain_text=gain_in_words(have.gain, word),
        frames=holding.n_frames,
        date=in_words.day(have.night),
        age_step=age_step(age),
        age=age_in_words(age),
        care=care_of(holding, tolerances),
        is_master=holding.is_master,
        row=row,
        column=column,
    )


def _temp_key(temp: float | None) -> str:
    return "?" if temp is None else f"{round(temp)}"


def _exposure_key(exposure: float | None) -> str:
    return "?" if exposure is None else f"{nominal_exposure(exposure):g}"


def _flat_row(settings_night: date | None, angle: float | None) -> str:
    turned = "" if angle is None else f"@{round(angle) % 360}"
    return f"{settings_night}{turned}"


def shelf_page(library: Library, rig_id: int, tonight: Tonight) -> ShelfOut:
    """The shelf of a rig: darks and bias of its camera, flats of its train."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        today = night_of_utc(library.clock.now(), library.zone(session))
        filters = [f.code for f in rig.filters]
    tolerances = tolerances_of(rig)
    shelf = holdings(library, rig.camera)
    word = gain_word(library, rig.camera)
    missing = [g for g in gaps(library, rig_id) if g.kind is not FrameKind.DARK_FLAT]
    offers = dict(_offered(tonight))
    darks = [h for h in shelf if h.kind is FrameKind.DARK]
    own = (None, plain_name(rig.telescope))
    flats = [h for h in shelf if h.kind is FrameKind.FLAT and plain_name(h.settings.telescope) in own]
    dark_gaps = [g for g in missing if g.kind is FrameKind.DARK]
    flat_gaps = [g for g in missing if g.kind is FrameKind.FLAT]

    def spines_of(found: list[Holding], cell: Callable[[Holding], tuple[str, str]]) -> list[SpineOut]:
        spines = []
        for h in _by_gain_and_age(found):
            with sparing(library, "walls", int(h.key), h.kind):
                spines.append(spine_out(h, tolerances, today, word, *cell(h)))
        return spines

    dark_wall = WallOut(
        rows=_temp_rows(darks, dark_gaps),
        columns=_exposure_columns(darks, dark_gaps),
        spines=spines_of(
            darks, lambda h: (_temp_key(h.settings.sensor_temp_c), _exposure_key(h.settings.exposure_s))
        ),
        gaps=[
            _gap_out(
                g, word, _temp_key(g.want.sensor_temp_c), _exposure_key(g.want.exposure_s), tonight, offers
            )
            for g in dark_gaps
        ],
    )
    flat_wall = WallOut(
        rows=_night_rows(flats, flat_gaps),
        columns=_filter_columns(filters, flats, flat_gaps),
        spines=spines_of(
            flats, lambda h: (_flat_row(h.settings.night, _deg(h)), h.settings.filter_code or "none")
        ),
        gaps=[
            _gap_out(
                g,
                word,
                _flat_row(g.want.night, g.want.angle.deg if g.want.angle else None),
                g.want.filter_code or "none",
                tonight,
                offers,
            )
            for g in flat_gaps
        ],
    )
    return ShelfOut(
        rig=rig.name,
        camera=rig.camera,
        about=_about(rig.camera, shelf),
        gains=sorted({h.settings.gain for h in shelf if h.settings.gain is not None}),
        gain_word=word,
        darks=dark_wall,
        flats=flat_wall,
        bias=spines_of([h for h in shelf if h.kind is FrameKind.BIAS], lambda h: ("bias", "bias")),
        gaps=dark_wall.gaps + flat_wall.gaps,
        empty=not shelf and not missing,
    )


def _deg(holding: Holding) -> float | None:
    return holding.settings.angle.deg if holding.settings.angle else None


def _by_gain_and_age(found: list[Holding]) -> list[Holding]:
    def key(h: Holding) -> tuple[float, float, str]:
        night = h.settings.night
        return (h.settings.gain or 0.0, -(night.toordinal() if night else 0), h.key)

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
    rows: dict[str, tuple[date | None, float | None]] = {}
    for h in flats:
        rows[_flat_row(h.settings.night, _deg(h))] = (h.settings.night, _deg(h))
    for g in missing:
        angle = g.want.angle.deg if g.want.angle else None
        rows[_flat_row(g.want.night, angle)] = (g.want.night, angle)
    newest = sorted(rows.items(), key=lambda item: (item[1][0] or date.min, item[1][1] or 0.0), reverse=True)
    return [
        HeadOut(
            key=key,
            title=in_words.short_day(night),
            detail="" if angle is None else f"{in_words.number(angle, 1)}°",
        )
        for key, (night, angle) in newest
    ]


def _filter_columns(filters: list[str], flats: Sequence[Holding], missing: Sequence[Gap]) -> list[HeadOut]:
    others = {h.settings.filter_code or "none" for h in flats} | {
        g.want.filter_code or "none" for g in missing
    }
    ordered = filters + sorted(others - set(filters))
    return [HeadOut(key=code, title="no filter" if code == "none" else code, detail="") for code in ordered]


def _offered(tonight: Tonight) -> list[tuple[str, bool]]:
    return [(o.key, o.on_sheet) for o in tonight.offers] + [(d.key, d.on_sheet) for d in tonight.darks]


def offer_for(gap: Gap, tonight: Tonight) -> str | None:
    """Key of the row on tonight's sheet that would serve a gap's lights."""
    ids = {lights.row.id for lights in gap.sets}
    rows = tonight.offers if gap.kind is FrameKind.FLAT else tonight.darks
    for offer in rows:
        if ids & {lights.row.id for lights in offer.lights}:
            return offer.key
    return None


def _gap_out(gap: Gap, word: str, row: str, column: str, tonight: Tonight, offers: dict[str, bool]) -> GapOut:
    want = gap.want
    offer = offer_for(gap, tonight)
    dark = gap.kind is FrameKind.DARK
    if dark:
        temp = nominal_temperature(want.sensor_temp_c, None)
        title = f"Dark {in_words.seconds(want.exposure_s or 0)}" + (
            f", {in_words.degrees_c(temp)}" if temp is not None else ""
        )
        takes = in_words.duration(series_seconds(DEFAULT_DARKS, want.exposure_s or 0.0, RigPace()))
    else:
        title = f"Flats of {in_words.short_day(want.night)}"
        takes = ""
    frames = DEFAULT_DARKS if dark else DEFAULT_FRAMES
    return GapOut(
        key="|".join(str(part) for part in gap.key),
        kind=gap.kind.value,
        title=title,
        gain=want.gain,
        gain_text=gain_in_words(want.gain, word),
        filter_code=want.filter_code if not dark else None,
        lights=gap.lights,
        targets=list(gap.targets),
        nights=in_words.days(lights.row.night for lights in gap.sets),
        row=row,
        column=column,
        frames=frames,
        nearest=gap.nearest,
        takes=takes,
        offer=offer,
        on_sheet=bool(offer and offers.get(offer)),
    )
