"""The run sheet: from what is missing to what to shoot, in which order, with times by the clock.

The order follows the work: flats filter by filter, with the panel's light
kept as long as possible at one brightness; then one gate for the cap; then dark flats at each exposure used;
then, with nobody needed, darks; then the masters are built. Times are forecasts: what is known of a filter's
exposure is used, and the sheet is forecast again as the answers come in.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.gates import (
    Gate,
    LightKind,
    brightness_to,
    cap_on,
    cover_closes,
    filter_in,
    focus_to,
    hang,
    panel_on,
)

#: Test shots to allow for where nothing is known of a filter, and where there is a last setting.
SHOTS_WITHOUT_PRIOR = 3
SHOTS_WITH_PRIOR = 1
#: Exposure to reckon with where nothing is known (the middle of a usual window).
GUESSED_EXPOSURE_S = 4.0
#: A cover takes about so long to close, in seconds.
COVER_S = 10.0
#: After the sensor has reached its set point (common practice).
COOLER_SETTLES_S = 30.0
#: So far off its set point a sensor is said to hold it while a run goes on (common practice).
COOLER_HOLDS_WITHIN_C = 0.5


class StepKind(StrEnum):
    """What is done in one step of a sheet."""

    GATE = "gate"
    FIND = "find"
    FLATS = "flats"
    DARK_FLATS = "dark flats"
    COOL = "cool"
    DARKS = "darks"
    BUILD = "build"


@dataclass(frozen=True)
class FlatSeries:
    """One filter's flats, as the lights that wait for them were taken."""

    filter_code: str
    gain: float
    offset: float
    binning: int
    n_flats: int
    n_dark_flats: int
    lights: int = 0
    focus: float | None = None
    angle_deg: float | None = None
    brightness: int | None = None
    prior_exposure_s: float | None = None
    begin_s: float | None = None
    """Where it is tried again behind something else: the exposure to begin with."""
    stack: tuple[str, ...] = ()
    """Diffusers that hang before the light, and what they take."""
    stack_stops: float = 0.0
    wheel_position: int = 0
    targets: tuple[str, ...] = ()
    hole: bool = False
    """Nothing on the shelf fits these lights; False: something does, with care, and is renewed."""
    read_mode: str | None = None
    """The read-out mode that the lights have."""


@dataclass(frozen=True)
class DarkSeries:
    """One missing dark, or the dark flats of flats that are there already."""

    exposure_s: float
    set_temp_c: float | None
    gain: float
    offset: float
    binning: int
    n_frames: int
    lights: int = 0
    targets: tuple[str, ...] = ()
    kind: FrameKind = FrameKind.DARK
    """A dark flat for flats that are there already is shot like a dark, at the flats' exposure."""
    filters: tuple[str, ...] = ()
    """For a dark flat: the filters of those flats."""
    read_mode: str | None = None
    """The read-out mode of the frames that they serve."""

    @property
    def for_flats(self) -> bool:
        """Whether it is a dark flat: it stands the sensor some degrees off, so nothing is cooled for it."""
        return self.kind is FrameKind.DARK_FLAT


@dataclass(frozen=True)
class RigPace:
    """How long the rig takes for what is not exposing."""

    download_s: float = 1.5
    wheel_s: float = 4.0
    focus_s: float = 5.0
    gate_s: float = 120.0
    cooling_s_per_c: float = 45.0
    settle_s: float = COOLER_SETTLES_S
    build_s: float = 20.0
    pause_s: float = 0.0
    """Between frames of a series."""
    drop_first: int = 0
    """Frames at the start of a series that are shot and set aside."""


def series_seconds(count: int, exposure_s: float, pace: RigPace) -> float:
    """How long so many frames take, in seconds, with their downloads: ``(n + dropped)·(t + download + pause)``."""
    return (count + pace.drop_first) * (exposure_s + pace.download_s + pace.pause_s)


@dataclass(frozen=True)
class SheetStep:
    """One step of a run sheet."""

    kind: StepKind
    title: str
    seconds: float
    needs_person: bool = False
    filter_code: str | None = None
    count: int = 0
    exposure_s: float | None = None
    exposure_known: bool = False
    row: int | None = None
    """Index of the flat wish that this step belongs to."""
    gate: Gate | None = None
    """Where a hand is needed: for what."""
    dark: DarkSeries | None = None
    """For frames that belong to no row: how they are to be taken."""


