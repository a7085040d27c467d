"""When the steps of a sheet take place, the room they need, and what is left to do after them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from grayshelf.core.planning.sheet import SERIES, SheetStep, StepKind


@dataclass(frozen=True)
class TimedStep:
    """A step with its forecast times, UTC."""

    step: SheetStep
    start: datetime
    end: datetime


def timed(steps: Sequence[SheetStep], start: datetime) -> list[TimedStep]:
    """Give each step its times, one after the other by their forecast seconds."""
    result: list[TimedStep] = []
    at = start
    for step in steps:
        end = at + timedelta(seconds=step.seconds)
        result.append(TimedStep(step, at, end))
        at = end
    return result


def bytes_needed(steps: Sequence[SheetStep], width: int, height: int) -> int:
    """Bytes that the frames (2 a pixel) and masters (4 a pixel) of a sheet take on the disk, for frames of `width` by `height`
    pixels.
    """
    frames = sum(s.count for s in steps if s.kind in SERIES and s.served_by is None)
    finds = sum(s.count for s in steps if s.kind is StepKind.FIND)
    masters = 2 * sum(s.kind is StepKind.FLATS for s in steps)
    masters += sum(s.kind in (StepKind.DARKS, StepKind.BIAS) for s in steps)
    return (frames + finds) * (width * height * 2 + 8640) + masters * (width * height * 4 + 14400)


def afterwards(darks_ran: bool, has_cover: bool, panel_by_hand: bool, cold: bool) -> tuple[str, ...]:
    """What is left to do when a run has ended."""
    done = ["The cap is on: leave it." if not has_cover else "The cover is closed."]
    if panel_by_hand:
        done.append("The panel is dark: take it down.")
    if cold:
        done.append("The sensor is still cold: warm it before you cut the power, or leave it for darks.")
    if not darks_ran:
        done.append("The rig may come down.")
    return tuple(done)
