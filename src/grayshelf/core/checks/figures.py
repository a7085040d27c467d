"""Figures that describe a master: what its card shows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.defects import defects_of
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.spread import MAD_TO_SIGMA


@dataclass(frozen=True)
class Figure:
    """One number on a card."""

    name: str
    value: float
    unit: str
    digits: int


def _middle(pixels: NDArray[np.float32]) -> NDArray[np.float32]:
    height, width = pixels.shape
    return pixels[height * 2 // 5 : height * 3 // 5 + 1, width * 2 // 5 : width * 3 // 5 + 1]


def _corners(pixels: NDArray[np.float32]) -> list[float]:
    height, width = pixels.shape
    h, w = max(height // 12, 1), max(width // 12, 1)
    parts = (pixels[:h, :w], pixels[:h, -w:], pixels[-h:, :w], pixels[-h:, -w:])
    return [_median(part) for part in parts]


def _median(part: NDArray[np.float32]) -> float:
    """Of what holds a number; nought where nothing does."""
    known = part[np.isfinite(part)]
    return float(np.median(known)) if known.size else 0.0


def master_figures(pixels: NDArray[np.float32], kind: FrameKind) -> list[Figure]:
    """Figures of a master or frame.

    Parameters
    ----------
    pixels
        Shape (h, w), ADU for capped frames, ADU or norm 1 for flats.
    kind
        What the frame was taken for.
    """
    known = pixels[np.isfinite(pixels)]
    if known.size == 0:
        return []
    median = float(np.median(known))
    spread = MAD_TO_SIGMA * float(np.median(np.abs(known - np.float32(median))))
    if kind is FrameKind.FLAT:
        middle = _median(_middle(pixels))
        corners = _corners(pixels)
        darkest = float(np.percentile(known, 0.01))
        return [
            Figure("Median", median, "norm 1" if median < 100 else "ADU", 4 if median < 100 else 0),
            Figure("Corner to centre", 100.0 * float(np.mean(corners)) / middle, "%", 1),
            Figure("Weakest corner", 100.0 * min(corners) / middle, "%", 1),
            Figure("Darkest 0.01 %", 100.0 * darkest / middle, "% of centre", 1),
            Figure("Spread of the pixels", 100.0 * spread / median, "%", 2),
            Figure("Dead or dim pixels", float(defects_of(pixels, kind).n_cold), "", 0),
        ]
    middle = _median(_middle(pixels))
    defects = defects_of(pixels, kind)
    return [
        Figure("Median", median, "ADU", 1),
        Figure("Spread of the pixels", spread, "ADU", 2),
        Figure("Brightest corner", max(_corners(pixels)) - middle, "ADU over the middle", 1),
        Figure("Warm pixels", 100.0 * defects.n_hot / pixels.size, "%", 3),
        Figure("Cold pixels", float(defects.n_cold), "", 0),
        Figure("Lowest pixel", float(known.min()), "ADU", 0),
    ]
