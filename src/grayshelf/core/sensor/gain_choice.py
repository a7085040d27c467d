"""Gains side by side: unity gain, where the sensor switches its conversion, and which gain to use for what."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

#: A drop of read noise by more than this between neighbouring gains is a switch of conversion (common practice).
SWITCH_DROP = 0.25
#: Gains whose e⁻/ADU differ by less than this factor tell no trend of the read noise.
TREND_OVER = 1.4
#: Broad band: the gain just after a switch, if it costs less dynamic range than this.
SWITCH_COSTS_AT_MOST = 0.5
#: Narrow band: the lowest gain whose read noise is within this of the best.
NEAR_BEST = 0.10


@dataclass(frozen=True)
class GainFigures:
    """One gain's numbers, as far as they are known."""

    gain: float
    e_per_adu: float
    read_noise_e: float
    capacity_e: float | None
    sample_step: int = 1

    @property
    def stops(self) -> float | None:
        """Dynamic range."""
        return math.log2(self.capacity_e / self.read_noise_e) if self.capacity_e else None


@dataclass(frozen=True)
class Suggestion:
    """A gain to use, why, and what the next best would cost."""

    purpose: str
    gain: float
    reason: str
    runner_up: str


@dataclass(frozen=True)
class GainChoice:
    """What several gains say together."""

    unity_gain: float | None
    unity_note: str
    switch: ConversionSwitch | None
    """Between two settings the read noise drops."""
    suggestions: tuple[Suggestion, ...]


def choose_gain(figures: Sequence[GainFigures], word: str = "gain") -> GainChoice:
    """Compare gains.

    Parameters
    ----------
    figures
        One for each gain setting, any order.
    word
        What this camera calls it: 'gain' or 'ISO'.
    """
    rows = sorted(figures, key=lambda f: f.gain)
    unity, note = _unity(rows, word)
    switch = conversion_switch(rows)
    suggestions: tuple[Suggestion, ...] = ()
    if len(rows) >= 2:
        suggestions = tuple(s for s in (_broad(rows, switch, word), _narrow(rows, word)) if s is not None)
    return GainChoice(unity, note, switch, suggestions)


@dataclass(frozen=True)
class ConversionSwitch:
    """A drop of the read noise that the trend of the other gains does not explain."""

    below: float
    above: float
    certain: bool
    """False: too few gains were measured to tell a switch from a steep fall. It is a question, not a statement."""


def conversion_switch(rows: Sequence[GainFigures]) -> ConversionSwitch | None:
    """Where the read noise drops by more than a quarter beyond what the other gains let one expect.

    Read noise falls with the gain on any sensor: what the converter adds is fewer electrons, so RN² = a² + b²·g² with
    g in e⁻/ADU, a from before the converter and b from it. Over a wide step that alone may halve it. So the gains on one
    side of a step, fitted by that curve, are carried over to the other: only what they do not explain is a switch.
    """
    known = [r for r in rows if r.read_noise_e > 0 and r.e_per_adu > 0]
    found: list[tuple[float, ConversionSwitch]] = []
    for i, (a, b) in enumerate(zip(known, known[1:], strict=False)):
        left, right = known[: i + 1], known[i + 1 :]
        drops = []
        if _tells_a_trend(left):
            drops.append(1.0 - b.read_noise_e / _carried_over(left, b.e_per_adu))
        if _tells_a_trend(right):
            drops.append(1.0 - _carried_over(right, a.e_per_adu) / a.read_noise_e)
        # Without a trend: more than all of it being the converter's is a switch, less may be one.
        alone = 1.0 - b.read_noise_e / a.read_noise_e
        steeper = 1.0 - (b.read_noise_e / a.read_noise_e) / min(b.e_per_adu / a.e_per_adu, 1.0)
        beyond = min(drops) if drops else alone
        if beyond > SWITCH_DROP and alone > SWITCH_DROP:
            certain = bool(drops) or steeper > SWITCH_DROP
            found.append((beyond, ConversionSwitch(a.gain, b.gain, certain)))
    return max(found, key=lambda item: item[0])[1] if found else None


def _tells_a_trend(rows: Sequence[GainFigures]) -> bool:
    """Whether gains lie far enough apart for a curve through them to be carried on."""
    conversions = [r.e_per_adu for r in rows]
    return max(conversions) >= TREND_OVER * min(conversions)


