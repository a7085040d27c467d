"""The offset to use at one gain: which bias frames to take, what they say, what it costs.

Everything is a pure function of the frames so far: an exercise that was cut short goes on from its frames, and
frames from disk are read by the same rules as frames taken for it.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from grayshelf.core.sensor.bias import BiasReading, DeadPixel, dead_pixels, good_zeros, light_leaks
from grayshelf.core.sensor.findings import Finding
from grayshelf.core.sensor.floor import FloorTail, PedestalLine, fit_line, fit_tail

#: The darkest good pixel stays this far above zero, on a 16-bit scale (common practice: a few tens of ADU).
USUAL_MARGIN_ADU = 30.0
#: ... and at least this many steps of the converter.
MARGIN_STEPS = 2
#: The margin also covers the way from one frame in a hundred to one in this many.
RARE_FRAMES = 10_000
#: Share of the margin that moves with every frame more.
UNSURE_OF_MARGIN = 0.05


@dataclass(frozen=True)
class OffsetLadder:
    """What offsets there are, and how sure the answer should be."""

    lowest: float = 0.0
    highest: float = 100.0
    quantum: float = 1.0
    """The smallest step of the setting."""
    white_adu: float = 65535.0
    sample_step: int = 1
    share_of_frames: float = 0.99
    margin_adu: float | None = None
    """The user's own margin; None for the usual one."""
    wanted_uncertainty_adu: float = 10.0
    frames_coarse: int = 4
    frames_fine: int = 8
    frames_confirm: int = 16
    long_dark_s: float = 60.0
    """One dark of this length at the answer, since the pedestal of some sensors sinks; 0 for none."""

    @property
    def fine_step(self) -> float:
        """Between the rungs of a full ladder: a fortieth of the range, in whole settings."""
        return max(self.quantum, round((self.highest - self.lowest) / 40 / self.quantum) * self.quantum)

    @property
    def frames_of_full_ladder(self) -> int:
        """Frames that a ladder over the whole range at the fine step takes."""
        return self.frames_fine * (int((self.highest - self.lowest) / self.fine_step) + 1)

    @property
    def most_frames(self) -> int:
        """Bias frames: with the long dark no more than two fifths of a full ladder."""
        return int(0.4 * self.frames_of_full_ladder) - 1

    def snap(self, offset: float) -> float:
        """The nearest setting that there is."""
        steps = round((min(max(offset, self.lowest), self.highest) - self.lowest) / self.quantum)
        return self.lowest + steps * self.quantum


@dataclass(frozen=True)
class OffsetEffect:
    """What one offset would do."""

    offset: float
    mean_adu: float
    floor_adu: float
    """The level that the share of frames' darkest good pixels stay above; below 0 it is clipped."""
    clipped_per_frame: float
    at_least: bool
    """Whether `clipped_per_frame` is only a lower bound."""
    cost_percent: float
    """Of the range, given up."""
    cost_stops: float


@dataclass(frozen=True)
class OffsetReading:
    """What all bias frames of one gain say."""

    line: PedestalLine | None
    tail: FloorTail | None
    dead: tuple[DeadPixel, ...]
    margin_adu: float
    uncertainty_adu: float | None
    """95 %, half width, of every floor; None where there is no tail to tell it from."""
    answer: OffsetEffect | None
    confirmed: bool
    """Fresh frames were taken at the answer, and none is clipped."""
    findings: tuple[Finding, ...]
    ladder: OffsetLadder

    def effect(self, offset: float) -> OffsetEffect | None:
        """What an offset would do; None where the frames do not tell."""
        if self.line is None or (self.line.slope is None and self.answer is not None):
            return self.answer if self.answer and self.answer.offset == offset else None
        if self.line.slope is None:
            return None
        mean = self.line.at(offset)
        depth = self.tail.depth(self.ladder.share_of_frames) if self.tail else 0.0
        clipped = self.tail.clipped_per_frame(-mean) if self.tail else 0.0
        return OffsetEffect(
            offset,
            mean,
            mean + depth,
            clipped,
            bool(self.tail and -mean > self.tail.threshold),
            *range_cost(mean, self.ladder.white_adu),
        )


