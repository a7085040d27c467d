"""Between which brightness values an answer lies, by the shots alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from grayshelf.core.flats.model import Dimmer, TestShot
from grayshelf.core.flats.search.light import is_full
from grayshelf.core.flats.search.task import Task
from grayshelf.core.flats.search.verdict import level_range


@dataclass(frozen=True)
class Span:
    """The brightness values next to the answer by the shots alone, and the levels they give; None where none is."""

    below: int | None
    above: int | None
    level_below: float = 0.0
    level_above: float = 0.0

    def within(self, dimmer: Dimmer) -> tuple[int, int]:
        """First and last brightness that may still be the answer; the first is larger where none is left."""
        first = dimmer.lowest if self.below is None else self.below + 1
        return first, dimmer.highest if self.above is None else self.above - 1


def span_of(task: Task, shots: Sequence[TestShot], level: float) -> Span:
    """Between which brightness values the answer lies, by the shots alone: any monotone panel is followed."""
    below: tuple[int, float] | None = None
    above: tuple[int, float] | None = None
    if task.mode == "time" or task.dimmer is None:
        return Span(None, None)
    tolerance = task.target.tolerance_adu
    # What the fit says of the pedestal is no proof: the bounds hold wherever it may lie.
    bases = level_range(task.pedestal, shots, task.target.white_adu)
    for shot in shots:
        if shot.brightness is None:
            continue
        most = max(p + (shot.level_adu - p) * task.dim_end[0] / shot.exposure_s for p in bases)
        least = min(p + (shot.level_adu - p) * task.bright_end[0] / shot.exposure_s for p in bases)
        if is_full(shot, task.target.white_adu):
            if least > level + tolerance and (above is None or shot.brightness < above[0]):
                above = shot.brightness, least
        elif most < level - tolerance and (below is None or shot.brightness > below[0]):
            below = shot.brightness, most
        elif least > level + tolerance and (above is None or shot.brightness < above[0]):
            above = shot.brightness, least
    return Span(
        below[0] if below else None,
        above[0] if above else None,
        below[1] if below else 0.0,
        above[1] if above else 0.0,
    )
