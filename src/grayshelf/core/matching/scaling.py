"""A master dark scaled to lights of a shorter exposure: where a person agreed, and never as the first choice.

What a dark has above a bias of the same settings is dark current, which grows evenly with time. Of the longer dark as much
is taken as the lights have; the pedestal is the bias's own. Only from long to short: what is stretched is stretched with its
noise. A sensor whose electronics glow is no case for it (`too_much_glow`), since a glow does not grow evenly.
"""

from __future__ import annotations

import math
from dataclasses import replace

from grayshelf.core.digits import significant
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.costs import background_noise_e, stack_noise_e
from grayshelf.core.matching.judge import judge_bias
from grayshelf.core.matching.model import Candidate, Holding, Scaling, Verdict
from grayshelf.core.matching.pedestal import added_adu
from grayshelf.core.matching.rank import rank
from grayshelf.core.matching.stock import Role, Stock, Wanted


def scaled(wanted: Wanted, dark: Holding, stock: Stock) -> Candidate | str:
    """How a dark does for lights once it is scaled to them; why it cannot be, as the end of a sentence.

    Parameters
    ----------
    wanted
        The dark of lights.
    stock
        Among which the bias is that it takes.
    """
    assert wanted.role is Role.DARK
    reason = _not_to_be_scaled(wanted, dark)
    if reason:
        return reason
    taken = _bias_for(wanted, dark, stock)
    if taken is None:
        return "no master bias of its settings is on the shelf"
    bias = taken.holding
    from_s, to_s = dark.settings.exposure_s or 0.0, wanted.settings.exposure_s or 0.0
    scaling = Scaling(bias.key, from_s, to_s)
    as_scaled = replace(
        dark,
        settings=replace(dark.settings, exposure_s=to_s),
        noise_e=_noise_e(wanted, dark, bias, scaling.share),
        level_adu=_level_adu(dark, bias, scaling.share),
        care=(*dark.care, care_of_scaled(from_s, to_s), *(f"its bias: {reason}" for reason in taken.reasons)),
    )
    found = wanted.judge(as_scaled)
    if found.verdict is Verdict.NOTHING:
        return "; ".join(found.reasons)
    return replace(found, holding=dark, scaling=scaling)


def care_of_scaled(from_s: float, to_s: float | None) -> str:
    """Why a scaled dark is used with care; exposures in seconds."""
    to = "" if to_s is None else f" to {to_s:g} s"
    return f"scaled from {from_s:g} s{to}, not shot"


def too_much_glow(wanted: Wanted, glow_adu: float) -> str:
    """Why a dark is not scaled whose sensor glows; empty where that cannot matter.

    How a glow grows is not known. As long as all of it is less than what a mismatch may cost the lights, it need not be.

    Parameters
    ----------
    glow_adu
        At its brightest, in the scaled dark.
    """
    terms = wanted.terms
    glow_e = glow_adu * terms.traits.electrons_per_adu
    background_e = background_noise_e(wanted.settings, terms.traits, terms.lights)
    if glow_e <= terms.tolerances.mismatch_share * background_e:
        return ""
    return (
        f"this sensor glows, by {significant(glow_adu, 2)} ADU at the edge in an exposure as long as the lights’. A glow does "
        "not grow evenly with time, so a scaled dark would leave part of it in them"
    )


def _not_to_be_scaled(wanted: Wanted, dark: Holding) -> str:
    light_s, dark_s = wanted.settings.exposure_s, dark.settings.exposure_s
    if not dark.is_master:
        return "it is loose frames: combine them first"
    if dark.spoiled or dark.empty:
        return "; ".join(dark.care)
    if dark.scaled_from_s is not None:
        return "it was scaled before"
    if not light_s or not dark_s:
        return "its exposure or that of the lights is not known"
    if "exposure" in wanted.settings.from_name | dark.settings.from_name:
        return "its exposure or that of the lights is only in a file’s name"
    if dark_s <= light_s * (1.0 + wanted.terms.tolerances.dark_exposure_percent / 100.0):
        return "only a longer dark is scaled, since its noise would grow with it"
    return ""


def _bias_for(wanted: Wanted, dark: Holding, stock: Stock) -> Candidate | None:
    """The best master bias of the dark's own settings, all of which are known."""
    of_dark = Wanted(Role.BIAS, dark.settings, wanted.terms)
    judged = [
        judge_bias(dark.settings, bias, wanted.terms)
        for bias in stock.of(FrameKind.BIAS)
        if bias.is_master and not of_dark.not_the_same_sensor(bias.settings)
    ]
    fitting = [
        c
        for c in judged
        if c.verdict is not Verdict.NOTHING
        and not any(c.doubts)
        and not c.holding.spoiled
        and added_adu(c.holding.pedestal_adu) == added_adu(dark.pedestal_adu)
    ]
    return min(fitting, key=rank) if fitting else None


def _noise_e(wanted: Wanted, dark: Holding, bias: Holding, share: float) -> float:
    """Noise of the scaled dark, electrons: ``√((s·σ_D)² + ((1 − s)·σ_B)²)`` with share s and the noise of dark and bias, which
    are independent."""
    of_dark, of_bias = (stack_noise_e(h.settings, h, wanted.terms.traits) for h in (dark, bias))
    return math.hypot(share * of_dark, (1.0 - share) * of_bias)


def _level_adu(dark: Holding, bias: Holding, share: float) -> float | None:
    if dark.level_adu is None or bias.level_adu is None:
        return None
    return bias.level_adu + share * (dark.level_adu - bias.level_adu)