@dataclass(frozen=True)
class RunSheet:
    """What to shoot, in order."""

    steps: tuple[SheetStep, ...]
    rows: tuple[FlatSeries, ...]
    darks: tuple[DarkSeries, ...]

    @property
    def times_needed(self) -> int:
        """How often a person has to act."""
        return sum(step.needs_person for step in self.steps)


def order_rows(rows: Sequence[FlatSeries], current_position: int | None) -> list[FlatSeries]:
    """Order filters so that diffusers, brightness and gain change least, starting from the filter that is in now."""
    groups: dict[tuple[Any, ...], list[FlatSeries]] = {}
    for row in rows:
        groups.setdefault(
            (row.stack_stops, row.stack, row.brightness, row.gain, row.offset, row.binning), []
        ).append(row)

    def distance(row: FlatSeries) -> int:
        return abs(row.wheel_position - (current_position or 0))

    ordered: list[FlatSeries] = []
    for _, group in sorted(
        groups.items(), key=lambda item: (*item[0][:2], min(distance(r) for r in item[1]), repr(item[0]))
    ):
        ordered += sorted(group, key=lambda r: (distance(r), r.wheel_position, r.filter_code))
    return ordered


def plan_sheet(
    rows: Sequence[FlatSeries],
    darks: Sequence[DarkSeries],
    pace: RigPace,
    *,
    panel_by_hand: bool = True,
    cover: bool = False,
    dimmable: bool = True,
    moves_focus: bool = True,
    moves_angle: bool = True,
    moves_filter: bool = True,
    sensor_temp_c: float | None = None,
    current_position: int | None = None,
    light: LightKind = LightKind.PANEL,
) -> RunSheet:
    """Write the run sheet.

    Parameters
    ----------
    rows
        Flats that are missing or to be renewed, one for each filter (and gain, offset, binning).
    darks
        Darks that are missing; they come last, when nobody is needed any more.
    panel_by_hand
        Whether somebody has to put the panel in front of the telescope.
    cover
        Whether the rig can cap itself.
    dimmable, moves_focus, moves_angle, moves_filter
        What the rig sets by itself; where it cannot, a gate shows the number.
    sensor_temp_c
        Where the sensor is now.
    current_position
        The filter wheel's position now.
    light
        What the light is that stands before the telescope.
    """
    steps: list[SheetStep] = []
    ordered = order_rows(rows, current_position)
    if ordered:
        if panel_by_hand:
            angle = None if moves_angle else ordered[0].angle_deg
            steps.append(_gate(panel_on(dimmable=dimmable, angle_deg=angle, kind=light), pace))
        before: FlatSeries | None = None
        for index, row in enumerate(ordered):
            steps += _gates_by_hand(index, row, before, pace, (moves_filter, dimmable, moves_focus))
            steps += _flat_steps(index, row, pace)
            before = row
        steps.append(_gate(cover_closes() if cover else cap_on(dimmable=dimmable), pace))
        for index, row in enumerate(ordered):
            if row.n_dark_flats:
                steps.append(_dark_flats(index, row, pace))
        steps += [_dark_flats_alone(dark, pace) for dark in darks if dark.for_flats]
        steps.append(
            SheetStep(
                StepKind.BUILD,
                f"Build {len(ordered)} master flats and their dark flats",
                pace.build_s * len(ordered),
            )
        )
    elif darks:
        steps.append(_gate(cover_closes() if cover else cap_on(dimmable=dimmable), pace))
        alone = [_dark_flats_alone(dark, pace) for dark in darks if dark.for_flats]
        if alone:
            title = "Build the dark flats and what waits for them"
            steps += [*alone, SheetStep(StepKind.BUILD, title, pace.build_s * len(alone))]
    temp = sensor_temp_c
    for dark in sorted(darks, key=lambda d: (-(d.set_temp_c or 0.0), d.exposure_s, d.gain)):
        if not dark.for_flats:
            steps += _dark_steps(dark, temp, pace)
            temp = temp if dark.set_temp_c is None else dark.set_temp_c
    return RunSheet(tuple(steps), tuple(ordered), tuple(darks))