def _carried_over(rows: Sequence[GainFigures], e_per_adu: float) -> float:
    """Read noise at another conversion by the curve through these gains, each weighing by its share."""
    noise = np.array([r.read_noise_e for r in rows])
    curve = np.array([[1.0, r.e_per_adu**2] for r in rows]) / noise[:, None] ** 2
    # Loaded when it is needed: it takes as long as the rest of a start.
    from scipy.optimize import nnls

    (before, converter), _ = nnls(curve, np.ones(len(rows)))
    return math.sqrt(max(before + converter * e_per_adu**2, 1e-12))


def _unity(rows: Sequence[GainFigures], word: str) -> tuple[float | None, str]:
    """The setting at which one native step of the converter is one electron."""
    native = [(f.gain, math.log(f.e_per_adu * f.sample_step)) for f in rows if f.e_per_adu > 0]
    step = rows[0].sample_step if rows else 1
    unit = "16-bit ADU" if step == 1 else f"native steps of {step} ADU"
    for (g0, l0), (g1, l1) in zip(native, native[1:], strict=False):
        if l0 >= 0 > l1 or l1 >= 0 > l0:
            return g0 + (g1 - g0) * l0 / (l0 - l1), f"one electron to one step, counted in {unit}"
    if not native:
        return None, ""
    if all(level < 0 for _, level in native):
        return None, f"below {word} {native[0][0]:g}: even there one step is less than an electron, in {unit}"
    return None, f"above {word} {native[-1][0]:g}: even there one step is more than an electron, in {unit}"


def _broad(rows: Sequence[GainFigures], switch: ConversionSwitch | None, word: str) -> Suggestion | None:
    known = sorted(((f.stops, f) for f in rows if f.stops is not None), key=lambda item: -item[0])
    if len(known) < 2:
        return None
    (most, best), (less, second) = known[:2]
    certain = switch is not None and switch.certain
    for stops, after in known[1:] if certain else ():
        if switch is not None and after.gain == switch.above and most - stops < SWITCH_COSTS_AT_MOST:
            return _after_the_switch(after, best, most - stops, word)
    return Suggestion(
        "Broad band",
        best.gain,
        f"The greatest dynamic range, {most:.1f} stops.",
        f"{_capital(word)} {second.gain:g} costs {most - less:.1f} stops "
        f"of range, with read noise {second.read_noise_e:.1f} in place of {best.read_noise_e:.1f} e⁻.",
    )


def _after_the_switch(after: GainFigures, best: GainFigures, lost_stops: float, word: str) -> Suggestion:
    return Suggestion(
        "Broad band",
        after.gain,
        f"Just after the switch: read noise {after.read_noise_e:.1f} e⁻ for {lost_stops:.1f} stops less range "
        f"than {word} {best.gain:g}.",
        f"{_capital(word)} {best.gain:g} has {lost_stops:.1f} stops more range, and "
        f"{best.read_noise_e / after.read_noise_e:.1f} times the read noise.",
    )


def _capital(word: str) -> str:
    """'Gain' at the beginning of a sentence; ISO as it is."""
    return word.capitalize() if word == "gain" else word


def _narrow(rows: Sequence[GainFigures], word: str) -> Suggestion:
    least = min(f.read_noise_e for f in rows)
    chosen = next(f for f in rows if f.read_noise_e <= (1.0 + NEAR_BEST) * least)
    others = [f for f in rows if f is not chosen]
    below = [f for f in others if f.gain < chosen.gain]
    named = _capital(word)
    if below:
        second = below[-1]
        cost = (
            f"{named} {second.gain:g} has {second.read_noise_e / chosen.read_noise_e:.1f} times the read noise"
            f"{_more_range(second, chosen)}."
        )
    else:
        second = others[0]
        cost = f"{named} {second.gain:g} saves {100 * (1 - second.read_noise_e / chosen.read_noise_e):.0f} % of read noise{_less_range(second, chosen)}."
    at_best = "the least" if chosen.read_noise_e == least else f"within a tenth of the least, {least:.2f} e⁻"
    return Suggestion(
        "Narrow band",
        chosen.gain,
        f"The lowest {word} whose read noise, {chosen.read_noise_e:.2f} e⁻, is {at_best}.",
        cost,
    )


def _more_range(second: GainFigures, chosen: GainFigures) -> str:
    if second.stops is None or chosen.stops is None:
        return ""
    gained = second.stops - chosen.stops
    return f", {abs(gained):.1f} stops {'more' if gained >= 0 else 'less'} range"


def _less_range(second: GainFigures, chosen: GainFigures) -> str:
    if second.stops is None or chosen.stops is None:
        return ""
    lost = chosen.stops - second.stops
    return f" and costs {lost:.1f} stops of range" if lost > 0 else ""
