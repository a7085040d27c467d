"""The page Shelf: walls of spines and gaps, and the card of a spine."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date
from pathlib import Path

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.checks.figures import Figure, master_figures
from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.frames.sets import nominal_exposure, nominal_temperature
from grayshelf.core.matching.age import age_in_words, age_step
from grayshelf.core.matching.judge import few_frames
from grayshelf.core.matching.model import Holding, Tolerances
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.planning.runsheet import RigPace, series_seconds
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.files import read_pixels
from grayshelf.library.gaps import Gap, gaps
from grayshelf.library.holdings import holding_of, holdings
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet, Rig
from grayshelf.library.pictures import picture_of
from grayshelf.library.rig_terms import gain_word, tolerances_of
from grayshelf.library.slips import slips
from grayshelf.web import schemas as s
from grayshelf.web.views import words as w
from grayshelf.work.build import FEWEST
from grayshelf.work.run.choice import DEFAULT_DARKS, DEFAULT_FRAMES
from grayshelf.work.run.tonight import Tonight


def _gain_text(gain: float | None, word: str) -> str:
    return f"{word} {w.plain(gain)}" if gain is not None else f"{word} unknown"


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
    parts = [w.seconds(have.exposure_s)] if have.exposure_s is not None else []
    if holding.kind is FrameKind.DARK and have.sensor_temp_c is not None:
        parts.append(w.degrees_c(round(have.sensor_temp_c)))
    return f"{title} {', '.join(parts)}" if parts else title


def spine_out(
    holding: Holding, tolerances: Tolerances, today: date, word: str, row: str, column: str
) -> s.SpineOut:
    """A spine."""
    have = holding.settings
    age = (today - have.night).days if have.night else 0
    return s.SpineOut(
        id=int(holding.key),
        kind=holding.kind.value,
        title=kind_title(holding),
        gain=have.gain,
        gain_text=_gain_text(have.gain, word),
        frames=holding.n_frames,
        date=w.day(have.night),
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


def shelf_page(library: Library, rig_id: int, tonight: Tonight) -> s.ShelfOut:
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

    def spines_of(found: list[Holding], cell: Callable[[Holding], tuple[str, str]]) -> list[s.SpineOut]:
        spines = []
        for h in _by_gain_and_age(found):
            with sparing(library, "walls", int(h.key), h.kind):
                spines.append(spine_out(h, tolerances, today, word, *cell(h)))
        return spines

    dark_wall = s.WallOut(
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
    flat_wall = s.WallOut(
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
    return s.ShelfOut(
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
        parts.append("offset " + w.listed(w.plain(o) for o in offsets))
    if binnings:
        parts.append("binning " + w.listed(str(b) for b in binnings))
    return ", ".join(parts)


def _temp_rows(darks: Sequence[Holding], missing: Sequence[Gap]) -> list[s.HeadOut]:
    keys = {_temp_key(h.settings.sensor_temp_c) for h in darks} | {
        _temp_key(g.want.sensor_temp_c) for g in missing
    }
    ordered = sorted((k for k in keys if k != "?"), key=float) + (["?"] if "?" in keys else [])
    return [
        s.HeadOut(key=k, title="no °C" if k == "?" else w.degrees_c(float(k)), detail="") for k in ordered
    ]


def _exposure_columns(darks: Sequence[Holding], missing: Sequence[Gap]) -> list[s.HeadOut]:
    keys = {_exposure_key(h.settings.exposure_s) for h in darks} | {
        _exposure_key(g.want.exposure_s) for g in missing
    }
    ordered = sorted((k for k in keys if k != "?"), key=float) + (["?"] if "?" in keys else [])
    return [
        s.HeadOut(key=k, title="no exposure" if k == "?" else w.seconds(float(k)), detail="") for k in ordered
    ]


def _night_rows(flats: Sequence[Holding], missing: Sequence[Gap]) -> list[s.HeadOut]:
    rows: dict[str, tuple[date | None, float | None]] = {}
    for h in flats:
        rows[_flat_row(h.settings.night, _deg(h))] = (h.settings.night, _deg(h))
    for g in missing:
        angle = g.want.angle.deg if g.want.angle else None
        rows[_flat_row(g.want.night, angle)] = (g.want.night, angle)
    newest = sorted(rows.items(), key=lambda item: (item[1][0] or date.min, item[1][1] or 0.0), reverse=True)
    return [
        s.HeadOut(key=key, title=w.short_day(night), detail="" if angle is None else f"{w.number(angle, 1)}°")
        for key, (night, angle) in newest
    ]


def _filter_columns(filters: list[str], flats: Sequence[Holding], missing: Sequence[Gap]) -> list[s.HeadOut]:
    others = {h.settings.filter_code or "none" for h in flats} | {
        g.want.filter_code or "none" for g in missing
    }
    ordered = filters + sorted(others - set(filters))
    return [s.HeadOut(key=code, title="no filter" if code == "none" else code, detail="") for code in ordered]


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


def _gap_out(
    gap: Gap, word: str, row: str, column: str, tonight: Tonight, offers: dict[str, bool]
) -> s.GapOut:
    want = gap.want
    offer = offer_for(gap, tonight)
    dark = gap.kind is FrameKind.DARK
    if dark:
        temp = nominal_temperature(want.sensor_temp_c, None)
        title = f"Dark {w.seconds(want.exposure_s or 0)}" + (
            f", {w.degrees_c(temp)}" if temp is not None else ""
        )
        takes = w.duration(series_seconds(DEFAULT_DARKS, want.exposure_s or 0.0, RigPace()))
    else:
        title = f"Flats of {w.short_day(want.night)}"
        takes = ""
    frames = DEFAULT_DARKS if dark else DEFAULT_FRAMES
    return s.GapOut(
        key="|".join(str(part) for part in gap.key),
        kind=gap.kind.value,
        title=title,
        gain=want.gain,
        gain_text=_gain_text(want.gain, word),
        filter_code=want.filter_code if not dark else None,
        lights=gap.lights,
        targets=list(gap.targets),
        nights=w.days(lights.row.night for lights in gap.sets),
        row=row,
        column=column,
        frames=frames,
        nearest=gap.nearest,
        takes=takes,
        offer=offer,
        on_sheet=bool(offer and offers.get(offer)),
    )


# -- the card -------------------------------------------------------------------------------------------------


def card_page(library: Library, set_id: int) -> s.CardOut:
    """The card of a master or set."""
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.kind == "light":
            raise NotFound("This is not on the shelf.")
        rigs = list(session.scalars(select(Rig).where(Rig.camera == (row.camera or ""))))
        today = night_of_utc(library.clock.now(), library.zone(session))
        holding = next((h for h in holdings(library, row.camera or "") if h.key == str(set_id)), None)
        if holding is None:
            holding = holding_of(row)
        tolerances = tolerances_of(rigs[0]) if rigs else Tolerances()
        word = gain_word(library, row.camera or "")
        spine = spine_out(holding, tolerances, today, word, "", "")
        first = row.frames[0] if row.frames else None
        picture, trouble, figures = None, "", list[s.FigureOut]()
        path: Path | None = None
        if first is not None:
            try:
                path = library.frame_path(session, first)
                picture = _picture(path, first.id, holding.kind)
                figures = [_figure(f) for f in _figures(library, session, row, path)]
            except GrayShelfError as error:
                trouble = error.message
        record = row.record
        serves = _serves(library, [r.id for r in rigs], set_id)
        inputs = _inputs(row)
        frames = [s.FrameViewOut(frame_id=f.id, name=Path(f.path).name) for f in row.frames[:500]]
        if record is not None and record.inputs:
            frames += [
                s.FrameViewOut(frame_id=i.frame_id, name=i.name)
                for i in record.inputs[:500]
                if i.frame_id is not None
            ]
        unit = "ADU"
        n_word = w.several(row.n_frames, "frame")
        gain = f", {spine.gain_text}" if holding.settings.gain is not None else ""
        offset = f", offset {w.plain(holding.settings.offset)}" if holding.settings.offset is not None else ""
        age = "" if spine.age == "today" else f", {spine.age} old"
        return s.CardOut(
            spine=spine,
            title=f"{spine.title}{gain}",
            subtitle=f"{n_word} of {row.night:%-d %B %Y}{age}{offset}" if row.night else f"{n_word}{offset}",
            picture=picture,
            picture_trouble=trouble,
            figures=figures,
            settings=_settings(row, word),
            made=_made(row),
            noise=_noise(row),
            inputs=inputs,
            inputs_note=_inputs_note(row),
            level_unit=unit,
            serves=serves,
            n_lights=sum(_count(library, rigs, x.set_id) for x in serves),
            file=str(path) if path else "",
            can_build=not row.is_master and row.master_set_id is None and row.n_frames >= FEWEST,
            taken_off=row.taken_off,
            frames=frames,
        )


def _count(library: Library, rigs: Sequence[Rig], set_id: int) -> int:
    for rig in rigs:
        for lights, _ in slips(library, rig.id):
            if lights.row.id == set_id:
                return lights.row.n_kept
    return 0


def _picture(path: Path, frame_id: int, kind: FrameKind) -> s.PictureOut:
    picture = picture_of(path, 640)
    digits = 3 if kind is FrameKind.FLAT and picture.white < 100 else 0
    unit = "of the median" if digits else "ADU"
    return s.PictureOut(
        url=f"/api/frames/{frame_id}/picture.png?size=640",
        width=picture.width,
        height=picture.height,
        black=w.number(picture.black, digits),
        white=w.number(picture.white, digits),
        unit=unit,
    )


def _figures(library: Library, session: Session, row: FrameSet, path: Path) -> list[Figure]:
    """Figures of a master, measured once and kept."""
    record = row.record
    if record is not None and record.figures.get("list"):
        return [Figure(**f) for f in record.figures["list"]]
    figures = master_figures(read_pixels(path).astype(np.float32, copy=False), FrameKind(row.kind))
    if record is not None:
        record.figures = {"list": [vars(f) for f in figures]}
    return figures


def _figure(figure: Figure) -> s.FigureOut:
    return s.FigureOut(
        name=figure.name, value=figure.value, text=w.number(figure.value, figure.digits), unit=figure.unit
    )


def _settings(row: FrameSet, word: str) -> list[s.FigureOut]:
    facts = facts_from_json(row.facts)
    found: list[tuple[str, float | None, str, str]] = [
        (
            "Typical exposure" if facts.of_sky else "Exposure",
            facts.exposure_s,
            w.seconds(facts.exposure_s or 0).replace(f"{w.THIN}s", ""),
            "s",
        ),
        ("Sensor", facts.sensor_temp_c, w.number(facts.sensor_temp_c or 0, 1), "°C"),
        (word.capitalize() if word == "gain" else word, facts.gain, w.plain(facts.gain or 0), ""),
        ("Offset", facts.offset, w.plain(facts.offset or 0), ""),
        ("Binning", facts.binning_x, str(facts.binning_x or 1), ""),
        (
            "Angle",
            facts.angle.deg if facts.angle else None,
            w.number(facts.angle.deg if facts.angle else 0, 1),
            "°",
        ),
        ("Focus", facts.focus, w.number(facts.focus or 0), "steps"),
    ]
    named = {"Sensor": "temperature", word.capitalize(): "gain", "ISO": "gain"}
    result = [
        s.FigureOut(
            name=f"{n}, by its name" if named.get(n, n.lower()) in facts.from_name else n,
            value=v,
            text=t,
            unit=u,
        )
        for n, v, t, u in found
        if v is not None
    ]
    result.append(
        s.FigureOut(name="Size", value=facts.width, text=f"{facts.width} × {facts.height}", unit="")
    )
    if row.sample_step and row.sample_step > 1:
        result.append(
            s.FigureOut(name="Sample step", value=row.sample_step, text=str(row.sample_step), unit="ADU")
        )
    return result


#: What was taken off a master flat, in words.
_TAKEN_OFF = {"bias": "A bias", "dark": "A dark of its exposure", "dark flat": "Its dark flat"}


def _made(row: FrameSet) -> str:
    record = row.record
    if record is None:
        return "Loose frames: not combined yet."
    if not record.built_here:
        return "Combined elsewhere; how is not known."
    text = f"Combined here: {record.method}."
    if record.pedestal_kind:
        text += f" {_TAKEN_OFF.get(record.pedestal_kind, 'Its dark flat')} was taken off first."
    return text


def _noise(row: FrameSet) -> list[s.FigureOut]:
    record = row.record
    if record is None or record.noise is None:
        return []
    flat = row.kind == "flat"
    scale, unit, digits = (100.0, "%", 3) if flat else (1.0, "ADU", 2)
    named = (
        ("Noise left in the master", record.noise),
        ("Foretold for this many", record.predicted_noise),
        ("Noise of one frame", record.frame_noise),
    )
    return [
        s.FigureOut(name=name, value=value * scale, text=w.number(value * scale, digits), unit=unit)
        for name, value in named
        if value is not None
    ]


def _inputs(row: FrameSet) -> list[s.InputOut]:
    record = row.record
    if record is None or not record.inputs:
        return []
    return [
        s.InputOut(
            name=i.name,
            level=i.level_adu,
            used=i.used,
            reason=i.reason,
            clipped_percent=100 * i.clipped_fraction,
            sha256=i.sha256,
        )
        for i in record.inputs
    ]


def _inputs_note(row: FrameSet) -> str:
    record = row.record
    if record is None:
        return w.several(row.n_frames, "loose frame")
    if not record.inputs:
        return "Its frames are not in the library."
    used = sum(i.used for i in record.inputs)
    return f"{used} of {len(record.inputs)} used"


def _serves(library: Library, rig_ids: Sequence[int], set_id: int) -> list[s.ServedOut]:
    found = []
    for rig_id in rig_ids:
        for lights, slip in slips(library, rig_id):
            for line in slip.lines:
                if line.chosen is None or line.chosen.holding.key != str(set_id) or lights.row.night is None:
                    continue
                quantity = (
                    "temperature"
                    if line.kind is FrameKind.DARK
                    else "angle"
                    if line.kind is FrameKind.FLAT
                    else "exposure"
                )
                ruler = next((r for r in line.chosen.rulers if r.quantity == quantity), None)
                found.append(
                    s.ServedOut(
                        set_id=lights.row.id,
                        night=lights.row.night,
                        night_title=w.short_day(lights.row.night),
                        target=lights.facts.target or "no target",
                        filter_code=lights.facts.filter_code,
                        passband_nm=None,
                        text=f"{lights.row.n_kept} × {w.seconds(lights.want.exposure_s or 0)}",
                        verdict=line.verdict.value,
                        ruler=w.ruler_out(ruler) if ruler else None,
                    )
                )
    return sorted(found, key=lambda x: (x.night, x.set_id), reverse=True)
