"""What there is to know of one frame: what was read of it and from where, its header whole, and who it is twin to."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.fits_blocks import ImageHeader
from grayshelf.core.frames.lit_part import lit_part_of
from grayshelf.core.pictures.colours import in_short
from grayshelf.library.copies import counted_for_copies
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.files import read_header
from grayshelf.library.library import Library
from grayshelf.library.models import Frame
from grayshelf.library.rig_terms import gain_word
from grayshelf.web.common import in_words
from grayshelf.web.looking.schemas import BesideFrameOut, CardLineOut, FrameSheetOut, ReadValueOut

#: Cards of a header that are shown; a header may hold thousands.
MOST_CARDS = 2_000
#: Letters of a value that are shown.
MOST_LETTERS = 500


def frame_sheet(library: Library, frame_id: int) -> FrameSheetOut:
    """All that is known of a frame, whatever its state.

    Raises
    ------
    NotFound
    """
    with library.db.session() as session:
        frame = session.get(Frame, frame_id)
        if frame is None:
            raise NotFound("This frame is not in the library.")
        facts = facts_if_sound(frame.facts)
        word = gain_word(library, frame.camera or "")
        cards, trouble = _cards(library, session, frame)
        return FrameSheetOut(
            id=frame.id,
            name=frame.path.rpartition("/")[2],
            path=f"{frame.folder.path}/{frame.path}",
            state=frame.state,
            reason=frame.reason,
            advice=frame.advice,
            size_text=in_words.size(frame.size_bytes),
            sha256=frame.sha256 or "",
            values=_values(facts, word) if facts is not None else [],
            cards=cards,
            trouble=trouble,
            twin=twin_of(session, frame),
            can_be_seen=frame.state not in ("unreadable", "gone") and frame.missing_since is None,
        )


def _cards(library: Library, session: Session, frame: Frame) -> tuple[list[CardLineOut], str]:
    """The header as it stands in the file now; where it cannot be read, why."""
    try:
        image = read_header(library.frame_path(session, frame))
    except GrayShelfError as error:
        return [], f"{error.message} {error.advice}".strip()
    return _lines(image), ""


def _lines(image: ImageHeader) -> list[CardLineOut]:
    header: Any = getattr(image.header, "whole", image.header)
    lines = []
    for card in header.cards:
        try:
            keyword, value, comment = str(card.keyword), _text(card.value), _text(card.comment)
        except Exception:
            # A card that breaks the standard is shown as it stands.
            keyword, value, comment = str(card.image)[:8].strip(), _text(str(card.image)[8:]), ""
        if keyword or value:
            lines.append(CardLineOut(keyword=keyword, value=value, comment=comment))
        if len(lines) >= MOST_CARDS:
            break
    return lines


def _text(value: object) -> str:
    text = {True: "T", False: "F"}[value] if isinstance(value, bool) else str(value)
    shown = "".join(c if c.isprintable() else "?" for c in text)
    return shown if len(shown) <= MOST_LETTERS else f"{shown[:MOST_LETTERS]}…"


def _values(facts: FrameFacts, word: str) -> list[ReadValueOut]:
    """What was read, value by value; None is said as not known where it matters for its kind."""
    told: list[tuple[str, str, str | None]] = [
        ("kind", "kind", f"master {facts.kind}" if facts.is_master else facts.kind),
        ("camera", "camera", facts.camera),
        ("utc", "taken (UTC)", f"{facts.utc:%-d %b %Y, %H:%M:%S}" if facts.utc else None),
        ("night", "night", in_words.day(facts.night) if facts.night else None),
        ("exposure_s", "exposure", _number(facts.exposure_s, in_words.seconds)),
        ("gain", word, _number(facts.gain, in_words.plain)),
        ("offset", "offset", _number(facts.offset, in_words.plain)),
        ("binning", "binning", f"{facts.binning_x} × {facts.binning_y}" if facts.binning_x else None),
        ("corner_x", "begins at", "column {}, row {}".format(*facts.corner) if facts.corner else None),
        ("sensor_temp_c", "sensor", _number(facts.sensor_temp_c, lambda value: in_words.degrees_c(value, 1))),
        ("set_temp_c", "set point", _number(facts.set_temp_c, lambda value: in_words.degrees_c(value, 1))),
        ("filter_code", "filter", facts.filter_code),
        ("target", "target", facts.target),
        ("telescope", "telescope", facts.telescope),
        ("focal_length_mm", "focal length", _number(facts.focal_length_mm, lambda mm: f"{mm:g} mm")),
        ("aperture_mm", "aperture", _number(facts.aperture_mm, lambda mm: f"{mm:.4g} mm")),
        ("angle", "angle", f"{facts.angle.deg:.1f}°" if facts.angle is not None else None),
        ("focus", "focus", _number(facts.focus, lambda steps: in_words.number(steps))),
        ("bayer_pattern", "colour pattern", in_short(facts.bayer_pattern)),
        ("width", "size", f"{facts.width} × {facts.height}, {abs(facts.bits)} bits"),
    ]
    lit = lit_part_of(facts)
    if lit is not None:
        reached = f"columns {lit.left + 1} to {lit.right}, rows {lit.top + 1} to {lit.bottom}"
        told.append(("lit_section", "light reaches", reached))
    return [
        ReadValueOut(word=name, value=value or "", origin=facts.origins.get(key, ""))
        for key, name, value in told
    ]


def _number(value: float | None, word: Any) -> str | None:
    return None if value is None else word(value)


def twin_of(session: Session, frame: Frame) -> BesideFrameOut | None:
    """The frame that counts in place of a duplicate."""
    of_it = (session.scalar(query.where(Frame.id == frame.id)) for query in counted_for_copies())
    twin_id = next((found for found in of_it if found is not None), None)
    twin = session.get(Frame, twin_id) if twin_id is not None else None
    if twin is None:
        return None
    return BesideFrameOut(frame_id=twin.id, title=twin.path, detail="counts: it was here first")
