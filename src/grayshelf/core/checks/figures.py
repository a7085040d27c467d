"""Figures that describe a master: what its card shows."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from grayshelf.core.checks.defects import defects_of
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.spread import MAD_TO_SIGMA
from grayshelf.core.pictures.made_of import in_one_light
from grayshelf.core.pictures.parts import Parts, Picture, Pixels, as_parts, strips
from grayshelf.core.pictures.quantiles import quantile_of


@dataclass(frozen=True)
class Figure:
    """One number on a card."""

    name: str
    value: float
    unit: str
    digits: int


def _middle(parts: Parts) -> Pixels:
    height, width = parts.height, parts.width
    return parts.part(height * 2 // 5, height * 3 // 5 + 1, width * 2 // 5, width * 3 // 5 + 1)


def _corners(parts: Parts) -> list[float]:
    height, width = parts.height, parts.width
    h, w = max(height // 12, 1), max(width // 12, 1)
    places = [(top, left) for top in (0, height - h) for left in (0, width - w)]
    return [_median(parts.part(top, top + h, left, left + w)) for top, left in places]


def _median(part: Pixels) -> float:
    """Of what holds a number; nought where nothing does."""
    known = part[np.isfinite(part)]
    return float(np.median(known)) if known.size else 0.0


def master_figures(picture: Picture, kind: FrameKind, pattern: str | None = None) -> list[Figure]:
    """Figures of a master or frame; of a colour sensor's flat with all colours as bright as the brightest.

    Parameters
    ----------
    picture
        ADU for capped frames, ADU or norm 1 for flats.
    kind
        What the frame was taken for.
    pattern
        Of the filters that neighbouring pixels lie under; it begins where the picture does.
    """
    parts = as_parts(picture)
    if kind is FrameKind.FLAT:
        parts = in_one_light(parts, pattern)
    median = quantile_of(parts, 0.5)
    if math.isnan(median):
        return []
    spread = MAD_TO_SIGMA * quantile_of(parts, 0.5, about=median)
    middle, corners = _median(_middle(parts)), _corners(parts)
    defects = defects_of(parts, kind)
    if kind is FrameKind.FLAT:
        return [
            Figure("Median", median, "norm 1" if median < 100 else "ADU", 4 if median < 100 else 0),
            Figure("Corner to centre", 100.0 * float(np.mean(corners)) / middle, "%", 1),
            Figure("Weakest corner", 100.0 * min(corners) / middle, "%", 1),
            Figure("Darkest 0.01 %", 100.0 * quantile_of(parts, 0.0001) / middle, "% of centre", 1),
            Figure("Spread of the pixels", 100.0 * spread / median, "%", 2),
            Figure("Dead or dim pixels", float(defects.n_cold), "", 0),
        ]
    lowest = float(np.fmin.reduce([np.fmin.reduce(strip, axis=None) for strip in strips(parts)]))
    return [
        Figure("Median", median, "ADU", 1),
        Figure("Spread of the pixels", spread, "ADU", 2),
        Figure("Brightest corner", max(corners) - middle, "ADU over the middle", 1),
        Figure("Warm pixels", 100.0 * defects.n_hot / (parts.width * parts.height), "%", 3),
        Figure("Cold pixels", float(defects.n_cold), "", 0),
        Figure("Lowest pixel", lowest, "ADU", 0),
    ]