@dataclass(frozen=True)
class ShootBias:
    """Take so many capped frames at this offset, because; where no exposure is said, the shortest there is."""

    offset: float
    count: int
    why: str
    exposure_s: float | None = None


@dataclass(frozen=True)
class OffsetDone:
    """Nothing more is to be shot."""

    reading: OffsetReading
    message: str


def range_cost(mean_adu: float, white_adu: float) -> tuple[float, float]:
    """What a pedestal costs: percent of the range, and stops, ``log2(white / (white − mean))``."""
    mean = min(max(mean_adu, 0.0), white_adu - 1.0)
    return 100.0 * mean / white_adu, math.log2(white_adu / (white_adu - mean))


def margin_for(ladder: OffsetLadder, tail: FloorTail | None) -> float:
    """The margin below the floor: the user's, else the usual one, widened where rare frames reach deeper.

    Common practice is max(two steps, 30 ADU). At high gains the darkest pixel jumps by more than that from frame
    to frame, so the margin also covers the way to one frame in ten thousand.
    """
    if ladder.margin_adu is not None:
        return ladder.margin_adu
    usual = max(MARGIN_STEPS * ladder.sample_step, USUAL_MARGIN_ADU)
    if tail is None:
        return usual
    return max(usual, tail.depth(ladder.share_of_frames) - tail.surely_above(1.0 - 1.0 / RARE_FRAMES))


def read_offsets(readings: Sequence[BiasReading], ladder: OffsetLadder) -> OffsetReading:
    """Read all bias frames of one gain together; darks among them (with an exposure) only bear on the warnings."""
    short = [r for r in readings if r.exposure_s == 0.0]
    dead = dead_pixels(short)
    line = fit_line(short, dead)
    tail = fit_tail(short, dead, line, ladder.sample_step) if line else None
    margin = margin_for(ladder, tail)
    uncertainty = tail.uncertainty(ladder.share_of_frames) if tail else None
    reading = OffsetReading(line, tail, dead, margin, uncertainty, None, False, (), ladder)
    answer = _lowest_that_holds(reading, short)
    confirmed = answer is not None and _is_confirmed(short, dead, answer.offset, ladder)
    whole = OffsetReading(line, tail, dead, margin, uncertainty, answer, confirmed, (), ladder)
    return OffsetReading(
        line, tail, dead, margin, uncertainty, answer, confirmed, tuple(_findings(readings, whole)), ladder
    )


def _is_confirmed(
    short: Sequence[BiasReading], dead: Sequence[DeadPixel], offset: float, ladder: OffsetLadder
) -> bool:
    there = [r for r in short if r.offset == offset]
    return len(there) >= ladder.frames_confirm and not any(good_zeros(r, dead) for r in there)


def _lowest_that_holds(reading: OffsetReading, short: Sequence[BiasReading]) -> OffsetEffect | None:
    """The lowest offset whose floor stays above zero by the margin."""
    line, tail, ladder = reading.line, reading.tail, reading.ladder
    if line is None or tail is None:
        return None
    need = reading.margin_adu - tail.depth(ladder.share_of_frames)
    if line.slope is None or line.slope <= 0:
        # One offset alone: it holds or it does not; where else one might go is not known.
        offset = next(r.offset for r in short if r.complete_to >= 0)
        if line.at_zero < need:
            return None
        mean, depth = line.at_zero, tail.depth(ladder.share_of_frames)
        return OffsetEffect(
            offset,
            mean,
            mean + depth,
            tail.clipped_per_frame(-mean),
            False,
            *range_cost(mean, ladder.white_adu),
        )
    clipped = [r.offset for r in short if good_zeros(r, reading.dead) > 0]
    exact = (need - line.at_zero) / line.slope
    least = math.ceil((exact - ladder.lowest) / ladder.quantum - 1e-9) * ladder.quantum + ladder.lowest
    predicted = max(least, ladder.lowest, max(clipped, default=-math.inf) + ladder.quantum)
    # An offset that fresh frames were taken at stays the answer while the better floor moves within its uncertainty; a
    # little higher is as good: the margin is the part that is known the least.
    slack = (reading.uncertainty_adu or 0.0) / line.slope
    higher = slack + UNSURE_OF_MARGIN * reading.margin_adu / line.slope
    taken = Counter(r.offset for r in short)
    if taken.total() >= ladder.most_frames:
        # No more are to come: one that holds a step higher is better than the lowest, of which nobody knows.
        higher = max(higher, ladder.fine_step)
    steady = [
        o
        for o, n in taken.items()
        if n >= ladder.frames_confirm and predicted - slack <= o <= predicted + higher
    ]
    offset = min((o for o in steady if o not in clipped), default=predicted, key=lambda o: abs(o - predicted))
    return reading.effect(offset) if offset <= ladder.highest else None


