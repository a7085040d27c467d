"""Checks of the frames of a set, before anything is built of them: each frame against the others."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.checks.apart import apart_from_set
from grayshelf.core.checks.findings import Fault, Place, SetFinding
from grayshelf.core.checks.looks import FrameLook
from grayshelf.core.checks.of_a_picture import banding_of, most_full, most_zeros
from grayshelf.core.checks.series import MOST_UNSETTLED, drift, first_frames, without_drift
from grayshelf.core.checks.two_settings import two_settings
from grayshelf.core.digits import significant
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.noise import DARK_DOUBLES_IN_C
from grayshelf.core.masters.spread import MAD_TO_SIGMA

#: A sensor further than this from where it should be has another dark current by a tenth (common practice: 0.5 °C).
TEMPERATURE_C = 0.6
#: Told of by the hot pixels alone, it has to be further.
HOT_PIXELS_C = 0.7
#: Light that falls otherwise than in the other frames, as a share, from square to square.
OTHERWISE = 0.004
#: The colours of two frames of one filter and light agree within this share.
COLOURS = 0.02
#: A frame in another filter has another level by more than this share; less is the light's own.
OTHER_LEVEL = 0.15


@dataclass(frozen=True)
class Looked:
    """A set's frames, looked at in the order they were taken."""

    kind: FrameKind
    looks: Sequence[FrameLook]
    temps_c: Sequence[float | None]
    """Of the sensor, as the headers tell."""
    set_c: float | None = None
    """The set point, where the sensor was held."""
    of_sky: bool = False
    """Flats whose level and exposure differ by nature."""

    @property
    def lit(self) -> bool:
        """Whether light is on its frames."""
        return self.kind is FrameKind.FLAT


def findings_of_set(looked: Looked) -> list[SetFinding]:
    """All that is wrong with frames of a set, or with the set: first what keeps frames out of the master."""
    found: list[SetFinding] = []
    found += _saturated(looked)
    found += _otherwise_lit(looked)
    warmer = _temperatures(looked)
    if not looked.lit:
        found += _two_settings(looked, {i for f in warmer for i in f.frames})
    if not looked.of_sky and not _of_two_settings(found):
        found += _unsettled(looked, found)
        found += _apart(looked, _left_out(found))
        kept = _kept(looked, found)
        looks = [looked.looks[i] for i in kept]
        # A sensor that nobody holds grows warmer while it works: what it gathers more tells of no light.
        noises = [] if looked.set_c is None else [k.noise for k in looks]
        found += drift([k.mean for k in looks], noises, lit=looked.lit)
    found += _banded(looked)
    found += warmer
    found += _clipped(looked)
    return sorted(found, key=lambda f: not f.leave_out)


def _two_settings(looked: Looked, warmer: set[int]) -> list[SetFinding]:
    """Frames of two settings, but where it is another temperature that makes them noisier."""
    found = two_settings([k.mean for k in looked.looks], [k.noise for k in looked.looks])
    return [f for f in found if not warmer.intersection(f.frames)]


def _of_two_settings(found: Sequence[SetFinding]) -> bool:
    """Whether frames of two settings are all left in: then no level is beside the others."""
    return any(f.fault is Fault.TWO_SETTINGS and not f.leave_out for f in found)


def _left_out(found: Sequence[SetFinding]) -> set[int]:
    return {i for f in found if f.leave_out for i in f.frames}


def _kept(looked: Looked, found: Sequence[SetFinding]) -> list[int]:
    out = _left_out(found)
    return [i for i in range(len(looked.looks)) if i not in out]


def _unsettled(looked: Looked, found: Sequence[SetFinding]) -> list[SetFinding]:
    """First frames that have not settled; what is apart further on does not hide them."""
    kept = _kept(looked, found)
    levels = [looked.looks[i].mean for i in kept]
    later = apart_from_set(levels)
    steady = [place for place in range(len(kept)) if place not in later or place < MOST_UNSETTLED]
    early = first_frames([levels[place] for place in steady], lit=looked.lit)
    return [_of_frames(f, [kept[place] for place in steady]) for f in early]


