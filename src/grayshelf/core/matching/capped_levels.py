"""What the level of darks says against them, whatever their headers tell: a light holds all that its dark does, and the sky.

The limits are common practice, with no published source.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
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
    # Of years there are many bias of the same settings: the lowest of them is all that is asked for.
    lowest: dict[tuple[object, ...], dict[_ReadOut, float]] = defaultdict(dict)
    for one in holdings:
        if one.kind is FrameKind.BIAS and one.level_adu is not None:
            of_settings, read_out = lowest[_settings(one)], _read_out(one)
            of_settings[read_out] = min(one.level_adu, of_settings.get(read_out, one.level_adu))
    return [
        _held(one, lowest[key]) if one.kind in _DARKS and (key := _settings(one)) in lowest else one
        for one in holdings
    ]


_DARKS = (FrameKind.DARK, FrameKind.DARK_FLAT)
#: Mode and step of the samples: what may make levels of two scales.
_ReadOut = tuple[str | None, int | None]


def _settings(holding: Holding) -> tuple[object, ...]:
    have = holding.settings
    return have.gain, have.offset, have.binning


def _read_out(holding: Holding) -> _ReadOut:
    return holding.settings.read_mode, holding.settings.sample_step


def _held(holding: Holding, lowest_adu: Mapping[_ReadOut, float]) -> Holding:
    level = holding.level_adu
    if level is None or holding.spoiled:
        # Of one that is spoiled it is told already.
        return holding
    mine = _read_out(holding)
    levels = [bias for read_out, bias in lowest_adu.items() if _of_one_scale(read_out, mine)]
    if not levels or level >= min(OF_ITS_BIAS * min(levels), min(levels) - PEDESTAL_DRIFT_ADU):
        return holding
    under = f"it lies {min(levels) - level:,.0f} ADU under the bias of its settings"
    care = f"{under}: a bias was taken off it before, or its offset was another"
    return replace(holding, care=(*holding.care, care), spoiled=True)


def _of_one_scale(one: _ReadOut, other: _ReadOut) -> bool:
    """Whether nothing says that their levels are of two scales; a master tells less than frames do."""
    return all(a is None or b is None or a == b for a, b in zip(one, other, strict=True))
