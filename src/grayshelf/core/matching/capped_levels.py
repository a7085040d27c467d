"""What the level of darks says against them, whatever their headers tell: a light holds all that its dark does, and the sky.

The limits are common practice, with no published source.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import Holding

#: The pedestal of one setting may differ by so much from night to night, in ADU.
PEDESTAL_DRIFT_ADU = 15.0
#: A dark under this share of its bias has none in it: a pedestal that only drifts, or a sensor whose shortest exposures lie
#: higher, is far from that.
OF_ITS_BIAS = 0.5


def brighter_than_lights(dark_adu: float | None, lights_adu: float | None) -> tuple[str, ...]:
    """Why a dark cannot be of the lights' settings: it lies above them. Nothing where it does not, or either is not known.

    Parameters
    ----------
    dark_adu, lights_adu
        About the middle of a frame of each, ADU.
    """
    if dark_adu is None or lights_adu is None or dark_adu <= lights_adu + PEDESTAL_DRIFT_ADU:
        return ()
    above = f"{dark_adu - lights_adu:,.0f}"
    return (
        f"it lies {above} ADU above these lights, so that nothing would be left of them: light reached it, or its offset, "
        "gain or scale is another",
    )


def with_levels_held(holdings: Sequence[Holding]) -> list[Holding]:
    """Holdings of a camera, with care for darks that lie far under all bias of their settings: the pedestal is not in them."""
    biases: dict[tuple[object, ...], list[Holding]] = defaultdict(list)
    for one in holdings:
        if one.kind is FrameKind.BIAS and one.level_adu is not None:
            biases[_settings(one)].append(one)
    return [_held(one, biases.get(_settings(one), ())) for one in holdings]


def _settings(holding: Holding) -> tuple[object, ...]:
    have = holding.settings
    return have.gain, have.offset, have.binning


def _held(holding: Holding, biases: Sequence[Holding]) -> Holding:
    level = holding.level_adu
    if holding.kind not in (FrameKind.DARK, FrameKind.DARK_FLAT) or level is None or holding.spoiled:
        # Of one that is spoiled it is told already.
        return holding
    levels = [bias.level_adu for bias in biases if bias.level_adu is not None and _as_read_out(bias, holding)]
    if not levels or level >= min(OF_ITS_BIAS * min(levels), min(levels) - PEDESTAL_DRIFT_ADU):
        return holding
    under = f"it lies {min(levels) - level:,.0f} ADU under the bias of its settings"
    care = f"{under}: a bias was taken off it before, or its offset was another"
    return replace(holding, care=(*holding.care, care), spoiled=True)


def _as_read_out(one: Holding, other: Holding) -> bool:
    """Whether nothing says that their levels are of two scales; a master tells less than frames do."""
    here, there = one.settings, other.settings
    pairs = ((here.read_mode, there.read_mode), (here.sample_step, there.sample_step))
    return all(a is None or b is None or a == b for a, b in pairs)
