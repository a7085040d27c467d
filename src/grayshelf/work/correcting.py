"""A light held against the dark and the flat that its slip chose: does it correct?"""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy.orm import Session

from grayshelf.core.checks.correction import Correction, correction_of
from grayshelf.core.errors import CannotCombine, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.lit_part import lit_part_of
from grayshelf.core.masters.scaled import Scaled
from grayshelf.core.matching.model import Candidate, PullSlip
from grayshelf.core.pictures.colours import Colour, cell_of
from grayshelf.core.pictures.parts import Pixels, made_small
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.library import Library
from grayshelf.library.lights import light_set
from grayshelf.library.models import Frame, FrameSet
from grayshelf.library.rig_terms import rig_of_lights
from grayshelf.library.scaling import scaled_with
from grayshelf.library.slips import slip_for
from grayshelf.library.views import View, open_view

#: A light is made small until neither side is longer than this.
LOOKED_AT = 1600


@dataclass(frozen=True)
class Pulled:
    """What a slip chose, as it can be used on a light."""

    dark: Frame | None
    dark_set: FrameSet | None
    """Dark, or bias where no dark fits."""
    flat: Frame | None
    flat_set: FrameSet | None
    lacking: tuple[str, ...]
    """What keeps it from being whole, in words."""
    scaled: Scaled | None = None
    """To what the dark is scaled; None where it is taken off as it is."""


def pulled_for(library: Library, session: Session, set_id: int) -> tuple[FrameSet, Pulled]:
    """What the slip of some lights chose.

    Raises
    ------
    NotFound
        Where these are no lights of the library.
    """
    row = session.get(FrameSet, set_id)
    if row is None or row.kind != "light":
        raise NotFound("These lights are not in the library.")
    slip = slip_for(library, rig_of_lights(session, row), light_set(row))
    lacking: list[str] = []

    def master(*kinds: FrameKind) -> tuple[FrameSet | None, Frame | None]:
        for kind in kinds:
            chosen = _chosen(slip, kind)
            if chosen is None:
                continue
            found = session.get(FrameSet, int(chosen.holding.key))
            if found is not None and found.is_master and found.frames:
                return found, found.frames[0]
            lacking.append(f"the {kind.value} is loose frames: combine them first")
            return None, None
        return None, None

    dark_set, dark = master(FrameKind.DARK, FrameKind.BIAS)
    if dark is None and not lacking:
        lacking.append("no dark is on the slip, so the pedestal stays in the light")
    flat_set, flat = master(FrameKind.FLAT)
    if flat is None and len(lacking) < 2 and not any("flat" in x for x in lacking):
        lacking.append("no flat is on the slip")
    of_dark = _chosen(slip, FrameKind.DARK)
    scaled = scaled_with(session, of_dark.scaling) if of_dark and of_dark.scaling else None
    if of_dark and of_dark.scaling and scaled is None:
        lacking.append("the bias with which the dark is scaled is not where it was")
        dark_set, dark = None, None
    return row, Pulled(dark, dark_set, flat, flat_set, tuple(lacking), scaled)


def _chosen(slip: PullSlip, kind: FrameKind) -> Candidate | None:
    return next((line.chosen for line in slip.lines if line.kind is kind and line.chosen is not None), None)


def lights_of(row: FrameSet) -> list[Frame]:
    """The frames of a light set that can be looked at, those that are kept first."""
    there = [f for f in row.frames if f.state in IN_SETS and f.missing_since is None]
    return sorted(there, key=lambda f: (f.rejected, f.id))


def correction_with(library: Library, session: Session, light: Frame, pulled: Pulled) -> Correction | None:
    """What is left of the flat in a light; None where light or flat tell too little.

    Raises
    ------
    CannotCombine
        Where there is no master flat to correct with.
    """
    if pulled.flat is None:
        raise CannotCombine("There is no master flat for these lights.", "; ".join(pulled.lacking))
    dark, flat = pulled.dark.id if pulled.dark else None, pulled.flat.id
    facts = facts_from_json(light.facts)
    lit = lit_part_of(facts)

    def small(view: View) -> Pixels:
        parts = open_view(library, session, view).parts
        if lit is not None:
            parts = (lit if view.colour is None else lit.of_one_colour(cell_of(facts.bayer_pattern))).of(
                parts
            )
        factor = max(-(-max(parts.width, parts.height) // LOOKED_AT), 1)
        return made_small(parts, factor)

    # Of a colour sensor the greens: half of its pixels, and of one colour.
    colour: Colour | None = "green" if open_view(library, session, View(light.id)).colours else None
    calibrated = View(light.id, "calibrated", dark=dark, colour=colour)
    if pulled.scaled is not None:
        calibrated = replace(calibrated, bias=pulled.scaled.bias, share=pulled.scaled.share)
    whole, raw = small(replace(calibrated, flat=flat)), small(calibrated)
    own = small(View(flat, colour=colour, within=light.id))
    return correction_of(whole, raw, own)
