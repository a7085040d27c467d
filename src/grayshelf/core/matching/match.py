"""Choosing, for a set of lights, the dark, flat, dark flat and bias that fit, and saying why.

How one holding does is said in `judge`, in which order they stand in `rank`; here the slip is written from both, so
that the same shelf always gives the same slip.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from grayshelf.core.frames.angle import told_apart_deg
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.by_choice import with_choice, with_scaled
from grayshelf.core.matching.cameras_alike import WARNING
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.model import Candidate, CommonSettings, Holding, PullSlip, SlipLine, Verdict
from grayshelf.core.matching.parts import questions
from grayshelf.core.matching.pedestal import pedestal_left
from grayshelf.core.matching.rank import ORDER, lost_on
from grayshelf.core.matching.stock import Role, Stock, Wanted, best_ranks, foremost

#: Runners-up that are told of in a line.
MOST_RUNNERS_UP = 5
#: Flats shorter than this may do with a bias in place of a dark flat (common practice).
BIAS_STANDS_IN_BELOW_S = 5.0

ALREADY_TAKEN_OFF = "already taken off in the master flat"


@dataclass(frozen=True)
class Asking:
    """A light set that asks for its slip."""

    want: CommonSettings
    """The settings of the lights."""
    terms: Terms = Terms()
    """Tolerances, what is known of the sensor and the lights, and what was done to and said of the rig."""
    calibrated: bool = False
    """Whether the lights were calibrated before they came in; then nothing is pulled for them."""
    pedestal_adu: float | None = None
    """A level that was added to the lights after they were taken, as their header has it."""
    by_hand: Mapping[str, str] = field(default_factory=dict)
    """What a person chose for these lights: by kind, the holding's key."""
    scaled: bool = False
    """Whether the dark that the person chose is to be scaled to the lights (`with_scaled`)."""


def choose(
    kind: FrameKind, stock: Stock, wanted: Sequence[Wanted], runners_up: int = MOST_RUNNERS_UP
) -> list[SlipLine]:
    """Pick the best of a camera's shelf for each that is wanted; what came nearest to it are runners-up.

    Where nothing fits, what came nearest is always told, however few runners-up are asked for.
    """
    rows = best_ranks(stock, wanted)
    return [
        _line(kind, foremost(row, one, 1 + runners_up), max(runners_up, 1))
        for row, one in zip(rows, wanted, strict=True)
    ]


def _line(kind: FrameKind, judged: Sequence[Candidate], most: int) -> SlipLine:
    chosen = judged[0] if judged and judged[0].verdict is not Verdict.NOTHING else None
    others = tuple(c for c in judged if c is not chosen)[:most]
    verdict = chosen.verdict if chosen else Verdict.NOTHING
    return SlipLine(kind, verdict, chosen, others, tuple(lost_on(chosen, c) for c in others))


def pull_slip(
    want: CommonSettings,
    holdings: Sequence[Holding] | Stock,
    terms: Terms = Terms(),
    *,
    calibrated: bool = False,
    pedestal_adu: float | None = None,
) -> PullSlip:
    """Write the pull slip of one light set: see `Asking` and `pull_slips`."""
    stock = holdings if isinstance(holdings, Stock) else Stock(holdings)
    return pull_slips([Asking(want, terms, calibrated, pedestal_adu)], stock)[0]


def pull_slips(asking: Sequence[Asking], stock: Stock, runners_up: int = MOST_RUNNERS_UP) -> list[PullSlip]:
    """Write the pull slips of light sets.

    Parameters
    ----------
    stock
        Everything on the shelf; cameras never mix, so others are simply passed over.
    runners_up
        How many are told of in a line, beside the one chosen.
    """
    slips = dict.fromkeys(range(len(asking)), _CALIBRATED)
    open_ones = {i: one for i, one in enumerate(asking) if not one.calibrated}
    written = _slips_of([*open_ones.values()], stock, runners_up)
    slips.update(zip(open_ones, written, strict=True))
    return [slips[i] for i in range(len(asking))]


_CALIBRATED = PullSlip(
    (), Verdict.NOTHING, ("These lights are already calibrated: nothing is taken off them again.",)
)


def _slips_of(asking: Sequence[Asking], stock: Stock, runners_up: int) -> list[PullSlip]:
    wants = [one.want for one in asking]
    terms = [with_focal_lengths(one.want, stock, one.terms) for one in asking]
    for_lights = list(zip(wants, terms, strict=True))
    for_darks, for_flats = ([Wanted(role, *one) for one in for_lights] for role in (Role.DARK, Role.FLAT))
    darks = _as_chosen(choose(FrameKind.DARK, stock, for_darks, runners_up), for_darks, asking, stock)
    flats = _as_chosen(choose(FrameKind.FLAT, stock, for_flats, runners_up), for_flats, asking, stock)
    pedestals = _pedestal_lines(flats, terms, asking, stock, runners_up)
    return [
        _slip(one, (dark, flat, pedestal), bias_at_hand)
        for one, dark, flat, (pedestal, bias_at_hand) in zip(asking, darks, flats, pedestals, strict=True)
    ]


