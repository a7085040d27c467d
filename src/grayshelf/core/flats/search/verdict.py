"""Saying no: which way the light is off, by how many stops, and what would help."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

from grayshelf.core.flats.model import Bound, NoAnswer, Pedestal, TestShot


def level_range(
    pedestal: Pedestal | None, shots: Sequence[TestShot], white_adu: float
) -> tuple[float, float]:
    """Between which levels, ADU, the pedestal lies: what is known of it, else from zero to the darkest frame seen."""
    lowest = min(s.level_adu for s in shots)
    if pedestal is not None:
        least = pedestal.adu - pedestal.uncertainty_adu
        return max(min(least, lowest - 1.0), 0.0), min(pedestal.adu + pedestal.uncertainty_adu, lowest)
    return 0.0, min(lowest, 0.05 * white_adu)


def unsteady(bound: Bound, shots: Sequence[TestShot]) -> NoAnswer:
    """The shots contradict one another."""
    return NoAnswer(
        "unsteady",
        0.0,
        False,
        bound,
        f"{len(shots)} test shots do not lie on one line: the light is not steady.",
        "Let the panel warm up, keep other light away, and try again.",
    )


def too_coarse(
    dim: tuple[Bound, int, float], bright: tuple[Bound, int, float], target_adu: float
) -> NoAnswer:
    """Two neighbouring brightness values lie on both sides of the target, and neither near enough.

    Parameters
    ----------
    dim, bright
        The exposure that brings each nearest, the brightness, and the level it gives in ADU.
    """
    (longest, low, below), (shortest, high, above) = dim, bright
    nearest = min((below, above), key=lambda level: abs(level - target_adu))
    if longest == shortest:
        where = f"At {longest.exposure_s:g} s, brightness {low} gives {below:,.0f} ADU and {high} gives {above:,.0f}"
        advice = "Let the exposure be found too, or widen the tolerance."
    else:
        where = (
            f"Brightness {low} gives {below:,.0f} ADU even at {longest.exposure_s:g} s ({longest.reason}), and {high} "
            f"gives {above:,.0f} ADU even at {shortest.exposure_s:g} s ({shortest.reason})"
        )
        advice = "Permit shorter or longer exposures, or widen the tolerance."
    return NoAnswer(
        "too coarse",
        abs(math.log2(max(nearest, 1.0) / target_adu)),
        False,
        shortest,
        f"{where}: neither is within the tolerance, and the panel has nothing between them.",
        advice,
        low,
        nearest,
    )


def _where(bound: Bound, brightness: int | None, which: str, end: str) -> str:
    if brightness is None:
        return f"At {bound.exposure_s:g} s, the {which} permitted ({bound.reason}),"
    return f"At brightness {brightness}, the panel's {end}, and {bound.exposure_s:g} s ({bound.reason}),"


def stays(no: NoAnswer, bound: Bound) -> NoAnswer:
    """The same no, said of a brightness that was not to be changed: only the time was looked for."""
    if no.direction not in ("too bright", "too dim") or no.brightness is None:
        return no
    end, which = ("lowest", "shortest") if no.direction == "too bright" else ("highest", "longest")
    said = _where(bound, no.brightness, which, end)
    at = f"At brightness {no.brightness}, which stays, and {bound.exposure_s:g} s, the {which} permitted ({bound.reason}),"
    return replace(no, message=no.message.replace(said, at))


def too_bright(
    bound: Bound,
    brightness: int | None,
    level_at_bound: float,
    target_adu: float,
    pedestal_adu: float,
    at_least: bool,
    scale: float = 1.0,
) -> NoAnswer:
    """The dimmest permitted setting is too bright.

    Parameters
    ----------
    level_at_bound
        Of a shot at the bound, or at the same brightness `scale` times shorter.
    """
    factor = max((level_at_bound - pedestal_adu) * scale / max(target_adu - pedestal_adu, 1.0), 1.0)
    stops, least = math.log2(factor), "at least " if at_least else ""
    return NoAnswer(
        "too bright",
        stops,
        at_least,
        bound,
        f"{_where(bound, brightness, 'shortest', 'lowest')} the level is {least}{_times(factor)} too high. "
        "Flats shot like this would be clipped or unusable.",
        f"Add {least}{stops:.1f} stops of diffuser, or dim the source.",
        brightness,
        pedestal_adu + factor * (target_adu - pedestal_adu),
    )


def too_dim(
    bound: Bound,
    brightness: int | None,
    level_at_bound: float,
    target_adu: float,
    pedestal_adu: float,
    at_least: bool,
    *,
    none_seen: bool = False,
) -> NoAnswer:
    """The brightest permitted setting is too dim.

    Parameters
    ----------
    none_seen
        No shot stood clear of the pedestal: it may be that no light reached the sensor at all.
    """
    factor = max((target_adu - pedestal_adu) / max(level_at_bound - pedestal_adu, 1e-9), 1.0)
    stops, least = math.log2(factor), "at least " if at_least else ""
    advice = (
        f"take off {least}{stops:.1f} stops of diffuser, brighten the source, or permit longer exposures."
    )
    return NoAnswer(
        "too dim",
        stops,
        at_least,
        bound,
        f"{_where(bound, brightness, 'longest', 'highest')} "
        f"{'hardly any light reaches the sensor: ' if none_seen else ''}"
        f"the level is {least}{_times(factor)} too low.",
        f"See that the light is on and nothing else is before the telescope. If so: {advice}"
        if none_seen
        else f"{advice[:1].upper()}{advice[1:]}",
        brightness,
        level_at_bound,
    )


def _times(factor: float) -> str:
    """A factor with as many digits as it is good for: '3.0 times', '2,900 times'."""
    return f"{factor:.1f} times" if factor < 100.0 else f"{float(f'{factor:.2g}'):,.0f} times"


#: Beyond these, widening a bound helps nobody: no camera exposes so short, no night is so long.
SHORTEST_WORTH_S, LONGEST_WORTH_S = 0.001, 600.0


def widened(no: NoAnswer) -> float | None:
    """The bound that would let the target be reached, in seconds with two digits; None where that is no help.

    A little beyond what is missing, so that the rounding does not bring it back inside.
    """
    if no.at_least:
        return None
    if no.direction == "too bright":
        shorter = _two_digits(no.bound.exposure_s / 2.0**no.stops * 0.97, math.floor)
        return shorter if shorter >= SHORTEST_WORTH_S else None
    if no.direction == "too dim":
        longer = _two_digits(no.bound.exposure_s * 2.0**no.stops * 1.05, math.ceil)
        return longer if longer <= LONGEST_WORTH_S else None
    return None


def _two_digits(value: float, towards: Callable[[float], int]) -> float:
    """A number with two digits that lies on the side of `value` that `math.floor` or `math.ceil` goes to."""
    scale = 10.0 ** (math.floor(math.log10(value)) - 1)
    return float(f"{towards(value / scale) * scale:.2g}")