def _gate(gate: Gate, pace: RigPace, row: int | None = None) -> SheetStep:
    seconds = pace.gate_s if gate.needs_person else COVER_S
    return SheetStep(StepKind.GATE, gate.title, seconds, gate.needs_person, row=row, gate=gate)


def _gates_by_hand(
    index: int, row: FlatSeries, before: FlatSeries | None, pace: RigPace, can: tuple[bool, bool, bool]
) -> list[SheetStep]:
    """Gates for what has to be changed for this row and the rig cannot: filter, brightness, focus."""
    moves_filter, dimmable, moves_focus = can
    asked: list[Gate] = []
    if row.stack != (before.stack if before is not None else ()):
        asked.append(hang("the light", row.stack, row.stack_stops))
    if not moves_filter and (before is None or before.filter_code != row.filter_code):
        asked.append(filter_in(row.filter_code, "Its flats come next."))
    new_brightness = before is None or before.brightness != row.brightness
    if not dimmable and row.brightness is not None and new_brightness:
        shot_at_it = f"The flats in {row.filter_code} are shot at it."
        asked.append(brightness_to("the panel", row.brightness, shot_at_it))
    if not moves_focus and row.focus is not None:
        asked.append(focus_to(row.focus, f"The lights in {row.filter_code} were taken there."))
    return [_gate(gate, pace, index) for gate in asked]


def _flat_steps(index: int, row: FlatSeries, pace: RigPace) -> list[SheetStep]:
    steps = []
    known = row.prior_exposure_s is not None
    exposure = row.prior_exposure_s or GUESSED_EXPOSURE_S
    shots = SHOTS_WITH_PRIOR if known else SHOTS_WITHOUT_PRIOR
    steps.append(
        SheetStep(
            StepKind.FIND,
            f"Find the exposure for {row.filter_code}",
            pace.wheel_s
            + (pace.focus_s if row.focus is not None else 0.0)
            + shots * (exposure + pace.download_s),
            filter_code=row.filter_code,
            exposure_s=exposure,
            exposure_known=known,
            row=index,
            count=shots,
        )
    )
    steps.append(
        SheetStep(
            StepKind.FLATS,
            f"{row.n_flats} flats in {row.filter_code}",
            series_seconds(row.n_flats, exposure, pace),
            filter_code=row.filter_code,
            count=row.n_flats,
            exposure_s=exposure,
            exposure_known=known,
            row=index,
        )
    )
    return steps


def _dark_flats(index: int, row: FlatSeries, pace: RigPace) -> SheetStep:
    exposure = row.prior_exposure_s or GUESSED_EXPOSURE_S
    return SheetStep(
        StepKind.DARK_FLATS,
        f"{row.n_dark_flats} dark flats for {row.filter_code}",
        series_seconds(row.n_dark_flats, exposure, pace),
        filter_code=row.filter_code,
        count=row.n_dark_flats,
        exposure_s=exposure,
        exposure_known=row.prior_exposure_s is not None,
        row=index,
    )


def _dark_flats_alone(dark: DarkSeries, pace: RigPace) -> SheetStep:
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


def _dark_steps(dark: DarkSeries, sensor_temp_c: float | None, pace: RigPace) -> list[SheetStep]:
    steps = []
    set_temp_c = dark.set_temp_c
    degrees = "" if set_temp_c is None else f" at {set_temp_c:.0f} °C".replace("-", "−")
    away = 0.0 if set_temp_c is None else abs((15.0 if sensor_temp_c is None else sensor_temp_c) - set_temp_c)
    if away > 0.3:
        steps.append(
            SheetStep(
                StepKind.COOL,
                f"Bring the sensor to{degrees.removeprefix(' at')}",
                away * pace.cooling_s_per_c + pace.settle_s,
                dark=dark,
            )
        )
    title = f"{dark.n_frames} darks of {dark.exposure_s:g} s{degrees}"
    steps.append(
        SheetStep(
            StepKind.DARKS,
            title,
            series_seconds(dark.n_frames, dark.exposure_s, pace),
            count=dark.n_frames,
            exposure_s=dark.exposure_s,
            exposure_known=True,
            dark=dark,
        )
    )
    steps.append(SheetStep(StepKind.BUILD, "Build the master dark", pace.build_s, dark=dark))
    return steps
