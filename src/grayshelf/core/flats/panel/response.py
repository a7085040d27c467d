"""How a panel's light follows its brightness: monotone, not straight, the same for all filters up to a factor."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np

from grayshelf.core.flats.model import Dimmer

#: What is taken of a panel nobody measured: output grows with this power of the brightness …
USUAL_EXPONENT = 1.4
#: … above a point half way up to the lowest brightness at which it is lit.
USUAL_ZERO = 0.5
#: Spread, in each e-fold of output, of what panels do about that assumption; and about a measured curve.
SPREAD_ASSUMED = 0.25
SPREAD_MEASURED = 0.012
#: A measured rate repeats to this share.
RATE_ERROR = 0.01


class LightPath(NamedTuple):
    """The way of a light to the numbers of a frame: rates along one way go as the panel does."""

    filter_code: str
    gain: float
    binning: int
    telescope: str = ""
    """Of another rig; empty for the one that is asked for."""


@dataclass(frozen=True)
class ResponsePoint:
    """One measured rate: ADU a second above the pedestal, in one group (mostly a `LightPath`)."""

    group: Hashable
    brightness: int
    rate: float


@dataclass(frozen=True)
class PanelResponse:
    """Output of a panel against its brightness, relative to the highest."""

    dimmer: Dimmer
    exponent: float
    zero_at: float
    knots: tuple[tuple[int, float], ...] = ()
    """Measured brightness values, and how far the log of the output lies off the power law there."""

    @property
    def measured(self) -> bool:
        """Whether anything of it was measured."""
        return len(self.knots) > 1

    def log_output(self, brightness: float) -> float:
        """Natural log of the output, 0 at the highest brightness."""
        return self._law(brightness) + self._off(brightness) - self._off_highest

    def _law(self, brightness: float) -> float:
        top = self.dimmer.highest - self.zero_at
        return self.exponent * math.log(max(brightness - self.zero_at, 1e-3) / top)

    @cached_property
    def _off_highest(self) -> float:
        return self._off(self.dimmer.highest)

    @cached_property
    def _between(self) -> Callable[[float], float]:
        """How far the output lies off the law, by where the law is: asked for often, so it is made once."""
        at = [self._law(b) for b, _ in self.knots]
        off = [r for _, r in self.knots]
        if len(at) < 3:
            return lambda law: float(np.interp(law, at, off))
        # Loaded when it is needed: it takes as long as the rest of a start.
        from scipy.interpolate import PchipInterpolator

        curve = PchipInterpolator(at, off)
        return lambda law: float(curve(min(max(law, at[0]), at[-1])))

    def _off(self, brightness: float) -> float:
        return self._between(self._law(brightness)) if self.knots else 0.0

    def brightness_for(self, log_output: float) -> float:
        """The brightness, not rounded, that gives an output; the ends of the range where it is beyond."""
        low, high = float(self.dimmer.lowest), float(self.dimmer.highest)
        if log_output <= self.log_output(low):
            return low
        if log_output >= self.log_output(high):
            return high
        while high - low > 0.01:
            middle = (low + high) / 2.0
            if self.log_output(middle) < log_output:
                low = middle
            else:
                high = middle
        return (low + high) / 2.0

    def spread(self, brightness: float) -> float:
        """Uncertainty of the output for each e-fold away from what was measured."""
        if not self.measured:
            return SPREAD_ASSUMED
        inside = self.knots[0][0] <= brightness <= self.knots[-1][0]
        return SPREAD_MEASURED if inside and len(self.knots) > 3 else 0.06


def assumed_response(dimmer: Dimmer) -> PanelResponse:
    """What to take of a panel that nobody measured: ``output ∝ (brightness − ½·lowest)^1.4`` (common practice: dimmable
    panels follow powers of 1 to 2), in numbers of its dial. The uncertainty is `SPREAD_ASSUMED` in each e-fold, some 25 %.
    """
    return PanelResponse(dimmer, USUAL_EXPONENT, USUAL_ZERO * dimmer.lowest)


def fit_response(points: Sequence[ResponsePoint], dimmer: Dimmer) -> PanelResponse:
    """The response through measured rates, whatever filters they were measured in.

    A power law above a point of no light, ``ln rate = a_group + p·ln((b − b₀) / (b_max − b₀))``, is fitted by least squares
    with each group's factor ``a`` left free; what the rates lie off it is interpolated by a monotone cubic (PCHIP), so that
    any monotone response is followed.

    Parameters
    ----------
    points
        Rates in ADU a second. At least two brightness values in some group, else the usual response is what comes back.
    """
    groups: dict[Hashable, list[ResponsePoint]] = defaultdict(list)
    for point in points:
        if point.rate > 0:
            groups[point.group].append(point)
    telling = [p for members in groups.values() if len({m.brightness for m in members}) > 1 for p in members]
    if not telling:
        return assumed_response(dimmer)
    best = min(
        (_fit_law(telling, dimmer, share * dimmer.lowest) for share in np.linspace(0.0, 0.95, 39)),
        key=lambda fit: fit[0],
    )
    _, exponent, zero, factors = best
    law = PanelResponse(dimmer, exponent, zero)
    off: dict[int, list[float]] = defaultdict(list)
    for p in telling:
        off[p.brightness].append(math.log(p.rate) - factors[p.group] - law.log_output(p.brightness))
    knots = tuple((b, float(np.mean(values))) for b, values in sorted(off.items()))
    return PanelResponse(dimmer, exponent, zero, knots)


def _fit_law(
    points: Sequence[ResponsePoint], dimmer: Dimmer, zero: float
) -> tuple[float, float, float, dict[Hashable, float]]:
    """Badness, exponent, point of no light and log factors of the groups, for one point of no light."""
    names = list(dict.fromkeys(p.group for p in points))
    rows, values = [], []
    for p in points:
        row = [0.0] * (1 + len(names))
        row[0] = math.log((p.brightness - zero) / (dimmer.highest - zero))
        row[1 + names.index(p.group)] = 1.0
        rows.append([x / RATE_ERROR for x in row])
        values.append(math.log(p.rate) / RATE_ERROR)
    # What panels usually do counts as a weak measurement, so that two points are enough for an answer.
    rows.append([1.0 / 0.4, *([0.0] * len(names))])
    values.append(USUAL_EXPONENT / 0.4)
    a, y = np.array(rows), np.array(values)
    solution = np.linalg.lstsq(a, y, rcond=None)[0]
    shape = (zero / max(dimmer.lowest, 1) - USUAL_ZERO) / 0.35
    badness = float(np.sum((a @ solution - y) ** 2)) + shape**2
    factors = {name: float(solution[1 + i]) for i, name in enumerate(names)}
    return badness, max(float(solution[0]), 0.05), zero, factors


def log_factor(response: PanelResponse, points: Sequence[ResponsePoint]) -> float | None:
    """Natural log of a group's rate (ADU a second) at the highest brightness: the median of ``ln rate − ln output(b)`` over
    its points; None where it has none.
    """
    logs = [math.log(p.rate) - response.log_output(p.brightness) for p in points if p.rate > 0]
    return float(np.median(logs)) if logs else None


def ladder(dimmer: Dimmer, count: int = 6) -> tuple[int, ...]:
    """Brightness values at which a response is measured: even steps of output, as panels usually go."""
    usual = assumed_response(dimmer)
    low = usual.log_output(dimmer.lowest)
    values = {round(usual.brightness_for(low * (1.0 - i / (count - 1)))) for i in range(count)}
    return tuple(sorted(values))


def change_since(
    old: Sequence[ResponsePoint], new: Sequence[ResponsePoint], dimmer: Dimmer
) -> tuple[float, float] | None:
    """How the light changed between two measurements of one panel: (typical, spread over filters), as shares.

    ``new / old − 1`` for each filter that was measured both times: −0.08 means that it has faded by 8 %. None where none was.
    """
    responses = fit_response(old, dimmer), fit_response(new, dimmer)
    changes = []
    for group in {p.group for p in old} & {p.group for p in new}:
        factors = [
            [math.log(p.rate) - responses[0].log_output(p.brightness) for p in side if p.group == group]
            for side in (old, new)
        ]
        changes.append(math.exp(float(np.median(factors[1]) - np.median(factors[0]))) - 1.0)
    if not changes:
        return None
    return float(np.median(changes)), float(max(changes) - min(changes)) / 2.0
