"""Whether the flat of a slip corrects, in words."""

from __future__ import annotations

from pathlib import Path

from grayshelf.core.checks.correction import Correction, Corrects
from grayshelf.core.errors import NotFound
from grayshelf.library.library import Library
from grayshelf.web.common import in_words
from grayshelf.web.looking.view import title_of
from grayshelf.web.nights.schemas import CorrectionOut, SeenLightOut
from grayshelf.work.correcting import Pulled, correction_with, lights_of, pulled_for

#: So many lights can be chosen from.
MOST_LIGHTS = 200


def correction_page(library: Library, set_id: int, frame_id: int | None) -> CorrectionOut:
    """Whether the flat that a slip chose corrects one of its lights.

    Raises
    ------
    NotFound
        Where these are no lights, or the frame is none of them.
    """
    with library.db.session() as session:
        row, pulled = pulled_for(library, session, set_id)
        lights = lights_of(row)
        light = next((f for f in lights if frame_id is None or f.id == frame_id), None)
        if light is None:
            raise NotFound(
                "None of these lights can be looked at: their files are away.", "Plug the disk in."
            )
        found = correction_with(library, session, light, pulled) if pulled.flat is not None else None
        return CorrectionOut(
            set_id=set_id,
            frame_id=light.id,
            lights=[
                SeenLightOut(frame_id=f.id, name=Path(f.path).name, rejected=f.rejected)
                for f in lights[:MOST_LIGHTS]
            ],
            dark_frame_id=pulled.dark.id if pulled.dark else None,
            flat_frame_id=pulled.flat.id if pulled.flat else None,
            bias_frame_id=pulled.scaled.bias if pulled.scaled else None,
            dark_share=pulled.scaled.share if pulled.scaled else 1.0,
            used=_used(pulled),
            lacking=list(pulled.lacking),
            corrects=found.corrects.value if found else None,
            slope_text=_slope(found) if found else "",
            corner_text=_corner(found) if found else "",
            meaning=_meaning(found) if found else _nothing(pulled.flat is None),
        )


def _used(pulled: Pulled) -> str:
    scaled = f", scaled to {in_words.seconds(pulled.scaled.to_s)}" if pulled.scaled else ""
    told = ((pulled.dark_set, scaled), (pulled.flat_set, ""))
    return " and ".join(f"{title_of(x)} of {in_words.day(x.night)}{how}" for x, how in told if x is not None)


def _slope(found: Correction) -> str:
    """'+0.02 (−0.01 to +0.05)'."""
    slope, least, most = (in_words.number(v, 2) for v in (found.slope, found.least, found.most))
    return f"{'+' if found.slope > 0 else ''}{slope}, between {least} and {most}"


def _corner(found: Correction) -> str:
    if found.corner_percent is None or found.corner_raw_percent is None:
        return ""
    now, before = in_words.number(found.corner_percent, 1), in_words.number(found.corner_raw_percent, 1)
    return f"{now} % in the corners, {before} % before"


def _meaning(found: Correction) -> str:
    if found.corrects is Corrects.YES:
        return "What is left of the flat in the sky is no more than its uncertainty: it corrects."
    if found.corrects is Corrects.TOO_LITTLE:
        return (
            "The sky still follows the flat: it corrects too little. A pedestal was left in the flat (no dark flat or bias "
            "was taken off), or stray light fell on it that is not in the lights."
        )
    if found.corrects is Corrects.TOO_MUCH:
        return (
            "The sky is brighter where the flat is darker: it corrects too much. A pedestal was left in the light (the dark "
            "does not fit, or none was taken off), or too much was taken off the flat, as by a dark flat that saw light."
        )
    return (
        "The sky itself is too uneven to tell: a nebula, or light from one side. Try a light of a filter or field with "
        "more empty sky."
    )


def _nothing(no_flat: bool) -> str:
    if no_flat:
        return "There is no master flat to correct with."
    return "Too little of the sky is empty, or the flat is too even, to say whether it corrects."
