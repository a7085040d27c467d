"""Choosing, for a set of lights, the dark, flat, dark flat and bias that fit, and saying why.

How one holding does is said in `judge`, in which order they stand in `rank`; here the slip is written from both, so
that the same shelf always gives the same slip.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from grayshelf.core.frames.angle import circular_difference
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching import rulers
from grayshelf.core.matching.judge import (
    Terms,
    judge_bias,
    judge_dark,
    judge_dark_flat,
    judge_flat,
    not_the_same_sensor,
)
from grayshelf.core.matching.model import Candidate, CommonSettings, Holding, PullSlip, SlipLine, Verdict
from grayshelf.core.matching.parts import questions
from grayshelf.core.matching.rank import ORDER, lost_on, rank

#: Runners-up that are told of in a line.
MOST_RUNNERS_UP = 5
#: Flats shorter than this may do with a bias in place of a dark flat (common practice).
BIAS_STANDS_IN_BELOW_S = 5.0


def choose(
    kind: FrameKind, holdings: Iterable[Holding], want: CommonSettings, judge: Callable[[Holding], Candidate]
) -> SlipLine:
    """Judge all holdings of one camera and pick the best; the rest are runners-up with their reasons."""
    judged = sorted((judge(h) for h in holdings if not not_the_same_sensor(want, h.settings)), key=rank)
    fitting = [c for c in judged if c.verdict is not Verdict.NOTHING]
    chosen = fitting[0] if fitting else None
    others = tuple(c for c in judged if c is not chosen)[:MOST_RUNNERS_UP]
    verdict = chosen.verdict if chosen else Verdict.NOTHING
    return SlipLine(kind, verdict, chosen, others, tuple(lost_on(chosen, c) for c in others))


def pull_slip(
    want: CommonSettings,
    holdings: Sequence[Holding],
    terms: Terms = Terms(),
    *,
    calibrated: bool = False,
    pedestal_adu: float | None = None,
) -> PullSlip:
    """Write the pull slip of a light set.

    Parameters
    ----------
    want
        The settings of the lights.
    holdings
        Everything on the shelf; cameras never mix, so others are simply passed over.
    terms
        Tolerances, what is known of the sensor and the lights, and what was done to and said of the rig.
    calibrated
        Whether the lights were calibrated before they came in; then nothing is pulled for them.
    pedestal_adu
        A level that was added to the lights after they were taken, as their header has it.
    """
    if calibrated:
        return PullSlip(
            (), Verdict.NOTHING, ("These lights are already calibrated: nothing is taken off them again.",)
        )
    of = {kind: [h for h in holdings if h.kind is kind] for kind in FrameKind}
    dark = choose(FrameKind.DARK, of[FrameKind.DARK], want, lambda h: judge_dark(want, h, terms))
    several = _several_focal_lengths(want, of[FrameKind.FLAT], terms)
    terms = replace(terms, several_focal_lengths=several)
    flats = [h for h in of[FrameKind.FLAT] if not _another_filter(want, h, terms)]
    flat = choose(FrameKind.FLAT, flats, want, lambda h: judge_flat(want, h, terms))
    lines = [dark, flat, pedestal_line(flat, of, terms)]
    worst = max((line.verdict for line in lines if line.waits_for is None), key=lambda v: ORDER[v])
    warnings: tuple[str, ...] = ()
    if pedestal_adu:
        warnings = (
            f"A pedestal of {pedestal_adu:g} ADU was added to these lights: take it off with the dark.",
        )
    asked = questions(want, lines, terms.says, bias_at_hand=_bias_fits(flat, of, terms))
    return PullSlip(tuple(lines), worst, warnings, asked)


def _bias_fits(flat: SlipLine, of: dict[FrameKind, list[Holding]], terms: Terms) -> bool:
    if flat.chosen is None:
        return False
    return _bias_line(flat.chosen.holding.settings, of, terms).chosen is not None


def _several_focal_lengths(want: CommonSettings, flats: Sequence[Holding], terms: Terms) -> bool:
    """Whether the telescope of the lights carries more than one reducer, as far as the shelf tells."""
    lengths = sorted(
        f
        for h in flats
        if (f := h.settings.focal_length_mm) is not None
        and rulers.plain_name(h.settings.telescope) == rulers.plain_name(want.telescope)
    )
    apart = 1.0 + terms.tolerances.focal_length_percent / 100.0
    return bool(lengths) and lengths[-1] > lengths[0] * apart


def _another_filter(want: CommonSettings, holding: Holding, terms: Terms) -> bool:
    """Flats known to be of another filter are not even runners-up; unnamed ones are, as the last resort."""
    ruler = rulers.same_name("filter", want.filter_code, holding.settings.filter_code)
    return "filter" not in terms.says.fixed and not ruler.unknown and not ruler.inside


def pedestal_line(flat: SlipLine, of: dict[FrameKind, list[Holding]], terms: Terms) -> SlipLine:
    """The line of what takes the flat's pedestal off: its dark flat, or the bias that stands in.

    Flats of the sky take a bias: no exposure fits all. Elsewhere a bias stands in only where the rig's owner said
    that it will do: what a set needs stays a gap until it is there.
    """
    if flat.chosen is None:
        return SlipLine(
            FrameKind.DARK_FLAT, Verdict.NOTHING, None, (), (), "waits for the flat", FrameKind.FLAT
        )
    chosen = flat.chosen.holding
    settings = chosen.settings
    dark_flat = choose(
        FrameKind.DARK_FLAT,
        of[FrameKind.DARK_FLAT] + of[FrameKind.DARK],
        settings,
        lambda h: judge_dark_flat(settings, h, terms),
    )
    if chosen.pedestal_taken_off:
        return _taken_off(chosen, dark_flat, terms)
    if settings.exposures_differ:
        note = "each flat of the sky has an exposure of its own: a bias is taken off"
        return replace(_bias_line(settings, of, terms), note=note)
    if dark_flat.chosen is not None or not terms.says.bias_will_do:
        return dark_flat
    bias = _bias_line(settings, of, terms)
    if bias.chosen is None:
        return dark_flat
    long = (settings.exposure_s or math.inf) > BIAS_STANDS_IN_BELOW_S
    note = "stands in for the dark flat, as your house rule says"
    if long and bias.verdict is Verdict.FITS:
        seconds = "of unknown length" if settings.exposure_s is None else f"of {settings.exposure_s:g} s"
        reason = f"the flat {seconds} has dark current of its own, which a bias leaves in"
        chosen_bias = replace(bias.chosen, verdict=Verdict.CARE, reasons=(reason,))
        return replace(bias, verdict=Verdict.CARE, chosen=chosen_bias, note=note)
    return replace(bias, note=note)


def _taken_off(chosen: Holding, dark_flat: SlipLine, terms: Terms) -> SlipLine:
    """The line of a master flat whose pedestal is gone already: it needs nothing more."""
    if not chosen.pedestal_is_bias and not chosen.settings.exposures_differ:
        note = "already taken off in the master flat"
        return replace(
            dark_flat, verdict=Verdict.FITS if dark_flat.chosen is None else dark_flat.verdict, note=note
        )
    if chosen.settings.exposures_differ or terms.says.bias_will_do:
        return SlipLine(
            FrameKind.BIAS, Verdict.FITS, None, (), (), "a bias is already taken off in the master flat"
        )
    note = "a bias was taken off in the master flat, where a dark flat was wanted"
    return replace(dark_flat, verdict=Verdict.CARE, chosen=None, note=note)


def _bias_line(settings: CommonSettings, of: dict[FrameKind, list[Holding]], terms: Terms) -> SlipLine:
    return choose(FrameKind.BIAS, of[FrameKind.BIAS], settings, lambda h: judge_bias(settings, h, terms))


def gap_key(kind: FrameKind, want: CommonSettings) -> tuple[object, ...]:
    """What one missing master is, but for the angle: see `same_gap`."""
    common = (kind.value, want.camera, want.width, want.height, want.binning, want.gain, want.offset)
    if kind is FrameKind.DARK:
        temp = None if want.sensor_temp_c is None else round(want.sensor_temp_c)
        return (*common, want.exposure_s, temp)
    if kind is FrameKind.DARK_FLAT:
        return (*common, want.exposure_s)
    focal = None if want.focal_length_mm is None else round(want.focal_length_mm)
    return (*common, want.telescope, focal, want.filter_code, want.night)


def same_gap(kind: FrameKind, one: CommonSettings, other: CommonSettings, angle_tolerance_deg: float) -> bool:
    """Whether lights of these settings wait for the same master.

    Angles are held against one another, not sorted into whole degrees: flats serve all lights that are near enough.
    """
    if gap_key(kind, one) != gap_key(kind, other):
        return False
    if kind is not FrameKind.FLAT:
        return True
    if one.angle is None or other.angle is None:
        return one.angle is other.angle
    if one.angle.of != other.angle.of:
        return False
    return abs(circular_difference(one.angle.deg, other.angle.deg)) <= angle_tolerance_deg
