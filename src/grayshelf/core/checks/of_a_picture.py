"""Checks of one picture, a master or a frame: what falls onto it otherwise than it should."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.findings import Fault, Place, SetFinding
from grayshelf.core.checks.glow import SURE, glow_of
from grayshelf.core.checks.looks import FrameLook
from grayshelf.core.digits import significant
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.spread import MAD_TO_SIGMA

Floats = NDArray[np.float64]

#: A capped master that rises by more than this from side to side has seen light.
LEAK_ADU = 2.0
#: Bands of a flat from here on, peak to peak, as a share of its level.
BANDING = 0.0018
#: Fewer waves across the frame than this are vignetting, and no bands.
FEWEST_WAVES = 4
#: A flat this much brighter on one side than on the other is lit from one side, or the camera is not square to it.
TILT = 0.2
#: Shares of full pixels, and of those at zero, that are no matter; and so many dead ones, on any sensor.
FULL_LIT, FULL_CAPPED, ZEROS, FEW_DEAD = 0.0005, 0.01, 5e-5, 12
#: The corners of a flat may differ by this share from those of a longer one of the same train.
SHADE = 0.006
#: An exposure so many times as long has next to none of a shutter's shade.
MUCH_LONGER = 2.0


@dataclass(frozen=True)
class Plane:
    """A plane through the squares of a picture, from side to side."""

    across: float
    """From the left edge to the right one, in the unit of the squares."""
    down: float
    uncertainty: float
    """Of either, one standard deviation."""

    @property
    def rise(self) -> float:
        """From its lowest corner to its highest."""
        return abs(self.across) + abs(self.down)


def steady_plane(squares: NDArray[np.floating]) -> tuple[Plane, Floats]:
    """The plane through most squares, and what each lies above it; what stands out (glow, a dark corner) does not bend it.

    Least squares in rounds, with Tukey's weights (Beaton and Tukey 1974): squares further than 4.7 robust standard
    deviations weigh nothing.
    """
    height, width = squares.shape
    y, x = np.mgrid[0:height, 0:width]
    columns = np.column_stack(
        [np.ones(squares.size), ((x + 0.5) / width - 0.5).ravel(), ((y + 0.5) / height - 0.5).ravel()]
    )
    values = np.asarray(squares, float).ravel()
    good = np.isfinite(values)
    weights = good.astype(float)
    values = np.where(good, values, 0.0)
    fit, left = np.zeros(3), values
    for _ in range(12):
        root = np.sqrt(weights)
        fit, *_ = np.linalg.lstsq(columns * root[:, None], values * root, rcond=None)
        left = values - columns @ fit
        scale = MAD_TO_SIGMA * float(np.median(np.abs(left[good]))) or 1e-12
        weights = np.where(good, np.clip(1.0 - (left / (4.7 * scale)) ** 2, 0.0, None) ** 2, 0.0)
    scale = MAD_TO_SIGMA * float(np.median(np.abs(left[good])))
    # The spread of a variable that is even from −½ to ½ is 1/√12.
    sure = scale * math.sqrt(12.0 / max(float(weights.sum()), 1.0))
    return Plane(float(fit[1]), float(fit[2]), sure), left.reshape(squares.shape)


#: A glow is known to about this share of its height: light has to show beside that.
GLOW_KNOWN_TO = 0.05
#: One fainter than this is hardly told from a slope, and known to this share of it.
FAINT_ADU, FAINT_KNOWN_TO = 10.0, 0.6


def leak_of(capped: FrameLook, usual: FrameLook | None) -> list[SetFinding]:
    """Light on a capped master: it rises from one side to the other.

    Parameters
    ----------
    usual
        A capped master of the same settings that is short, as a bias: its own slope is the sensor's, and no light.
    """
    squares = np.asarray(capped.blocks, float)
    if usual is not None and usual.blocks.shape == capped.blocks.shape:
        squares = squares - usual.blocks
    if squares.size < 16:
        return []
    glow = glow_of(squares)
    plane, _ = steady_plane(squares - glow)
    top = float(glow.max())
    known_to = top * (FAINT_KNOWN_TO if top < FAINT_ADU else GLOW_KNOWN_TO)
    if plane.rise <= max(LEAK_ADU, SURE * plane.uncertainty, known_to):
        return []
    towards = _towards(plane)
    return [
        SetFinding(
            Fault.LEAK,
            plane.rise,
            "ADU",
            f"It rises by {plane.rise:,.1f} ADU across the frame, towards the {towards}: light reached the sensor.",
            "Cap on, the room dark, the gap at the focuser covered; then shoot it again.",
            place=_edge(capped, plane),
        )
    ]


def _towards(plane: Plane) -> str:
    ways = []
    if abs(plane.down) > 0.4 * abs(plane.across):
        ways.append("last row" if plane.down > 0 else "first row")
    if abs(plane.across) > 0.4 * abs(plane.down):
        ways.append("right" if plane.across > 0 else "left")
    return " and ".join(ways)


def _edge(look: FrameLook, plane: Plane) -> Place:
    """The quarter of the picture to which a plane rises."""
    right, low = plane.across > 0, plane.down > 0
    wide, high = abs(plane.across) > 0.4 * abs(plane.down), abs(plane.down) > 0.4 * abs(plane.across)
    w, h = look.width // 2, look.height // 2
    left, top = (w if right else 0) if wide else 0, (h if low else 0) if high else 0
    return Place(left, top, left + w if wide else look.width, top + h if high else look.height)


def banding_of(flat: FrameLook) -> list[SetFinding]:
    """Bands along the rows: a light that pulses under a sensor that is read row after row.

    Strips of the picture see the same bands, and shadows of their own. Of each strip's spectrum, wave by wave, the median
    over the strips (of the real and of the imaginary part) is what they share, and how far they lie from it how sure that
    is: shadows differ from strip to strip, bands do not.
    """
    rows = flat.rows
    if rows.shape[1] < 64 or not np.isfinite(rows).all():
        return []
    # Some rows together: a colour sensor's differ by nature.
    together = (
        rows[:, : rows.shape[1] // flat.cell * flat.cell].reshape(len(rows), -1, flat.cell).mean(axis=2)
    )
    n = together.shape[1]
    spot = np.linspace(-1.0, 1.0, n)
    window = np.hanning(n)
    spectra = []
    for strip in together:
        smooth = np.polynomial.Chebyshev.fit(spot, strip, 8)(spot)
        spectra.append(np.fft.rfft((strip / smooth - 1.0) * window)[FEWEST_WAVES:])
    every = np.array(spectra)
    shared = np.median(every.real, axis=0) + 1j * np.median(every.imag, axis=0)
    # Of a point that scatters in two directions half lie within 1.177 standard deviations.
    scatter = np.median(np.abs(every - shared), axis=0) / 1.177 * 1.25 / math.sqrt(len(every))
    clear = np.where(np.abs(shared) > SURE * scatter, np.abs(shared), 0.0)
    top = int(np.argmax(clear))
    size = 2.0 * 2.0 * float(clear[top]) / float(window.sum())
    if size <= BANDING:
        return []
    waves = top + FEWEST_WAVES
    return [
        SetFinding(
            Fault.BANDING,
            100.0 * size,
            "%",
            f"Bands of {100.0 * size:.2f} % run along the rows, {waves} of them from the first row to the last.",
            "The light pulses: expose for longer, or at an exposure that holds whole pulses.",
        )
    ]


def tilt_of(flat: FrameLook, usual: FrameLook | None) -> list[SetFinding]:
    """A flat that is brighter on one side: by itself where that is plain, else beside an earlier one of the same train."""
    shape = np.asarray(flat.shape_of_light, float)
    limit, beside = TILT, ""
    if usual is not None and usual.blocks.shape == flat.blocks.shape:
        shape, limit, beside = shape / usual.shape_of_light, 0.01, " than in the flat before it"
    if shape.size < 16:
        return []
    plane, _ = steady_plane(shape)
    if plane.rise <= max(limit, SURE * plane.uncertainty):
        return []
    return [
        SetFinding(
            Fault.TILT,
            100.0 * plane.rise,
            "%",
            f"It is brighter towards the {_towards(plane)} by {100.0 * plane.rise:.1f} %{beside}.",
            "Is the light square before the telescope, and evenly lit? The sky is: take a flat of it to compare."
            if not beside
            else "Did the light hang otherwise, or did something in the train move?",
            place=_edge(flat, plane),
        )
    ]


def shade_of(flat: FrameLook, exposure_s: float, longer: FrameLook, longer_s: float) -> list[SetFinding]:
    """A shutter's shade: the corners, or one side, of a short flat are darker than those of a long one of the same train.

    What a shutter that opens from the middle takes goes with one over the exposure: the flat ``t`` has
    ``1 − s(r)/t`` of it, so the long one tells ``s`` apart from the train's own vignetting.
    """
    if (
        longer_s < MUCH_LONGER * exposure_s
        or longer.blocks.shape != flat.blocks.shape
        or flat.blocks.size < 16
    ):
        return []
    ratio = np.asarray(flat.shape_of_light / longer.shape_of_light, float)
    height, width = ratio.shape
    y, x = np.mgrid[0:height, 0:width]
    far = np.hypot(((x + 0.5) / width - 0.5) * width, ((y + 0.5) / height - 0.5) * height)
    far = far / float(far.max())
    middle, corners = ratio[far < 0.25], ratio[far > 0.85]
    if middle.size < 4 or corners.size < 4:
        return []
    # The long one has some of it, too.
    size = (float(np.median(middle)) - float(np.median(corners))) / (1.0 - exposure_s / longer_s)
    scatter = (
        MAD_TO_SIGMA * float(np.median(np.abs(corners - np.median(corners)))) * 1.25 / math.sqrt(corners.size)
    )
    if size <= max(SHADE, SURE * scatter):
        return []
    return [
        SetFinding(
            Fault.SHADE,
            100.0 * size,
            "%",
            f"At {exposure_s:g} s the corners are {100.0 * size:.1f} % darker, beside the middle, than at {longer_s:g} s: "
            "the shutter’s shade, which no light has.",
            "Expose flats for longer: dim the light, or hang something before it.",
        )
    ]


def most_full(kind: FrameKind) -> float:
    """The share of full pixels that is no matter: a flat is none where it is full, a capped frame has some hot ones."""
    return FULL_LIT if kind is FrameKind.FLAT else FULL_CAPPED


def most_zeros(look: FrameLook) -> float:
    """The share of pixels at zero that is no matter: a few are dead; with more, the offset is too low."""
    return max(ZEROS, FEW_DEAD / (look.height * look.width))


def capped_and_full(look: FrameLook, kind: FrameKind) -> list[SetFinding]:
    """Of a master that came from elsewhere: zeros, and pixels that are full."""
    found = []
    if look.zeros > most_zeros(look):
        found.append(
            SetFinding(
                Fault.CLIPPED,
                100.0 * look.zeros,
                "%",
                f"{significant(100.0 * look.zeros, 2)} % of its pixels lie at zero or below: what was lower is lost.",
                "Use a higher offset.",
            )
        )
    if look.full > most_full(kind):
        found.append(
            SetFinding(
                Fault.SATURATED,
                100.0 * look.full,
                "%",
                f"{significant(100.0 * look.full, 2)} % of its pixels are full.",
                "Find the exposure again, at a lower level." if kind is FrameKind.FLAT else "Keep light out.",
            )
        )
    return found
