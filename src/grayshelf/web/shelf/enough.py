"""What so many frames of a master cost the lights that use it, in percent of their noise."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.costs import few_darks_percent, few_flats_percent, what_rules
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.model import Holding
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_terms
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import terms_of
from grayshelf.library.slips import slips
from grayshelf.web.common import in_words
from grayshelf.web.shelf.schemas import EnoughOut

#: Exposures from here on are told in minutes.
MINUTES_FROM_S = 600.0
#: Numbers of frames that can be asked about.
FEWEST_ASKED, MOST_ASKED = 3, 100


def enough_out(library: Library, rigs: Sequence[Rig], holding: Holding) -> EnoughOut | None:
    """What 3 to 100 frames would cost the lights that the master costs the most; None where no lights use it, or none of
    them is measured well enough to say."""
    if holding.kind not in (FrameKind.DARK, FrameKind.FLAT):
        return None
    served = [
        (_percent(holding, terms), lights, terms)
        for rig in rigs
        for lights, slip in slips(library, rig.id)
        if any(line.chosen and line.chosen.holding.key == holding.key for line in slip.lines)
        for terms in (light_terms(library, lights, terms_of(library, rig, lights.want.gain)),)
    ]
    if not served:
        return None
    _, lights, terms = max(served, key=lambda one: one[0])
    percent = [
        round(_percent(replace(holding, n_frames=n), terms), 3) for n in range(FEWEST_ASKED, MOST_ASKED + 1)
    ]
    dither = terms.tolerances.dither_positions
    positions = f", dithered over {dither} positions" if dither > 1 else ", not dithered"
    ruled = _ruled(holding, terms) if holding.kind is FrameKind.DARK else ""
    return EnoughOut(
        lights=f"{_lights(lights)}{positions}", fewest=FEWEST_ASKED, percent=percent, ruled=ruled
    )


def _ruled(dark: Holding, terms: Terms) -> str:
    """Short lights in the cold are ruled by the read-out, long warm ones by dark current: which it is here."""
    found, temp_c = what_rules(dark.settings, terms.traits), dark.settings.sensor_temp_c
    at = "" if temp_c is None else f" at {in_words.degrees_c(temp_c)}"
    read = 100.0 * found.read_share
    rules = (
        f"Its read-out rules it, as a bias has it: {read:.0f} % of a usual pixel’s variance."
        if found.read_share >= 0.5
        else f"Its dark current rules it: {100.0 - read:.0f} % of a usual pixel’s variance."
    )
    assumed = " (usual figures of a cooled sensor)" if terms.traits.dark_assumed else ""
    usual, hot = (_from(seconds) for seconds in (found.usual_from_s, found.hot_from_s))
    return f"{rules} Dark current rules{at} {usual}, in the hottest 0.1 % of the pixels {hot}{assumed}."


def _from(seconds: float) -> str:
    if not math.isfinite(seconds):
        return "never"
    told = in_words.seconds(round(seconds, 1 if seconds < 10 else 0))
    return f"from {told if seconds < MINUTES_FROM_S else in_words.duration(seconds)} on"


def _percent(holding: Holding, terms: Terms) -> float:
    cost = few_darks_percent if holding.kind is FrameKind.DARK else few_flats_percent
    return cost(holding.settings, holding, terms.traits, terms.lights, terms.tolerances.dither_positions)


def _lights(lights: LightSet) -> str:
    """'60 lights of NGC 6888 of 300 s'."""
    target = f" of {lights.facts.target}" if lights.facts.target else ""
    each = "" if lights.want.exposure_s is None else f", {in_words.seconds(lights.want.exposure_s)} each"
    return f"{in_words.several(lights.row.n_kept, 'light')}{target}{each}"