def _findings(readings: Sequence[BiasReading], whole: OffsetReading) -> list[Finding]:
    short = [r for r in readings if r.exposure_s == 0.0]
    found = light_leaks(short)
    if short and whole.line is None:
        found.append(_all_clipped(short, whole))
    elif short and whole.line is not None and whole.line.slope is None:
        found.append(_one_offset_alone(short))
    if whole.line is not None and whole.line.slope is not None:
        found += _about_the_line(whole.line, readings, whole)
    if whole.line is not None and whole.tail is None:
        found.append(
            Finding(
                "Too few unclipped frames to say how deep the darkest pixels reach.", "Take more of them."
            )
        )
    if whole.line is not None and whole.tail is not None and whole.answer is None:
        found.append(
            Finding(
                f"No offset up to {whole.ladder.highest:g} keeps the darkest pixels clear of zero by "
                f"{whole.margin_adu:,.0f} ADU.",
                "Use a lower gain: read noise is then fewer ADU.",
                serious=True,
            )
        )
    return found


def _all_clipped(short: Sequence[BiasReading], whole: OffsetReading) -> Finding:
    return Finding(
        f"Every frame has pixels at zero ({min(good_zeros(r, whole.dead) for r in short):,} in the best one), "
        "so neither the pedestal nor the floor can be told from them.",
        f"Take bias frames at offsets above {max(r.offset for r in short):g}, or lower the gain.",
        serious=True,
    )


def _one_offset_alone(short: Sequence[BiasReading]) -> Finding:
    alone = next(r.offset for r in short if r.complete_to >= 0)
    return Finding(
        f"Only offset {alone:g} has frames without clipping: it can be judged, but not where another would lie.",
        "Take some at one more offset.",
    )


def _about_the_line(
    line: PedestalLine, readings: Sequence[BiasReading], whole: OffsetReading
) -> list[Finding]:
    found = []
    slope = line.slope or 0.0
    if slope <= 0:
        found.append(
            Finding(
                "The frames do not get brighter with the offset: this camera does not follow its setting.",
                "Check that its driver applies the offset.",
                serious=True,
            )
        )
    elif line.worst_residual > max(8.0, 0.5 * slope):
        found.append(
            Finding(
                f"The means stray from a straight line by up to {line.worst_residual:,.0f} ADU: the pedestal moved "
                "while the frames were taken, or they were taken at different temperatures.",
                "Let the cooler settle and take them again.",
            )
        )
    for dark in (r for r in readings if r.exposure_s > 0.0):
        sunk = line.at(dark.offset) - dark.median
        if sunk > 8.0 and slope > 0:
            found.append(
                Finding(
                    f"In a dark of {dark.exposure_s:g} s the pedestal lies {sunk:,.0f} ADU lower than in bias "
                    "frames, so long exposures clip where bias frames do not.",
                    f"Use an offset {math.ceil(sunk / slope / whole.ladder.quantum) * whole.ladder.quantum:g} higher.",
                    serious=True,
                )
            )
        if zeros := good_zeros(dark, whole.dead):
            found.append(
                Finding(
                    f"A dark of {dark.exposure_s:g} s at offset {dark.offset:g} has {zeros:,} pixels at zero.",
                    "Use a higher offset.",
                    serious=True,
                )
            )
    return found


