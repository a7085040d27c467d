"""Two equal frames and what their difference says: temporal noise, with the fixed pattern gone.

Temporal variance after EMVA Standard 1288: σ² = ⟨(A − B)²⟩/2 − (μ_A − μ_B)²/2.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.pictures.colours import side_of

#: Sides of the blocks by which the evenly lit part of a frame is chosen, in pixels.
BLOCK = 16
#: A block belongs to the evenly lit part where its level is this near to the others'.
EVEN_WITHIN = 0.01
#: Levels of a pair that differ by more than this are scaled and flagged ...
DRIFT_NOTED = 0.002
#: ... and by more than this, refused: the light was not steady.
DRIFT_REFUSED = 0.02
#: Bias frames from which single pixels are judged.
FEWEST_FOR_USUAL = 8
#: A pair with more of its pixels at white than this counts as full.
FULL_SHARE = 0.5


@dataclass(frozen=True)
class PairReading:
    """Two equal frames, read together; one colour channel. ADU."""

    mean_adu: float
    variance_adu2: float
    """Temporal variance of one frame."""
    variance_error_adu2: float
    """Its standard error."""
    n_pixels: int
    drift: float
    """By how much the second frame's level differs from the first's, above the pedestal, as a share."""
    full_share: float
    """Of the pixels at white."""
    exposure_s: float = 0.0
    source: str = ""
    """Pairs of one source (brightness, filter) lie on one line of time."""


def even_part(flat: NDArray[np.uint16], pedestal_adu: float) -> NDArray[np.bool_]:
    """The blocks of a flat that are lit alike: vignetting and dust shadows are left out.

    Parameters
    ----------
    flat
        One channel, shape (h, w), neither full nor dark.

    Returns
    -------
    Shape (h // 16, w // 16). Where hardly any blocks are alike, the middle of the frame.
    """
    height, width = flat.shape[0] // BLOCK, flat.shape[1] // BLOCK
    if height == 0 or width == 0:
        raise UnreadableFrame("The frame is too small to be measured.", "Use whole frames.")
    blocks = flat[: height * BLOCK, : width * BLOCK].reshape(height, BLOCK, width, BLOCK)
    levels = blocks.mean(axis=(1, 3)) - pedestal_adu
    ordered = np.sort(levels.ravel())
    # Where the light is flattest, about its middle, most blocks share one level: the densest percent.
    limits = ordered * (1.0 + EVEN_WITHIN) / (1.0 - EVEN_WITHIN)
    reach = np.searchsorted(ordered, limits, side="right") - np.arange(ordered.size)
    start = int(np.argmax(np.where(ordered > 0, reach, 0)))
    if ordered[start] > 0 and reach[start] >= max(4, 0.01 * ordered.size):
        return np.asarray((levels >= ordered[start]) & (levels <= limits[start]))
    return middle_part(flat)


def middle_part(plane: NDArray[np.uint16]) -> NDArray[np.bool_]:
    """The central box, half as wide and high as the frame, as a mask over its blocks of pixels."""
    height, width = max(plane.shape[0] // BLOCK, 1), max(plane.shape[1] // BLOCK, 1)
    mask = np.zeros((height, width), np.bool_)
    mask[height // 4 : max(height - height // 4, 1), width // 4 : max(width - width // 4, 1)] = True
    return mask


def whole_part(plane: NDArray[np.uint16]) -> NDArray[np.bool_]:
    """All blocks."""
    return np.ones((plane.shape[0] // BLOCK, plane.shape[1] // BLOCK), np.bool_)


def read_pair(
    a: NDArray[np.uint16],
    b: NDArray[np.uint16],
    part: NDArray[np.bool_],
    *,
    pedestal_adu: float = 0.0,
    white_adu: int = 65535,
    exposure_s: float = 0.0,
    source: str = "",
) -> PairReading:
    """Read two equal frames.

    Where their levels differ by 0.2 to 2 % the second is scaled to the first above the pedestal, and the variance
    is that of photon noise at the first's level.

    Parameters
    ----------
    a, b
        The same channel of both, shape (h, w), dtype uint16.
    part
        Which blocks to use, from `even_part`.

    Raises
    ------
    UnreadableFrame
        Where the two are not of one size.
    """
    if a.shape != b.shape:
        raise UnreadableFrame(
            f"The two frames of a pair have {a.shape[1]} × {a.shape[0]} and {b.shape[1]} × {b.shape[0]} pixels: "
            "they are of two sensors or two settings.",
            "Pair frames of one camera.",
        )
    # Loaded when it is needed: it takes as long as a sixth of a start.
    from grayshelf.core.sensor.compiled import sums

    n, sum_a, sum_b, s1, s2, s4, full = sums(a, b, part, BLOCK, pedestal_adu, 1.0, white_adu)
    signal_a, signal_b = sum_a / n - pedestal_adu, sum_b / n - pedestal_adu
    drift = signal_b / signal_a - 1.0 if signal_a > 50.0 and signal_b > 0 else 0.0
    if abs(drift) < 4.0 * math.sqrt(s2) / n / max(signal_a, 1.0):
        # No more than the noise of the two levels.
        drift = 0.0
    share = 2.0
    if DRIFT_NOTED < abs(drift) <= DRIFT_REFUSED:
        n, sum_a, _, s1, s2, s4, full = sums(a, b, part, BLOCK, pedestal_adu, 1.0 / (1.0 + drift), white_adu)
        # Photon noise of the scaled one is smaller by the scale, not by its square.
        share = 1.0 + 1.0 / (1.0 + drift)
    mean_difference = s1 / n
    square = s2 / n - mean_difference**2
    fourth = s4 / n
    mean = sum_a / n if share != 2.0 else (sum_a + sum_b) / (2.0 * n)
    return PairReading(
        mean,
        square / share,
        math.sqrt(max(fourth - square * square, 0.0) / n) / share,
        n,
        drift,
        full / n,
        exposure_s,
        source,
    )


def channels(pixels: NDArray[np.uint16], bayer_pattern: str | None) -> dict[str, NDArray[np.uint16]]:
    """The colour channels of a frame, shape (h, w), as views of one pixel of each in every repeat of the pattern, shape
    (h/2, w/2) or (h/6, w/6): R, G, B; or the frame itself under ''.
    """
    side = side_of(bayer_pattern)
    if bayer_pattern is None or len(bayer_pattern) != side * side:
        return {"": pixels}
    found: dict[str, NDArray[np.uint16]] = {}
    for place, colour in enumerate(bayer_pattern.upper()):
        found.setdefault(colour, pixels[place // side :: side, place % side :: side])
    return dict(sorted(found.items(), key=lambda item: "RGB".find(item[0])))


def thinned(plane: NDArray[np.uint16]) -> NDArray[np.uint16]:
    """A quarter of a million pixels of a channel, evenly spread, always the same ones."""
    stride = max(1, int(math.sqrt(plane.size / 250_000)))
    return np.ascontiguousarray(plane[::stride, ::stride]).ravel()


def usual_noise(samples: Sequence[NDArray[np.uint16]], sample_step: int = 1) -> float | None:
    """Read noise of the usual pixel, ADU: the median over pixels of each one's own variance.

    The rms over all pixels counts the few noisy ones in full; here they are counted, and taken out of the median.
    None where there are fewer than eight frames, or where the noise is finer than the converter's steps and single
    pixels say nothing.

    Parameters
    ----------
    samples
        The same pixels of each bias frame, from `thinned`.
    """
    n = len(samples)
    if n < FEWEST_FOR_USUAL:
        return None
    variances = np.stack(samples).astype(np.float64).var(axis=0, ddof=1)
    steps = sample_step**2 / 12.0
    noisy, unbiased = 0.0, 0.0
    for _ in range(3):
        # A sample variance's median lies below its mean. Noisy pixels lie above all others, so the usual ones'
        # median stands at half of what remains.
        middle = float(np.quantile(variances, 0.5 * (1.0 - noisy)))
        # Loaded when it is needed: it takes as long as the rest of a start.
        from scipy.stats import chi2

        unbiased = middle * (n - 1) / float(chi2.ppf(0.5, n - 1))
        limit = unbiased * float(chi2.ppf(0.99, n - 1)) / (n - 1)
        noisy = max(float(np.mean(variances > limit)) - 0.01, 0.0)
    return math.sqrt(unbiased - steps) if unbiased > sample_step**2 + steps else None
