"""Shots beside settings: whether a shot was taken like this, with how much light, and in words."""

from __future__ import annotations

import math

from grayshelf.core.flats.model import TestShot
from grayshelf.core.flats.search.task import Task

#: Light falls into an exposure for so much longer than its time says, at most, in seconds.
LONGEST_DEAD_TIME_S = 0.003


def taken_at(exposure_s: float, brightness: int | None, shot: TestShot) -> bool:
    """Whether a shot was taken at this brightness and exposure, to 0.2 %."""
    return abs(shot.exposure_s / exposure_s - 1.0) < 0.002 and shot.brightness == brightness


def at_least_as_bright(exposure_s: float, brightness: int | None, shot: TestShot) -> bool:
    """Whether a setting (seconds, brightness) gives at least the light of a shot."""
    return exposure_s >= shot.exposure_s * 0.999 and (brightness or 0) >= (shot.brightness or 0)


def in_words(exposure_s: float, brightness: int | None) -> str:
    """'2.5 s at brightness 60'."""
    return f"{exposure_s:g} s" + (f" at brightness {brightness}" if brightness is not None else "")


def shot_in_words(shot: TestShot) -> str:
    """How a shot was taken."""
    return in_words(shot.exposure_s, shot.brightness)


def output_at_shot(task: Task, shot: TestShot) -> float:
    """Output of the panel at a shot, relative to the highest, as far as it is known."""
    return output_at(task, shot.brightness)


def output_at(task: Task, brightness: int | None) -> float:
    """Output of a brightness, relative to the highest, as far as the panel is known."""
    response = task.known_response
    return math.exp(response.log_output(brightness or 0)) if response is not None else 1.0


def least_scale(end_s: float, shot_s: float) -> float:
    """How many times more light an exposure has than a shorter one, at least: ``(t₁ + t₀) / (t₂ + t₀)``, both in seconds, since
    light falls in for up to `LONGEST_DEAD_TIME_S` longer than a shutter's time says.
    """
    return max((end_s + LONGEST_DEAD_TIME_S) / (shot_s + LONGEST_DEAD_TIME_S), 1.0)