def next_bias(
    readings: Sequence[BiasReading], ladder: OffsetLadder, read: OffsetReading | None = None
) -> ShootBias | OffsetDone:
    """Say which frames to take next, coarse to fine (offsets in the camera's own numbers, exposures in seconds), or that it is
    done. `read` is what `read_offsets` tells of the same frames, where it is known already.
    """
    short = [r for r in readings if r.exposure_s == 0.0]
    taken = Counter(r.offset for r in short)
    low, high = ladder.lowest, ladder.highest
    middle = ladder.snap((low + high) / 2)
    coarse = [
        (high, "the highest: if that clips, no offset will do"),
        (middle, "the middle: with the highest it gives the pedestal's line"),
        (low, "the lowest: how many pixels are lost without an offset"),
        (ladder.snap((low + middle) / 2), "between the lowest and the middle"),
    ]
    for offset, why in coarse:
        if taken[offset] < ladder.frames_coarse:
            return ShootBias(offset, ladder.frames_coarse - taken[offset], why)
        if offset == high and all(good_zeros(r, ()) > 64 for r in short if r.offset == high):
            reading = read or read_offsets(readings, ladder)
            return OffsetDone(reading, f"Even at offset {high:g}, the highest there is, pixels are clipped.")
    reading = read or read_offsets(readings, ladder)
    if reading.line is None or reading.line.slope is None:
        return _one_more_high(taken, ladder, reading)
    if reading.line.slope <= 0:
        return OffsetDone(reading, reading.findings[-1].message)
    if reading.answer is None:
        return OffsetDone(reading, f"No offset up to {high:g} keeps the darkest pixels clear of zero.")
    return _fine(readings, taken, ladder, reading, reading.answer)


def _one_more_high(
    taken: Counter[float], ladder: OffsetLadder, reading: OffsetReading
) -> ShootBias | OffsetDone:
    """The middle clips too: the line needs a second rung near the top."""
    upper = ladder.snap(0.25 * ladder.lowest + 0.75 * ladder.highest)
    if taken[upper] < ladder.frames_coarse:
        return ShootBias(upper, ladder.frames_coarse - taken[upper], "the middle is clipped: higher up")
    return OffsetDone(reading, "Nearly every offset clips at this gain.")


def _beside(
    taken: Counter[float], ladder: OffsetLadder, offset: float, step: float, left: int
) -> ShootBias | None:
    """A step above the answer, then below it, where none were taken yet."""
    around = [o for o in taken if 0 < abs(o - offset) <= 1.6 * step and taken[o] >= ladder.frames_coarse]
    for side, why in (
        (1, "just above what the line and the tail give"),
        (-1, "just below: is it really the lowest?"),
    ):
        there = ladder.snap(offset + side * step)
        if there != offset and not any((o - offset) * side > 0 for o in around):
            return ShootBias(there, min(ladder.frames_fine - taken[there], left), why)
    return None


def _fine(
    readings: Sequence[BiasReading],
    taken: Counter[float],
    ladder: OffsetLadder,
    reading: OffsetReading,
    answer: OffsetEffect,
) -> ShootBias | OffsetDone:
    """Around the answer, then at it until it is sure, then one long dark."""
    step = max(ladder.fine_step, ladder.snap(ladder.lowest + 2.5 * ladder.fine_step) - ladder.lowest)
    left = ladder.most_frames - taken.total()
    if left > 0 and (beside := _beside(taken, ladder, answer.offset, step, left)) is not None:
        return beside
    uncertainty = reading.uncertainty_adu or math.inf
    missing = max(ladder.frames_confirm - taken[answer.offset], 0)
    # Some are kept back, so that there is always enough left to confirm with.
    spare = left - max(missing, ladder.frames_confirm)
    if uncertainty > ladder.wanted_uncertainty_adu and spare > 0:
        return ShootBias(
            answer.offset,
            min(ladder.frames_fine, spare),
            f"the floor is known to ±{uncertainty:,.0f} ADU; ±{ladder.wanted_uncertainty_adu:,.0f} is wanted",
        )
    if missing > 0 and left > 0:
        return ShootBias(answer.offset, min(missing, left), "fresh frames at the answer, to confirm it")
    darks = [r for r in readings if r.exposure_s > 0.0 and abs(r.offset - answer.offset) <= step]
    if ladder.long_dark_s > 0 and not darks:
        return ShootBias(
            answer.offset,
            1,
            "one long dark: the pedestal of some sensors sinks in long exposures",
            ladder.long_dark_s,
        )
    reckoned = ", as reckoned; too few frames were taken there" if missing > 0 else ""
    return OffsetDone(reading, f"Offset {answer.offset:g} holds{reckoned}.")
