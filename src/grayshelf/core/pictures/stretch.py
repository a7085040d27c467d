"""Making the pixels of a frame visible."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.pictures.parts import reduced


@dataclass(frozen=True)
class Stretched:
    """A picture in 8 bits, and the levels that became black and white."""

    picture: NDArray[np.uint8]
    black: float
    white: float


def shrink(pixels: NDArray[np.float32], longest: int) -> NDArray[np.float32]:
    """Average blocks of pixels so that the longer side has at most `longest`; shape (h, w) in and out."""
    factor = max(1, -(-max(pixels.shape) // longest))
    if factor == 1:
        return pixels
    height, width = (n // factor * factor for n in pixels.shape)
    return reduced(pixels[:height, :width], factor)


def stretch(pixels: NDArray[np.float32], low: float = 0.5, high: float = 99.5) -> Stretched:
    """Stretch linearly between two percentiles of the picture shown.

    Parameters
    ----------
    pixels
        Shape (h, w), any unit.
    low, high
        Percentiles that become black and white.
    """
    finite = pixels[np.isfinite(pixels)]
    if finite.size == 0:
        return Stretched(np.zeros(pixels.shape, np.uint8), 0.0, 0.0)
    black, white = (float(v) for v in np.percentile(finite, [low, high]))
    if white <= black:
        # One level all over, as of a frame that is full: neither black nor white.
        return Stretched(np.full(pixels.shape, 128, np.uint8), black, white)
    scaled = np.clip((np.nan_to_num(pixels, nan=black) - black) / (white - black), 0.0, 1.0)
    return Stretched((scaled * 255).astype(np.uint8), black, white)
