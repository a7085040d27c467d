"""The capped part of a run sheet: dark flats of earlier flats, then darks and bias, from one set point to the next."""

from __future__ import annotations

from collections.abc import Sequence

from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.fill import NEAR_ENOUGH_C, in_order
from grayshelf.core.planning.sheet import DarkSeries, RigPace, SheetStep, StepKind, series_seconds


def dark_flats_alone(dark: DarkSeries, pace: RigPace) -> SheetStep:
    """Dark flats for flats that were shot before: at their exposure, wherever the sensor stands."""
    filters = f" for {listed(dark.filters)}" if dark.filters else ""
    return SheetStep(
        StepKind.DARK_FLATS,
        f"{dark.n_frames} dark flats of {dark.exposure_s:g} s{filters}",
        series_seconds(dark.n_frames, dark.exposure_s, pace),
        filter_code=dark.filters[0] if len(dark.filters) == 1 else None,
        count=dark.n_frames,
        exposure_s=dark.exposure_s,
        exposure_known=True,
        dark=dark,
    )


def with_nobody(series: Sequence[DarkSeries], sensor_temp_c: float | None, pace: RigPace) -> list[SheetStep]:
    """Darks and bias, for which nobody is needed: set points in one direction, at each the short exposures first.

    Bias is shot at the first set point: the sensor stands there anyway, and none is reached for it alone.

    Parameters
    ----------
    sensor_temp_c
        Where the sensor is now.
    """
    darks = [s for s in series if s.kind is FrameKind.DARK]
    bias = sorted((s for s in series if s.kind is FrameKind.BIAS), key=lambda s: (s.gain, s.offset))
    goals = in_order([d.set_temp_c for d in darks if d.set_temp_c is not None], sensor_temp_c)
    place = {goal: number for number, goal in enumerate(goals)}
    ordered = sorted(
        darks,
        key=lambda d: (-1 if d.set_temp_c is None else place[d.set_temp_c], d.exposure_s, d.gain, d.offset),
    )
    steps: list[SheetStep] = []
    temp = sensor_temp_c
    for number, dark in enumerate(ordered):
        steps += _cooling(dark, temp, pace)
        temp = temp if dark.set_temp_c is None else dark.set_temp_c
        if number == 0:
            steps += _bias_steps(bias, pace)
        steps += _dark_steps(dark, pace)
    return steps or _bias_steps(bias, pace)


def _cooling(dark: DarkSeries, sensor_temp_c: float | None, pace: RigPace) -> list[SheetStep]:
    goal = dark.set_temp_c
    away = 0.0 if goal is None else abs((15.0 if sensor_temp_c is None else sensor_temp_c) - goal)
    if away <= NEAR_ENOUGH_C:
        return []
    seconds = away * pace.cooling_s_per_c + pace.settle_s
    return [
        SheetStep(StepKind.COOL, f"Bring the sensor to{_at(goal).removeprefix(' at')}", seconds, dark=dark)
    ]


def _at(set_temp_c: float | None) -> str:
    return "" if set_temp_c is None else f" at {set_temp_c:.0f} °C".replace("-", "−")


def _bias_steps(bias: Sequence[DarkSeries], pace: RigPace) -> list[SheetStep]:
    several = len({(b.gain, b.offset) for b in bias}) > 1
    steps = [
        _series(b, StepKind.BIAS, f"{b.n_frames} bias{f' at gain {b.gain:g}' if several else ''}", pace)
        for b in bias
    ]
    if bias:
        steps.append(
            SheetStep(StepKind.BUILD, "Build the master bias", pace.build_s * len(bias), dark=bias[0])
        )
    return steps


def _dark_steps(dark: DarkSeries, pace: RigPace) -> list[SheetStep]:
    title = f"{dark.n_frames} darks of {dark.exposure_s:g} s{_at(dark.set_temp_c)}"
    return [
        _series(dark, StepKind.DARKS, title, pace),
        SheetStep(StepKind.BUILD, "Build the master dark", pace.build_s, dark=dark),
    ]


def _series(dark: DarkSeries, kind: StepKind, title: str, pace: RigPace) -> SheetStep:
    return SheetStep(
        kind,
        title,
        series_seconds(dark.n_frames, dark.exposure_s, pace),
        count=dark.n_frames,
        exposure_s=dark.exposure_s,
        exposure_known=True,
        dark=dark,
    )
