"""The run sheet: from what is missing to what to shoot, in which order, with times by the clock.

The order follows the work: flats filter by filter, with the panel's light
kept as long as possible at one brightness; then one gate for the cap; then dark flats at each exposure used;
then, with nobody needed, darks and bias; then the masters are built. Times are forecasts: what is known of a filter's
exposure is used, and the sheet is forecast again as the answers come in.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from grayshelf.core.flats.filter_words import NO_FILTER, meant_for, through
from grayshelf.core.planning.capped import dark_flats_alone, with_nobody
from grayshelf.core.planning.gates import (
    Gate,
    LightKind,
    brightness_to,
    cap_on,
    cover_closes,
    faces_panel,
    filter_in,
    focus_to,
    hang,
    panel_on,
)
from grayshelf.core.planning.shared_dark_flats import DarkFlats, served_by
from grayshelf.core.planning.sheet import (
    DarkSeries,
    FlatSeries,
    RigPace,
    RunSheet,
    SheetStep,
    StepKind,
    series_seconds,
)

#: Test shots to allow for where nothing is known of a filter, and where there is a last setting.
SHOTS_WITHOUT_PRIOR = 3
SHOTS_WITH_PRIOR = 1
#: Exposure to reckon with where nothing is known (the middle of a usual window).
GUESSED_EXPOSURE_S = 4.0
#: A cover takes about so long to close, in seconds.
COVER_S = 10.0


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
        else:
            steps.append(_gate(faces_panel(), pace))
        before: FlatSeries | None = None
        for index, row in enumerate(ordered):
            steps += _gates_by_hand(index, row, before, pace, (moves_filter, dimmable, moves_focus))
            steps += _flat_steps(index, row, pace)
            before = row
        steps.append(_gate(cover_closes() if cover else cap_on(dimmable=dimmable), pace))
        steps += _all_dark_flats(ordered, pace)
        steps += [dark_flats_alone(dark, pace) for dark in darks if dark.for_flats]
        steps.append(
            SheetStep(
                StepKind.BUILD,
                f"Build {len(ordered)} master flat{'s and their' if len(ordered) != 1 else ' and its'} dark flats",
                pace.build_s * len(ordered),
            )
        )
    elif darks:
        steps.append(_gate(cover_closes() if cover else cap_on(dimmable=dimmable), pace))
        alone = [dark_flats_alone(dark, pace) for dark in darks if dark.for_flats]
        if alone:
            title = "Build the dark flats and what waits for them"
            steps += [*alone, SheetStep(StepKind.BUILD, title, pace.build_s * len(alone))]
    steps += with_nobody(darks, sensor_temp_c, pace)
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
    # A rig without filters has none to take out.
    has_been = NO_FILTER if before is None else before.filter_code
    if not moves_filter and has_been != row.filter_code:
        asked.append(filter_in(row.filter_code, "Its flats come next."))
    new_brightness = before is None or before.brightness != row.brightness
    if not dimmable and row.brightness is not None and new_brightness:
        shot_at_it = f"The flats{through(row.filter_code)} are shot at it."
        asked.append(brightness_to("the panel", row.brightness, shot_at_it))
    if not moves_focus and row.focus is not None:
        asked.append(focus_to(row.focus, f"The lights{through(row.filter_code)} were taken there."))
    return [_gate(gate, pace, index) for gate in asked]


def _flat_steps(index: int, row: FlatSeries, pace: RigPace) -> list[SheetStep]:
    steps = []
    known = row.prior_exposure_s is not None
    exposure = row.prior_exposure_s or GUESSED_EXPOSURE_S
    shots = SHOTS_WITH_PRIOR if known else SHOTS_WITHOUT_PRIOR
    steps.append(
        SheetStep(
            StepKind.FIND,
            f"Find the exposure{meant_for(row.filter_code)}",
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
            f"{row.n_flats} flats{through(row.filter_code)}",
            series_seconds(row.n_flats, exposure, pace),
            filter_code=row.filter_code,
            count=row.n_flats,
            exposure_s=exposure,
            exposure_known=known,
            row=index,
        )
    )
    return steps


def _all_dark_flats(rows: Sequence[FlatSeries], pace: RigPace) -> list[SheetStep]:
    """Dark flats of every row; where another row's serve, that is said, and nothing is shot."""
    steps: list[SheetStep] = []
    shot: list[DarkFlats] = []
    for index, row in enumerate(rows):
        if not row.n_dark_flats:
            continue
        wanted = DarkFlats.of(index, row, row.prior_exposure_s)
        there = served_by(wanted, shot)
        step = _dark_flats(index, row, pace)
        if there is None:
            shot.append(wanted)
        else:
            step = replace(step, seconds=0.0, served_by=there)
        steps.append(step)
    return steps


def _dark_flats(index: int, row: FlatSeries, pace: RigPace) -> SheetStep:
    exposure = row.prior_exposure_s or GUESSED_EXPOSURE_S
    return SheetStep(
        StepKind.DARK_FLATS,
        f"{row.n_dark_flats} dark flats{'' if row.filter_code == NO_FILTER else meant_for(row.filter_code)}",
        series_seconds(row.n_dark_flats, exposure, pace),
        filter_code=row.filter_code,
        count=row.n_dark_flats,
        exposure_s=exposure,
        exposure_known=row.prior_exposure_s is not None,
        row=index,
    )