def _as_chosen(
    lines: Sequence[SlipLine], wanted: Sequence[Wanted], asking: Sequence[Asking], stock: Stock
) -> list[SlipLine]:
    """Lines with what a person chose in place of what the shelf would choose."""
    found = []
    for line, want, one in zip(lines, wanted, asking, strict=True):
        key = one.by_hand.get(line.kind.value)
        choice = with_scaled if one.scaled and line.kind is FrameKind.DARK else with_choice
        found.append(line if key is None else choice(line, want, stock, key))
    return found


def _slip(asking: Asking, lines: tuple[SlipLine, ...], bias_at_hand: bool) -> PullSlip:
    worst = max((line.verdict for line in lines if line.waits_for is None), key=lambda v: ORDER[v])
    dark = lines[0].chosen
    left = None if dark is None else pedestal_left(asking.pedestal_adu, dark.holding.pedestal_adu)
    several = (WARNING,) if asking.terms.several_cameras else ()
    warnings = several if left is None else (*several, left)
    asked = questions(asking.want, lines, asking.terms.says, bias_at_hand=bias_at_hand)
    return PullSlip(lines, worst, warnings, asked)


def _pedestal_lines(
    flats: Sequence[SlipLine], terms: Sequence[Terms], asking: Sequence[Asking], stock: Stock, runners_up: int
) -> list[tuple[SlipLine, bool]]:
    """For each flat what takes its pedestal off, and whether a bias that fits it is at hand."""
    chosen = {i: flat.chosen.holding for i, flat in enumerate(flats) if flat.chosen is not None}
    wanted = [Wanted(Role.DARK_FLAT, flat.settings, terms[i]) for i, flat in chosen.items()]
    lines = choose(FrameKind.DARK_FLAT, stock, wanted, runners_up)
    dark_flats = dict(zip(chosen, _as_chosen(lines, wanted, [asking[i] for i in chosen], stock), strict=True))
    with_bias = [i for i, flat in chosen.items() if _may_take_bias(flat, dark_flats[i])]
    wanted = [Wanted(Role.BIAS, chosen[i].settings, terms[i]) for i in with_bias]
    biases = dict(zip(with_bias, choose(FrameKind.BIAS, stock, wanted, runners_up), strict=True))
    return [
        (pedestal_line(chosen[i], dark_flats[i], biases.get(i), terms[i]), _fits(biases.get(i)))
        if i in chosen
        else (_WAITS_FOR_FLAT, False)
        for i in range(len(flats))
    ]


_WAITS_FOR_FLAT = SlipLine(
    FrameKind.DARK_FLAT, Verdict.NOTHING, None, (), (), "waits for the flat", FrameKind.FLAT
)


def _may_take_bias(flat: Holding, dark_flat: SlipLine) -> bool:
    return not flat.pedestal_taken_off and (flat.settings.exposures_differ or dark_flat.chosen is None)


def _fits(line: SlipLine | None) -> bool:
    return line is not None and line.chosen is not None


def with_focal_lengths(want: CommonSettings, stock: Stock, terms: Terms) -> Terms:
    """The terms, with whether the telescope of the lights carries more than one reducer, as far as the shelf tells."""
    lengths = stock.focal_lengths_mm(want.telescope)
    apart = 1.0 + terms.tolerances.focal_length_percent / 100.0
    return replace(terms, several_focal_lengths=lengths is not None and lengths[1] > lengths[0] * apart)


def pedestal_line(chosen: Holding, dark_flat: SlipLine, bias: SlipLine | None, terms: Terms) -> SlipLine:
    """The line of what takes a flat's pedestal off: its dark flat, or the bias that stands in.

    Flats of the sky take a bias: no exposure fits all. Elsewhere a bias stands in only where the rig's owner said
    that it will do: what a set needs stays a gap until it is there.
    """
    settings = chosen.settings
    if chosen.pedestal_taken_off:
        return _taken_off(chosen, dark_flat, terms)
    if bias is not None and settings.exposures_differ:
        note = "each flat of the sky has an exposure of its own: a bias is taken off"
        return replace(bias, note=note)
    if bias is None or bias.chosen is None or not terms.says.bias_will_do:
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
        return replace(
            dark_flat,
            verdict=Verdict.FITS if dark_flat.chosen is None else dark_flat.verdict,
            note=ALREADY_TAKEN_OFF,
        )
    if chosen.settings.exposures_differ or terms.says.bias_will_do:
        return SlipLine(
            FrameKind.BIAS, Verdict.FITS, None, (), (), "a bias is already taken off in the master flat"
        )
    note = "a bias was taken off in the master flat, where a dark flat was wanted"
    return replace(dark_flat, verdict=Verdict.CARE, chosen=None, note=note)


def gap_key(kind: FrameKind, want: CommonSettings) -> tuple[object, ...]:
    """What one missing master is, but for the angle: see `same_gap`."""
    common = (kind.value, want.camera, want.width, want.height, want.binning, want.gain, want.offset)
    if kind is FrameKind.DARK:
        temp = None if want.sensor_temp_c is None else round(want.sensor_temp_c)
        return (*common, want.exposure_s, temp)
    if kind is FrameKind.DARK_FLAT:
        return (*common, want.exposure_s)
    focal = None if want.focal_length_mm is None else round(want.focal_length_mm)
    stop = None if want.lens_stop is None else round(want.lens_stop, 1)
    return (*common, want.telescope, focal, stop, want.filter_code, want.night)


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
    apart_deg = told_apart_deg(one.angle, other.angle)
    return apart_deg is not None and apart_deg <= angle_tolerance_deg