def _banded(looked: Looked) -> list[SetFinding]:
    """Bands that move from frame to frame are in the frames, and hardly in the master."""
    if not looked.lit:
        return []
    banded = {i: found[0] for i, look in enumerate(looked.looks) if (found := banding_of(look))}
    if len(banded) < max(2, len(looked.looks) // 3):
        return []
    worst = max(banded.values(), key=lambda f: f.size)
    usual = float(np.median([f.size for f in banded.values()]))
    return [
        SetFinding(
            Fault.BANDING,
            usual,
            "%",
            f"{_frames_told(tuple(banded), len(looked.looks))} have bands of about {usual:.2f} % along the rows.",
            worst.advice,
            tuple(banded),
        )
    ]


def _of_frames(finding: SetFinding, kept: Sequence[int]) -> SetFinding:
    """A finding about some of the frames that were kept, told of the whole set's."""
    places = tuple(kept[i] for i in finding.frames)
    return SetFinding(**{**vars(finding), "frames": places})


def _frames_told(frames: Sequence[int], n: int) -> str:
    """'Frame 3', 'Frames 1, 2 and 5', 'All frames'."""
    if len(frames) == n and n > 1:
        return "All frames"
    numbers = [str(i + 1) for i in frames]
    if len(numbers) == 1:
        return f"Frame {numbers[0]}"
    if len(numbers) > 6:
        return f"{len(numbers)} of {n} frames"
    return f"Frames {', '.join(numbers[:-1])} and {numbers[-1]}"


def _saturated(looked: Looked) -> list[SetFinding]:
    limit = most_full(looked.kind)
    over = [i for i, look in enumerate(looked.looks) if look.full > limit]
    if not over:
        return []
    worst = max(over, key=lambda i: looked.looks[i].full)
    percent = 100.0 * looked.looks[worst].full
    has = "has" if len(over) == 1 else "have"
    return [
        SetFinding(
            Fault.SATURATED,
            percent,
            "%",
            f"{_frames_told(over, len(looked.looks))} {has} up to {significant(percent, 2)} % of the pixels full: what they held is lost.",
            "Find the exposure again, at a lower level."
            if looked.lit
            else "Keep light out, or use a lower gain.",
            tuple(over),
            # A set that is full in all its frames gives a master that says so, rather than none.
            leave_out=len(over) <= len(looked.looks) // 2,
            place=fullest(looked.looks[worst]),
        )
    ]


def fullest(look: FrameLook) -> Place | None:
    """Where a frame is full: the squares that hold most of it."""
    over = look.full_blocks > 0.5 * float(look.full_blocks.max(initial=0.0))
    return None if not over.any() else box_of(over, look)


def box_of(squares: NDArray[np.bool_], look: FrameLook) -> Place:
    """The smallest box around some squares of a frame."""
    ys, xs = np.nonzero(squares)
    side = look.side
    return Place(
        int(xs.min()) * side,
        int(ys.min()) * side,
        min((int(xs.max()) + 1) * side, look.width),
        min((int(ys.max()) + 1) * side, look.height),
    )


def _clipped(looked: Looked) -> list[SetFinding]:
    """Zeros beyond those of dead pixels, which are the same few in every frame."""
    over = [i for i, k in enumerate(looked.looks) if k.zeros > most_zeros(k)]
    if not over:
        return []
    worst = max(looked.looks[i].zeros for i in over)
    return [
        SetFinding(
            Fault.CLIPPED,
            100.0 * worst,
            "%",
            f"{_frames_told(over, len(looked.looks))} {'has' if len(over) == 1 else 'have'} up to {significant(100.0 * worst, 2)} % of the "
            "pixels at zero: what lies below is lost, and the mean is too high.",
            "Use a higher offset, for these frames and for the lights.",
            tuple(over),
        )
    ]


def _apart(looked: Looked, out: set[int]) -> list[SetFinding]:
    """Frames whose level is not that of the others."""
    kept = [i for i in range(len(looked.looks)) if i not in out]
    levels = without_drift([looked.looks[i].level for i in kept])
    middle = float(np.median(levels)) if levels else 0.0
    found = []
    for place, words in apart_from_set(levels).items():
        i = kept[place]
        share = (levels[place] - middle) / middle if middle else 0.0
        filters = looked.lit and abs(share) > OTHER_LEVEL
        size, unit = (100.0 * share, "%") if looked.lit else (levels[place] - middle, "ADU")
        message, advice = f"Frame {i + 1}: {words}", "Look at it before it is used."
        if filters:
            message += ": another filter is in, or the light was set otherwise"
            advice = "Look at it beside the others, and at the wheel’s log."
        elif not looked.lit and size > 0:
            advice = "Did light reach it? Cap on, the room dark."
        fault = Fault.FILTER if filters else Fault.LEVEL
        found.append(SetFinding(fault, size, unit, f"{message}.", advice, (i,), leave_out=True))
    return found


def _otherwise_lit(looked: Looked) -> list[SetFinding]:
    """Flats in which the light falls otherwise than in the others: another filter, something that moved, a cloud."""
    if not looked.lit or len(looked.looks) < 4 or looked.looks[0].blocks.size < 16:
        return []
    shapes = _shapes_of_light(looked.looks)
    usual = np.nanmedian(shapes, axis=0)
    found = []
    colours = _colours(looked)
    for i, look in enumerate(looked.looks):
        # Squares differ by the noise of their pixels; four neighbours together by half of that.
        left = _joined(shapes[i] / usual - 1.0)
        noise = look.noise / max(look.level, 1.0) / look.side / 2.0
        size = MAD_TO_SIGMA * float(np.nanmedian(np.abs(left - np.nanmedian(left))))
        peak = float(np.nanquantile(np.abs(left - np.nanmedian(left)), 0.98))
        other_colour = colours[i] > COLOURS
        if not other_colour and not (peak > OTHERWISE and peak > 6.0 * noise and size > 1.6 * noise):
            continue
        size_percent = 100.0 * (colours[i] if other_colour else peak)
        words = "has another colour" if other_colour else "is lit otherwise, from part to part"
        worst = np.abs(left) >= np.nanquantile(np.abs(left), 0.95)
        found.append(
            SetFinding(
                Fault.FILTER,
                size_percent,
                "%",
                f"Frame {i + 1} {words}, by {size_percent:.1f} %: it is of another filter, or something moved.",
                "It is left out. Look at it beside the others, and at the wheel’s log.",
                (i,),
                leave_out=True,
                place=box_of(np.pad(worst, ((0, 1), (0, 1)), mode="edge"), look),
            )
        )
    # Where half of them are otherwise, nobody can say which are right.
    return found if len(found) <= len(looked.looks) // 3 else []


def _shapes_of_light(looks: Sequence[FrameLook]) -> NDArray[np.float32]:
    """How the light is spread on each frame, shape (frames, rows, columns). Where any of them is full they count as alike:
    what it held there is lost."""
    full = np.any([k.full_blocks > 0.0 for k in looks], axis=0)
    if full.all():
        return np.ones((len(looks), *full.shape), np.float32)
    means = [float(np.nanmean(k.blocks[~full])) for k in looks]
    return np.array(
        [np.where(full, 1.0, k.blocks / mean) for k, mean in zip(looks, means, strict=True)], np.float32
    )


def _joined(squares: NDArray[np.float32]) -> NDArray[np.float32]:
    """Means of each four neighbours, shape (rows − 1, columns − 1)."""
    return np.asarray(
        (squares[:-1, :-1] + squares[1:, :-1] + squares[:-1, 1:] + squares[1:, 1:]) / 4.0, np.float32
    )


def _colours(looked: Looked) -> NDArray[np.float64]:
    """How far each frame's colours are from those of the others, as a share; nought of a mono sensor."""
    colours = np.array([k.colours.ravel() for k in looked.looks])
    shares = colours / colours.mean(axis=1, keepdims=True)
    return np.asarray(np.nan_to_num(np.abs(shares / np.median(shares, axis=0) - 1.0).max(axis=1)))


def _temperatures(looked: Looked) -> list[SetFinding]:
    """Darks whose sensor was not where it was for the others, by header or by their hot pixels.

    A sensor that nobody holds is as warm as the night: its darks are told of, and none is left out for it.
    """
    if looked.kind is not FrameKind.DARK:
        return []
    by_header, by_pixels = _off_by_header(looked), warmer_by_hot_pixels(looked.looks)
    found = {i: off for i, off in enumerate(by_pixels) if off is not None and abs(off) > HOT_PIXELS_C}
    found |= by_header
    if not found:
        return []
    n, size = len(looked.looks), max(found.values(), key=abs)
    frames = tuple(sorted(found))
    said = (
        "by the header"
        if set(found) == set(by_header)
        else "by the hot pixels"
        if not by_header
        else "by both"
    )
    return [
        SetFinding(
            Fault.TEMPERATURE,
            size,
            "°C",
            f"{_frames_told(frames, n)} {'was' if len(found) == 1 else 'were'} shot at another temperature, "
            f"{said} by up to {size:+.1f} °C.".replace("-", "−"),
            "Let the cooler settle before the first dark.",
            frames,
            leave_out=looked.set_c is not None and len(found) <= n // 2,
        )
    ]


def _off_by_header(looked: Looked) -> dict[int, float]:
    """Frames that their headers tell to be further from the set point than is no matter, and by how much, in °C."""
    goal = looked.set_c
    if goal is None:
        return {}
    offs = {i: temp - goal for i, temp in enumerate(looked.temps_c) if temp is not None}
    return {i: off for i, off in offs.items() if abs(off) > TEMPERATURE_C}


def warmer_by_hot_pixels(looks: Sequence[FrameLook]) -> list[float | None]:
    """By how much each dark's sensor was warmer than usual, in °C, as its hot pixels tell; None where they do not.

    What the hot pixels gather goes with the dark current, ``s = 2^(ΔT/6)`` times the usual: the slope of a frame's hot
    pixels, above its level, against those of the usual frame.
    """
    if len(looks) < 5 or any(k.hot.size < 50 for k in looks):
        return [None] * len(looks)
    above = np.array([k.hot - k.level for k in looks])
    usual = np.median(above, axis=0)
    steady = (usual > 20.0 * float(np.median([k.noise for k in looks]))) & (above.max(axis=0) < 50_000.0)
    if np.count_nonzero(steady) < 50:
        return [None] * len(looks)
    ratios = above[:, steady] / usual[steady]
    found: list[float | None] = []
    for one in ratios:
        slope = float(np.median(one))
        scatter = MAD_TO_SIGMA * float(np.median(np.abs(one - slope))) * 1.25 / math.sqrt(one.size)
        sure = slope > 0.1 and abs(slope - 1.0) > 5.0 * scatter
        found.append(DARK_DOUBLES_IN_C * math.log2(slope) if sure else 0.0)
    return found
