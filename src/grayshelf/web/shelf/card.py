"""A card: what a set or master is, how it was made, what it measured, and whom it serves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.checks.figures import Figure
from grayshelf.core.checks.findings import NOTHING_IN_IT
from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.frames.said import QUANTITIES
from grayshelf.core.masters.combine import may_leave_extremes
from grayshelf.core.matching.age import AHEAD
from grayshelf.core.matching.model import Holding, RigSays, Tolerances
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.full_scale import SHARES
from grayshelf.library.holdings import holding_of, holdings
from grayshelf.library.library import Library
from grayshelf.library.made_of import come_since
from grayshelf.library.models import FrameSet, Rig
from grayshelf.library.pictures import picture_of
from grayshelf.library.rig_terms import gain_word, says_of, tolerances_of
from grayshelf.library.slips import slips
from grayshelf.library.trains import standing_rigs
from grayshelf.web.common import in_words
from grayshelf.web.shelf.enough import enough_out
from grayshelf.web.shelf.frames_of_master import findings_out, inputs_out, pending
from grayshelf.web.shelf.newer import still_good_out
from grayshelf.web.shelf.schemas import CardOut, FigureOut, FrameViewOut, PictureOut, ServedOut
from grayshelf.web.shelf.walls import spine_out
from grayshelf.work.build import FEWEST
from grayshelf.work.looking import figures_of_master

#: What was taken off a master flat, in words.
_TAKEN_OFF = {"bias": "A bias", "dark": "A dark of its exposure", "dark flat": "Its dark flat"}


#: Frames that a card lets one look at, of each kind.
MOST_SHOWN = 500


def card_page(library: Library, set_id: int) -> CardOut:
    """The card of a master or set."""
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.kind == "light":
            raise NotFound("This is not on the shelf.")
        rigs = list(session.scalars(standing_rigs().where(Rig.camera == (row.camera or ""))))
        today = night_of_utc(library.clock.now(), library.zone(session))
        on_shelf = (h for h in holdings(library, row.camera or "") if h.key == str(set_id))
        holding = next(on_shelf, None) or holding_of(row)
        tolerances = tolerances_of(rigs[0]) if rigs else Tolerances()
        word = gain_word(library, row.camera or "")
        spine = spine_out(
            holding, tolerances, today, word, says_of(library, rigs[0]) if rigs else RigSays(), "", ""
        )
        seen = _seen(library, session, row, holding.kind)
        behind = _behind(session, row)
        serves = _serves(library, [r.id for r in rigs], set_id)
        gain = f", {spine.gain_text}" if holding.settings.gain is not None else ""
        return CardOut(
            spine=spine,
            title=f"{spine.title}{gain}",
            subtitle=_subtitle(row, spine.age, holding),
            picture=seen.picture,
            picture_trouble=seen.trouble,
            figures=seen.figures,
            settings=_settings(row, word),
            made=_made(row, holding),
            noise=_noise(row),
            enough=enough_out(library, rigs, holding),
            findings=findings_out(row),
            empty=row.record is not None and NOTHING_IN_IT in row.record.care,
            checked=row.record is not None and "findings" in row.record.figures,
            can_remake=behind is not None,
            few_frames=behind is not None and may_leave_extremes(behind.n_kept),
            pending=pending(row, behind),
            inputs=inputs_out(row, behind),
            inputs_note=_inputs_note(session, row, behind),
            level_unit="ADU",
            serves=serves,
            n_lights=sum(_count(library, rigs, x.set_id) for x in serves),
            file=str(seen.path) if seen.path else "",
            can_build=not row.is_master and row.master_set_id is None and row.n_frames >= FEWEST,
            taken_off=row.taken_off,
            still_good=still_good_out(library, session, row),
            frames=_frames(row),
        )


@dataclass(frozen=True)
class _Seen:
    """What there is to see of a set: the picture of its first frame and its figures, or what is in their way."""

    path: Path | None = None
    picture: PictureOut | None = None
    figures: list[FigureOut] = field(default_factory=list)
    trouble: str = ""


def _seen(library: Library, session: Session, row: FrameSet, kind: FrameKind) -> _Seen:
    first = row.frames[0] if row.frames else None
    if first is None:
        return _Seen()
    seen = _Seen()
    try:
        path = library.frame_path(session, first)
        seen = _Seen(path)
        seen = _Seen(path, _picture(path, first.id, kind, library.root / "scratch"))
        return replace(seen, figures=[_figure(f) for f in figures_of_master(library, session, row, path)])
    except GrayShelfError as error:
        return replace(seen, trouble=error.message)


def _frames(row: FrameSet) -> list[FrameViewOut]:
    """The frames that can be looked at: its own, then those it was made of."""
    own = [FrameViewOut(frame_id=f.id, name=Path(f.path).name) for f in row.frames[:MOST_SHOWN]]
    inputs = row.record.inputs[:MOST_SHOWN] if row.record is not None else []
    return own + [FrameViewOut(frame_id=i.frame_id, name=i.name) for i in inputs if i.frame_id is not None]


def _subtitle(row: FrameSet, age: str, holding: Holding) -> str:
    """'50 frames of 12 September 2026, 5 weeks old, offset 30'."""
    frames, offset = in_words.frames(holding.n_frames, known=holding.count_known), holding.settings.offset
    at = f", offset {in_words.plain(offset)}" if offset is not None else ""
    if row.night is None:
        return f"{frames}{at}"
    old, _, measured = age.partition(", ")
    told = "" if old == "today" else f", {old}" if old == AHEAD else f", {old} old"
    return f"{frames} of {row.night:%-d %B %Y}{told}{at}{f', {measured}' if measured else ''}"


def _count(library: Library, rigs: Sequence[Rig], set_id: int) -> int:
    for rig in rigs:
        for lights, _ in slips(library, rig.id):
            if lights.row.id == set_id:
                return lights.row.n_kept
    return 0


def _picture(path: Path, frame_id: int, kind: FrameKind, scratch: Path) -> PictureOut:
    picture = picture_of(path, scratch, 640)
    digits = 3 if kind is FrameKind.FLAT and picture.white < 100 else 0
    unit = "of the median" if digits else "ADU"
    return PictureOut(
        url=f"/api/frames/{frame_id}/picture.png?size=640",
        width=picture.width,
        height=picture.height,
        black=in_words.number(picture.black, digits),
        white=in_words.number(picture.white, digits),
        unit=unit,
    )


def _figure(figure: Figure) -> FigureOut:
    return FigureOut(
        name=figure.name,
        value=figure.value,
        text=in_words.number(figure.value, figure.digits),
        unit=figure.unit,
    )


def _settings(row: FrameSet, word: str) -> list[FigureOut]:
    facts = facts_from_json(row.facts)
    found: list[tuple[str, float | None, str, str]] = [
        (
            "Typical exposure" if facts.of_sky else "Exposure",
            facts.exposure_s,
            in_words.seconds(facts.exposure_s or 0).replace(f"{in_words.THIN}s", ""),
            "s",
        ),
        ("Sensor", facts.sensor_temp_c, in_words.number(facts.sensor_temp_c or 0, 1), "°C"),
        (word.capitalize() if word == "gain" else word, facts.gain, in_words.plain(facts.gain or 0), ""),
        ("Offset", facts.offset, in_words.plain(facts.offset or 0), ""),
        ("Binning", facts.binning_x, str(facts.binning_x or 1), ""),
        (
            "Angle",
            facts.angle.deg if facts.angle else None,
            in_words.number(facts.angle.deg if facts.angle else 0, 1),
            "°",
        ),
        ("Focus", facts.focus, in_words.number(facts.focus or 0), "steps"),
    ]
    said = {QUANTITIES[name]: facts.origins[name] for name in facts.by_hand if name in QUANTITIES}
    named = {
        "Sensor": "temperature",
        "Typical exposure": "exposure",
        word.capitalize(): "gain",
        "ISO": "gain",
    }

    def name_of(what: str) -> str:
        quantity = named.get(what, what.lower())
        if quantity in said:
            return f"{what}, {said[quantity]}"
        return f"{what}, by its name" if quantity in facts.from_name else what

    told = [FigureOut(name=name_of(n), value=v, text=t, unit=u) for n, v, t, u in found if v is not None]
    told.append(FigureOut(name="Size", value=facts.width, text=f"{facts.width} × {facts.height}", unit=""))
    step = row.sample_step
    if step and step > 1:
        told.append(FigureOut(name="Sample step", value=step, text=str(step), unit="ADU"))
    return told


def _made(row: FrameSet, holding: Holding) -> str:
    record = row.record
    if record is None:
        return "Loose frames: not combined yet."
    if not record.built_here:
        shares = " Its values run from 0 to 1: they are taken as shares of 65,535 ADU."
        how = "how is not known" if holding.count_known else "how, and of how many frames, is not known"
        return f"Combined elsewhere; {how}.{shares if record.figures.get(SHARES) else ''}"
    text = f"Combined here: {record.method}."
    if record.pedestal_kind:
        text += f" {_TAKEN_OFF.get(record.pedestal_kind, 'Its dark flat')} was taken off first."
    return text


def _noise(row: FrameSet) -> list[FigureOut]:
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
        FigureOut(name=name, value=value * scale, text=in_words.number(value * scale, digits), unit=unit)
        for name, value in named
        if value is not None
    ]


def _behind(session: Session, row: FrameSet) -> FrameSet | None:
    """The set of loose frames of which a master was made."""
    return session.scalar(select(FrameSet).where(FrameSet.master_set_id == row.id)) if row.is_master else None


def _inputs_note(session: Session, row: FrameSet, behind: FrameSet | None) -> str:
    """Of how many frames it was made; `behind` is their set, which may have more by now."""
    record = row.record
    if record is None:
        return in_words.several(row.n_frames, "loose frame")
    if not record.inputs:
        return "Its frames are not in the library."
    used = sum(i.used for i in record.inputs)
    more = come_since(session, [behind.id]).get(behind.id, 0) if behind is not None else 0
    return f"{used} of {len(record.inputs)} used" + (
        f"; {more} more came to their set since" if more > 0 else ""
    )


def _serves(library: Library, rig_ids: Sequence[int], set_id: int) -> list[ServedOut]:
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
                    ServedOut(
                        rig_id=rig_id,
                        set_id=lights.row.id,
                        night=lights.row.night,
                        night_title=in_words.short_day(lights.row.night),
                        target=lights.facts.target or "no target",
                        filter_code=lights.facts.filter_code,
                        passband_nm=None,
                        text=in_words.series(lights.row.n_kept, lights.want.exposure_s),
                        verdict=line.verdict.value,
                        ruler=in_words.ruler_out(ruler) if ruler else None,
                    )
                )
    return sorted(found, key=lambda x: (x.night, x.set_id), reverse=True)
